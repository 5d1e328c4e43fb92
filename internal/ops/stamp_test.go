package ops

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/zoneload"
)

// Whatever is done to files, those whose content is another one are never passed over, and
// those that nobody touched are.
// A stamp that comes from outside is looked at only if it is of the zone's own files, and as they
// are now: it leads nobody to read another file, which may never end.
func TestStampOfFiles(t *testing.T) {
	dir := t.TempDir()
	file, part, other, pipe := filepath.Join(dir, "zones", "a.zone"), filepath.Join(dir, "zones", "a.part"), filepath.Join(dir, "other.zone"), filepath.Join(dir, "zones", "pipe")
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{file, part, other, filepath.Join(dir, "zones", "key.pem")} {
		put(t, f, "x")
	}
	if err := syscall.Mkfifo(pipe, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		of []string
		ok bool
	}{
		{[]string{file}, true}, {[]string{file, part}, true}, {[]string{part, file}, true},
		{[]string{part}, false}, {nil, false}, {[]string{file, other}, false}, {[]string{other}, false}, {[]string{file, filepath.Join(dir, "zones", "key.pem")}, false}, {[]string{file, filepath.Join(dir, "none")}, false},
	} {
		lines := []string{stampHead("s")}
		for _, f := range c.of {
			mark, _ := wholefile.MarkOf(f)
			lines = append(lines, (&fileStamp{mark, sumOf([]byte("x")), f}).String())
		}
		stamp := strings.Join(lines, "\n")
		if err := stampOfFiles(stamp, &zoneload.Reader{}, file); (err == nil) != c.ok {
			t.Errorf("%v: %v", c.of, err)
		}
		if c.ok {
			put(t, c.of[0], "xy")
			if stampOfFiles(stamp, &zoneload.Reader{}, file) == nil {
				t.Errorf("%v: a file has changed", c.of)
			}
			put(t, c.of[0], "x")
		}
	}
	mark, err := wholefile.MarkOf(pipe)
	if err != nil {
		t.Fatal(err)
	}
	if _, same := stillStamped(stampHead("s")+"\n"+(&fileStamp{mark, sumOf(nil), pipe}).String(), "s"); same {
		t.Error("a FIFO is as it was")
	}
}

func TestStamp(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2026))
	for round := range 300 {
		dir := t.TempDir()
		content := map[string]string{}
		src := &source.Set{}
		begin := time.Now()
		for i := range 1 + r.IntN(3) {
			path := filepath.Join(dir, fmt.Sprintf("a \"%d\" b", i))
			content[path] = fmt.Sprint("text", r.IntN(1000))
			put(t, path, content[path])
			if r.IntN(3) == 0 { // long ago
				old := time.Now().Add(-time.Hour)
				if err := os.Chtimes(path, old, old); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := src.Add(path, []byte(content[path])); err != nil {
				t.Fatal(err)
			}
		}
		stamp := makeStamp("settings", src.Files(), begin)
		if again, ok := stillStamped(stamp, "settings"); !ok || again == "" {
			t.Fatalf("round %d: what nobody touched has changed:\n%s", round, stamp)
		}
		if _, ok := stillStamped(stamp, "other settings"); ok {
			t.Fatal("other settings count for nothing")
		}
		path := src.Files()[r.IntN(len(src.Files()))].Name
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		is := content[path]
		switch r.IntN(6) {
		case 0: // the same length, in the same moment
			is = fmt.Sprint("TEXT", is[4:])
			put(t, path, is)
		case 1: // with the old times
			is = fmt.Sprint("TEXT", is[4:])
			put(t, path, is)
			if err := os.Chtimes(path, info.ModTime(), info.ModTime()); err != nil {
				t.Fatal(err)
			}
		case 2: // another file in its place
			is = fmt.Sprint("TEXT", is[4:])
			put(t, path+".new", is)
			if err := os.Rename(path+".new", path); err != nil {
				t.Fatal(err)
			}
		case 3:
			is = ""
			if err := os.Remove(path); err != nil {
				t.Fatal(err)
			}
		case 4:
			is += "more"
			put(t, path, is)
		case 5: // touched
			put(t, path, is)
		}
		if _, ok := stillStamped(stamp, "settings"); ok && is != content[path] {
			t.Fatalf("round %d: another content is passed over:\n%s", round, stamp)
		}
	}
	for _, bad := range []string{"", "1", "1 settings\nx", "1 settings\n1 2 3 4 -", "1 settings\n1 2 3 4 - unquoted"} {
		if _, ok := stillStamped(bad, "settings"); ok {
			t.Errorf("%q is taken for a stamp", bad)
		}
	}
}

func put(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}
