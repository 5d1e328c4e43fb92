package zonestate

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/zone"
)

// Of the networks that an address lies in the longest counts, as by looking at all of them; and both
// kinds of addresses that stand for the same are the same.
func TestAudienceByNetwork(t *testing.T) {
	r := rand.New(rand.NewPCG(15, 2026))
	for range 200 {
		var a audiences
		type net struct {
			p netip.Prefix
			v *view
		}
		var all []net
		for i := range 1 + r.IntN(12) {
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(r.IntN(2)), byte(r.IntN(2)), byte(r.IntN(4))}), []int{0, 8, 15, 16, 24, 30, 31, 32}[r.IntN(8)])
			if r.IntN(3) == 0 {
				p = netip.PrefixFrom(netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(r.IntN(4))}), []int{0, 32, 64, 126, 128}[r.IntN(5)])
			}
			v := &view{audience: fmt.Sprint(i)}
			a.addNet(p, v)
			all = append(all, net{p.Masked(), v})
		}
		a.longestFirst()
		for range 50 {
			from := netip.AddrFrom4([4]byte{10, byte(r.IntN(3)), byte(r.IntN(2)), byte(r.IntN(5))})
			asked := from
			switch r.IntN(3) {
			case 0:
				asked = netip.AddrFrom16(from.As16()) // mapped
			case 1:
				from = netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(r.IntN(5))})
				asked = from.WithZone("eth0")
			}
			var want *view
			longest := -1
			for _, n := range all {
				if n.p.Contains(from) && n.p.Bits() >= longest { // the same network again: the last counts
					want, longest = n.v, n.p.Bits()
				}
			}
			if got := a.at(asked); got != want {
				t.Fatalf("%s sees %+v, want %+v of %v", asked, got, want, all)
			}
		}
	}
}

