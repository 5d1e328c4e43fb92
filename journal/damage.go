package journal

import (
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"

	"fencepost/dnsname"
)

// guard runs f on a file that may be damaged. The engine trusts its file and panics
// over pages that are not what they should be; it maps the file too, so that pages
// that are missing are faults. Both become ErrDamaged.
func guard(f func() error) (err error) {
	old := debug.SetPanicOnFault(true)
	defer debug.SetPanicOnFault(old)
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", ErrDamaged, p)
		}
	}()
	return f()
}

func (s *Store) view(f func(*bbolt.Tx) error) error {
	return guard(func() error { return s.db.View(f) })
}

func (s *Store) update(f func(*bbolt.Tx) error) error {
	return guard(func() error { return s.db.Update(f) })
}

// open opens the file with what every store has, and looks whether it is whole: as
// long as it says, with all buckets to be read.
func open(path string) (s *Store, err error) {
	err = guard(func() error {
		db, err := bbolt.Open(path, 0o600, &bbolt.Options{Timeout: time.Second})
		if errors.Is(err, bolterrors.ErrTimeout) {
			return ErrInUse
		}
		for _, known := range []error{bolterrors.ErrInvalid, bolterrors.ErrChecksum, bolterrors.ErrVersionMismatch} {
			if errors.Is(err, known) {
				return fmt.Errorf("%w: %w", ErrDamaged, err)
			}
		}
		if err != nil {
			return wholeSize(path, err)
		}
		s = &Store{db: db}
		return nil
	})
	if err != nil {
		return nil, err
	}
	err = s.update(func(tx *bbolt.Tx) error {
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		if tx.Size() > info.Size() {
			return fmt.Errorf("%w: it has %d octets, and should have %d", ErrDamaged, info.Size(), tx.Size())
		}
		for _, b := range [][]byte{bucketMeta, bucketData} {
			if _, err := tx.CreateBucketIfNotExists(b); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		_ = guard(s.db.Close)
		return nil, err
	}
	return s, nil
}

// wholeSize takes an error over a file that is shorter than two pages for what it is.
func wholeSize(path string, err error) error {
	const pages = 2 * 4096 // a new store has four
	if info, serr := os.Stat(path); serr == nil && info.Size() > 0 && info.Size() < pages {
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return err
}

// setAside keeps a damaged file under another name, and makes a store of what can
// still be read of it.
func setAside(path string) (*Store, error) {
	aside := fmt.Sprintf("%s.damaged-%s", path, time.Now().UTC().Format("20060102T150405"))
	// A copy, for whoever opened the file in vain may hold it for ever.
	if err := copyFile(path, aside); err != nil {
		return nil, err
	}
	if err := os.Remove(path); err != nil {
		return nil, err
	}
	s, err := open(path)
	if err != nil {
		return nil, err
	}
	s.Aside = aside
	s.rescue(aside)
	return s, nil
}

// rescue stores what of a damaged file is whole.
func (s *Store) rescue(path string) {
	var old *Store
	err := guard(func() error {
		db, err := bbolt.Open(path, 0o600, &bbolt.Options{Timeout: time.Second, ReadOnly: true})
		old = &Store{db: db}
		return err
	})
	if err != nil {
		return
	}
	defer func() { _ = guard(old.db.Close) }()
	var metas []Meta
	_ = old.view(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketMeta)
		if b == nil {
			return nil
		}
		return b.ForEach(func(key, _ []byte) error {
			if m, found, err := readMeta(tx, string(key)); err == nil && found {
				metas = append(metas, m)
			}
			return nil
		})
	})
	for _, m := range metas {
		name, err := dnsname.FromWire([]byte(m.Zone))
		if err != nil {
			continue
		}
		if z, meta, err := old.Load(name); err == nil && z != nil && z.Serial() == meta.Serial {
			if s.Save(z, meta) == nil {
				s.Rescued++
			}
		}
	}
	if list, err := old.AllPublished(); err == nil {
		_ = s.Publish(list)
	}
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, in); err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}
