package update

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

var apex = dnsname.MustParse("tides.example.")

// model is a zone as a list of records, changed by the letter of the pseudocode in RFC 2136 §3.
type model []rr.Record

func key(r *rr.Record) string {
	return fmt.Sprintf("%s %s %x", r.Name.Lower(), r.Type, rr.AppendFolded(nil, r.Type, r.Data))
}

func (m model) has(f func(*rr.Record) bool) bool {
	return slices.ContainsFunc(m, func(r rr.Record) bool { return f(&r) })
}

// check is §3.2.5.
func (m model) check(prerequisites []rr.Record) message.Rcode {
	temp := map[string]map[string]bool{}
	for _, p := range prerequisites {
		atName := func(r *rr.Record) bool { return r.Name.Equal(p.Name) }
		atSet := func(r *rr.Record) bool { return r.Name.Equal(p.Name) && r.Type == p.Type }
		switch {
		case p.TTL != 0 && p.Name.AtOrBelow(apex):
			return message.FormErr
		case !p.Name.AtOrBelow(apex):
			return message.NotZone
		case p.Class == rr.ClassAny && len(p.Data) > 0, p.Class == rr.ClassNone && len(p.Data) > 0:
			return message.FormErr
		case p.Class == rr.ClassAny && p.Type == rr.TypeANY && !m.has(atName):
			return message.NXDomain
		case p.Class == rr.ClassAny && p.Type != rr.TypeANY && !m.has(atSet):
			return message.NXRRSet
		case p.Class == rr.ClassNone && p.Type == rr.TypeANY && m.has(atName):
			return message.YXDomain
		case p.Class == rr.ClassNone && p.Type != rr.TypeANY && m.has(atSet):
			return message.YXRRSet
		case p.Class == rr.ClassIN:
			id := p.Name.Key() + " " + p.Type.String()
			if temp[id] == nil {
				temp[id] = map[string]bool{}
			}
			temp[id][key(&p)] = true
		}
	}
	for id, want := range temp {
		got := map[string]bool{}
		for i := range m {
			if m[i].Name.Key()+" "+m[i].Type.String() == id {
				got[key(&m[i])] = true
			}
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			return message.NXRRSet
		}
	}
	return message.NoError
}

// apply is §3.4.2.7, with what the text says beyond it: sets have one TTL, the last NS that stays is
// that of the apex, a DNAME is replaced.
func (m model) apply(changes []rr.Record) model {
	m = slices.Clone(m)
	for _, c := range changes {
		c := c
		set := func(r *rr.Record) bool { return r.Name.Equal(c.Name) && r.Type == c.Type }
		switch c.Class {
		case rr.ClassIN:
			if c.Type == rr.TypeCNAME && m.has(func(r *rr.Record) bool { return r.Name.Equal(c.Name) && r.Type != rr.TypeCNAME }) ||
				c.Type != rr.TypeCNAME && m.has(func(r *rr.Record) bool { return r.Name.Equal(c.Name) && r.Type == rr.TypeCNAME }) {
				continue
			}
			if c.Type == rr.TypeSOA {
				is, _ := rr.ParseSOA(c.Data)
				if !m.has(func(r *rr.Record) bool {
					was, _ := rr.ParseSOA(r.Data)
					return set(r) && rr.NewerSerial(is.Serial, was.Serial)
				}) {
					continue
				}
			}
			m = slices.DeleteFunc(m, func(r rr.Record) bool {
				return set(&r) && (c.Type == rr.TypeCNAME || c.Type == rr.TypeSOA || c.Type == rr.TypeDNAME || key(&r) == key(&c))
			})
			for i := range m {
				if set(&m[i]) {
					m[i].TTL = c.TTL
				}
			}
			m = append(m, c)
		case rr.ClassAny:
			kept := func(r *rr.Record) bool { return c.Name.Equal(apex) && (r.Type == rr.TypeSOA || r.Type == rr.TypeNS) }
			m = slices.DeleteFunc(m, func(r rr.Record) bool {
				return r.Name.Equal(c.Name) && (c.Type == rr.TypeANY || r.Type == c.Type) && !kept(&r)
			})
		case rr.ClassNone:
			servers := 0
			for i := range m {
				if m[i].Type == rr.TypeNS && m[i].Name.Equal(apex) {
					servers++
				}
			}
			if c.Name.Equal(apex) && (c.Type == rr.TypeSOA || c.Type == rr.TypeNS && servers == 1) {
				continue
			}
			m = slices.DeleteFunc(m, func(r rr.Record) bool { return key(&r) == key(&c) })
		}
	}
	return m
}

