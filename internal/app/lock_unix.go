//go:build unix

package app

import (
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// lockWait is how long an edit waits for another to finish.
const lockWait = 10 * time.Second

// lockFolder keeps other edits out of the files of a folder until unlock is
// called. The lock is on the folder itself and ends with the process, so that
// nothing is left behind.
func lockFolder(dir string) (unlock func(), err error) {
	for deadline := time.Now().Add(lockWait); ; time.Sleep(20 * time.Millisecond) {
		unlock, err = tryLockFolder(dir)
		if !errors.Is(err, errLocked) {
			return unlock, err
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf("another fencepost has been changing files in %s for %s; nothing was changed here", Shown(dir), lockWait)
		}
	}
}

// tryLockFolder is lockFolder without a wait: errLocked if another has the lock.
func tryLockFolder(dir string) (unlock func(), err error) {
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
			return nil, errLocked
		}
		f.Close()
		return nil, fmt.Errorf("%s cannot be locked: %w", Shown(dir), err)
	}
}
