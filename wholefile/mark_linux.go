package wholefile

import (
	"errors"
	"syscall"
)

// MarkOf is the mark of a file as it is now, links followed.
func MarkOf(path string) (m Mark, err error) {
	var st syscall.Stat_t
	for err = syscall.EINTR; errors.Is(err, syscall.EINTR); {
		err = syscall.Stat(path, &st)
	}
	return Mark{Size: st.Size, MTime: st.Mtim.Nano(), CTime: st.Ctim.Nano(), Inode: st.Ino}, err
}
