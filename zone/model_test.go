package zone_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"flag"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// long lets the tests against models run for a while instead of some seconds.
var long = flag.Duration("long", 0, "how long the tests against models go on")

var apex = dnsname.MustParse("Example.")

// model is a zone the naive way: maps from owner and type to data.
type model map[string]map[rr.Type]*modelSet // by the key of the owner

type modelSet struct {
	ttl  uint32
	data map[string]bool
}

func (m model) add(r rr.Record) {
	k := r.Name.Key()
	if m[k] == nil {
		m[k] = map[rr.Type]*modelSet{}
	}
	set := m[k][r.Type]
	if set == nil {
		set = &modelSet{ttl: r.TTL, data: map[string]bool{}}
		m[k][r.Type] = set
	}
	set.ttl = min(set.ttl, r.TTL) // RFC 2181 §5.2
	set.data[string(r.Data)] = true
}

func (m model) clone() model {
	out := model{}
	for k, sets := range m {
		out[k] = map[rr.Type]*modelSet{}
		for t, set := range sets {
			out[k][t] = set // sets are not changed after a build, only replaced
		}
	}
	return out
}

// names in canonical order.
func (m model) names() []dnsname.Name {
	var out []dnsname.Name
	for k := range m {
		n, _ := dnsname.FromWire([]byte(k))
		out = append(out, n)
	}
	slices.SortFunc(out, dnsname.Name.Compare)
	return out
}

// hidden reports whether a name lies below a cut or DNAME, and below which, the
// topmost.
func (m model) hidden(n dnsname.Name) (by dnsname.Name, hidden bool) {
	if n.Equal(apex) {
		return by, false
	}
	for up := n.Parent(); up.AtOrBelow(apex); up = up.Parent() {
		sets := m[up.Key()]
		if sets[rr.TypeDNAME] != nil || sets[rr.TypeNS] != nil && !up.Equal(apex) {
			by, hidden = up, true
		}
	}
	return by, hidden
}

// existing is all names that exist: by records or by names below them.
func (m model) existing() map[string]bool {
	out := map[string]bool{}
	for k := range m {
		n, _ := dnsname.FromWire([]byte(k))
		for ; n.AtOrBelow(apex) && !out[n.Key()]; n = n.Parent() {
			out[n.Key()] = true
			if n.Equal(apex) {
				break
			}
		}
	}
	return out
}

func record(owner string, t rr.Type, data string) rr.Record {
	return rr.Record{Name: dnsname.MustParse(owner), Type: t, Class: rr.ClassIN, TTL: 300, Data: []byte(data)}
}

const soaData = "\x02ns\x07example\x00\x01h\x07example\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c"

// generator makes names that meet, and nodes of all sizes.
type generator struct{ *rand.Rand }

var labels = []string{"a", "b", "c", "A", "*", "x1", "x2", "deep", "\x00", "\x01", "\x00\x01", "\xff", strings.Repeat("l", 63), strings.Repeat("\x00", 63)}

func (g generator) name() dnsname.Name {
	n := apex
	depth := g.IntN(5)
	switch g.IntN(40) {
	case 0:
		depth = 127 // as many labels as fit in a name
	case 1:
		for room := 255 - len(n.Wire()); room > 1; room = 255 - len(n.Wire()) { // as long as a name can be
			n, _ = n.Child(strings.Repeat("w", min(63, room-1)))
		}
		return n
	}
	for range depth {
		label := labels[g.IntN(len(labels))]
		if depth > 5 {
			label = labels[g.IntN(4)]
		}
		longer, err := n.Child(label)
		if err != nil {
			return n
		}
		n = longer
	}
	return n
}

// records gives a name one to a few sets; once in a while they are large.
func (g generator) records(n dnsname.Name) (out []rr.Record) {
	add := func(t rr.Type, data []byte) {
		out = append(out, rr.Record{Name: n, Type: t, TTL: uint32(g.IntN(3) * 100), Data: data})
	}
	for range 1 + g.IntN(3) {
		switch g.IntN(14) {
		case 0:
			add(rr.TypeNS, []byte("\x02ns\x05other\x00"))
		case 1:
			add(rr.TypeDNAME, []byte("\x05other\x00"))
		case 2:
			add(rr.TypeMX, []byte("\x00\x0a\x01M\x00"))
		case 3: // about a page, and far more than one
			size := []int{0, 1, 300, 4000, 4050 + g.IntN(60), 9000, 65000, 65535}[g.IntN(8)]
			add(700, bytes.Repeat([]byte{byte(g.IntN(4))}, size))
		case 4:
			many := []int{2, 17, 260}[g.IntN(3)]
			if g.IntN(20) == 0 {
				many = 4000
			}
			for i := range many {
				add(701, binary.BigEndian.AppendUint16(nil, uint16(i)))
			}
		default:
			add(rr.TypeA, []byte{192, 0, 2, byte(g.IntN(4))})
		}
	}
	if n.Equal(apex) && g.IntN(4) > 0 {
		add(rr.TypeSOA, []byte(soaData))
	}
	return out
}

