package wholefile_test

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"fencepost/wholefile"
)

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	elsewhere := t.TempDir()
	t.Setenv("TMPDIR", elsewhere)
	path := filepath.Join(dir, "a.zone")
	if err := os.WriteFile(path, []byte("old"), 0o640); err != nil {
		t.Fatal(err)
	}
	if os.Getuid() == 0 {
		if err := os.Chown(path, 1234, 4321); err != nil {
			t.Fatal(err)
		}
	}
	link := filepath.Join(dir, "link.zone")
	if err := os.Symlink("a.zone", link); err != nil {
		t.Fatal(err)
	}
	f, err := wholefile.Create(link, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.File.WriteString("new"); err != nil {
		t.Fatal(err)
	}
	if left, _ := os.ReadDir(elsewhere); len(left) > 0 {
		t.Errorf("%s stands outside the folder", left[0].Name())
	}
	if text, _ := os.ReadFile(path); string(text) != "old" {
		t.Errorf("before it is complete the file holds %q", text)
	}
	if err := f.Commit(); err != nil {
		t.Fatal(err)
	}
	f.Discard()
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if st := info.Sys().(*syscall.Stat_t); os.Getuid() == 0 && (st.Uid != 1234 || st.Gid != 4321) {
		t.Errorf("owner %d, group %d", st.Uid, st.Gid)
	}
	if text, _ := os.ReadFile(link); string(text) != "new" {
		t.Errorf("the file holds %q", text)
	}
	if l, err := os.Lstat(link); err != nil || l.Mode()&os.ModeSymlink == 0 {
		t.Error("the link is not a link any more")
	}
	if err := wholefile.Write(filepath.Join(dir, "fresh.zone"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(filepath.Join(dir, "fresh.zone")); info.Mode().Perm() != 0o600 {
		t.Errorf("a new file has mode %v", info.Mode())
	}
	for _, bad := range []string{dir, os.DevNull} {
		if err := wholefile.Write(bad, nil, 0o600); !errors.Is(err, wholefile.ErrNotRegular) {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

func TestSweep(t *testing.T) {
	dir := t.TempDir()
	now := time.Now()
	for name, age := range map[string]time.Duration{".a.zone123": 2 * time.Hour, ".k.pem9": 2 * time.Hour, ".b.zone123": time.Minute, "a.zone": 9 * time.Hour, ".hidden": 9 * time.Hour, ".a.zone": 9 * time.Hour} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, now.Add(-age), now.Add(-age)); err != nil {
			t.Fatal(err)
		}
	}
	wholefile.Sweep(dir, now.Add(-wholefile.Stale))
	left, _ := os.ReadDir(dir)
	if len(left) != 4 {
		t.Errorf("left are %v", left)
	}
	wholefile.Sweep(dir, time.Time{})
	if left, _ := os.ReadDir(dir); len(left) != 3 {
		t.Errorf("left are %v", left)
	}
}

// A file that was saved by somebody else meanwhile, made, or taken away, is not written over.
func TestReplace(t *testing.T) {
	for _, c := range []struct {
		fresh   bool
		present string // empty: there is no file
		changed bool
	}{
		{true, "", false}, {true, "theirs", true}, {true, "old", true},
		{false, "old", false}, {false, "theirs", true}, {false, "", true},
	} {
		path := filepath.Join(t.TempDir(), "a.zone")
		want := "new"
		if c.present != "" {
			if err := os.WriteFile(path, []byte(c.present), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if c.changed {
			want = c.present
		}
		err := wholefile.Replace(path, c.fresh, []byte("old"), []byte("new"), 0o644)
		text, _ := os.ReadFile(path)
		if errors.Is(err, wholefile.ErrChanged) != c.changed || !c.changed && err != nil || string(text) != want {
			t.Errorf("%+v: %v, the file holds %q", c, err, text)
		}
	}
}
