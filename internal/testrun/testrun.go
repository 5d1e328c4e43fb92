// Package testrun is how the tests of a package run: see Main.
package testrun

import (
	"errors"
	"flag"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"

	"fencepost/netio"
)

// Main is what TestMain of a package returns its status from. Nothing is reached but loopback, and temporary
// folders are in memory where there is room: see Folders. Tests make much garbage, and little of it at a
// time, so it is collected seldom.
func Main(m *testing.M) int {
	debug.SetGCPercent(400)
	netio.System = netio.Loopback(netio.System)
	Folders()
	return m.Run()
}

// Update has golden files written anew.
var Update = flag.Bool("update", false, "write the golden files anew")

// Golden compares a text with a file, line by line.
func Golden(t testing.TB, file, got string) {
	t.Helper()
	if *Update {
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(got), 0o644)); err != nil {
			t.Fatal(err)
		}
		return
	}
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	want, have := strings.Split(string(text), "\n"), strings.Split(got, "\n")
	for i := range max(len(want), len(have)) {
		if i >= len(want) || i >= len(have) || want[i] != have[i] {
			t.Fatalf("%s:%d (-update writes it anew)\nwant %s\nhave %s", file, i+1, want[min(i, len(want)-1)], have[min(i, len(have)-1)])
		}
	}
}

// least is how many octets must be free there.
const least = 2 << 30

// Folders has t.TempDir and os.TempDir give folders in memory from now on, unless TMPDIR says where they are
// to be. What tests look at is what programs write and read; how fast a disk syncs is none of it, and a slow
// one makes them take several times as long.
func Folders() {
	if os.Getenv("TMPDIR") != "" || !roomy("/dev/shm") {
		return
	}
	_ = os.Setenv("TMPDIR", "/dev/shm")
}
