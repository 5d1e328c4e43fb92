package zone_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/vectors"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
)

// TestLarge builds a zone of several levels in an order that is not sorted, and
// takes it apart again name by name.
func TestLarge(t *testing.T) {
	const n = 120000
	b := zone.NewBuilder(apex, false)
	if err := b.AddRecord(record("example.", rr.TypeSOA, soaData)); err != nil {
		t.Fatal(err)
	}
	for i := range n {
		name := fmt.Sprintf("h%d.example.", (i*7919)%n)
		if err := b.AddRecord(record(name, rr.TypeA, string([]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}))); err != nil {
			t.Fatal(err)
		}
	}
	s := b.Build().Snapshot
	if s.Names() != n+1 || s.Records() != n+1 {
		t.Fatalf("%d names, %d records", s.Names(), s.Records())
	}
	var last []byte
	for node := range s.Nodes {
		key := node.AppendKey(nil)
		if last != nil && bytes.Compare(last, key) >= 0 {
			t.Fatalf("%q stands behind %q", key, last)
		}
		last = key
	}
	var node zone.Node
	for i := 0; i < n; i += 997 {
		if !s.GetName(dnsname.MustParse(fmt.Sprintf("h%d.example.", i)), &node) {
			t.Fatalf("h%d is not found", i)
		}
	}
	one, err := s.Replace([]zone.Content{{Owner: dnsname.MustParse("h5.example.")}})
	if err != nil || one.Names() != n || one.GetName(dnsname.MustParse("h5.example."), &node) || !s.GetName(dnsname.MustParse("h5.example."), &node) {
		t.Fatalf("removing one name: %d names, %v", one.Names(), err)
	}
	if zone.Equal(s, one) || !zone.Equal(s, s) {
		t.Error("versions are not told apart")
	}
	back, _ := one.Replace([]zone.Content{{Owner: dnsname.MustParse("h5.example."), Records: collect(s, "h5.example.")}})
	if !zone.Equal(s, back) || back.Octets() != s.Octets() {
		t.Errorf("taking a change back does not give the zone back: %d octets, had %d", back.Octets(), s.Octets())
	}
	all := make([]zone.Content, 0, n)
	for i := range n {
		all = append(all, zone.Content{Owner: dnsname.MustParse(fmt.Sprintf("h%d.example.", i))})
	}
	empty, err := s.Replace(all)
	if err != nil || empty.Names() != 1 || empty.Octets() > 4096 {
		t.Errorf("without its names: %d names, %d octets, %v", empty.Names(), empty.Octets(), err)
	}
}

func collect(s *zone.Snapshot, owner string) (out []rr.Record) {
	var n zone.Node
	s.GetName(dnsname.MustParse(owner), &n)
	for set := range n.RRsets {
		for data := range set.Data {
			out = append(out, rr.Record{Name: dnsname.MustParse(owner), Type: set.Type, TTL: set.TTL, Data: data})
		}
	}
	return out
}

func TestOutside(t *testing.T) {
	b := zone.NewBuilder(apex, false)
	for _, owner := range []string{".", "example.org.", "notexample.", "x.notexample."} {
		if err := b.AddRecord(record(owner, rr.TypeA, "\x0a\x00\x00\x01")); err == nil {
			t.Errorf("%s was taken into %s", owner, apex)
		}
	}
	if _, err := b.Build().Replace([]zone.Content{{Owner: dnsname.MustParse("example.org.")}}); err == nil {
		t.Error("a change outside the zone was taken")
	}
}

