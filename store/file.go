package store

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"

	"fencepost/dnsname"
	"fencepost/wholefile"
)

// Open opens the store at path, making it and its folder if needed. One that is
// damaged is set aside, and what can still be read of it is taken over.
func Open(path string) (*Store, error) {
	if err := wholefile.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	s, err := openOrLost(path)
	if errors.Is(err, ErrDamaged) {
		s, err = setAside(path)
	}
	if err == nil {
		err = s.sweep()
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	s.requests.path = answeredPath(path)
	wholefile.Sweep(filepath.Dir(path), time.Time{}) // nobody else writes beside the store
	return s, nil
}

// guard runs f on a file that may be damaged. The engine trusts its file and panics
// over pages that are not what they should be; it maps the file too, so that pages
// that are missing are faults. Both become ErrDamaged.
func guard(f func() error) (err error) {
	old := debug.SetPanicOnFault(true)
	defer debug.SetPanicOnFault(old)
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", ErrBroken, p)
		}
	}()
	return f()
}

// bolt is the engine on disk. Updates that come while one is written are written
// together after it, so that many cost little more than one.
type bolt struct {
	path   string
	swap   sync.RWMutex // held, to read, by what uses db and second
	db     *bbolt.DB
	second *second     // the copy; nil: none is kept
	broken atomic.Bool // the file turned out to be damaged

	mu      sync.Mutex
	waiting []*call
	busy    bool
}

// call is an update that waits for its end.
type call struct {
	f    func(tx) error
	done chan error
}

func (b *bolt) view(f func(tx) error) error {
	b.swap.RLock()
	defer b.swap.RUnlock()
	return b.seen(guard(func() error { return b.db.View(func(t *bbolt.Tx) error { return f(boltTx{t, nil}) }) }))
}

// seen takes note of an error that says that the file is damaged.
func (b *bolt) seen(err error) error {
	if err = broken(err); errors.Is(err, ErrBroken) {
		b.broken.Store(true)
	}
	return err
}

// update may call f more than once.
func (b *bolt) update(f func(tx) error) error {
	c := &call{f, make(chan error, 1)}
	b.mu.Lock()
	b.waiting = append(b.waiting, c)
	leads := !b.busy
	b.busy = true
	b.mu.Unlock()
	for leads {
		b.mu.Lock()
		calls := b.waiting
		b.waiting = nil
		leads = len(calls) > 0
		b.busy = leads
		b.mu.Unlock()
		b.commit(calls)
	}
	return <-c.done
}

// commit makes updates in one go. One that fails is left out of it.
func (b *bolt) commit(calls []*call) {
	b.swap.RLock()
	defer b.swap.RUnlock()
	for len(calls) > 0 {
		failed := -1
		var copied []byte
		err := b.seen(guard(func() error {
			return b.db.Update(func(t *bbolt.Tx) error {
				copied = copied[:0]
				for i, c := range calls {
					failed = i
					if err := c.f(boltTx{t, &copied}); err != nil {
						return err
					}
				}
				failed = -1
				return nil
			})
		}))
		if failed < 0 {
			if err == nil {
				b.second.add(copied)
			}
			for _, c := range calls {
				c.done <- err
			}
			return
		}
		calls[failed].done <- err
		calls = slices.Delete(calls, failed, failed+1)
	}
}

func (b *bolt) close() error {
	b.second.close()
	return guard(b.db.Close)
}

func options(wait time.Duration, readOnly bool) *bbolt.Options {
	return &bbolt.Options{Timeout: wait, ReadOnly: readOnly, FreelistType: bbolt.FreelistMapType}
}

// inOrder reports keys that cannot be found because they do not stand where they should.
func inOrder(b *bbolt.Bucket) error {
	c := b.Cursor()
	var last []byte
	for k, _ := c.First(); k != nil; k, _ = c.Next() {
		if last != nil && bytes.Compare(last, k) >= 0 || b.Get(k) == nil {
			return fmt.Errorf("%w: its keys do not stand where they are looked for", ErrDamaged)
		}
		last = k
	}
	return nil
}

