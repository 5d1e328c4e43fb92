// Package wholefile replaces files wholly or not at all. The new text is written
// beside the file, in the same folder, so that nobody who cannot read the folder
// reads it on the way; it takes over owner and mode of what it replaces, and is on
// stable storage before Commit returns.
package wholefile

import (
	"bytes"
	"cmp"
	"errors"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"github.com/google/renameio/v2"
)

// ErrNotRegular means that the target is a folder, a device, a pipe or a socket.
var ErrNotRegular = errors.New("it is not a regular file")

// File is a file that is being written. It becomes visible with Commit.
type File struct {
	*renameio.PendingFile
	dir string
}

// Create begins to write the file at path. mode is that of a new file, less what the umask takes away; one
// that exists keeps its own. What root makes in a folder of another user belongs to that user. A symbolic
// link stays: what it points to is replaced.
func Create(path string, mode fs.FileMode) (*File, error) { return create(path, mode, true) }

func create(path string, mode fs.FileMode, shared bool) (*File, error) {
	if err := Trusted(path); err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	dir := filepath.Dir(path)
	old, err := os.Stat(path)
	if err == nil {
		if !old.Mode().IsRegular() {
			return nil, &fs.PathError{Op: "write", Path: path, Err: ErrNotRegular}
		}
		mode = old.Mode().Perm()
	}
	how := renameio.WithStaticPermissions(mode)
	if old == nil || err != nil {
		how = renameio.WithPermissions(mode)
	}
	t, err := renameio.NewPendingFile(path, renameio.WithTempDir(dir), how)
	var wrong *fs.PathError
	if errors.As(err, &wrong) {
		return nil, &fs.PathError{Op: "write", Path: path, Err: wrong.Err} // not the name it has on the way
	}
	if err != nil {
		return nil, err
	}
	if old != nil {
		keepOwner(t.File, old)
	} else if folder, err := os.Stat(dir); err == nil && shared && os.Geteuid() == 0 {
		keepOwner(t.File, folder)
	}
	return &File{t, dir}, nil
}

// MkdirAll makes a folder and those above it, see Trusted.
func MkdirAll(dir string, mode fs.FileMode) error {
	if err := Trusted(dir); err != nil {
		return err
	}
	return os.MkdirAll(dir, mode)
}

// WriteNew writes a file that must not be there yet. Where it cannot be written whole there is none.
func WriteNew(path string, text []byte, mode fs.FileMode) (err error) {
	if err := Trusted(filepath.Dir(path)); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = cmp.Or(err, f.Sync(), f.Close()); err != nil {
		_ = os.Remove(path)
	}
	return err
}

// Commit puts the file in its place and makes it last.
func (f *File) Commit() error {
	if err := f.CloseAtomicallyReplace(); err != nil {
		return err
	}
	d, err := os.Open(f.dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Discard gives it up. After Commit it does nothing.
func (f *File) Discard() { _ = f.Cleanup() }

// Write replaces the file at path by a text; see Create.
func Write(path string, text []byte, mode fs.FileMode) error {
	return write(path, text, mode, true)
}

// WriteOurs is Write for a file that belongs to whoever runs this, wherever it is.
func WriteOurs(path string, text []byte, mode fs.FileMode) error {
	return write(path, text, mode, false)
}

func write(path string, text []byte, mode fs.FileMode, shared bool) error {
	f, err := create(path, mode, shared)
	if err != nil {
		return err
	}
	defer f.Discard()
	if _, err := f.File.Write(text); err != nil {
		return err
	}
	return f.Commit()
}

// ErrChanged means that a file is not what it was.
var ErrChanged = errors.New("the file was changed meanwhile")

// Replace is Write for a file that was read before: at the last moment it looks
// whether it still holds old, or still is not there if it is fresh.
func Replace(path string, fresh bool, old, text []byte, mode fs.FileMode) error {
	f, err := Create(path, mode)
	if err != nil {
		return err
	}
	defer f.Discard()
	if _, err := f.File.Write(text); err != nil {
		return err
	}
	if err := f.Sync(); err != nil { // what takes time comes first
		return err
	}
	now, err := Read(path, math.MaxInt64)
	missing := errors.Is(err, fs.ErrNotExist)
	if err != nil && !missing || missing != fresh || !fresh && !bytes.Equal(now, old) {
		if err == nil || missing {
			err = ErrChanged
		}
		return err
	}
	return f.Commit()
}

// Stale is how old a file must be to have been left by a program that was killed, where others may be
// writing.
const Stale = time.Hour

// ours are the names of files that are being written.
var ours = regexp.MustCompile(`^\..+\.(zone|toml|pem|signed|intent|second|answered)\d+$`)

// Sweep removes what writers left in a folder when they were killed, so that neither zones nor keys lie
// about: what was begun before a time at which nobody who still writes had begun; zero: whenever, for
// nobody writes.
func Sweep(dir string, before time.Time) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() && ours.MatchString(e.Name()) && (before.IsZero() || info.ModTime().Before(before)) {
			_ = os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}
