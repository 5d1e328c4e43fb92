package zonestate

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/store"
	"fencepost/tsig"
	"fencepost/zone"
)

// secondaryOf is a server that is secondary for a. of some primaries, with a clock that is
// set by hand.
func secondaryOf(now *time.Time, peers ...Peer) (*Zones, *zoneState) {
	s := New(Options{Now: func() time.Time { return *now }, Store: store.InMemory()})
	z := &zoneState{name: dnsname.MustParse("a."), notified: map[string]peerState{}}
	z.cfg.Store(&Zone{Name: z.name, Origin: &Primaries{Servers: peers}})
	s.table.Store(&table{zones: map[string]*zoneState{z.name.Key(): z}, depths: depthBit(1)})
	return s, z
}

// Of several primaries the one with the newest version is asked for it, whoever is named
// first; one that is dead holds up nobody, and is left alone for a while by all zones.
func TestBestPrimary(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	one, two := newPrimary(t), newPrimary(t)
	dead := Peer{Name: "dead", Address: netip.MustParseAddrPort("127.0.0.1:1")}
	s, z := secondaryOf(&now, dead, Peer{Name: "one", Address: one.at}, Peer{Name: "two", Address: two.at})
	for _, c := range []struct{ one, two, want uint32 }{{5, 7, 7}, {8, 7, 8}, {8, 8, 8}, {7, 6, 8}, {4, 9, 9}} {
		for p, serial := range map[*primary]uint32{one: c.one, two: c.two} {
			p.mu.Lock()
			p.shows, p.sends = serial, zoneVersion("a.", serial, byte(serial))
			p.mu.Unlock()
		}
		err := s.lookForVersion(t.Context(), z)
		if got := serialOf(z.snap()); got != c.want || (err != nil) != (c.one < c.want && c.two < c.want) {
			t.Errorf("primaries with %d and %d: serial %d is in service, want %d; %v", c.one, c.two, got, c.want, err)
		}
	}
	if rest := s.health.may(dead.Address, now); rest == nil || rest.wait <= 0 {
		t.Error("a dead peer is asked again at once")
	}
	two.mu.Lock()
	two.shows = 3
	two.mu.Unlock()
	if err := s.lookForVersion(t.Context(), z); err == nil || !strings.Contains(err.Error(), "has not answered since 2026-11-29 12:00:00 UTC") {
		t.Errorf("nothing tells that a peer was silent: %v", err)
	}
}

// However many ask, a silent peer is tried once in a rest that grows to a minute, and the
// first sign of life ends it.
func TestHealth(t *testing.T) {
	var h health
	r := rand.New(rand.NewPCG(1, 1))
	at := netip.MustParseAddrPort("192.0.2.1:53")
	now := time.Unix(0, 0)
	silent := fmt.Errorf("asking: %w", resolve.ErrNoAnswer)
	var last time.Time
	tries := 0
	for range 20000 {
		now = now.Add(time.Duration(r.IntN(200)) * time.Millisecond)
		if h.may(at, now) != nil {
			if now.Sub(last) > longRest {
				t.Fatalf("after %s it is still left alone", now.Sub(last))
			}
			continue
		}
		if gap := now.Sub(last); tries > 1 && gap < min(firstRest<<(tries-2), longRest) {
			t.Fatalf("try %d comes %s after the one before", tries, gap)
		}
		last = now
		tries++
		h.note(at, now, silent)
	}
	if tries > 20+20000/10/60*2 {
		t.Errorf("%d tries", tries)
	}
	h.note(at, now, errors.New("it refuses"))
	if h.may(at, now) != nil {
		t.Error("one that refuses is not silent")
	}
	h.note(at, now, silent)
	if h.may(at, now.Add(-time.Hour)) != nil {
		t.Error("a clock that was set back makes the rest longer")
	}
	h.note(at, now, silent)
	h.heard(at)
	if h.may(at, now) != nil {
		t.Error("after a sign of life it is left alone")
	}
}

// D-50, H-24: a primary says what the SOA says, a secondary what is left, and whoever is
// told that expires with its primary (RFC 7314).
func TestExpireIsTold(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	ask := func(s *Zones, typ rr.Type, expire bool) (uint32, bool) {
		t.Helper()
		q := message.AppendQuery(nil, dnsname.MustParse("a."), typ, message.QueryOptions{EDNS: true, UDPSize: 1232, Expire: expire})
		m, err := message.Decode(s.handlerOf().Datagram(nil, q, netip.MustParseAddrPort("192.0.2.1:5")))
		if err != nil {
			t.Fatal(err)
		}
		return m.EDNS.Expire()
	}
	p := New(Options{Now: func() time.Time { return now }})
	p.Apply(t.Context(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: zoneVersion("a.", 7, 1)}).load}}}}, "")
	soa, _ := zoneVersion("a.", 7, 1).SOA()
	if n, ok := ask(p, rr.TypeSOA, true); !ok || n != soa.Expire {
		t.Errorf("a primary says %d, %v; want %d", n, ok, soa.Expire)
	}
	for what, typ := range map[string]rr.Type{"another type": rr.TypeNS, "not asked": rr.TypeSOA} {
		if _, ok := ask(p, typ, what == "another type"); ok {
			t.Errorf("%s: it is told all the same", what)
		}
	}
	s, z := secondaryOf(&now, Peer{Name: "p"})
	step := func(what string, said expiry, fresh bool, want uint32) {
		t.Helper()
		if fresh {
			if err := s.installFetched(t.Context(), z, zoneVersion("a.", serialOf(z.snap())+1, 1), Peer{Name: "p"}, said); err != nil {
				t.Fatal(err)
			}
		} else if err := s.confirm(z, z.snap(), said); err != nil {
			t.Fatal(err)
		}
		if n, ok := ask(s, rr.TypeSOA, true); !ok || n != want {
			t.Errorf("%s: it says %d, %v; want %d", what, n, ok, want)
		}
	}
	step("a fresh copy", expiry{}, true, soa.Expire)
	now = now.Add(100 * time.Second)
	if n, _ := ask(s, rr.TypeSOA, true); n != soa.Expire-100 {
		t.Errorf("100 s after that: %d, want %d", n, soa.Expire-100)
	}
	step("a primary that itself has 50 s left", expiry{50, true}, true, 50)
	now = now.Add(20 * time.Second)
	step("it confirms with 10 s left: what there was counts", expiry{10, true}, false, 30)
	step("it confirms with 40 s", expiry{40, true}, false, 40)
	step("it says more than the SOA", expiry{soa.Expire + 1000, true}, false, soa.Expire)
	step("fresh, with 60 s", expiry{60, true}, true, 60)
	now = now.Add(60 * time.Second)
	s.sched.runDue(t.Context())
	if z.snap() != nil {
		t.Error("it is served after the end that was told")
	}
	// What was told outlives a restart.
	_, meta, err := s.Store.Load(z.name)
	if err != nil || !meta.Until.Equal(now) {
		t.Errorf("stored: %s, %v; want %s", meta.Until, err, now)
	}
}