// Whoever is inside sees the versions for inside, and what has none as everyone does; so do peers by
// their keys. Versions are stored apart, and each is changed by whom it is granted.
func TestAudiences(t *testing.T) {
	inside, all := &tsig.Key{Name: dnsname.MustParse("inside-key."), Algorithm: "hmac-sha256", Secret: []byte("i")}, &tsig.Key{Name: dnsname.MustParse("all-key."), Algorithm: "hmac-sha256", Secret: []byte("a")}
	outside := &tsig.Key{Name: dnsname.MustParse("outside-key."), Algorithm: "hmac-sha256", Secret: []byte("o")}
	b := dnsname.MustParse("b.")
	load := func(name string, last byte) func(context.Context, Input) (Input, error) {
		return (&source{snap: zoneVersion(name, 1, last)}).load
	}
	updates := func(keys ...*tsig.Key) *Updates {
		u := &Updates{Keys: keys}
		for _, k := range keys {
			u.Grants = append(u.Grants, update.Grant{Key: k.Name, Zones: []dnsname.Name{updated}, Add: true, Remove: true})
		}
		return u
	}
	cfg := &Config{
		Audiences: []Audience{{Name: "inside", Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}, {Name: "unused", Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.128/25")}}},
		Zones: []Zone{
			// Two of everyone's peers lie in the network of the audience.
			{Name: updated, Origin: &Files{Load: load("a.", 1)}, Updates: updates(holder, all), SendTo: []Peer{{Name: "o", Address: netip.MustParseAddrPort("192.0.2.5:53"), Key: outside}, {Name: "p", Address: netip.MustParseAddrPort("192.0.2.6:53")}}},
			{Name: updated, Audience: "inside", Origin: &Files{Load: load("a.", 2)}, Updates: updates(inside, all), SendTo: []Peer{{Name: "s", Address: netip.MustParseAddrPort("203.0.113.1:53"), Key: inside}, {Name: "t", Address: netip.MustParseAddrPort("203.0.113.2:53")}}},
			{Name: b, Origin: &Files{Load: load("b.", 3)}},
		},
	}
	kept := store.InMemory()
	s := New(Options{Store: kept})
	check := func(what string) {
		t.Helper()
		q := (*requests)(s)
		for _, c := range []struct {
			from string
			key  *tsig.Key
			zone dnsname.Name
			want byte
		}{
			{"192.0.2.77", nil, updated, 2}, {"192.0.2.200", nil, updated, 2}, {"198.51.100.1", nil, updated, 1}, {"192.0.2.77", nil, b, 3},
			{"198.51.100.1", inside, updated, 2}, {"203.0.113.1", nil, updated, 1}, {"203.0.113.2", nil, updated, 2}, {"192.0.2.77", holder, updated, 2}, {"198.51.100.1", all, updated, 1},
			{"192.0.2.5", outside, updated, 1}, {"192.0.2.5", nil, updated, 2}, {"192.0.2.77", outside, updated, 1}, {"192.0.2.6", nil, updated, 1}, {"192.0.2.6", inside, updated, 2}, {"203.0.113.2", outside, updated, 1},
		} {
			var key *dnsname.Name
			if c.key != nil {
				key = &c.key.Name
			}
			v := q.ViewFor(netip.MustParseAddr(c.from), key)
			snap, state := v.Find([]byte(c.zone.Wire()), false)
			if state != answer.Served {
				t.Fatalf("%s: %s is not served", what, c.zone)
			}
			set, _ := snap.Find(c.zone, rr.TypeA, 0)
			if set.First()[3] != c.want || v.Exact([]byte(c.zone.Wire())).Snapshot() != snap {
				t.Errorf("%s: %s with %v sees version %d of %s, want %d", what, c.from, c.key, set.First()[3], c.zone, c.want)
			}
			if c.key == nil {
				if src, _ := q.SourceFor(netip.MustParseAddr(c.from)).Find([]byte(c.zone.Wire()), false); src != snap {
					t.Errorf("%s: %s sees something else over UDP", what, c.from)
				}
			}
		}
	}
	s.Apply(t.Context(), cfg, "")
	check("at first")
	ask := func(key *tsig.Key, label string) {
		t.Helper()
		u := requestOf(key, at(label+".a.", rr.ClassIN, rr.TypeTXT, 60, "\x01x"))
		done := make(chan *update.Refusal, 1)
		(*requests)(s).Exact([]byte(updated.Wire())).Update(u, func(no *update.Refusal) { done <- no })
		if no := <-done; no != nil {
			t.Errorf("%s: %v", label, no)
		}
	}
	ask(holder, "h")
	ask(inside, "i")
	ask(all, "x")
	has := func(z *zone.Snapshot, label string) bool {
		_, ok := z.Find(dnsname.MustParse(label+".a."), rr.TypeTXT, 0)
		return ok
	}
	for restart := range 3 {
		for audience, want := range map[string]string{"": "true false true", "inside": "false true true"} {
			z := s.SnapshotFor(updated, audience)
			if got := fmt.Sprint(has(z, "h"), has(z, "i"), has(z, "x")); got != want {
				t.Errorf("after %d restarts: the audience %q sees %s, want %s", restart, audience, got, want)
			}
		}
		s = New(Options{Store: kept})
		s.Apply(t.Context(), cfg, "")
		check("after a restart")
	}
	if st := s.Status().Zones; len(st) != 3 || st[0].Audience != "" || st[1].Audience != "inside" || st[1].Zone != "a." {
		t.Errorf("status: %+v", st)
	}
	// Without its audience a version is served no more, and to nobody.
	cfg = &Config{Zones: []Zone{cfg.Zones[0], cfg.Zones[2]}}
	s.Apply(t.Context(), cfg, "")
	if v := (*requests)(s).ViewFor(netip.MustParseAddr("192.0.2.77"), nil); v != (*requests)(s) {
		t.Error("an audience that is no longer configured sees something else")
	}
}

// Versions for audiences are signed with the keys that the version for everyone has, also with others.
func TestAudiencesSigned(t *testing.T) {
	everyone, inside := resigner(), resigner()
	cfg := &Config{Zones: []Zone{
		{Name: updated, Origin: &Files{Load: (&source{snap: zoneVersion("a.", 1, 1)}).load}, Signer: everyone},
		{Name: updated, Audience: "inside", Origin: &Files{Load: (&source{snap: zoneVersion("a.", 1, 2)}).load}, Signer: inside},
	}}
	s := New(Options{Store: store.InMemory(), Stepped: true})
	s.Apply(t.Context(), cfg, "")
	before := s.SnapshotFor(updated, "inside").Serial()
	everyone.made, inside.made = "key 2", "key 2"
	if err := s.KeysOf(t.Context(), updated, "", func() error { return nil }); err != nil {
		t.Fatal(err)
	}
	z := s.table.Load().zones[idOf(updated, "inside")]
	if _, planned := s.sched.byID[advanceID(z)]; !planned {
		t.Error("it is not planned to look after the keys of inside")
	}
	if err := s.advance(t.Context(), z); err != nil {
		t.Fatal(err)
	}
	if got := z.lastGood().fingerprint; got != "key 2" || s.SnapshotFor(updated, "inside").Serial() == before {
		t.Errorf("inside is signed with %q", got)
	}
}

// A message that may change all versions changes all of them or none, also where one of them refuses what
// another would take; and what was made in one can be taken back.
func TestAllVersionsOrNone(t *testing.T) {
	all := &tsig.Key{Name: dnsname.MustParse("all-key."), Algorithm: "hmac-sha256", Secret: []byte("a")}
	inside := &tsig.Key{Name: dnsname.MustParse("inside-key."), Algorithm: "hmac-sha256", Secret: []byte("i")}
	grant := func(keys ...*tsig.Key) *Updates {
		u := &Updates{Keys: keys}
		for _, k := range keys {
			u.Grants = append(u.Grants, update.Grant{Key: k.Name, Zones: []dnsname.Name{updated}, Add: true, Remove: true})
		}
		return u
	}
	load := func(last byte) func(context.Context, Input) (Input, error) {
		return (&source{snap: zoneVersion("a.", 1, last)}).load
	}
	s := New(Options{Store: store.InMemory()})
	s.Apply(t.Context(), &Config{
		Audiences: []Audience{{Name: "inside", Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}},
		Zones: []Zone{
			{Name: updated, Origin: &Files{Load: load(1)}, Updates: grant(all)},
			{Name: updated, Audience: "inside", Origin: &Files{Load: load(2)}, Updates: grant(all, inside)},
		},
	}, "")
	ids := 0
	ask := func(key *tsig.Key, label string, missing ...string) message.Rcode {
		t.Helper()
		u := requestOf(key, at(label+".a.", rr.ClassIN, rr.TypeTXT, 60, "\x01x"))
		ids++
		copy(u.Digest[:], fmt.Sprint("all ", ids))
		for _, m := range missing {
			u.Prerequisites = append(u.Prerequisites, at(m+".a.", rr.ClassNone, rr.TypeANY, 0, ""))
		}
		done := make(chan *update.Refusal, 1)
		(*requests)(s).Exact([]byte(updated.Wire())).Update(u, func(no *update.Refusal) { done <- no })
		if no := <-done; no != nil {
			return no.Code
		}
		return message.NoError
	}
	has := func(audience, label string) bool {
		_, ok := s.SnapshotFor(updated, audience).Find(dnsname.MustParse(label+".a."), rr.TypeTXT, 0)
		return ok
	}
	z := s.table.Load().zones[updated.Key()]
	if code := ask(inside, "only"); code != message.NoError {
		t.Fatal(code)
	}
	for _, c := range []struct {
		label   string
		missing []string
		want    message.Rcode
		done    bool
	}{
		{"first", nil, message.NoError, true}, {"second", []string{"only"}, message.YXDomain, false}, {"third", []string{"none"}, message.NoError, true}, {"fourth", []string{"first"}, message.YXDomain, false},
	} {
		code := ask(all, c.label, c.missing...)
		if out, in := has("", c.label), has("inside", c.label); code != c.want || out != c.done || in != c.done {
			t.Errorf("%s: %s; everyone has it: %v, inside: %v; want %s and %v in both", c.label, code, out, in, c.want, c.done)
		}
	}
	was := z.lastGood()
	ask(all, "fifth")
	made := z.lastGood().served.Serial()
	s.takeBack(z, was)
	if now := z.snap(); has("", "fifth") || !has("", "third") || !rr.NewerSerial(now.Serial(), made) {
		t.Errorf("what was taken back: serial %d after %d, the record is there: %v", now.Serial(), made, has("", "fifth"))
	}
}

// A signed zone that came back from the store takes changes as before the restart.
func TestChangeAfterRestart(t *testing.T) {
	kept := store.InMemory()
	src := &stamped{source: source{snap: zoneVersion("a.", 1, 1)}, stamp: "one"}
	cfg := &Config{Zones: []Zone{{Name: updated, Origin: &Files{Load: src.load, Unchanged: src.unchanged}, Signer: resigner()}}}
	New(Options{Store: kept}).Apply(t.Context(), cfg, "")
	for restart := range 3 {
		s := New(Options{Store: kept})
		if r := s.Apply(t.Context(), cfg, ""); restart == 0 && r[0].Change != Stored {
			t.Fatalf("the zone is not taken from the store: %+v", r)
		}
		label := fmt.Sprint("r", restart)
		r := &update.Request{Zone: updated, Changes: []rr.Record{at(label+".a.", rr.ClassIN, rr.TypeTXT, 60, "\x01x")}}
		if err := s.UpdateBy(updated, r, "ines"); err != nil {
			t.Fatalf("after %d restarts: %v", restart, err)
		}
		if _, ok := s.Snapshot(updated).Find(dnsname.MustParse(label+".a."), rr.TypeTXT, 0); !ok {
			t.Errorf("after %d restarts: the record is not served", restart)
		}
	}
}
