package source_test

import (
	"testing"

	"fencepost/source"
)

func TestPositions(t *testing.T) {
	var s source.Set
	a, _ := s.Add("a", []byte("one\ntwo\n\nfour"))
	b, _ := s.Add("b", nil)
	c, _ := s.Add("c", []byte("x\r\ny"))
	for _, p := range []struct {
		f    *source.File
		off  int
		want string
		line string
	}{{a, 0, "a:1:1", "one"}, {a, 2, "a:1:3", "one"}, {a, 4, "a:2:1", "two"}, {a, 8, "a:3:1", ""}, {a, 13, "a:4:5", "four"}, {b, 0, "b:1:1", ""}, {c, 3, "c:2:1", "y"}, {c, 0, "c:1:1", "x"}} {
		pos := p.f.Pos(p.off)
		if got := s.Position(pos).String(); got != p.want {
			t.Errorf("offset %d of %s is %s, not %s", p.off, p.f.Name, got, p.want)
		}
		if line, _ := s.Line(pos); string(line) != p.line {
			t.Errorf("the line at %s is %q", p.want, line)
		}
		if s.File(pos) != p.f {
			t.Errorf("%s lies in another file", p.want)
		}
	}
	if got := string(s.Text(source.Span{Start: a.Pos(4), End: a.Pos(7)})); got != "two" {
		t.Errorf("the span covers %q", got)
	}
	if s.File(0) != nil || s.Position(0).String() != "" {
		t.Error("nowhere is somewhere")
	}
}
