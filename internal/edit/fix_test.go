package edit

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fencepost/source"
)

// A mended text that has more errors than the one before is not written; one with as many, or fewer, is.
func TestWorse(t *testing.T) {
	a := &Files{Now: func() time.Time { return time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC) }, Workspace: t.TempDir()}
	head := "$TTL 60\n@ SOA ns1 h 1 7200 900 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\n"
	one, two := head+"a A 1.2.3\n", head+"a A 1.2.3\nb A 4.5.6\n"
	for _, c := range []struct {
		was, is string
		says    string
	}{{one, one, ""}, {two, one, ""}, {two, head, ""}, {head, one, "fixed, it would have 1 error instead of 0"}, {one, two, "fixed, it would have 2 errors instead of 1"}} {
		src := &source.Set{}
		f, err := src.Add(filepath.Join(a.Workspace, "tides.example.zone"), []byte(c.was))
		if err != nil {
			t.Fatal(err)
		}
		if got := a.worse(f, []byte(c.is)); got != c.says {
			t.Errorf("%q in place of %q: %q, want %q", c.is, c.was, got, c.says)
		}
	}
}

// A change of the TTL is in the file, for any record and for the SOA, also beside other changes of it.
func TestTTLIsWritten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tides.example.zone")
	a := &Files{Now: func() time.Time { return time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC) }}
	for _, c := range []struct {
		edit func() (*Edited, error)
		want string
	}{
		{func() (*Edited, error) {
			return a.Change(Edit{Zone: path, Records: []RecordArg{{Owner: "www", Type: "A", TTL: "600"}}})
		}, "www 600 A 192.0.2.2"},
		{func() (*Edited, error) {
			return a.Change(Edit{Zone: path, Records: []RecordArg{{Owner: "www", Type: "A", TTL: "5m", Data: []string{"192.0.2.3"}}}})
		}, "www 300 A 192.0.2.3"},
		{func() (*Edited, error) {
			return a.Change(Edit{Zone: path, Records: []RecordArg{{Owner: "@", Type: "SOA", TTL: "600"}}, Timers: Timers{Expire: "3w"}})
		}, "@ 600 SOA ns1 h 2026112300 7200 900 1814400 300"},
	} {
		if err := os.WriteFile(path, []byte("$TTL 60\n@ SOA ns1 h 1 7200 900 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\nwww A 192.0.2.2\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := c.edit(); err != nil {
			t.Errorf("%s: %v", c.want, err)
		}
		text, _ := os.ReadFile(path)
		if !strings.Contains(strings.Join(strings.Fields(string(text)), " "), c.want) {
			t.Errorf("%q is not in\n%s", c.want, text)
		}
	}
}
