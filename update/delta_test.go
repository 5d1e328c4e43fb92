package update

import (
	"math/rand/v2"
	"slices"
	"testing"

	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// A difference as a request makes the same difference, over the wire too; and it is refused where
// something that it touches is not as it was, and only there.
func TestFromDelta(t *testing.T) {
	raise := func(s uint32) uint32 { return s + 1 }
	change := func(g *rand.Rand, z *zone.Snapshot, n int) *zone.Snapshot {
		req := &Request{Zone: apex}
		for range n {
			req.Changes = append(req.Changes, some(g, false))
		}
		next, err := req.Apply(z, raise)
		if err != nil {
			t.Fatal(err)
		}
		return next
	}
	clashes := 0
	for seed := range uint64(3000) {
		g := rand.New(rand.NewPCG(seed, 3))
		old := change(g, build(t, start(10)), g.IntN(20))
		next := change(g, old, g.IntN(20))
		d := zone.Diff(old, next)
		part := seed%2 == 0
		m, err := message.Decode(FromDelta(old, d, part).Append(nil, 1))
		if err != nil {
			t.Fatal(err)
		}
		req, _ := Read(m)
		if no := req.Check(old); no != nil {
			t.Fatalf("seed %d: on what it was made from: %v\n%v", seed, no, req.Prerequisites)
		}
		if no := req.Scan(); no != nil {
			t.Fatalf("seed %d: %v", seed, no)
		}
		got, err := req.Apply(old, raise)
		if err != nil || records(got).dump() != records(next).dump() {
			t.Fatalf("seed %d: %v\n%v\ngive\n%s\nwant\n%s", seed, err, req.Changes, records(got).dump(), records(next).dump())
		}
		// Somebody else changes the zone meanwhile.
		theirs := change(g, old, 1+g.IntN(3))
		touched := map[string]bool{} // by set; and names that were new
		for i := range d.Sets {
			if c := &d.Sets[i]; !c.SerialAlone() {
				touched[c.Owner.Key()+c.Type().String()] = true
				var n zone.Node
				switch {
				case old.GetName(c.Owner, &n):
				case part && c.Type() != rr.TypeCNAME:
					touched[c.Owner.Key()+rr.TypeCNAME.String()] = true
				default:
					touched[c.Owner.Key()] = true
				}
			}
		}
		clash := false
		d2 := zone.Diff(old, theirs)
		for i := range d2.Sets {
			c := &d2.Sets[i]
			onlyTTL := records2(c.Removed) == records2(c.Added) // is not compared (RFC 2136 §1.1.1)
			here := touched[c.Owner.Key()+c.Type().String()] || touched[c.Owner.Key()]
			clash = clash || here && !onlyTTL
		}
		if clash {
			clashes++
		}
		if no := req.Check(theirs); (no != nil) != clash {
			t.Fatalf("seed %d: %v, want a clash: %v", seed, no, clash)
		}
	}
	if clashes < 100 {
		t.Errorf("%d clashes", clashes)
	}
}

// records2 are the data of a set, in one text without regard to case.
func records2(set zone.RRset) (out string) {
	for data := range set.Data {
		r := rec("x.", in, set.Type, 0, string(data))
		out += key(&r) + ";"
	}
	return out
}

// All servers of a zone are replaced at once, a name becomes an alias and another stops being one, and
// the SOA has another contact.
func TestFromDeltaTurns(t *testing.T) {
	in4 := func(name string, typ rr.Type, data string) rr.Record { return rec(name, in, typ, 60, data) }
	old := build(t, start(10))
	m := slices.DeleteFunc(start(12), func(r rr.Record) bool {
		return r.Name.Equal(apex) && r.Type == rr.TypeNS || r.Type == rr.TypeCNAME || r.Name.String() == "a.tides.example."
	})
	m[0].Data = soa(12, 77)
	m = append(m, in4("tides.example.", rr.TypeNS, "\x02xx\x00"), in4("c.tides.example.", rr.TypeA, addr), in4("a.tides.example.", rr.TypeCNAME, "\x01b\x00"))
	next := build(t, m)
	req := FromDelta(old, zone.Diff(old, next), false)
	for _, x := range req.Changes {
		if x.Type == rr.TypeSOA && x.Class != in {
			t.Errorf("%v", x)
		}
	}
	if no := req.Check(old); no != nil {
		t.Error(no)
	}
	got, err := req.Apply(old, func(s uint32) uint32 { return s + 1 })
	if err != nil || records(got).dump() != m.dump() || got.Serial() != 12 {
		t.Errorf("%v, serial %d\n%s\nwant\n%s", err, got.Serial(), records(got).dump(), m.dump())
	}
}
