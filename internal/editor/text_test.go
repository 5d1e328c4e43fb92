package editor

import (
	"bytes"
	"io"
	"testing"
	"unicode/utf8"
)

func TestPositions(t *testing.T) {
	const text = "a\nbü𝄞c\r\n\nlast"
	starts := lineStarts(text)
	for _, c := range []struct {
		p   position
		off int
	}{{position{0, 0}, 0}, {position{0, 1}, 1}, {position{1, 0}, 2}, {position{1, 1}, 3}, {position{1, 2}, 5}, {position{1, 4}, 9}, {position{1, 5}, 10},
		{position{2, 0}, 12}, {position{3, 4}, 17}} {
		if got := offset(text, starts, c.p); got != c.off {
			t.Errorf("%v is at %d, want %d", c.p, got, c.off)
		}
		if got := positionOf(text, starts, c.off); got != c.p {
			t.Errorf("%d is at %v, want %v", c.off, got, c.p)
		}
	}
	// Beyond the end is the end, of the line or of the text.
	for p, want := range map[position]int{{0, 99}: 1, {99, 0}: len(text), {-1, 0}: 0, {3, 99}: len(text)} {
		if got := offset(text, starts, p); got != want {
			t.Errorf("%v is at %d, want %d", p, got, want)
		}
	}
}

func TestApply(t *testing.T) {
	text := "one\ntwo\nthree\n"
	text = apply(text, &textRange{position{1, 0}, position{1, 3}}, "2")
	text = apply(text, &textRange{position{0, 3}, position{1, 0}}, " ")
	text = apply(text, &textRange{position{9, 0}, position{9, 0}}, "end")
	if text != "one 2\nthree\nend" {
		t.Errorf("%q", text)
	}
	if got := apply(text, nil, "all"); got != "all" {
		t.Errorf("%q", got)
	}
	if got := apply("abc", &textRange{position{0, 2}, position{0, 1}}, "-"); got != "a-c" {
		t.Errorf("a range backwards: %q", got)
	}
}

func TestURIs(t *testing.T) {
	for uri, path := range map[string]string{"file:///zones/a.example.zone": "/zones/a.example.zone", "file:///a%20b/%C3%BC.zone": "/a b/ü.zone", "untitled:x": "", "http://h/x": "", "%": ""} {
		if got := pathOf(uri); got != path {
			t.Errorf("%s is %q, want %q", uri, got, path)
		}
	}
	if got := pathOf(uriOf("/a b/c.zone")); got != "/a b/c.zone" {
		t.Errorf("there and back: %q", got)
	}
}

func TestWanted(t *testing.T) {
	for _, c := range []struct {
		before   []string
		indented bool
		want     want
	}{{nil, false, wantOwner}, {nil, true, wantType}, {[]string{"www"}, false, wantType}, {[]string{"www", "300"}, false, wantType}, {[]string{"@", "MX"}, false, want{15, 0}},
		{[]string{"@", "MX", "10"}, false, want{15, 1}}, {[]string{"MX"}, true, want{15, 0}}, {[]string{"mx", "A"}, false, want{1, 0}}} {
		if got := wanted(c.before, c.indented); got != c.want {
			t.Errorf("%v: %v, want %v", c.before, got, c.want)
		}
	}
}

// Positions of any text and back: no panic, and what is on a character's border
// comes back.
func FuzzPositions(f *testing.F) {
	f.Add("a\nbü𝄞c\r\n", 1, 3)
	f.Add("\xff\xfe\n", 0, 1)
	f.Fuzz(func(t *testing.T, text string, line, character int) {
		starts := lineStarts(text)
		off := offset(text, starts, position{line, character})
		if off < 0 || off > len(text) {
			t.Fatalf("%d of %d", off, len(text))
		}
		p := positionOf(text, starts, off)
		if again := offset(text, starts, p); utf8.ValidString(text) && again != off {
			t.Fatalf("%q: %d is %v, which is %d", text, off, p, again)
		}
		_ = apply(text, &textRange{p, position{line, character}}, "x")
	})
}

// Whatever comes in, frames are told apart or the stream ends, and nothing is read that
// is longer than it may be.
func FuzzStream(f *testing.F) {
	f.Add([]byte("Content-Length: 2\r\n\r\n{}"))
	f.Add([]byte("content-length:3\n\n[1]Content-Length: 99999999999\r\n\r\n"))
	f.Add([]byte("X: y\r\n\r\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		s := newStream(pipe{bytes.NewReader(in), io.Discard})
		for range len(in) + 1 {
			var v map[string]any
			if err := s.ReadObject(&v); err != nil {
				return
			}
		}
		t.Error("the stream does not end")
	})
}

type pipe struct {
	io.Reader
	io.Writer
}

func (pipe) Close() error { return nil }
