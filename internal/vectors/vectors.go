// Package vectors reads the published test vectors of testdata/vectors for the
// tests of several packages.
package vectors

import (
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

// Path is where a vector file lies.
func Path(name string) string {
	_, here, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(here), "..", "..", "testdata", "vectors", name)
}

// Read reads a vector file into v.
func Read(t testing.TB, name string, v any) {
	t.Helper()
	if err := json.Unmarshal(Text(t, name), v); err != nil {
		t.Fatalf("%s: %v", name, err)
	}
}

// Text is a vector file as it is.
func Text(t testing.TB, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(Path(name))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Hex decodes hexadecimal text.
func Hex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(s)
	if err != nil {
		t.Fatal(err)
	}
	return b
}
