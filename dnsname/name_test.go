package dnsname_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/vectors"
)

var origin = dnsname.MustParse("example.")

func TestParse(t *testing.T) {
	label63 := strings.Repeat("a", 63)
	for _, c := range []struct {
		text, wire string
		kind       dnsname.SyntaxKind
	}{
		{"a.b.", "\x01a\x01b\x00", 0},
		{"a.b", "\x01a\x01b\x07example\x00", 0},
		{"@", "\x07example\x00", 0},
		{`\@`, "\x01@\x07example\x00", 0},
		{".", "\x00", 0},
		{`a\.b.`, "\x03a.b\x00", 0},
		{`\097\255.`, "\x02a\xff\x00", 0},
		{`a\b.`, "\x02ab\x00", 0},
		{label63 + ".", "\x3f" + label63 + "\x00", 0},
		{"WwW", "\x03WwW\x07example\x00", 0},
		{"", "", dnsname.EmptyName},
		{"a..b.", "", dnsname.EmptyLabel},
		{".a.", "", dnsname.EmptyLabel},
		{label63 + "a.", "", dnsname.LabelTooLong},
		{"x." + label63 + "a", "", dnsname.LabelTooLong},
		{strings.Repeat(label63+".", 4), "", dnsname.NameTooLong},
		{`a\`, "", dnsname.BadEscape},
		{`\256.`, "", dnsname.BadEscape},
		{`\12`, "", dnsname.BadEscape},
	} {
		n, err := dnsname.Parse(c.text, origin)
		var syntax *dnsname.SyntaxError
		switch {
		case c.kind == 0 && (err != nil || n.Wire() != c.wire):
			t.Errorf("%q: %q, %v; want %q", c.text, n.Wire(), err, c.wire)
		case c.kind != 0 && (!errors.As(err, &syntax) || syntax.Kind != c.kind):
			t.Errorf("%q: %q, %v; want fault %d", c.text, n.Wire(), err, c.kind)
		}
	}
	if _, err := dnsname.Parse("a", dnsname.Name{}); err == nil {
		t.Error("a relative name was read without an origin")
	}
}

// The longest name there is has 255 octets with the root (RFC 1035 §2.3.4).
func TestLongestName(t *testing.T) {
	text := strings.Repeat(strings.Repeat("a", 63)+".", 3) + strings.Repeat("b", 61) + "."
	n, err := dnsname.Parse(text, dnsname.Root)
	if err != nil || len(n.Wire()) != dnsname.MaxWire {
		t.Fatalf("%d octets, %v", len(n.Wire()), err)
	}
	if _, err := n.Child("c"); err == nil {
		t.Error("a name of 257 octets was made")
	}
	if _, err := dnsname.FromWire([]byte("\x01c" + n.Wire())); !errors.Is(err, dnsname.ErrTooLong) {
		t.Errorf("a wire name of 257 octets: %v", err)
	}
}

func TestRelations(t *testing.T) {
	www, zone := dnsname.MustParse("www.Example.com."), dnsname.MustParse("eXample.com.")
	if !www.Below(zone) || !zone.AtOrBelow(zone) || zone.Below(zone) || zone.AtOrBelow(www) {
		t.Error("the hierarchy is wrong")
	}
	// "notexample.com." ends in the same octets and is no descendant.
	if dnsname.MustParse("notexample.com.").Below(zone) {
		t.Error("a name with the same ending counts as a descendant")
	}
	if !www.Equal(dnsname.MustParse("WWW.EXAMPLE.COM.")) || www.Key() != "\x03www\x07example\x03com\x00" {
		t.Error("case is not folded")
	}
	if dnsname.MustParse(`\193.`).Equal(dnsname.MustParse(`\225.`)) {
		t.Error("octets beyond ASCII were folded (RFC 4343 §3)")
	}
	for _, c := range [][2]string{{"www.example.com.", "www"}, {"example.com.", "@"}, {"a.b.example.com.", "a.b"}, {"example.org.", "example.org."}} {
		if got := dnsname.MustParse(c[0]).Relative(zone); got != c[1] {
			t.Errorf("%s relative to %s is %q, not %q", c[0], zone, got, c[1])
		}
	}
	if got := www.Parent(); !got.Equal(zone) || www.Label() != "www" || www.Labels() != 3 || dnsname.Root.Labels() != 0 {
		t.Errorf("parent %s, label %s, %d labels", got, www.Label(), www.Labels())
	}
	if !dnsname.MustParse("*.a.").IsWildcard() || dnsname.MustParse("*a.").IsWildcard() || dnsname.MustParse("a.*.").IsWildcard() {
		t.Error("wildcards are told apart wrongly (RFC 4592 §2.1.1)")
	}
}

func TestCanonicalOrder(t *testing.T) {
	var v struct {
		Cases []struct {
			Source string
			Order  []string
		}
	}
	vectors.Read(t, "canonical_order.json", &v)
	for _, c := range v.Cases {
		names := make([]dnsname.Name, len(c.Order))
		for i, s := range c.Order {
			names[i] = dnsname.MustParse(s)
		}
		for range 20 {
			rand.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
			sort.SliceStable(names, func(i, j int) bool { return names[i].Compare(names[j]) < 0 })
			for i, s := range c.Order {
				if !names[i].Equal(dnsname.MustParse(s)) {
					t.Fatalf("%s: place %d has %s, not %s", c.Source, i, names[i], s)
				}
			}
		}
	}
}

// randomName makes a name from a small alphabet, so that names share labels,
// with the octets that need care.
func randomName(r *rand.Rand) dnsname.Name {
	n := dnsname.Root
	for range r.IntN(5) {
		label := make([]byte, 1+r.IntN(3))
		for i := range label {
			label[i] = "aAb\x00\x01\x02*.\xff"[r.IntN(9)]
		}
		n, _ = n.Child(string(label))
	}
	return n
}

// compareByLabels is RFC 4034 §6.1 taken literally.
func compareByLabels(a, b dnsname.Name) int {
	labels := func(n dnsname.Name) (out []string) {
		for ; n.Labels() > 0; n = n.Parent() {
			out = append([]string{n.Lower().Label()}, out...)
		}
		return out
	}
	x, y := labels(a), labels(b)
	for i := 0; i < len(x) && i < len(y); i++ {
		if c := strings.Compare(x[i], y[i]); c != 0 {
			return c
		}
	}
	return len(x) - len(y)
}

func TestSortKeys(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		a, b := randomName(r), randomName(r)
		want := compareByLabels(a, b)
		if got := a.Compare(b); (got < 0) != (want < 0) || (got > 0) != (want > 0) {
			t.Fatalf("%s and %s: %d, by labels %d", a, b, got, want)
		}
		key := dnsname.AppendSortKey(nil, []byte(a.Wire()), 0)
		if back := dnsname.AppendKeyWire(nil, key); string(back)+"\x00" != a.Key() {
			t.Fatalf("%s comes back from its key as %q", a, back)
		}
		if got := dnsname.KeyLabels(key); got != a.Labels() {
			t.Fatalf("%s: %d labels in the key, not %d", a, got, a.Labels())
		}
		other := dnsname.AppendSortKey(nil, []byte(b.Wire()), 0)
		shared := dnsname.SharedLabels(key, other)
		if !bytes.Equal(dnsname.KeyPrefix(key, shared), dnsname.KeyPrefix(other, shared)) {
			t.Fatalf("%s and %s: %d shared labels", a, b, shared)
		}
		if a.AtOrBelow(b) != bytes.HasPrefix(key, other) {
			t.Fatalf("%s below %s: %v, but the keys say otherwise", a, b, a.AtOrBelow(b))
		}
	}
}

func TestUnpack(t *testing.T) {
	var v struct {
		Buffer string `json:"buffer_hex"`
		Names  []struct {
			Offset, End int
			Name        string
		}
		Bad []struct {
			Hex, Why string
			Offset   int
		}
	}
	vectors.Read(t, "name_compression.json", &v)
	buf := vectors.Hex(t, v.Buffer)
	for _, c := range v.Names {
		w, end, err := dnsname.AppendUnpack(nil, buf, c.Offset)
		n, _ := dnsname.FromWire(w)
		if err != nil || end != c.End || n.String() != c.Name {
			t.Errorf("at %d: %s, end %d, %v; want %s, end %d", c.Offset, n, end, err, c.Name, c.End)
		}
	}
	for _, c := range v.Bad {
		if w, _, err := dnsname.AppendUnpack(nil, vectors.Hex(t, c.Hex), c.Offset); err == nil {
			t.Errorf("%s: read as %q", c.Why, w)
		}
	}
}

func TestNoAllocations(t *testing.T) {
	text, wire := []byte(`cam\.north.saltmarsh`), []byte("\x03www\x09saltmarsh\x07example\x00")
	orig := []byte(origin.Wire())
	buf := make([]byte, 0, 1024)
	for name, f := range map[string]func(){
		"parse":    func() { _, _ = dnsname.AppendParse(buf, text, orig) },
		"sort key": func() { _ = dnsname.AppendSortKey(buf, wire, 1) },
		"text":     func() { _ = dnsname.AppendText(buf, wire) },
		"unpack":   func() { _, _, _ = dnsname.AppendUnpack(buf, wire, 0) },
		"equal":    func() { _ = dnsname.EqualWire(wire, wire) },
	} {
		if n := testing.AllocsPerRun(100, f); n != 0 {
			t.Errorf("%s allocates %v times", name, n)
		}
	}
}

// FuzzName: text that reads as a name prints as text that reads as the same
// octets, and the wire form survives every conversion.
func FuzzName(f *testing.F) {
	for _, s := range []string{"a.b.", `\000\255`, "@", ".", `a\.b`, "..", `\`, strings.Repeat("a", 64), "*.Example.", `"x"`, `\300`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		n, err := dnsname.Parse(s, origin)
		if err != nil {
			var syntax *dnsname.SyntaxError
			if !errors.As(err, &syntax) || syntax.Offset > len(s) {
				t.Fatalf("%q: %v", s, err)
			}
			return
		}
		if len(n.Wire()) > dnsname.MaxWire {
			t.Fatalf("%q has %d octets", s, len(n.Wire()))
		}
		again, err := dnsname.Parse(n.String(), dnsname.Name{})
		if err != nil || again != n {
			t.Fatalf("%q prints as %q, which reads as %q, %v", s, n, again, err)
		}
		if w, err := dnsname.FromWire([]byte(n.Wire())); err != nil || w != n {
			t.Fatalf("%q: wire form %q: %v", s, n.Wire(), err)
		}
		if u, end, err := dnsname.AppendUnpack(nil, []byte(n.Wire()), 0); err != nil || end != len(n.Wire()) || string(u) != n.Wire() {
			t.Fatalf("%q unpacks as %q", s, u)
		}
	})
}

func BenchmarkSortKey(b *testing.B) {
	wire, buf := []byte("\x07cam-one\x09saltmarsh\x07example\x00"), make([]byte, 0, 64)
	for b.Loop() {
		buf = dnsname.AppendSortKey(buf[:0], wire, 2)
	}
}

// What is no graphic character is written in digits, so that no terminal and no file
// meets it (RFC 4343 §2.1).
func TestTextOfControlCharacters(t *testing.T) {
	for c := range 256 {
		text := string(dnsname.AppendText(nil, []byte{2, 'a', byte(c), 0}))
		graphic := c > ' ' && c < 0x7f
		if digits := fmt.Sprintf(`a\%03d.`, c); !graphic && text != digits || graphic && text != fmt.Sprintf("a%c.", c) && text != fmt.Sprintf(`a\%c.`, c) {
			t.Errorf("octet %d is written %q", c, text)
		}
	}
}

// Every escape stands for its octet, and nothing else is one (RFC 1035 §5.1).
func TestUnescape(t *testing.T) {
	for c := range 256 {
		octet, n := dnsname.Unescape([]byte{'\\', byte(c)})
		if digit := c >= '0' && c <= '9'; digit && n != 0 || !digit && (n != 2 || int(octet) != c) {
			t.Errorf("a backslash and %q: %d, %d octets", rune(c), octet, n)
		}
	}
	for v := range 1000 {
		octet, n := dnsname.Unescape(fmt.Appendf(nil, `\%03dx`, v))
		if v <= 255 && (int(octet) != v || n != 4) || v > 255 && n != 0 {
			t.Errorf(`\%03d: %d, %d octets`, v, octet, n)
		}
	}
	for _, text := range []string{"", `\`, `\1`, `\12`, `\1a2`, `\12a`, `\9`} {
		if _, n := dnsname.Unescape([]byte(text)); n != 0 {
			t.Errorf("%q takes %d octets", text, n)
		}
	}
}

// The parts of a sort key are those of the names above, and its limits are those of names.
func TestPartsOfSortKeys(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2026))
	for range 2000 {
		name := randomName(r)
		key := dnsname.AppendSortKey(nil, []byte(name.Wire()), 0)
		above := name
		for n := name.Labels(); n >= 0; n-- {
			want := dnsname.AppendSortKey(nil, []byte(above.Wire()), 0)
			if got := dnsname.KeyPrefix(key, n); !bytes.Equal(got, want) {
				t.Fatalf("%d labels of the key of %s are %q, want %q", n, name, got, want)
			}
			above = above.Parent()
		}
		other := randomName(r)
		shared, a, b := 0, name, other
		for i := 1; i <= min(a.Labels(), b.Labels()); i++ {
			x, y := a, b
			for x.Labels() > i {
				x = x.Parent()
			}
			for y.Labels() > i {
				y = y.Parent()
			}
			if !x.Equal(y) {
				break
			}
			shared = i
		}
		if got := dnsname.SharedLabels(key, dnsname.AppendSortKey(nil, []byte(other.Wire()), 0)); got != shared {
			t.Fatalf("%s and %s share %d labels, want %d", name, other, got, shared)
		}
		room := len(name.Wire()) - 1
		if !dnsname.ValidSortKey(key, room) || room > 0 && dnsname.ValidSortKey(key, room-1) {
			t.Fatalf("%s takes %d octets, and its key says otherwise", name, room)
		}
	}
	long := strings.Repeat("l", dnsname.MaxLabel)
	for key, want := range map[string]bool{"": true, "a\x00": true, "a": false, "\x00": false, long + "\x00": true, long + "l\x00": false, "\x01\x01\x00": true,
		"\x01\x02\x00": true, "\x01\x03\x00": false, "\x01": false, "A\x00": false, "a\x00b\x00": true, "a\x00b": false} {
		if got := dnsname.ValidSortKey([]byte(key), 200); got != want {
			t.Errorf("%q: %v", key, got)
		}
	}
}
