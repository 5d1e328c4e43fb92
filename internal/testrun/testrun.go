// Package testrun is how the tests of a package run: see Main.
package testrun

import (
	"os"
	"runtime/debug"
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
