package zone_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// version builds a zone of "owner ttl type data" lines, data in the generic form
// of one octet per word.
func version(t *testing.T, lines ...string) *zone.Snapshot {
	t.Helper()
	apex := dnsname.MustParse("example.")
	b := zone.NewBuilder(apex, false)
	for _, l := range lines {
		var owner, typ, data string
		var ttl uint32
		if _, err := fmt.Sscan(l, &owner, &ttl, &typ, &data); err != nil {
			t.Fatalf("%s: %v", l, err)
		}
		name, err := dnsname.Parse(owner, apex)
		if err != nil {
			t.Fatal(err)
		}
		rtype, _ := rr.ParseType(typ)
		if err := b.Add([]byte(name.Wire()), rtype, ttl, []byte(data), 0); err != nil {
			t.Fatal(err)
		}
	}
	return b.Build().Snapshot
}

func TestDiff(t *testing.T) {
	old := version(t, "a 60 TYPE700 one", "a 60 TYPE701 x", "b 60 TYPE700 gone", "c 60 TYPE700 same", "d 60 TYPE700 ttl", "e.d 60 TYPE700 p", "e.d 60 TYPE700 q")
	new := version(t, "a 60 TYPE700 two", "a 60 TYPE701 x", "a 60 TYPE702 more", "c 60 TYPE700 same", "d 90 TYPE700 ttl", "e.d 60 TYPE700 q", "f 60 TYPE700 came")
	var got []string
	for _, d := range zone.Diff(old, new).Sets {
		got = append(got, fmt.Sprintf("%s %d/%d %d/%d", d.Owner, d.Removed.N, d.Added.N, d.Removed.TTL, d.Added.TTL))
	}
	want := []string{"a.example. 1/1 60/60", "a.example. 0/1 0/60", "b.example. 1/0 60/0", "d.example. 1/1 60/90",
		"e.d.example. 1/0 60/60", "f.example. 0/1 0/60"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if d := zone.Diff(old, old); !d.Empty() {
		t.Errorf("it differs from itself: %v", d)
	}
}

// A delta that does not belong to a version is refused, whatever is wrong with it.
func TestMismatch(t *testing.T) {
	have := version(t, "a 60 TYPE700 one", "a 60 TYPE700 two", "b 60 TYPE700 x")
	set := func(ttl uint32, data ...string) zone.RRset {
		var all [][]byte
		for _, d := range data {
			all = append(all, []byte(d))
		}
		if len(data) == 0 {
			return zone.RRset{}
		}
		return zone.NewRRset(700, ttl, all)
	}
	cases := map[string]zone.SetDelta{
		"a record that is not there": {Owner: dnsname.MustParse("a.example."), Removed: set(60, "one", "three")},
		"a name that is not there":   {Owner: dnsname.MustParse("c.example."), Removed: set(60, "one")},
		"a type that is not there":   {Owner: dnsname.MustParse("b.example."), Removed: zone.NewRRset(701, 60, [][]byte{[]byte("x")})},
		"another TTL":                {Owner: dnsname.MustParse("a.example."), Removed: set(61, "one")},
		"one that is there":          {Owner: dnsname.MustParse("a.example."), Added: set(60, "two")},
		"a TTL for some":             {Owner: dnsname.MustParse("a.example."), Removed: set(60, "one"), Added: set(90, "one")},
		"outside":                    {Owner: dnsname.MustParse("example.org."), Added: set(60, "two")},
	}
	for what, c := range cases {
		if _, err := have.With(&zone.Delta{Apex: have.Apex(), Sets: []zone.SetDelta{c}}); err == nil {
			t.Errorf("%s: no error", what)
		}
	}
	good := zone.Delta{Apex: have.Apex(), Sets: []zone.SetDelta{{Owner: dnsname.MustParse("a.example."), Removed: set(60, "one", "two"), Added: set(90, "one")}}}
	if _, err := have.With(&good); err != nil {
		t.Error(err)
	}
	good.To = 7
	if _, err := have.With(&good); err == nil {
		t.Error("it does not make the serial that it says")
	}
	good.From, good.To = 7, 0
	if _, err := have.With(&good); err == nil {
		t.Error("it is for another serial")
	}
}

// modelDelta is a set's difference in the model: all records where the TTL moved.
func modelDelta(a, b *modelSet) (gone, came []string) {
	list := func(x, but *modelSet) (out []string) {
		if x == nil {
			return nil
		}
		for d := range x.data {
			if but == nil || but.ttl != x.ttl || !but.data[d] {
				out = append(out, fmt.Sprintf("%d %x", x.ttl, d))
			}
		}
		slices.Sort(out)
		return out
	}
	return list(a, b), list(b, a)
}

// compareDiff checks a difference against the model's, and that it leads from one
// version to the other and back, octet for octet.
func compareDiff(t *testing.T, s, o *zone.Snapshot, m, n model) *zone.Delta {
	t.Helper()
	delta := zone.Diff(s, o)
	got := map[string][2][]string{}
	for _, c := range delta.Sets {
		list := func(set, but zone.RRset) (out []string) {
			stays := map[string]bool{}
			for data := range but.Data {
				stays[string(data)] = but.TTL == set.TTL // the name was spelled anew
			}
			for data := range set.Data {
				if !stays[string(data)] {
					out = append(out, fmt.Sprintf("%d %x", set.TTL, data))
				}
			}
			slices.Sort(out)
			return out
		}
		if d := [2][]string{list(c.Removed, c.Added), list(c.Added, c.Removed)}; len(d[0])+len(d[1]) > 0 {
			got[c.Owner.Key()+" "+c.Type().String()] = d
		}
	}
	types := map[string]bool{}
	for _, x := range []model{m, n} {
		for owner := range x {
			for typ := range x[owner] {
				key := owner + " " + typ.String()
				if types[key] {
					continue
				}
				types[key] = true
				gone, came := modelDelta(m[owner][typ], n[owner][typ])
				if d := got[key]; !slices.Equal(d[0], gone) || !slices.Equal(d[1], came) {
					t.Fatalf("%q: %d went and %d came; want %d and %d", key, len(d[0]), len(d[1]), len(gone), len(came))
				}
				delete(got, key)
			}
		}
	}
	if len(got) > 0 {
		t.Fatalf("differs where the model does not: %v", got)
	}
	leads(t, s, o, delta)
	return delta
}

// leads checks that a delta makes one version of the other, both ways.
func leads(t *testing.T, s, o *zone.Snapshot, delta *zone.Delta) {
	t.Helper()
	read, err := zone.ParseDelta(apex, delta.AppendBinary(nil))
	if err != nil {
		t.Fatal(err)
	}
	next, err := s.With(read)
	if err != nil {
		t.Fatal(err)
	}
	if !zone.Equal(next, o) {
		t.Fatal("the delta leads elsewhere")
	}
	back, err := o.With(delta.Reverse())
	if err != nil {
		t.Fatal(err)
	}
	if next.Digest() != o.Digest() || back.Digest() != s.Digest() {
		t.Fatal("equal versions have other digests")
	}
	longest := uint32(0)
	for n := range o.Nodes {
		for set := range n.RRsets {
			longest = max(longest, set.TTL)
		}
	}
	if got := next.LongestTTL(); got != longest {
		t.Fatalf("the longest TTL is %d, not %d", got, longest)
	}
	differs := slices.ContainsFunc(delta.Sets, func(c zone.SetDelta) bool { return !c.Respelled })
	if same := s.Digest() == o.Digest(); same && differs || !same && delta.Empty() {
		t.Fatalf("they differ: %v; they have one digest: %v", differs, same)
	}
}

// joined checks that all steps in one lead where they lead one after another.
func joined(t *testing.T, first, last *zone.Snapshot, steps []*zone.Delta) {
	t.Helper()
	end, err := first.With(zone.Join(steps...))
	if err != nil {
		t.Fatal(err)
	}
	if !zone.Equal(end, last) {
		t.Fatal("the steps in one lead elsewhere")
	}
	want := map[string]zone.SetDelta{}
	for _, c := range zone.Diff(first, last).Sets {
		want[c.Owner.Key()+c.Type().String()] = c
	}
	for _, c := range zone.Join(steps...).Sets {
		w := want[c.Owner.Key()+c.Type().String()]
		if c.Owner.Key() == c.Owner.Wire() && w.Owner == c.Owner && (c.Removed.N != w.Removed.N || c.Added.N != w.Added.N) {
			t.Fatalf("%s %s: the steps in one remove %d and add %d, and should %d and %d", c.Owner, c.Type(), c.Removed.N, c.Added.N, w.Removed.N, w.Added.N)
		}
	}
	left, right := zone.Join(steps[:7]...), zone.Join(steps[7:]...)
	if back, err := last.With(zone.Join(left, right).Reverse()); err != nil || back.Digest() != first.Digest() {
		t.Fatalf("the steps in one do not lead back: %v", err)
	}
}

// Whatever octets come, they are a delta or refused, and what is a delta stays one.
func FuzzDelta(f *testing.F) {
	have := build(f, []rr.Record{{Name: apex, Type: rr.TypeSOA, TTL: 1, Data: []byte(soaData)}, {Name: apex, Type: rr.TypeNS, TTL: 1, Data: []byte("\x02ns\x00")}})
	next, err := have.Replace([]zone.Content{{Owner: dnsname.MustParse("x." + apex.String()), Records: []rr.Record{{Type: rr.TypeA, TTL: 5, Data: []byte{1, 2, 3, 4}}}}})
	if err != nil {
		f.Fatal(err)
	}
	delta := zone.Diff(have, next)
	f.Add(delta.AppendBinary(nil))
	f.Add(delta.Reverse().AppendBinary(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := zone.ParseDelta(apex, b)
		if err != nil {
			return
		}
		again, err := zone.ParseDelta(apex, d.AppendBinary(nil))
		if err != nil || len(again.Sets) != len(d.Sets) {
			t.Fatalf("it is read once and not twice: %v", err)
		}
		if z, err := have.With(d); err == nil && z.Serial() != d.To {
			t.Fatal("it leads to another serial")
		}
	})
}

// Deltas that are joined lead to the last version as the single ones do, also where only the spelling
// of an owner changes.
func TestJoin(t *testing.T) {
	versions := []*zone.Snapshot{version(t, "a 60 TYPE700 one", "B 60 TYPE700 x", "c 60 TYPE700 y", "e 60 TYPE700 z"),
		version(t, "A 60 TYPE700 one", "b 60 TYPE700 x", "c 60 TYPE700 two", "e 60 TYPE700 z"),
		version(t, "A 60 TYPE700 one", "B 60 TYPE700 x", "C 60 TYPE700 y", "e 90 TYPE700 z", "f 60 TYPE700 new"),
		version(t, "a 60 TYPE700 one", "b 60 TYPE700 x", "C 60 TYPE700 y", "e 60 TYPE700 z")}
	text := func(z *zone.Snapshot) (out string) {
		for n := range z.Nodes {
			for set := range n.RRsets {
				out += fmt.Sprintf("%s %s %d %q\n", z.Owner(n), set.Type, set.TTL, slices.Collect(set.Data))
			}
		}
		return out
	}
	for from := range versions {
		var steps []*zone.Delta
		for to := from + 1; to < len(versions); to++ {
			steps = append(steps, zone.Diff(versions[to-1], versions[to]))
			got, err := versions[from].With(zone.Join(steps...))
			if err != nil || text(got) != text(versions[to]) {
				t.Errorf("from %d to %d (%v):\n%swant\n%s", from, to, err, text(got), text(versions[to]))
			}
		}
	}
}

// A stored delta that was cut off anywhere, or whose lengths are wrong, is refused, or is another delta.
func TestDamagedDelta(t *testing.T) {
	apex := dnsname.MustParse("example.")
	delta := zone.Diff(version(t, "a 60 TYPE700 one", "b 60 TYPE701 gone"), version(t, "a 90 TYPE700 two", "c 60 TYPE702 came"))
	whole, sets := delta.AppendBinary(nil), len(delta.Sets)
	for cut := range whole {
		if d, err := zone.ParseDelta(apex, whole[:cut]); err == nil && len(d.Sets) >= sets {
			t.Fatalf("%d of %d octets hold %d sets of %d", cut, len(whole), len(d.Sets), sets)
		}
	}
	for at := range whole {
		for c := range 256 {
			b := slices.Clone(whole)
			b[at] = byte(c)
			if d, err := zone.ParseDelta(apex, b); err == nil {
				for _, set := range d.Sets { // it can be used
					_, _ = slices.Collect(set.Removed.Data), slices.Collect(set.Added.Data)
				}
			}
		}
	}
}
