package update

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// I-11, I-23: each change has to be granted, by one grant alone.
func TestI11_I23(t *testing.T) {
	key := dnsname.MustParse("buoy.")
	own := []Place{{Name: dnsname.MustParse("a.tides.example.")}}
	below := []Place{{Name: dnsname.MustParse("y.tides.example."), Below: true}}
	from := netip.MustParseAddr("::ffff:192.0.2.1")
	a := rec("a.tides.example.", in, rr.TypeA, 60, addr)
	for _, c := range []struct {
		what   string
		grants Grants
		x      []rr.Record
		want   bool
	}{
		{"nothing is granted", nil, []rr.Record{a}, false},
		{"to another key", Grants{{Key: dnsname.MustParse("tern."), Add: true}}, []rr.Record{a}, false},
		{"for another zone", Grants{{Key: key, Zones: []dnsname.Name{dnsname.MustParse("reef.example.")}, Add: true}}, []rr.Record{a}, false},
		{"for a parent", Grants{{Key: key, Zones: []dnsname.Name{dnsname.MustParse("example.")}, Add: true}}, []rr.Record{a}, false},
		{"for the zone", Grants{{Key: dnsname.MustParse("BUOY."), Zones: []dnsname.Name{dnsname.MustParse("reef.example."), dnsname.MustParse("TIDES.example.")}, Add: true}}, []rr.Record{a}, true},
		{"all", Grants{{Key: key, Add: true, Remove: true}}, []rr.Record{a, rec("b.tides.example.", all, rr.TypeANY, 0, "")}, true},
		{"neither way", Grants{{Key: key}}, []rr.Record{a}, false},
		{"removing alone", Grants{{Key: key, Remove: true}}, []rr.Record{a}, false},
		{"adding alone", Grants{{Key: key, Add: true}}, []rr.Record{rec("a.tides.example.", none, rr.TypeA, 0, addr)}, false},
		{"a name", Grants{{Key: key, Names: own, Add: true}}, []rr.Record{a, rec("A.Tides.example.", in, rr.TypeTXT, 60, "\x01x")}, true},
		{"not below the name", Grants{{Key: key, Names: own, Add: true}}, []rr.Record{rec("x.a.tides.example.", in, rr.TypeA, 60, addr)}, false},
		{"not above the name", Grants{{Key: key, Names: own, Add: true}}, []rr.Record{rec("tides.example.", in, rr.TypeA, 60, addr)}, false},
		{"below a name", Grants{{Key: key, Names: below, Add: true}}, []rr.Record{rec("x.y.tides.example.", in, rr.TypeA, 60, addr), rec("w.x.y.tides.example.", in, rr.TypeA, 60, addr)}, true},
		{"not the name above", Grants{{Key: key, Names: below, Add: true}}, []rr.Record{rec("y.tides.example.", in, rr.TypeA, 60, addr)}, false},
		{"not a name that ends alike", Grants{{Key: key, Names: below, Add: true}}, []rr.Record{rec("xy.tides.example.", in, rr.TypeA, 60, addr)}, false},
		{"a type", Grants{{Key: key, Types: []rr.Type{rr.TypeTXT, rr.TypeA}, Add: true}}, []rr.Record{a}, true},
		{"another type", Grants{{Key: key, Types: []rr.Type{rr.TypeTXT}, Add: true}}, []rr.Record{a}, false},
		{"all of a name with a grant for a type", Grants{{Key: key, Types: []rr.Type{rr.TypeA}, Remove: true}}, []rr.Record{rec("a.tides.example.", all, rr.TypeANY, 0, "")}, false},
		{"one of several changes", Grants{{Key: key, Names: own, Add: true}}, []rr.Record{a, a, rec("b.tides.example.", in, rr.TypeA, 60, addr)}, false},
		{"halves of two grants", Grants{{Key: key, Names: own, Types: []rr.Type{rr.TypeTXT}, Add: true}, {Key: key, Names: below, Types: []rr.Type{rr.TypeA}, Add: true}}, []rr.Record{a}, false},
		{"each by its grant", Grants{{Key: key, Types: []rr.Type{rr.TypeTXT}, Add: true}, {Key: key, Types: []rr.Type{rr.TypeA}, Add: true}}, []rr.Record{a, rec("a.tides.example.", in, rr.TypeTXT, 60, "\x01x")}, true},
		{"one's own address", Grants{{Key: key, OwnAddress: true, Add: true, Remove: true}}, []rr.Record{rec("a.tides.example.", all, rr.TypeA, 0, ""), a}, true},
		{"another's address", Grants{{Key: key, OwnAddress: true, Add: true}}, []rr.Record{rec("a.tides.example.", in, rr.TypeA, 60, "\xc0\x00\x02\x02")}, false},
		{"the same address in another family", Grants{{Key: key, OwnAddress: true, Add: true}}, []rr.Record{rec("a.tides.example.", in, rr.TypeAAAA, 60, "\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\xff\xff\xc0\x00\x02\x01")}, false},
		{"a text beside one's address", Grants{{Key: key, OwnAddress: true, Add: true}}, []rr.Record{rec("a.tides.example.", in, rr.TypeTXT, 60, "\x01x")}, true},
	} {
		no := c.grants.For(key, apex).Allow(&Request{Zone: apex, Changes: c.x}, nil, Asker{from, true})
		if (no == nil) != c.want || no != nil && no.Code != message.Refused {
			t.Errorf("%s: %v", c.what, no)
		}
	}
}