// While a key is changed for another one, requests with either are taken, and ours are
// sent with the one that the peer takes.
func TestTwoKeys(t *testing.T) {
	old := &tsig.Key{Name: dnsname.MustParse("old."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}
	fresh := &tsig.Key{Name: dnsname.MustParse("new."), Algorithm: "hmac-sha256", Secret: []byte("fedcba9876543210fedcba9876543210")}
	peer := Peer{Name: "p", Address: netip.MustParseAddrPort("192.0.2.1:53"), Key: old, Also: []*tsig.Key{fresh}}
	s := New(Options{})
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: zoneVersion("a.", 7, 1)}).load}, SendTo: []Peer{peer}}}}, "")
	for _, k := range []*tsig.Key{old, fresh, {Name: dnsname.MustParse("other."), Algorithm: "hmac-sha256", Secret: old.Secret}} {
		q := tsig.NewStream(k).Sign(message.AppendQuery(nil, dnsname.MustParse("a."), rr.TypeAXFR, message.QueryOptions{ID: 9}), time.Now())
		if _, job := s.handlerOf().Stream(nil, q, netip.MustParseAddrPort("203.0.113.9:5")); (job != nil) != (k == old || k == fresh) {
			t.Errorf("key %s: a transfer: %v", k.Name, job != nil)
		}
	}
	var used []*tsig.Key
	takes := fresh
	with := func() error {
		used = nil
		return s.withKeys(peer, func(k *tsig.Key) error {
			if used = append(used, k); k != takes {
				return errors.New("the key is not known there")
			}
			return nil
		})
	}
	if err := with(); err != nil || len(used) != 2 {
		t.Errorf("the first time: %v, %d tries", err, len(used))
	}
	if err := with(); err != nil || len(used) != 1 {
		t.Errorf("the second time: %v, %d tries", err, len(used))
	}
	takes = nil
	if err := with(); err == nil || len(used) != 2 {
		t.Errorf("neither: %v, %d tries", err, len(used))
	}
}

// H-54: a version whose ZONEMD does not fit is not taken, where that is asked for.
func TestDigestOnArrival(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	p := newPrimary(t)
	plain := zoneVersion("a.", 1, 1)
	digested := func(serial uint32, extra ...rr.Record) *zone.Snapshot {
		z := zoneVersion("a.", serial, byte(serial))
		digests, err := signer.Zonemd(z, []uint8{signer.ZonemdSHA384})
		if err != nil {
			t.Fatal(err)
		}
		var apex zone.Node
		z.ApexNode(&apex)
		var w zone.NodeWriter
		for set := range apex.RRsets {
			w.AddSet(set)
		}
		w.Add(rr.TypeZONEMD, 60, append([]byte{0, 0, 0, byte(serial), 1, signer.ZonemdSHA384}, digests[signer.ZonemdSHA384]...))
		contents := []zone.Content{{Owner: z.Apex(), Records: w.Records()}}
		for _, r := range extra {
			contents = append(contents, zone.Content{Owner: r.Name, Records: []rr.Record{r}})
		}
		out, err := z.Replace(contents)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	changed := rr.Record{Name: dnsname.MustParse("slipped.in.a."), Type: rr.TypeA, TTL: 1, Data: []byte{192, 0, 2, 66}}
	for _, c := range []struct {
		what  string
		check DigestCheck
		sends *zone.Snapshot
		fault string
	}{
		{"ignored", DigestIgnored, digested(1, changed), ""},
		{"right", DigestIfPresent, digested(1), ""},
		{"right and wanted", DigestAlways, digested(1), ""},
		{"wrong", DigestIfPresent, digested(1, changed), "does not fit"},
		{"none", DigestIfPresent, plain, ""},
		{"none and wanted", DigestAlways, plain, "no ZONEMD record"},
	} {
		s, z := secondaryOf(&now)
		z.cfg.Store(&Zone{Name: z.name, Origin: &Primaries{Servers: []Peer{{Name: "p", Address: p.at}}, CheckDigest: c.check}})
		p.mu.Lock()
		p.shows, p.sends = 1, c.sends
		p.mu.Unlock()
		err := s.lookForVersion(t.Context(), z)
		if (err == nil) != (c.fault == "") || err != nil && !strings.Contains(err.Error(), c.fault) || (z.snap() != nil) != (c.fault == "") {
			t.Errorf("%s: %v, want %q", c.what, err, c.fault)
		}
	}
}