// dump is a zone without its serial.
func (m model) dump() string {
	var out []string
	for i := range m {
		r := m[i]
		if r.Type == rr.TypeSOA {
			soa, _ := rr.ParseSOA(r.Data)
			out = append(out, fmt.Sprintf("%s %d SOA minimum %d", r.Name.Lower(), r.TTL, soa.Minimum))
			continue
		}
		out = append(out, fmt.Sprintf("%d %s", r.TTL, key(&r)))
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

func records(z *zone.Snapshot) (out model) {
	for n := range z.AllNodes {
		for set := range n.RRsets {
			for data := range set.Data {
				out = append(out, rr.Record{Name: z.Owner(n), Type: set.Type, Class: rr.ClassIN, TTL: set.TTL, Data: data})
			}
		}
	}
	return out
}

func soa(serial uint32, minimum byte) []byte {
	return append([]byte("\x02ns\x00\x01h\x00"), byte(serial>>24), byte(serial>>16), byte(serial>>8), byte(serial),
		0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, minimum)
}

func build(t testing.TB, m model) *zone.Snapshot {
	t.Helper()
	b := zone.NewBuilder(apex, false)
	for _, r := range m {
		if err := b.AddRecord(r); err != nil {
			t.Fatal(err)
		}
	}
	return b.Build().Snapshot
}

// start is a zone with a bit of everything, at a serial.
func start(serial uint32) model {
	in := func(name string, t rr.Type, data string) rr.Record {
		return rr.Record{Name: dnsname.MustParse(name), Type: t, Class: rr.ClassIN, TTL: 60, Data: []byte(data)}
	}
	return model{
		in("tides.example.", rr.TypeSOA, string(soa(serial, 9))), in("tides.example.", rr.TypeNS, "\x02ns\x00"), in("tides.example.", rr.TypeNS, "\x02nt\x00"),
		in("a.tides.example.", rr.TypeA, "\xc0\x00\x02\x01"), in("a.tides.example.", rr.TypeA, "\xc0\x00\x02\x02"), in("a.tides.example.", rr.TypeTXT, "\x01x"),
		in("c.tides.example.", rr.TypeCNAME, "\x01a\x05tides\x07example\x00"), in("x.y.tides.example.", rr.TypeA, "\xc0\x00\x02\x03"),
		in("*.w.tides.example.", rr.TypeTXT, "\x01w"), in("sub.tides.example.", rr.TypeNS, "\x02ns\x03sub\x05tides\x07example\x00"), in("ns.sub.tides.example.", rr.TypeA, "\xc0\x00\x02\x04"),
	}
}

// some is a random record for a request, of few names, types and data, so that they meet.
func some(g *rand.Rand, prerequisite bool) rr.Record {
	data := map[rr.Type][]string{
		rr.TypeA: {"\xc0\x00\x02\x01", "\xc0\x00\x02\x02", "\xc0\x00\x02\x03"}, rr.TypeTXT: {"\x01x", "\x01w", "\x01X"},
		rr.TypeCNAME: {"\x01a\x05tides\x07example\x00", "\x01b\x00"}, rr.TypeNS: {"\x02ns\x00", "\x02NT\x00", "\x02ns\x03sub\x05tides\x07example\x00"},
		rr.TypeDNAME: {"\x01d\x00", "\x01e\x00"}, rr.TypeMX: {"\x00\x01\x01a\x00", "\x00\x01\x01A\x00", "\x00\x02\x01a\x00"},
		rr.TypeSOA: {string(soa(8, 1)), string(soa(11, 2)), string(soa(1<<31+20, 3)), string(soa(10, 4))},
	}
	types := []rr.Type{rr.TypeA, rr.TypeTXT, rr.TypeCNAME, rr.TypeNS, rr.TypeDNAME, rr.TypeMX, rr.TypeSOA}
	names := []string{"tides.example.", "a.tides.example.", "A.Tides.example.", "b.tides.example.", "c.tides.example.", "y.tides.example.", "x.y.tides.example.",
		"*.w.tides.example.", "q.w.tides.example.", "sub.tides.example.", "ns.sub.tides.example.", "in.sub.tides.example."}
	r := rr.Record{Name: dnsname.MustParse(names[g.IntN(len(names))]), Type: types[g.IntN(len(types))], Class: []rr.Class{rr.ClassIN, rr.ClassIN, rr.ClassAny, rr.ClassNone}[g.IntN(4)]}
	empty := r.Class == rr.ClassAny || prerequisite && r.Class == rr.ClassNone
	if empty && g.IntN(2) == 0 {
		r.Type = rr.TypeANY
	}
	if !empty {
		of := data[r.Type]
		r.Data = []byte(of[g.IntN(len(of))])
	}
	if r.Class == rr.ClassIN && !prerequisite {
		r.TTL = []uint32{60, 60, 120}[g.IntN(3)]
	}
	return r
}

// Requests at random, in chains and over the wire: the zone is that of the model, the serial is newer
// where anything changed and the same where nothing did, and a version is not changed itself.
func TestAgainstModel(t *testing.T) {
	for seed := range uint64(400) {
		g := rand.New(rand.NewPCG(seed, 7))
		m := start(10)
		z := build(t, m)
		for step := range 12 {
			req := &Request{Zone: apex}
			for range g.IntN(4) {
				req.Prerequisites = append(req.Prerequisites, some(g, true))
			}
			for range 1 + g.IntN(6) {
				req.Changes = append(req.Changes, some(g, false))
			}
			msg, err := message.Decode(req.Append(nil, 1))
			if err != nil {
				t.Fatal(err)
			}
			req, bad := Read(msg)
			if bad != nil {
				t.Fatal(bad)
			}
			code := message.NoError
			if no := req.Check(z); no != nil {
				code = no.Code
			}
			if want := m.check(req.Prerequisites); code != want {
				t.Fatalf("seed %d, step %d: prerequisites give %s, want %s: %v", seed, step, code, want, req.Prerequisites)
			}
			if no := req.Scan(); no != nil {
				t.Fatalf("seed %d, step %d: %v", seed, step, no)
			}
			before := m.dump()
			next, err := req.Apply(z, func(s uint32) uint32 { return s + 1 })
			if err != nil {
				t.Fatalf("seed %d, step %d: %v", seed, step, err)
			}
			after := m.apply(req.Changes)
			if got := records(next).dump(); got != after.dump() {
				t.Fatalf("seed %d, step %d: %v\ngive\n%s\nwant\n%s", seed, step, req.Changes, got, after.dump())
			}
			if records(z).dump() != before {
				t.Fatalf("seed %d, step %d: the version before was changed", seed, step)
			}
			if same := next == z; !same && !rr.NewerSerial(next.Serial(), z.Serial()) || same && after.dump() != before {
				t.Fatalf("seed %d, step %d: serial %d after %d", seed, step, next.Serial(), z.Serial())
			}
			for _, v := range []*zone.Snapshot{z, next} { // also as it is served
				set, _ := v.Find(apex, rr.TypeSOA, 0)
				if is, err := rr.ParseSOA(set.First()); err != nil || is.Serial != v.Serial() {
					t.Fatalf("seed %d, step %d: the SOA has serial %d, the version %d", seed, step, is.Serial, v.Serial())
				}
			}
			z, m = next, records(next)
		}
	}
}
