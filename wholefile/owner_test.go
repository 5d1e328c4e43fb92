//go:build unix

package wholefile_test

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
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

// A new file has the mode that the umask leaves, and belongs to the user whose folder it is in; one that
// is replaced keeps what it had.
func TestModeAndOwner(t *testing.T) {
	for umask, want := range map[int]fs.FileMode{0o022: 0o644, 0o002: 0o664, 0o077: 0o600, 0o027: 0o640} {
		dir := t.TempDir()
		if os.Getuid() == 0 {
			if err := os.Chown(dir, 1234, 4321); err != nil {
				t.Fatal(err)
			}
		}
		was := syscall.Umask(umask)
		err := errors.Join(wholefile.Write(filepath.Join(dir, "new"), nil, 0o666), wholefile.Write(filepath.Join(dir, "secret"), nil, 0o600),
			wholefile.WriteOurs(filepath.Join(dir, "ours"), nil, 0o600), os.WriteFile(filepath.Join(dir, "old"), nil, 0o600), os.Chmod(filepath.Join(dir, "old"), 0o646),
			wholefile.Write(filepath.Join(dir, "old"), []byte("x"), 0o600))
		syscall.Umask(was)
		if err != nil {
			t.Fatal(err)
		}
		for name, mode := range map[string]fs.FileMode{"new": want, "secret": 0o600, "ours": 0o600, "old": 0o646} {
			info, err := os.Stat(filepath.Join(dir, name))
			if err != nil || info.Mode().Perm() != mode {
				t.Errorf("umask %04o: %s has mode %v (%v), want %v", umask, name, info.Mode(), err, mode)
			}
			owner := info.Sys().(*syscall.Stat_t).Uid
			if folders := name == "new" || name == "secret"; os.Getuid() == 0 && (owner == 1234) != folders {
				t.Errorf("%s belongs to the user %d", name, owner)
			}
		}
	}
}

// shortFile, in the environment, names a file that this program is to write under a bound on the size of
// files, instead of testing.
const shortFile = "FENCEPOST_TEST_SHORT_FILE"

func TestMain(m *testing.M) {
	path := os.Getenv(shortFile)
	if path == "" {
		os.Exit(m.Run())
	}
	signal.Ignore(syscall.SIGXFSZ)
	err := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: 10, Max: 10})
	if err == nil && errors.Is(wholefile.WriteNew(path, make([]byte, 100), 0o600), syscall.EFBIG) {
		os.Exit(0)
	}
	os.Exit(1)
}

// A file that could not be written whole is not there, so that the next try is not told that it is; one
// that is there stays.
func TestWriteNew(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	child := exec.Command(os.Args[0])
	child.Env = append(os.Environ(), shortFile+"="+path)
	if out, err := child.CombinedOutput(); err != nil {
		t.Fatalf("what is too long was written, or something else failed: %v\n%s", err, out)
	}
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a part of the file is left: %v", err)
	}
	if err := wholefile.WriteNew(path, []byte("key"), 0o600); err != nil {
		t.Fatal(err)
	}
	err := wholefile.WriteNew(path, []byte("other"), 0o600)
	if text, _ := os.ReadFile(path); !errors.Is(err, fs.ErrExist) || string(text) != "key" {
		t.Errorf("%v; the file holds %q", err, text)
	}
}