func build(t testing.TB, records []rr.Record) *zone.Snapshot {
	t.Helper()
	b := zone.NewBuilder(apex, false)
	for _, r := range records {
		if err := b.AddRecord(r); err != nil {
			t.Fatal(err)
		}
	}
	return b.Build().Snapshot
}

// compare checks a snapshot against the model: content, TTLs, order both ways,
// counts, what is cached of the apex.
func compare(t *testing.T, s *zone.Snapshot, m model) {
	t.Helper()
	names := m.names()
	if s.Names() != len(names) {
		t.Fatalf("%d names, want %d", s.Names(), len(names))
	}
	var c zone.Cursor
	var n zone.Node
	i, records, octets := 0, 0, 0
	for ok := c.First(s); ok; ok = c.Next() {
		c.Node(&n)
		want := names[i]
		if owner := s.Owner(&n); !owner.Equal(want) {
			t.Fatalf("place %d has %s, want %s", i, owner, want)
		}
		if n.IsApex() != want.Equal(apex) {
			t.Fatalf("%s is the apex: %v", want, n.IsApex())
		}
		r, o := compareNode(t, &n, want, m[want.Key()])
		records, octets = records+r, octets+o
		if _, hidden := m.hidden(want); n.Occluded() != hidden {
			t.Fatalf("%s occluded: %v, want %v", want, n.Occluded(), hidden)
		}
		i++
	}
	if i != len(names) || records != s.Records() || s.Octets() < octets {
		t.Fatalf("%d of %d names; %d records and %d octets, counted %d and at least %d", i, len(names), s.Records(), s.Octets(), records, octets)
	}
	for back := len(names) - 1; back > 0; back-- { // the cursor stands on the last
		if !c.Prev() {
			t.Fatalf("the way back ends at place %d", back)
		}
		c.Node(&n)
		if owner := s.Owner(&n); !owner.Equal(names[back-1]) {
			t.Fatalf("on the way back place %d has %s, want %s", back-1, owner, names[back-1])
		}
	}
	if len(names) > 0 && c.Prev() {
		t.Fatal("there is a name before the first")
	}
	_, soa := m[apex.Key()][rr.TypeSOA]
	if _, has := s.SOA(); has != soa || (s.Serial() == 7) != soa || s.ApexNode(&n) != (m[apex.Key()] != nil) {
		t.Fatalf("SOA %v, serial %d, apex %v; want SOA %v", has, s.Serial(), s.ApexNode(&n), soa)
	}
}

func compareNode(t *testing.T, n *zone.Node, name dnsname.Name, sets map[rr.Type]*modelSet) (records, octets int) {
	t.Helper()
	found := 0
	for set := range n.RRsets {
		found++
		want := sets[set.Type]
		if want == nil || set.N != len(want.data) || set.TTL != want.ttl {
			t.Fatalf("%s %s has %d records with TTL %d, want %+v", name, set.Type, set.N, set.TTL, want)
		}
		var last []byte
		for data := range set.Data {
			if !want.data[string(data)] || last != nil && bytes.Compare(last, data) >= 0 {
				t.Fatalf("%s %s: unexpected or unordered data", name, set.Type)
			}
			last = data
			records++
			octets += len(data)
		}
		if got, ok := n.Find(set.Type); !ok || !got.Equal(set) {
			t.Fatalf("%s %s: Find disagrees with the walk", name, set.Type)
		}
	}
	if found != len(sets) {
		t.Fatalf("%s has %d sets, want %d", name, found, len(sets))
	}
	return records, octets
}

// lookups asks for names that are there and names that are not.
func lookups(t *testing.T, g generator, s *zone.Snapshot, m model) {
	t.Helper()
	exists := m.existing()
	ask := m.names()
	for range 100 {
		ask = append(ask, g.name())
	}
	for _, name := range ask {
		lookup(t, s, m, exists, name)
	}
}

