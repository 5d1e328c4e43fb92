//go:build unix

package wholefile

import (
	"io/fs"
	"os"
	"syscall"
)

// keepOwner gives a file the owner of the one that it replaces, where we may: an
// edit by root must not lock out the user of a server.
func keepOwner(f *os.File, old fs.FileInfo) {
	if st, ok := old.Sys().(*syscall.Stat_t); ok {
		_ = f.Chown(int(st.Uid), int(st.Gid))
	}
}
