// Package memdir keeps the temporary folders of tests in memory where the system has a place for that.
// What tests look at is what programs write and read; how fast a disk syncs is none of it, and a slow one
// makes them take several times as long.
package memdir

import "os"

// least is how many octets must be free there.
const least = 2 << 30

// Use has t.TempDir and os.TempDir give folders in memory from now on, unless TMPDIR says where they are to
// be.
func Use() {
	if os.Getenv("TMPDIR") != "" || !roomy("/dev/shm") {
		return
	}
	_ = os.Setenv("TMPDIR", "/dev/shm")
}
