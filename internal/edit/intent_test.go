package edit

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// However far a batch came before it was killed, whoever locks the folder next
// finishes it, and leaves alone what somebody has changed since.
func TestFinishIntended(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 387))
	for range 200 {
		dir := t.TempDir()
		var files []*EditedFile
		for i := range 2 + r.IntN(3) {
			f := &EditedFile{path: filepath.Join(dir, string(rune('a'+i))+".zone"), old: []byte("old"), text: []byte("new"), New: r.IntN(3) == 0}
			if !f.New {
				if err := os.WriteFile(f.path, f.old, 0o600); err != nil {
					t.Fatal(err)
				}
			}
			files = append(files, f)
		}
		if _, err := intend(files); err != nil {
			t.Fatal(err)
		}
		for _, f := range files[:r.IntN(len(files)+1)] { // and here it was killed
			if err := f.write(); err != nil {
				t.Fatal(err)
			}
		}
		want := map[string]string{}
		for _, f := range files {
			want[f.path] = "new"
			if r.IntN(4) == 0 {
				want[f.path] = "by hand"
				if err := os.WriteFile(f.path, []byte("by hand"), 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
		unlock, err := lockFolder(dir)
		if err != nil {
			t.Fatal(err)
		}
		unlock()
		for path, text := range want {
			if got, err := os.ReadFile(path); err != nil || string(got) != text {
				t.Fatalf("%s holds %q, %v; want %q", filepath.Base(path), got, err, text)
			}
		}
		if _, err := os.Stat(filepath.Join(dir, intentFile)); err == nil {
			t.Fatal("the intent is still there")
		}
	}
}

// What somebody saved while an edit was made is not written over.
func TestChangedMeanwhile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.zone")
	for what, c := range map[string]struct {
		now   *string
		fresh bool
		ok    bool
	}{"as it was": {new("old"), false, true}, "changed": {new("older"), false, false}, "gone": {nil, false, false}, "to be made": {nil, true, true}, "made by another": {new(""), true, false}} {
		_ = os.Remove(path)
		if c.now != nil {
			if err := os.WriteFile(path, []byte(*c.now), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		err := (&EditedFile{Path: "a.zone", path: path, old: []byte("old"), text: []byte("new"), New: c.fresh}).write()
		got, _ := os.ReadFile(path)
		if (err == nil) != c.ok || c.ok && string(got) != "new" || !c.ok && c.now != nil && string(got) != *c.now {
			t.Errorf("%s: %v, and the file holds %q", what, err, got)
		}
	}
}

// An intent that somebody else put there is not heeded, and is told of: it would say
// what is written where, as whoever runs the next command.
func TestForeignIntent(t *testing.T) {
	dir, target := t.TempDir(), filepath.Join(t.TempDir(), "target")
	at := filepath.Join(dir, intentFile)
	text := []byte(`[{"path":"` + target + `","old":"","text":"Zm9yZWlnbg=="}]`)
	for what, put := range map[string]func() error{
		"others may write it": func() error { return errors.Join(os.WriteFile(at, text, 0o600), os.Chmod(at, 0o666)) },
		"it is a link": func() error {
			real := filepath.Join(t.TempDir(), "intent")
			return errors.Join(os.WriteFile(real, text, 0o600), os.Symlink(real, at))
		},
		"it is another's": func() error {
			if os.Geteuid() != 0 {
				return os.WriteFile(at, text, 0o622) // a file of another takes root
			}
			return errors.Join(os.WriteFile(at, text, 0o600), os.Chown(at, 12345, 12345))
		},
	} {
		if err := put(); err != nil {
			t.Fatal(err)
		}
		if err := FinishIn(dir); err == nil || !strings.Contains(err.Error(), "not ours") {
			t.Errorf("%s: %v", what, err)
		}
		if _, err := os.Stat(target); err == nil {
			t.Fatalf("%s: it was heeded", what)
		}
		if err := os.Remove(at); err != nil {
			t.Fatal(err)
		}
	}
}
