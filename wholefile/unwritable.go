package wholefile

import (
	"errors"
	"io/fs"
	"syscall"
)

// Unwritable reports whether an error says that nothing can be written: the file system is read-only or
// full, or the right to do so is missing.
func Unwritable(err error) bool {
	for _, known := range []error{syscall.EROFS, syscall.ENOSPC, syscall.EDQUOT, fs.ErrPermission} {
		if errors.Is(err, known) {
			return true
		}
	}
	return false
}
