//go:build unix

package edit

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// TryLockFolder locks a folder until unlock is called: ErrLocked if another has the
// lock. The lock is on the folder itself and ends with the process, so that nothing is
// left behind.
func TryLockFolder(dir string) (unlock func(), err error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	for {
		err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		switch {
		case err == nil || errors.Is(err, unix.ENOTSUP): // or a file system without locks
			return func() { f.Close() }, nil
		case errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.EWOULDBLOCK):
			f.Close()
			return nil, ErrLocked
		}
		f.Close()
		return nil, fmt.Errorf("%s cannot be locked: %w", Shown(dir), err)
	}
}
