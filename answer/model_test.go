package answer_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/zone"
)

// long lets the test against the reference run for a while instead of some seconds.
var long = flag.Duration("long", 0, "how long the test against the reference goes on")

// nasty makes zones in which names meet: wildcards below wildcards, cuts in cuts,
// aliases that lead in circles.
type nasty struct {
	*rand.Rand
	hot *[]dnsname.Name // names that a DNAME leads to its own owner
}

func (g nasty) label() string {
	return []string{"a", "b", "c", "*", "*", "www", "sub", "A", "\x00", "x.y", "ns", "deep"}[g.IntN(12)]
}

func (g nasty) name(apex dnsname.Name) dnsname.Name {
	n := apex
	for range g.IntN(4) {
		n, _ = n.Child(g.label())
	}
	if g.IntN(60) == 0 {
		for room := 255 - len(n.Wire()); room > 1; room = 255 - len(n.Wire()) {
			n, _ = n.Child(strings.Repeat("l", min(63, room-1)))
		}
	}
	return n
}

var nastyApexes = []dnsname.Name{dnsname.MustParse("example."), dnsname.MustParse("sub.example."), dnsname.MustParse("other.")}

// target is a name that an alias leads to, mostly in one of the zones.
func (g nasty) target() dnsname.Name {
	if g.IntN(8) == 0 {
		return dnsname.MustParse("elsewhere.test.")
	}
	return g.name(nastyApexes[g.IntN(len(nastyApexes))])
}

// zone makes a zone; aliases stand alone, as they have to.
func (g nasty) zone(t *testing.T, apex dnsname.Name) *zone.Snapshot {
	records := map[string][]rr.Record{}
	soa := []byte("\x02ns\x00\x01h\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c")
	records[apex.Key()] = []rr.Record{{Name: apex, Type: rr.TypeSOA, TTL: uint32(60 + g.IntN(600)), Data: soa}, {Name: apex, Type: rr.TypeNS, TTL: 60, Data: []byte(g.target().Wire())}}
	for range g.IntN(14) {
		n := g.name(apex)
		if g.IntN(6) == 0 && len(records[n.Key()]) == 0 {
			records[n.Key()] = []rr.Record{{Name: n, Type: rr.TypeCNAME, TTL: 60, Data: []byte(g.target().Wire())}}
			continue
		}
		if have := records[n.Key()]; len(have) > 0 && have[0].Type == rr.TypeCNAME {
			continue
		}
		for _, r := range g.records(n, apex) {
			records[n.Key()] = append(records[n.Key()], r)
		}
	}
	b := zone.NewBuilder(apex, false)
	for _, rs := range records {
		for _, r := range rs {
			if err := b.AddRecord(r); err != nil {
				t.Fatal(err)
			}
		}
	}
	return b.Build().Snapshot
}

func (g nasty) records(n, apex dnsname.Name) (out []rr.Record) {
	add := func(t rr.Type, data string) {
		out = append(out, rr.Record{Name: n, Type: t, TTL: 120, Data: []byte(data)})
	}
	switch g.IntN(13) {
	case 9, 10, 11, 12:
		host := func() string {
			if g.IntN(6) == 0 {
				return "\x00"
			}
			return g.target().Wire()
		}
		for range []int{1, 2, 3, 12}[g.IntN(4)] {
			switch g.IntN(3) {
			case 0:
				add(rr.TypeMX, "\x00\x0a"+host())
			case 1:
				add(rr.TypeSRV, "\x00\x00\x00\x00\x00\x19"+host())
			case 2:
				add(rr.TypeHTTPS, []string{"\x00\x00", "\x00\x01"}[g.IntN(2)]+host())
			}
		}
	case 0, 1:
		if n.Equal(apex) || strings.HasPrefix(n.String(), "*.") { // NS at a wildcard is not defined (RFC 4592 §4.2)
			return nil
		}
		for range 1 + g.IntN(3) {
			add(rr.TypeNS, g.target().Wire())
		}
		if g.IntN(2) == 0 {
			add(rr.TypeDS, "\x00\x01\x0d\x02"+strings.Repeat("\x01", 32))
		}
	case 2:
		if !strings.HasPrefix(n.String(), "*.") && !n.Equal(apex) {
			to := g.target()
			if g.IntN(2) == 0 {
				to = n.Parent()
				first := n.Wire()[:1+int(n.Wire()[0])]
				if back, err := dnsname.FromWire([]byte(first + n.Wire())); err == nil {
					*g.hot = append(*g.hot, back)
				}
			}
			add(rr.TypeDNAME, to.Wire())
		}
	case 3:
		add(rr.TypeTXT, "\xc8"+strings.Repeat("x", 200))
		add(rr.TypeAAAA, strings.Repeat("\x20", 16))
	case 4:
		for i := range g.IntN(30) {
			add(rr.TypeTXT, fmt.Sprintf("\x05%05d", i))
		}
	default:
		for i := range 1 + g.IntN(3) {
			add(rr.TypeA, string([]byte{192, 0, 2, byte(i)}))
		}
	}
	return out
}

