package zonefile

import (
	"bufio"
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/zone"
)

// state is all that loading a text gives, as text.
func state(t testing.TB, text string) string {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add("x", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	include := func(string, *source.File) (*source.File, error) { return src.Add("inc", []byte("inc A 192.0.2.77\n")) }
	z := Load(f, Options{Origin: dnsname.MustParse("example."), Open: include}, diags)
	var b strings.Builder
	diags.Sort()
	for _, d := range diags.All {
		fmt.Fprintln(&b, src.Position(d.Span.Start), d.Rule.Code, d.Message)
	}
	if z == nil {
		return b.String() + "no zone"
	}
	at := 0
	for n := range z.Nodes {
		for set := range n.RRsets {
			for data := range set.Data {
				fmt.Fprintf(&b, "%s %s %d %q %s\n", z.Owner(n), set.Type, set.TTL, data, src.Position(z.Positions[at]))
				at++
			}
		}
	}
	for _, a := range z.Asides {
		fmt.Fprintln(&b, src.Position(a.Span.Start), a.AsideNote)
	}
	fmt.Fprintln(&b, len(z.ExtraSOA), z.Outside, len(z.Conflicts), z.Unread([]byte("\x03bad\x07example\x00")))
	return b.String()
}

// split runs f with files read from two places from a few octets on.
func split(head int, f func()) {
	from, oldHead := splitFrom, splitHead
	splitFrom, splitHead = 1, head
	defer func() { splitFrom, splitHead = from, oldHead }()
	f()
}

// TestSplit reads random files in one piece and from two places: nothing may
// differ, wherever the cut falls.
func TestSplit(t *testing.T) {
	lines := []string{"a A 192.0.2.1", "b 60 A 192.0.2.2", "  A 192.0.2.3", "\tTXT x", "$ORIGIN sub", "$ORIGIN example.", "$TTL 60", "$TTL 300", "; note", "; set aside 2026-11-29 by ines, because of that", "",
		"c TXT ( \"one\"", "  \"two\" )", "bad A 192.0.2.256", "d NS ns.d", "ns.d A 192.0.2.4", "@ SOA . . 9 9 9 9 9", "x.other. A 192.0.2.5", "e 1h A 192.0.2.6",
		"f TXT \"open", "$INCLUDE inc", "A A 192.0.2.1", "g CNAME a\r", "h TXT x )",
		"%TTL 300", "i SOA a b 1 1h 1h 1h 1h 1h", "j 5m A 192.0.2.7"}
	r := rand.New(rand.NewPCG(1, 1))
	for round := range 1200 {
		var b strings.Builder
		b.WriteString("$TTL 3600\n@ SOA ns h 1 7200 900 1209600 300\n@ NS ns.other.\n")
		for range r.IntN(40) {
			// Mostly plain lines, so that the guess is often right.
			n := len(lines)
			if round%2 == 0 {
				n = 4
			}
			b.WriteString(lines[r.IntN(n)] + "\n")
		}
		text := b.String()
		want, got := state(t, text), ""
		split(1+r.IntN(100), func() { got = state(t, text) })
		if got != want {
			t.Fatalf("%q read from two places gives\n%s\nin one piece\n%s", text, got, want)
		}
	}
}

// A large file is indeed read from two places, and its records come out right.
func TestLargeFile(t *testing.T) {
	var b strings.Builder
	b.WriteString("$TTL 3600\n@ SOA ns h 1 7200 900 1209600 300\n@ NS ns.other.\n")
	for i := range 200000 {
		fmt.Fprintf(&b, "host%d A 192.0.2.%d\n", i*7919%200000, i&255)
	}
	var zones [2]*Loaded
	for i := range zones {
		if i == 1 {
			old := splitFrom
			splitFrom = 1 << 40
			defer func() { splitFrom = old }()
		}
		src, diags := &source.Set{}, &diag.List{}
		f, err := src.Add("x", []byte(b.String()))
		if err != nil {
			t.Fatal(err)
		}
		zones[i] = Load(f, Options{Origin: dnsname.MustParse("example.")}, diags)
		if diags.Total() > 0 {
			t.Fatal(diags.All[0].Message)
		}
	}
	l := &loader{diags: &diag.List{}, origin: zones[0].Apex()}
	if p := newParser(zones[0].File, Options{Origin: l.origin}, l.diags); !l.readSplit(p) {
		t.Error("a file of this size is read in one piece")
	}
	var out bytes.Buffer
	w := bufio.NewWriter(&out)
	if err := Write(w, zones[0].Snapshot); err != nil || w.Flush() != nil {
		t.Fatal(err)
	}
	src := &source.Set{}
	f, err := src.Add("written", out.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	if again := Load(f, Options{}, &diag.List{}); !zone.Equal(again.Snapshot, zones[0].Snapshot) {
		t.Errorf("%d records are written and read back as %d", zones[0].Records(), again.Records())
	}
	if !zone.Equal(zones[0].Snapshot, zones[1].Snapshot) || zones[0].Records() != 200002 {
		t.Errorf("%d records", zones[0].Records())
	}
	for i, p := range zones[0].Positions {
		if p != zones[1].Positions[i] {
			t.Fatalf("record %d is at %d and at %d", i, p, zones[1].Positions[i])
		}
	}
}
