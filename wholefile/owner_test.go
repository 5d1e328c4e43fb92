//go:build unix

package wholefile_test

import (
	"errors"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"testing"

	"fencepost/wholefile"
)

// Root writes nothing to where another user's symbolic link leads, whichever part of the path that is,
// and everything to where its own do.
func TestOthersLinks(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root lends its rights")
	}
	const other = 1234
	base := t.TempDir()
	goal := filepath.Join(base, "goal")
	for _, c := range []struct {
		what   string
		link   string // its place in the workspace
		owner  int
		target string
		write  string // relative to the workspace
		follow bool
	}{
		{"a file's link", "keys/k.pem", other, "goal/k.pem", "keys/k.pem", false},
		{"one's own", "keys/k.pem", 0, "goal/k.pem", "keys/k.pem", true},
		{"a folder's link", "state", other, "goal", "state/store", false},
		{"a folder's own", "state", 0, "goal", "state/store", true},
		{"a folder's link, deeper", "state", other, "goal", "state/deep/er/store", false},
		{"no link on the way", "elsewhere", other, "goal", "state/store", true},
		{"by dots", "state", other, "goal", "x/../state/store", false},
	} {
		dir := filepath.Join(base, "w")
		for _, d := range []string{goal, filepath.Join(dir, "keys"), filepath.Join(dir, "x")} {
			if err := os.MkdirAll(d, 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(filepath.Join(goal, "k.pem"), []byte("old"), 0o600); err != nil {
			t.Fatal(err)
		}
		link := filepath.Join(dir, c.link)
		if err := errors.Join(os.Symlink(filepath.Join(base, c.target), link), os.Lchown(link, c.owner, c.owner)); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, c.write)
		err := wholefile.MkdirAll(filepath.Dir(path), 0o700)
		if err == nil {
			err = wholefile.Write(path, []byte("new"), 0o600)
		}
		fresh := wholefile.WriteNew(filepath.Join(filepath.Dir(path), "fresh"), nil, 0o600)
		refused := errors.Is(err, wholefile.ErrOthersLink)
		if refused == c.follow || c.follow && (err != nil || fresh != nil) {
			t.Errorf("%s: %v, %v", c.what, err, fresh)
		}
		if left, _ := os.ReadDir(goal); refused && (len(left) != 1 || left[0].Name() != "k.pem") {
			t.Errorf("%s: something was written where the link leads", c.what)
		}
		if text, _ := os.ReadFile(filepath.Join(goal, "k.pem")); refused && string(text) != "old" {
			t.Errorf("%s: the file there holds %q", c.what, text)
		}
		if err := errors.Join(os.RemoveAll(dir), os.RemoveAll(goal)); err != nil {
			t.Fatal(err)
		}
	}
	// Links that lead to links, some root's, and such as lead nowhere.
	for i, owners := range [][]int{{0, 0}, {0, other}, {other, 0}} {
		a, b := filepath.Join(base, string(rune('a'+i))), filepath.Join(base, string(rune('p'+i)))
		if err := errors.Join(os.Symlink(b, a), os.Symlink(base, b), os.Lchown(a, owners[0], 0), os.Lchown(b, owners[1], 0)); err != nil {
			t.Fatal(err)
		}
		if err := wholefile.Trusted(filepath.Join(a, "file")); (err == nil) != (i == 0) {
			t.Errorf("owners %v: %v", owners, err)
		}
	}
	loop := filepath.Join(base, "loop")
	if err := os.Symlink(loop, loop); err != nil || wholefile.Trusted(filepath.Join(loop, "x")) == nil {
		t.Errorf("a link to itself is trusted (%v)", err)
	}
}

// A file that could not be written whole is not there, so that the next try is not told that it is; one
// that is there stays.
func TestWriteNew(t *testing.T) {
	signal.Ignore(syscall.SIGXFSZ)
	defer signal.Reset(syscall.SIGXFSZ)
	path := filepath.Join(t.TempDir(), "key")
	var was syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_FSIZE, &was); err != nil {
		t.Fatal(err)
	}
	little := was
	little.Cur = 10
	if err := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &little); err != nil {
		t.Fatal(err)
	}
	err := wholefile.WriteNew(path, make([]byte, 100), 0o600)
	if back := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &was); back != nil {
		t.Fatal(back)
	}
	if _, left := os.Lstat(path); err == nil || !errors.Is(left, fs.ErrNotExist) {
		t.Errorf("%v; the file: %v", err, left)
	}
	if err := wholefile.WriteNew(path, []byte("key"), 0o600); err != nil {
		t.Fatal(err)
	}
	err = wholefile.WriteNew(path, []byte("other"), 0o600)
	if text, _ := os.ReadFile(path); !errors.Is(err, fs.ErrExist) || string(text) != "key" {
		t.Errorf("%v; the file holds %q", err, text)
	}
}