// TestAgainstReference asks random zones, unsigned and signed in every way, and
// compares each answer with that of the reference: whole, and at every size.
func TestAgainstReference(t *testing.T) {
	key, err := dnssec.Generate(rr.ED25519, dnssec.FlagZone|dnssec.FlagSEP, 0)
	if err != nil {
		t.Fatal(err)
	}
	keys := []signer.Key{signer.Use(key, signer.Single)}
	policies := []signer.Policy{{}, {}, {Denial: signer.Denial{NSEC3: true}}, {Denial: signer.Denial{NSEC3: true, OptOut: true, Params: dnssec.NSEC3Params{Salt: []byte{7}}}}}
	start, asked := time.Now(), 0
	for seed := uint64(0); asked < 18000 || time.Since(start) < *long; seed++ {
		g := nasty{rand.New(rand.NewPCG(seed, 3)), &[]dnsname.Name{}}
		var src zones
		var ref reference
		for i, apex := range nastyApexes[:1+g.IntN(3)] {
			z := g.zone(t, apex)
			if kind := g.IntN(5); kind > 0 && (i == 0 || kind < 4) {
				if z, _, err = signer.Sign(context.Background(), z, keys, policies[kind-1], time.Unix(1700000000, 0)); err != nil {
					t.Fatal(err)
				}
			}
			src, ref.zones = append(src, z), append(ref.zones, newRefZone(z))
		}
		for range 400 {
			asked++
			askNasty(t, g, seed, src, &ref)
		}
	}
}

func askNasty(t *testing.T, g nasty, seed uint64, src zones, ref *reference) {
	t.Helper()
	name := g.target()
	if len(*g.hot) > 0 && g.IntN(8) == 0 {
		name = (*g.hot)[g.IntN(len(*g.hot))]
	}
	typ := []rr.Type{rr.TypeA, rr.TypeA, rr.TypeTXT, rr.TypeNS, rr.TypeDS, rr.TypeCNAME, rr.TypeDNAME, rr.TypeANY, rr.TypeRRSIG, rr.TypeNSEC, rr.TypeMX, rr.TypeSOA, rr.TypeMX, rr.TypeSRV, rr.TypeHTTPS}[g.IntN(15)]
	do := g.IntN(2) == 0
	ref.tcp = g.IntN(2) == 0
	want := ref.answer(name, typ, do)
	q := message.QueryOptions{EDNS: true, UDPSize: 4096, DO: do}
	full := ask(t, src, name.String(), typ, q, answer.Options{Limit: message.MaxLen, TCP: ref.tcp})
	if why := want.differs(full); why != "" || full.Flags&message.FlagTC != 0 {
		t.Fatalf("zones of seed %d, %s %s, DO %v, TCP %v: %s\n%s", seed, name, typ, do, ref.tcp, why, dumpZones(src))
	}
	for _, set := range want.wanted {
		if held(full, set) != len(set) {
			t.Fatalf("zones of seed %d, %s %s, DO %v: %s is not there\n%s", seed, name, typ, do, set, dumpZones(src))
		}
	}
	size := len(respond(t, src, name, typ, q, answer.Options{Limit: message.MaxLen, TCP: ref.tcp}))
	for _, limit := range []int{512 + g.IntN(900), size, size - 1, size - 7, size - 40} {
		if limit < message.MinUDP {
			continue
		}
		m := ask(t, src, name.String(), typ, q, answer.Options{Limit: limit, TCP: ref.tcp})
		cut := m.Flags&message.FlagTC != 0
		fits := want.differs(m) == ""
		if cut == fits || limit >= size && cut {
			t.Fatalf("zones of seed %d, %s %s, DO %v: %d octets, limit %d: TC %v, complete %v\n%s", seed, name, typ, do, size, limit, cut, fits, dumpZones(src))
		}
		for _, set := range want.wanted {
			if n := held(m, set); n != 0 && n != len(set) {
				t.Fatalf("zones of seed %d, %s %s, DO %v, limit %d: a part of %s\n%s", seed, name, typ, do, limit, set, dumpZones(src))
			}
		}
		for i, part := range [][]string{lines(m.Answer), lines(m.Authority)} { // what is there is right
			whole := [][]string{lines(full.Answer), lines(full.Authority)}[i]
			for _, l := range part {
				if !slices.Contains(whole, l) {
					t.Fatalf("zones of seed %d, %s %s cut to %d: %s", seed, name, typ, limit, l)
				}
			}
		}
	}
}

// held is how many records of a set are in the additional section.
func held(m *message.Message, set []string) (n int) {
	for _, l := range lines(m.Additional) {
		if slices.Contains(set, l) {
			n++
		}
	}
	return n
}

func respond(t *testing.T, src answer.Source, name dnsname.Name, typ rr.Type, o message.QueryOptions, ao answer.Options) []byte {
	t.Helper()
	var q message.Query
	message.ParseQuery(message.AppendQuery(nil, name, typ, o), &q)
	ao.UDPSize = 1232
	var r answer.Responder
	return r.Respond(nil, &q, src, ao)
}

func dumpZones(src zones) string {
	var b strings.Builder
	for _, z := range src {
		for n := range z.AllNodes {
			for set := range n.RRsets {
				for data := range set.Data {
					if set.Type != rr.TypeRRSIG {
						fmt.Fprintf(&b, "%s %d %s %s\n", z.Owner(n), set.TTL, set.Type, rr.DataText(set.Type, data))
					}
				}
			}
		}
	}
	return b.String()
}