func lookup(t *testing.T, s *zone.Snapshot, m model, exists map[string]bool, name dnsname.Name) {
	t.Helper()
	var match zone.Match
	key, _ := s.AppendKey(nil, []byte(name.Wire()))
	s.Lookup(key, &match)
	var n zone.Node
	_, there := m[name.Key()]
	if s.Get(key, &n) != there {
		t.Fatalf("Get finds %s: %v", name, !there)
	}
	if by, hidden := m.hidden(name); hidden {
		_, byCut := m[by.Key()][rr.TypeNS]
		byCut = byCut && !by.Equal(apex)
		if match.Cut != byCut || match.BelowDNAME == byCut || !s.Owner(&match.Node).Equal(by) || match.Exact && !there {
			t.Fatalf("%s lies below %s; found %+v", name, by, match)
		}
		return
	}
	if match.Exact != there || match.EmptyNonTerminal != (!there && exists[name.Key()]) {
		t.Fatalf("%s: exact %v, empty non-terminal %v", name, match.Exact, match.EmptyNonTerminal)
	}
	encloser := name
	for !exists[encloser.Key()] && !encloser.Equal(apex) {
		encloser = encloser.Parent()
	}
	depth := encloser.Labels() - apex.Labels()
	if !match.Exact && !match.EmptyNonTerminal && match.Encloser != depth {
		t.Fatalf("%s: encloser has %d labels, want %s", name, match.Encloser, encloser)
	}
	if _, isCut := m[name.Key()][rr.TypeNS]; match.Cut != (isCut && !name.Equal(apex)) {
		t.Fatalf("%s: cut %v", name, match.Cut)
	}
	if match.Before.Valid() {
		match.Before.Node(&n)
		if c := s.Owner(&n).Compare(name); c > 0 || (c == 0) != there {
			t.Fatalf("%s: the name before is %s", name, s.Owner(&n))
		}
	}
	if star, err := encloser.Child("*"); err == nil {
		got, empty := s.Wildcard(key, depth, &n)
		if got != exists[star.Key()] || got && empty != (m[star.Key()] == nil) {
			t.Fatalf("%s: wildcard below %s found: %v, empty %v", name, encloser, got, empty)
		}
	}
}

// change makes random changes and applies them to the model.
func (g generator) change(m model) (changes []zone.Content) {
	names := m.names()
	for range 1 + g.IntN(6) {
		name := g.name()
		if len(names) > 0 && g.IntN(2) == 0 {
			name = names[g.IntN(len(names))]
		}
		c := zone.Content{Owner: name}
		if g.IntN(3) > 0 {
			c.Records = g.records(name)
		}
		changes = append(changes, c)
		delete(m, name.Key())
		for _, r := range c.Records {
			m.add(r)
		}
	}
	return changes
}

// walks checks what Scan and Rewrite see with several goroutines.
func walks(t *testing.T, s *zone.Snapshot, m model, workers int) {
	t.Helper()
	var visible []dnsname.Name
	for _, n := range m.names() {
		if _, hidden := m.hidden(n); !hidden {
			visible = append(visible, n)
		}
	}
	var lock sync.Mutex
	seen := map[string]bool{}
	err := s.Scan(context.Background(), workers, nil, func() zone.Visit {
		return func(n, next *zone.Node) error {
			owner := s.Owner(n)
			i, _ := slices.BinarySearchFunc(visible, owner, dnsname.Name.Compare)
			if i < len(visible) && visible[i].Equal(owner) {
				i++
			}
			want := visible[i%len(visible)]
			if got := s.Owner(next); !got.Equal(want) {
				return fmt.Errorf("behind %s comes %s, want %s", owner, got, want)
			}
			lock.Lock()
			defer lock.Unlock()
			if seen[owner.Key()] {
				return fmt.Errorf("%s is visited twice", owner)
			}
			seen[owner.Key()] = true
			return nil
		}
	})
	if err != nil || len(seen) != len(m) {
		t.Fatalf("%d names visited of %d: %v", len(seen), len(m), err)
	}
	same, err := s.Rewrite(context.Background(), workers, nil, func() zone.Transform {
		return func(n, _ *zone.Node, w *zone.NodeWriter) error {
			for set := range n.RRsets {
				w.AddSet(set)
			}
			return nil
		}
	})
	if err != nil || !zone.Equal(s, same) {
		t.Fatalf("rewriting without a change: %v", err)
	}
	compare(t, same, m)
}

