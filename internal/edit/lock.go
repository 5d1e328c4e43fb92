package edit

import (
	"errors"
	"fmt"
	"time"

	"fencepost/wholefile"
)

// ErrLocked means that another program holds a lock.
var ErrLocked = errors.New("another program has the lock")

// lockWithin locks a folder, waiting so long for another program to let it go:
// ErrLocked if it does not.
func lockWithin(dir string, wait time.Duration) (unlock func(), err error) {
	for deadline := time.Now().Add(wait); ; time.Sleep(20 * time.Millisecond) {
		unlock, err = TryLockFolder(dir)
		if !errors.Is(err, ErrLocked) || time.Now().After(deadline) {
			return unlock, err
		}
	}
}

// lockWait is how long an edit waits for another to finish.
const lockWait = 10 * time.Second

// lockFolder keeps other edits out of the files of a folder until unlock is called.
func lockFolder(dir string) (unlock func(), err error) {
	unlock, err = lockWithin(dir, lockWait)
	if errors.Is(err, ErrLocked) {
		err = fmt.Errorf("another fencepost has been changing files in %s for %s; nothing was changed here", Shown(dir), lockWait)
	}
	if err != nil {
		return nil, err
	}
	wholefile.Sweep(dir, time.Now().Add(-wholefile.Stale))
	if err := finishIntended(dir); err != nil {
		unlock()
		return nil, fmt.Errorf("the interrupted edit in %s cannot be completed: %w", Shown(dir), err)
	}
	return unlock, nil
}

// keyLockWait is how long a command waits for another to be done with the keys. A
// server keeps them for as long as it runs.
const keyLockWait = 2 * time.Second

// LockKeyFolder is lockFolder for the keys of a zone.
func LockKeyFolder(dir string) (unlock func(), err error) {
	unlock, err = lockWithin(dir, keyLockWait)
	if errors.Is(err, ErrLocked) {
		err = fmt.Errorf("another fencepost looks after the keys in %s; use the workspace that its server runs in", Shown(dir))
	}
	if err == nil {
		wholefile.Sweep(dir, time.Time{}) // who writes here has the lock
	}
	return unlock, err
}
