package diag_test

import (
	"testing"

	"fencepost/diag"
	"fencepost/source"
)

func TestClosest(t *testing.T) {
	have := []string{"$ORIGIN", "$TTL", "$INCLUDE", "send-to", "missing-glue", "A", "AAAA"}
	for word, want := range map[string]string{"$TLL": "$TTL", "$ttl": "$TTL", "$ORGIN": "$ORIGIN", "sendto": "send-to", "mising-glue": "missing-glue", "AA": "A", "AAA": "AAAA", "xyzzy": "", "": ""} {
		if got := diag.Closest(word, have); got != want {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
}

func TestList(t *testing.T) {
	r := &diag.Rule{Code: "r", Severity: diag.Error}
	note := &diag.Rule{Code: "n", Severity: diag.Note}
	var a, b diag.List
	for i := range diag.MaxList + 5 {
		a.Add(r.At(source.Span{Start: source.Pos(diag.MaxList - i + 100)}, "%d", i))
	}
	b.Add(note.At(source.Span{Start: 1}, "first"))
	b.Append(&a)
	if b.Count(diag.Error) != diag.MaxList+5 || b.Count(diag.Note) != 1 || len(b.All) != diag.MaxList || b.Dropped() != 6 {
		t.Errorf("%d errors, %d kept, %d dropped", b.Count(diag.Error), len(b.All), b.Dropped())
	}
	b.Sort()
	for i := range b.All[1:] {
		if b.All[i].Span.Start > b.All[i+1].Span.Start {
			t.Fatal("not sorted")
		}
	}
	d := r.At(source.Span{}, "x").See(source.Span{Start: 1}, "a")
	one, two := d.See(source.Span{}, "b"), d.See(source.Span{}, "c")
	if one.Related[1].Message != "b" || two.Related[1].Message != "c" || diag.Severity(9).String() != "" {
		t.Error("findings share their related places")
	}
}