// Prerequisites tell what is in a zone: they are looked at where something is granted, and of names
// outside the zone by what the standard says of them (RFC 2136 §3.2.1).
func TestMayAsk(t *testing.T) {
	key := dnsname.MustParse("buoy.")
	name := Grant{Key: key, Types: []rr.Type{rr.TypeA}, Add: true, Names: []Place{{Name: dnsname.MustParse("a.tides.example.")}}}
	below := Grant{Key: key, Remove: true, Names: []Place{{Name: dnsname.MustParse("y.tides.example."), Below: true}}}
	all := Grant{Key: key, Add: true}
	for _, c := range []struct {
		asked  string
		grants Grants
		want   bool
	}{
		{"A.Tides.example.", Grants{name, below}, true}, {"x.y.tides.example.", Grants{name, below}, true},
		{"y.tides.example.", Grants{name, below}, false}, {"b.tides.example.", Grants{name, below}, false},
		{"tides.example.", Grants{name, below}, false}, {"x.a.tides.example.", Grants{name, below}, false},
		{"b.tides.example.", Grants{name, all}, true}, {"b.tides.example.", nil, false},
		{"reef.example.", Grants{name}, true}, {"example.", nil, true},
	} {
		for _, asked := range []rr.Record{rec(c.asked, rr.ClassAny, rr.TypeANY, 0, ""), rec(c.asked, none, rr.TypeMX, 0, ""), rec(c.asked, in, rr.TypeA, 0, addr)} {
			no := c.grants.MayAsk(&Request{Zone: apex, Prerequisites: []rr.Record{asked}})
			if (no == nil) != c.want || no != nil && no.Code != message.Refused {
				t.Errorf("%s by %d grants: %v", c.asked, len(c.grants), no)
			}
		}
	}
}

// More grants never allow less, and a request is allowed where each of its changes is.
func TestGrantsAdd(t *testing.T) {
	g := rand.New(rand.NewPCG(1, 2))
	key := dnsname.MustParse("buoy.")
	some1 := func() Grant {
		out := Grant{Key: key, Add: g.IntN(2) == 0, Remove: g.IntN(2) == 0, OwnAddress: g.IntN(2) == 0}
		for range g.IntN(3) {
			out.Names = append(out.Names, Place{some(g, false).Name, g.IntN(2) == 0})
		}
		for range g.IntN(3) {
			out.Types = append(out.Types, some(g, false).Type)
		}
		return out
	}
	allowed := 0
	for range 20000 {
		gs := Grants{some1(), some1()}
		req := &Request{Zone: apex, Changes: []rr.Record{some(g, false), some(g, false)}}
		from := netip.MustParseAddr("192.0.2.2")
		each := true
		for i := range req.Changes {
			one := &Request{Zone: apex, Changes: req.Changes[i : i+1]}
			either := gs[:1].Allow(one, nil, Asker{from, true}) == nil || gs[1:].Allow(one, nil, Asker{from, true}) == nil
			if either != (gs.Allow(one, nil, Asker{from, true}) == nil) {
				t.Fatalf("%+v: %v", gs, one.Changes)
			}
			each = each && either
		}
		if each != (gs.Allow(req, nil, Asker{from, true}) == nil) {
			t.Fatalf("%+v: %v", gs, req.Changes)
		}
		if each {
			allowed++
		}
	}
	if allowed < 500 || allowed > 19500 {
		t.Errorf("%d of 20000 are allowed: that tells nothing", allowed)
	}
}

// Each refusal says what was missing: the right to add or to remove, or a proof of the address.
func TestRefusalWords(t *testing.T) {
	from := netip.MustParseAddr("192.0.2.2")
	own := Grant{OwnAddress: true, Add: true, Remove: true}
	here := rr.Record{Name: dnsname.MustParse("a.example."), Type: rr.TypeA, Class: rr.ClassIN, TTL: 60, Data: []byte{192, 0, 2, 2}}
	there := here
	there.Data = []byte{192, 0, 2, 3}
	gone := rr.Record{Name: here.Name, Type: rr.TypeA, Class: rr.ClassNone, Data: here.Data}
	all := rr.Record{Name: here.Name, Type: rr.TypeANY, Class: rr.ClassAny}
	for what, c := range map[string]struct {
		grant  Grant
		change rr.Record
		proven bool
		want   string // empty: it is allowed
	}{
		"one's own address, proven":      {own, here, true, ""},
		"one's own address, unproven":    {own, here, false, "one's own address counts over TCP, or with a DNS cookie"},
		"another's address, proven":      {own, there, true, "the key may not add A at a.example."},
		"another's address, unproven":    {own, there, false, "the key may not add A at a.example."},
		"adding without that right":      {Grant{Remove: true}, here, true, "the key may not add A at a.example."},
		"removing without that right":    {Grant{Add: true}, gone, true, "the key may not remove A at a.example."},
		"removing all with a type alone": {Grant{Remove: true, Types: []rr.Type{rr.TypeA}}, all, true, "the key may not remove all records at a.example."},
		"removing all with any type":     {Grant{Remove: true}, all, true, ""},
	} {
		no := Grants{c.grant}.Allow(&Request{Zone: apex, Changes: []rr.Record{c.change}}, nil, Asker{from, c.proven})
		if (no == nil) != (c.want == "") || no != nil && !strings.Contains(no.Why, c.want) {
			t.Errorf("%s: %v, want %q", what, no, c.want)
		}
	}
}
