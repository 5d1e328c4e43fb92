package fencepost_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// testName is how docs/conformance.md names a test: its package and its function.
var testName = regexp.MustCompile(`\b([a-z0-9]+)\.(Test[A-Za-z0-9_]+)`)

// docs/conformance.md has a line for each rule, and each names tests that exist or says why
// there is none.
func TestConformanceIsHeld(t *testing.T) {
	rules := map[string]int{"D": 55, "F": 35, "H": 55, "I": 26}
	text, err := os.ReadFile(filepath.Join("docs", "conformance.md"))
	if err != nil {
		t.Fatal(err)
	}
	lines := map[string]string{}
	for _, l := range strings.Split(string(text), "\n") {
		if id, rest, ok := strings.Cut(strings.TrimPrefix(l, "| "), " |"); ok && rules[id[:1]] > 0 {
			lines[id] = rest
		}
	}
	for group, n := range rules {
		for i := 1; i <= n; i++ {
			id := fmt.Sprintf("%s-%02d", group, i)
			if named := testName.FindString(lines[id]) != ""; !named && !strings.Contains(lines[id], "not yet") {
				t.Errorf("%s: neither a test nor why there is none", id)
			}
		}
	}
	for _, m := range testName.FindAllStringSubmatch(string(text), -1) {
		if !hasTest(t, m[1], m[2]) {
			t.Errorf("there is no test %s in package %s", m[2], m[1])
		}
	}
}

func hasTest(t *testing.T, pkg, name string) bool {
	t.Helper()
	for _, dir := range []string{pkg, filepath.Join("internal", pkg), filepath.Join("server", pkg), filepath.Join("netio", pkg)} {
		files, err := filepath.Glob(filepath.Join(dir, "*_test.go"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			if strings.Contains(readFile(t, f), "\nfunc "+name+"(") {
				return true
			}
		}
	}
	return false
}