// parts checks that the parts together have what the names have, in their order.
func parts(t *testing.T, s *zone.Snapshot) {
	t.Helper()
	var got, want []string
	for p := range s.Parts {
		for w := p.Walk(); w.Next(); {
			got = append(got, fmt.Sprintf("%q %d %d %q", w.Relative, w.Type, w.TTL, w.Items))
		}
	}
	for n := range s.AllNodes {
		for set := range n.RRsets {
			want = append(want, fmt.Sprintf("%q %d %d %q", n.AppendRelative(nil), set.Type, set.TTL, set.Items()))
		}
	}
	if !slices.Equal(got, want) {
		t.Fatalf("the parts have %d sets of %d, or others", len(got), len(want))
	}
}

// TestAgainstModel builds random zones and changes them, and compares with the
// naive model after every step. Pages and nodes have their true sizes, or are so
// small that the trees have many levels.
func TestAgainstModel(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(0))
	shapes := []struct{ fan, page, split int }{{256, 4096, 10000}, {256, 4096, 1}, {6, 100, 2}, {8, 300, 20}, {16, 1, 50}}
	start, seeds := time.Now(), uint64(15)
	if testing.Short() { // as under the race detector
		seeds = 10
	}
	for seed := uint64(0); seed < seeds || time.Since(start) < *long; seed++ {
		shape := shapes[seed%uint64(len(shapes))]
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			zone.Shrink(t, shape.fan, shape.page, shape.split)
			runtime.GOMAXPROCS([]int{1, 2, 4, 8}[seed%4])
			oneZone(t, generator{rand.New(rand.NewPCG(seed, 5))})
		})
	}
}

func oneZone(t *testing.T, g generator) {
	m := model{}
	var records []rr.Record
	for range []int{0, 1, 3, 30, 200}[g.IntN(5)] {
		records = append(records, g.records(g.name())...)
	}
	if g.IntN(3) > 0 {
		records = append(records, g.records(apex)...)
	}
	g.Shuffle(len(records), func(i, j int) { records[i], records[j] = records[j], records[i] })
	for _, r := range records {
		m.add(r)
	}
	s := build(t, records)
	compare(t, s, m)
	lookups(t, g, s, m)
	first, firstModel := s, m.clone()
	if g.IntN(2) == 0 {
		_ = first.Digest() // from now on it is kept along
	}
	var steps []*zone.Delta
	inOrder(t, g, records)
	for range 15 {
		before, beforeModel := s, m.clone()
		s = with(t, s, g.change(m))
		if g.IntN(3) == 0 {
			s = assembled(t, s) // what follows is made from this
		}
		compare(t, s, m)
		compare(t, before, beforeModel) // it stays what it was
		steps = append(steps, compareDiff(t, before, s, beforeModel, m))
	}
	joined(t, first, s, steps)
	lookups(t, g, s, m)
	compareDiff(t, s, first, m, firstModel)
	walks(t, s, m, 1+g.IntN(9))
	parts(t, s)
	fresh := build(t, m.list())
	if !zone.Equal(fresh, s) {
		compareDiff(t, fresh, s, m, m)
	}
	emptyAndFill(t, s, m)
}

func with(t *testing.T, s *zone.Snapshot, changes []zone.Content) *zone.Snapshot {
	t.Helper()
	next, err := s.Replace(changes)
	if err != nil {
		t.Fatal(err)
	}
	return next
}

func (m model) list() (out []rr.Record) {
	for _, n := range m.names() {
		for t, set := range m[n.Key()] {
			for data := range set.data {
				out = append(out, rr.Record{Name: n, Type: t, TTL: set.ttl, Data: []byte(data)})
			}
		}
	}
	return out
}

// emptyAndFill takes all names away and puts them back.
func emptyAndFill(t *testing.T, s *zone.Snapshot, m model) {
	t.Helper()
	var gone, back []zone.Content
	for _, n := range m.names() {
		gone = append(gone, zone.Content{Owner: n})
		back = append(back, zone.Content{Owner: n, Records: model{n.Key(): m[n.Key()]}.list()})
	}
	empty := with(t, s, gone)
	compare(t, empty, model{})
	compareDiff(t, s, empty, m, model{})
	full := with(t, empty, back)
	compare(t, full, m)
	compareDiff(t, s, full, m, m)
}