// blobFolder is where the bases of large zones of a store are.
func blobFolder(path string) folder { return folder(path + ".large") }

// sweep removes the blobs that no zone has: a killed process left them.
func (s *Store) sweep() error {
	names, err := s.large.list()
	if err != nil || len(names) == 0 {
		return err
	}
	used := map[string]bool{}
	for _, m := range s.metas() {
		used[m.Line.Blob] = true
	}
	for _, n := range names {
		if !used[n] {
			err = errors.Join(err, s.large.remove(n))
		}
	}
	return err
}

// metas are those of all zones, as far as they can be read.
func (s *Store) metas() (out []Meta) {
	_ = s.e.view(func(t tx) error {
		t.each(bucketMeta, nil, nil, false, func(key, _ []byte) bool {
			if m, found, err := readMeta(t, string(key)); err == nil && found {
				out = append(out, m)
			}
			return true
		})
		return nil
	})
	return out
}

// open opens the file with what every store has, and looks whether it is whole: as
// long as it says, with all buckets to be read.
func open(path string) (*Store, error) {
	_ = os.Remove(beforePath(path)) // of a process that was killed
	info, err := os.Stat(path)
	fresh := err != nil || info.Size() == 0
	var file *bolt
	err = guard(func() error {
		db, err := bbolt.Open(path, 0o600, options(time.Second, false))
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
		file = &bolt{path: path, db: db}
		return nil
	})
	if err != nil {
		return nil, err
	}
	complete := false
	err = guard(func() error {
		return file.db.View(func(tx *bbolt.Tx) (err error) {
			complete, err = lookOver(tx, path)
			return err
		})
	})
	if err == nil && !complete {
		err = completeFile(file.db, path, fresh)
	}
	if err = broken(err); err != nil {
		_ = file.close()
		return nil, err
	}
	return newStore(file, blobFolder(path)), nil
}

// formerBucket had what is in bucketPublished, with digests of another kind.
var formerBucket = []byte("published-1")

// lookOver looks whether a file is whole, and whether it has all buckets and none that is not used any more.
func lookOver(tx *bbolt.Tx, path string) (complete bool, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return false, err
	}
	if tx.Size() > info.Size() {
		return false, fmt.Errorf("%w: it has %d octets, and should have %d", ErrDamaged, info.Size(), tx.Size())
	}
	complete = tx.Bucket(formerBucket) == nil
	for _, b := range buckets {
		in := tx.Bucket([]byte(b))
		if in == nil {
			complete = false
			continue
		}
		if b == bucketSteps { // which are looked at when they are read
			continue
		}
		if err := inOrder(in); err != nil {
			return false, err
		}
	}
	return complete, nil
}

// beforePath is a file as it was before something is written to one that may be damaged.
func beforePath(path string) string { return path + ".before" }

// completeFile makes the buckets that are missing. What was there is kept until that has worked: a bucket
// that cannot be seen for damage is missing too.
func completeFile(db *bbolt.DB, path string, fresh bool) error {
	if !fresh {
		if err := copyFile(path, beforePath(path)); err != nil {
			return err
		}
	}
	err := guard(func() error {
		return db.Update(func(tx *bbolt.Tx) error {
			if tx.Bucket(formerBucket) != nil {
				if err := tx.DeleteBucket(formerBucket); err != nil {
					return err
				}
			}
			for _, b := range buckets {
				if _, err := tx.CreateBucketIfNotExists([]byte(b)); err != nil {
					return err
				}
			}
			return nil
		})
	})
	if !fresh && !errors.Is(broken(err), ErrDamaged) {
		_ = os.Remove(beforePath(path))
	}
	return err
}

