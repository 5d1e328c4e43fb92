package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"

	"fencepost/dnsname"
)

// ErrBroken means that the file of a store is damaged so that it can be neither read nor written where
// it counts. Renew makes another one. It is an ErrDamaged.
var ErrBroken = fmt.Errorf("%w: its file is", ErrDamaged)

// Renew sets the file of a store aside that turned out to be damaged while it was in use, and goes on
// with another that has what can still be read. done is false where that was not needed any more.
func (s *Store) Renew() (done bool, err error) {
	if s.root != nil {
		return s.root.Renew()
	}
	b, ok := s.e.(*bolt)
	if !ok {
		return false, nil
	}
	b.swap.Lock()
	defer b.swap.Unlock()
	if !b.broken.Load() {
		return false, nil
	}
	go func(old *bbolt.DB) { _ = guard(old.Close) }(b.db) // it may hang for ever on a lock that a panic left
	b.second.close()
	fresh, err := setAside(b.path)
	if err != nil {
		return false, fmt.Errorf("%s: %w", b.path, err)
	}
	next := fresh.e.(*bolt)
	b.db, b.second = next.db, next.second
	s.Aside, s.Rescued = fresh.Aside, fresh.Rescued
	b.broken.Store(false)
	return true, nil
}

// Floor is what is known of the serials of a zone of which no version is stored: the store lost it.
// source is that of the unsigned zone, where it was signed.
func (s *Store) Floor(name dnsname.Name) (serial, source uint32, found bool) {
	_ = s.e.view(func(t tx) error {
		if v := t.get(bucketFloor, []byte(name.Key())); len(v) == 8 {
			serial, source, found = binary.BigEndian.Uint32(v), binary.BigEndian.Uint32(v[4:]), true
		}
		return nil
	})
	return serial, source, found
}

// SetAside are the files that were set aside of the store at path, and the notes of one that was lost,
// the oldest first. They stay until somebody takes them away.
func SetAside(path string) []string {
	damaged, _ := filepath.Glob(path + ".damaged-*")
	lost, _ := filepath.Glob(path + ".lost-*")
	out := append(damaged, lost...)
	slices.Sort(out)
	return out
}

// noteLost writes the note of a store that is gone. last is when its copy was last written.
func noteLost(path string, last time.Time) (string, error) {
	name := fmt.Sprintf("%s.lost-%s", path, last.UTC().Format("20060102T150405"))
	return name, os.WriteFile(name, []byte("The stored versions of zones were gone; they were last written at the time in the name of this file.\n"), 0o600)
}

// structural are errors of the engine that a file gives that is damaged.
var structural = []error{bolterrors.ErrIncompatibleValue, bolterrors.ErrBucketNotFound, bolterrors.ErrInvalid, bolterrors.ErrChecksum}

// broken takes an error of the engine for what it is.
func broken(err error) error {
	if errors.Is(err, ErrBroken) || err == nil {
		return err
	}
	for _, known := range structural {
		if errors.Is(err, known) {
			return fmt.Errorf("%w: %w", ErrBroken, err)
		}
	}
	// The engine was sent to a place that no file has, by what it read.
	if at, is := errors.AsType[*fs.PathError](err); is && at.Op == "writeat" {
		if _, system := errors.AsType[syscall.Errno](err); !system {
			return fmt.Errorf("%w: %w", ErrBroken, err)
		}
	}
	return err
}