func TestConflicts(t *testing.T) {
	b := zone.NewBuilder(apex, true)
	add := func(owner string, ttl uint32, t rr.Type, data string, pos int) {
		n := dnsname.MustParse(owner)
		_ = b.Add([]byte(n.Wire()), t, ttl, []byte(data), source.Pos(pos))
	}
	add("a.example.", 300, rr.TypeA, "\x0a\x00\x00\x01", 1)
	add("A.example.", 60, rr.TypeA, "\x0a\x00\x00\x02", 2)
	add("a.example.", 60, rr.TypeA, "\x0a\x00\x00\x02", 3)
	add("m.example.", 60, rr.TypeMX, "\x00\x0a\x01X\x00", 4)
	add("m.example.", 60, rr.TypeMX, "\x00\x0a\x01x\x00", 5)
	z := b.Build()
	var got []string
	for _, c := range z.Conflicts {
		got = append(got, fmt.Sprintf("%s %s dup=%v %d after %d, TTL %d after %d", c.Owner, c.Type, c.Duplicate, c.Pos, c.Other, c.TTL, c.First))
	}
	want := []string{"a.Example. A dup=true 3 after 2, TTL 0 after 0", "a.Example. A dup=false 2 after 1, TTL 60 after 300", "m.Example. MX dup=true 5 after 4, TTL 0 after 0"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") || z.Records() != 3 {
		t.Errorf("%d records,\n%s\nwant\n%s", z.Records(), strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if fmt.Sprint(z.Positions) != "[1 2 4]" {
		t.Errorf("positions %v", z.Positions)
	}
	var n zone.Node
	z.GetName(dnsname.MustParse("a.example."), &n)
	if set, _ := n.Find(rr.TypeA); set.TTL != 60 || set.N != 2 {
		t.Errorf("the set has TTL %d and %d records", set.TTL, set.N)
	}
}

// The records of a set stand in canonical order (RFC 4034 §6.3).
func TestSetOrder(t *testing.T) {
	var v struct {
		Orders []struct {
			Source, Type string
			Order        []string
		} `json:"rrset_order"`
	}
	vectors.Read(t, "canonical_order.json", &v)
	for _, c := range v.Orders {
		typ, _ := rr.ParseType(c.Type)
		var want, mixed [][]byte
		for _, text := range c.Order {
			var tokens []rr.Token
			for _, w := range strings.Fields(text) {
				tokens = append(tokens, rr.Token{Text: []byte(strings.Trim(w, `"`)), Quoted: w[0] == '"'})
			}
			data, err := (&rr.Parser{}).Data(nil, typ, tokens)
			if err != nil {
				t.Fatal(err)
			}
			want, mixed = append(want, data), append([][]byte{data}, mixed...)
		}
		i := 0
		for data := range zone.NewRRset(typ, 60, mixed).Data {
			if !bytes.Equal(data, want[i]) {
				t.Errorf("%s: place %d has %s", c.Source, i, rr.DataText(typ, data))
			}
			i++
		}
		if i != len(want) || i == 0 {
			t.Errorf("%s: %d records", c.Source, i)
		}
	}
}

// Case survives, for owners and everywhere else (RFC 1034 §3.1).
func TestCase(t *testing.T) {
	s := build(t, []rr.Record{record("WwW.Example.", rr.TypeA, "\x0a\x00\x00\x01")})
	var n zone.Node
	if !s.GetName(dnsname.MustParse("www.example."), &n) || s.Owner(&n).String() != "WwW.Example." {
		t.Errorf("the owner is %s", s.Owner(&n))
	}
}

// Signatures stand behind what they cover, and are found by it.
func TestSignatures(t *testing.T) {
	sig := func(covered rr.Type, octet byte) string {
		return string([]byte{byte(covered >> 8), byte(covered)}) + "\x0d\x02" + strings.Repeat("\x00", 14) + "\x07example\x00" + string(octet)
	}
	s := build(t, []rr.Record{
		record("a.example.", rr.TypeRRSIG, sig(rr.TypeMX, 1)), record("a.example.", rr.TypeRRSIG, sig(rr.TypeA, 2)),
		record("a.example.", rr.TypeRRSIG, sig(rr.TypeA, 3)), record("a.example.", rr.TypeMX, "\x00\x0a\x00"), record("a.example.", rr.TypeA, "\x0a\x00\x00\x01"),
	})
	var n zone.Node
	s.GetName(dnsname.MustParse("a.example."), &n)
	if set, sigs, ok := n.FindWithSig(rr.TypeA); !ok || set.N != 1 || sigs.N != 2 || sigs.Covered() != rr.TypeA {
		t.Errorf("A: %d records, %d signatures", set.N, sigs.N)
	}
	if sigs, ok := n.FindSig(rr.TypeMX); !ok || sigs.N != 1 {
		t.Errorf("MX: %d signatures", sigs.N)
	}
	if got := n.Types(nil); len(got) != 3 {
		t.Errorf("types %v", got)
	}
}

// Rewrite with a transformation that keeps everything gives the same zone,
// however many goroutines work on it.
func TestRewrite(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	records := []rr.Record{record("example.", rr.TypeSOA, soaData)}
	for i := range 5000 {
		records = append(records, record(fmt.Sprintf("n%d.example.", i), rr.TypeA, string([]byte{10, 0, byte(i >> 8), byte(i)})))
		records = append(records, generator{r}.records(generator{r}.name())...)
	}
	s := build(t, records)
	for _, workers := range []int{1, 2, 7} {
		visited := 0
		same, err := s.Rewrite(context.Background(), workers, nil, func() zone.Transform {
			return func(n, _ *zone.Node, w *zone.NodeWriter) error {
				for set := range n.RRsets {
					w.AddSet(set)
				}
				return nil
			}
		})
		if err != nil || !zone.Equal(s, same) || same.Records() != s.Records() {
			t.Fatalf("%d workers: not the same zone, %v", workers, err)
		}
		err = s.Scan(context.Background(), 1, func(n int) { visited += n }, func() zone.Visit {
			return func(n, next *zone.Node) error {
				if next.Occluded() {
					return fmt.Errorf("behind %s comes %s, which is occluded", s.Owner(n), s.Owner(next))
				}
				return nil
			}
		})
		if err != nil || visited != s.Names() {
			t.Fatalf("%d names visited of %d, %v", visited, s.Names(), err)
		}
	}
	stop := fmt.Errorf("stop")
	if _, err := s.Rewrite(context.Background(), 3, nil, func() zone.Transform {
		return func(*zone.Node, *zone.Node, *zone.NodeWriter) error { return stop }
	}); err != stop {
		t.Errorf("a failing transformation: %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if err := s.Scan(ctx, 2, nil, func() zone.Visit { return func(_, _ *zone.Node) error { return nil } }); err == nil {
		t.Error("a cancelled scan succeeds")
	}
}

func TestNoAllocations(t *testing.T) {
	s := build(t, []rr.Record{record("example.", rr.TypeSOA, soaData), record("a.example.", rr.TypeA, "\x0a\x00\x00\x01"), record("*.w.example.", rr.TypeA, "\x0a\x00\x00\x01")})
	var m zone.Match
	var n zone.Node
	buf := make([]byte, 0, 256)
	wire := []byte("\x04miss\x01w\x07example\x00")
	if got := testing.AllocsPerRun(100, func() {
		key, _ := s.AppendKey(buf, wire)
		s.Lookup(key, &m)
		s.Wildcard(key, m.Encloser, &n)
	}); got != 0 {
		t.Errorf("a lookup allocates %v times", got)
	}
}

// bench is a zone for benchmarks.
func bench(b *testing.B, n int) *zone.Snapshot {
	z := zone.NewBuilder(apex, false)
	_ = z.AddRecord(record("example.", rr.TypeSOA, soaData))
	for i := range n {
		_ = z.AddRecord(record(fmt.Sprintf("host%d.example.", i), rr.TypeA, string([]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})))
	}
	return z.Build().Snapshot
}

func BenchmarkLookup(b *testing.B) {
	for _, n := range []int{10000, 1000000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s := bench(b, n)
			r := rand.New(rand.NewPCG(1, 1))
			keys := make([][]byte, 100000)
			for i := range keys {
				keys[i], _ = s.AppendKey(nil, []byte(dnsname.MustParse(fmt.Sprintf("host%d.example.", r.IntN(n))).Wire()))
			}
			var m zone.Match
			b.ReportMetric(float64(s.Octets())/float64(s.Records()), "octets/record")
			i := 0
			for b.Loop() {
				s.Lookup(keys[i%len(keys)], &m)
				i++
			}
		})
	}
}

// One changed name costs the same in a large zone as in a small one.
func BenchmarkChange(b *testing.B) {
	for _, n := range []int{10000, 1000000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s := bench(b, n)
			i := 0
			for b.Loop() {
				i++
				next, err := s.Replace([]zone.Content{{Owner: dnsname.MustParse(fmt.Sprintf("host%d.example.", i*7919%n)),
					Records: []rr.Record{record("x.example.", rr.TypeA, string([]byte{11, byte(i >> 16), byte(i >> 8), byte(i)}))}}})
				if err != nil {
					b.Fatal(err)
				}
				s = next
			}
		})
	}
}