// wholeSize takes an error over a file that is shorter than two pages for what it is.
func wholeSize(path string, err error) error {
	const pages = 2 * 4096 // a new store has four
	if info, serr := os.Stat(path); serr == nil && info.Size() > 0 && info.Size() < pages {
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return err
}

// asideName is a name for a damaged file that says when it was last written to, and that
// nothing has yet.
func asideName(path string) (string, error) {
	mark, err := wholefile.MarkOf(path)
	if err != nil {
		return "", err
	}
	name := fmt.Sprintf("%s.damaged-%s", path, time.Unix(0, mark.MTime).UTC().Format("20060102T150405"))
	for n := 2; ; n++ {
		if _, err := os.Lstat(name); errors.Is(err, fs.ErrNotExist) {
			return name, nil
		}
		name = fmt.Sprintf("%s-%d", strings.TrimSuffix(name, fmt.Sprintf("-%d", n-1)), n)
	}
}

// setAside keeps a damaged file under another name, and makes a store of what can
// still be read of it.
func setAside(path string) (*Store, error) {
	aside, err := asideName(path)
	if err != nil {
		return nil, err
	}
	// A copy, for whoever opened the file in vain may hold it for ever.
	if err := os.Rename(beforePath(path), aside); err != nil {
		if err := copyFile(path, aside); err != nil {
			return nil, err
		}
	}
	if err := os.Remove(path); err != nil {
		return nil, err
	}
	s, err := open(path)
	if err != nil {
		return nil, err
	}
	s.Aside = aside
	s.rescue(aside, path)
	return s, s.restoreCopy(path)
}

// restoreCopy takes over what the copy of a store has that was damaged or lost, and keeps it from now on.
func (s *Store) restoreCopy(path string) error {
	b := s.e.(*bolt)
	if _, err := b.takeSecond(secondPath(path)); err != nil {
		return err
	}
	return b.keepSecond(path)
}

// openOrLost opens a store. Where there is none, and a copy says that there was one, it begins with what
// that has, and a note tells of it.
func openOrLost(path string) (*Store, error) {
	_, err := os.Stat(path)
	second, copied := os.Stat(secondPath(path))
	lost := errors.Is(err, fs.ErrNotExist) && copied == nil
	s, err := open(path)
	switch {
	case err != nil:
		return nil, err
	case !lost:
		return s, s.e.(*bolt).keepSecond(path)
	}
	if s.Aside, err = noteLost(path, second.ModTime()); err == nil {
		err = s.restoreCopy(path)
	}
	return s, err
}

// rescue stores what of a damaged file is whole; whole is where it was, with its blobs.
func (s *Store) rescue(path, whole string) {
	var old *Store
	err := guard(func() error {
		db, err := bbolt.Open(path, 0o600, options(time.Second, true))
		old = &Store{e: &bolt{db: db}, large: blobFolder(whole)}
		return err
	})
	if err != nil {
		return
	}
	defer func() { _ = old.Close() }()
	for _, m := range old.metas() {
		scope, zone := splitScope(m.Zone)
		name, err := dnsname.FromWire([]byte(zone))
		if err != nil {
			continue
		}
		from, to := old.For(scope), s.For(scope)
		pending, _ := from.Pending(name) // as far as it can be read
		if z, meta, err := from.Load(name); err == nil && z != nil {
			if _, err := to.Put(Version{Zone: z, Meta: meta, Pending: pending}); err == nil {
				s.Rescued++
			}
		}
	}
	if list, err := old.AllPublished(); err == nil { // those of scopes are found out anew
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

// Sealed is what can be read of the store at path, which cannot be written to for the reason why.
// Nothing can be put in: what was would be gone when the program ends, and is not to be acknowledged.
func Sealed(path string, why error) *Store {
	s := InMemory()
	s.rescue(path, path)
	s.e, s.inner = sealed{s.e, why}, nil
	return s
}

// sealed is an engine that takes nothing.
type sealed struct {
	engine
	why error
}

func (e sealed) update(func(tx) error) error { return e.why }

// OpenToRead opens a store that no server has open: ErrInUse otherwise. Where there is
// no file it is empty. Nothing can be put in.
func OpenToRead(path string) (*Store, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return InMemory(), nil
	}
	file := &bolt{}
	err := guard(func() (err error) {
		file.db, err = bbolt.Open(path, 0o600, options(readWait, true))
		return err
	})
	if errors.Is(err, bolterrors.ErrTimeout) {
		return nil, ErrInUse
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return newStore(file, blobFolder(path)), nil
}

// readWait is how long somebody who only reads waits for the file.
const readWait = 100 * time.Millisecond
