package zonestate

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/catalog"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/tsig"
	"fencepost/zone"
)

// consumer is a server that follows catalogs, which are handed to it without a network.
type consumer struct {
	*Zones
	t   *testing.T
	cfg *Config
}

func newConsumer(t *testing.T, kept *store.Store, names ...string) *consumer {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	c := &consumer{t: t, Zones: New(Options{Store: kept, Stepped: true, Now: func() time.Time { return now }})}
	from := []Peer{{Name: "p", Address: netip.MustParseAddrPort("192.0.2.1:53")}}
	c.cfg = &Config{Zones: []Zone{{Name: dnsname.MustParse("own."), Origin: &Files{Load: func(context.Context, Input) (Input, error) { return Input{Zone: zoneVersion("own.", 1, 9)}, nil }}}}}
	for _, n := range names {
		name := dnsname.MustParse(n)
		c.cfg.Zones = append(c.cfg.Zones, Zone{Name: name, Lists: true, Origin: &Primaries{Servers: from}})
		c.cfg.Catalogs = append(c.cfg.Catalogs, Catalog{Zone: name, Member: func(m catalog.Member) Zone { return Zone{Name: m.Zone, Origin: &Primaries{Servers: from}} }})
	}
	c.Apply(t.Context(), c.cfg, "")
	return c
}

// takes gives the server a copy of a zone, as a transfer would.
func (c *consumer) takes(snap *zone.Snapshot) {
	c.t.Helper()
	z := c.table.Load().zones[snap.Apex().Key()]
	if z == nil {
		c.t.Fatalf("%s is not served", snap.Apex())
	}
	if err := c.installFetched(c.t.Context(), z, snap, Peer{Name: "p"}, expiry{}); err != nil {
		c.t.Fatal(err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.followCatalogs(c.t.Context())
}

// lists is a catalog with members: zone, perhaps /label and perhaps >catalog that may take it over.
func (c *consumer) lists(name string, serial uint32, members ...string) *zone.Snapshot {
	c.t.Helper()
	var all []catalog.Member
	for _, text := range members {
		text, moves, _ := strings.Cut(text, ">")
		text, label, _ := strings.Cut(text, "/")
		m := catalog.Member{Zone: dnsname.MustParse(text), Label: label}
		if moves != "" {
			m.Moves = dnsname.MustParse(moves)
		}
		all = append(all, m)
	}
	z, err := catalog.Build(dnsname.MustParse(name), serial, all)
	if err != nil {
		c.t.Fatal(err)
	}
	return z
}

// has is what is served, and what of it has content.
func (c *consumer) has() string {
	var out []string
	for _, st := range c.Status().Zones {
		text := strings.TrimSuffix(st.Zone, ".")
		if st.Catalog != "" {
			text += " of " + strings.TrimSuffix(st.Catalog, ".")
			if st.State == "serving" {
				text += fmt.Sprint(" ", st.Serial)
			}
		}
		if st.Clashes != "" {
			text += " (" + st.Clashes + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func (c *consumer) want(what, want string) {
	c.t.Helper()
	if got := c.has(); got != want {
		c.t.Errorf("%s: %s\nwant %s", what, got, want)
	}
}

// H-51, H-52: zones come and go with the catalog, keep what they have over a restart and while they are
// handed over, lose it under another label; what is configured stays, and a broken catalog changes
// nothing.
func TestCatalogs(t *testing.T) {
	kept := store.InMemory()
	c := newConsumer(t, kept, "c1.", "c2.")
	c.want("at first", "c1, c2, own")
	c.takes(c.lists("c1.", 1, "a.", "b.", "own."))
	c.takes(zoneVersion("a.", 5, 1))
	c.want("with a catalog", "a of c1 5, b of c1, c1 (kept out: own is configured here in another way), c2, own")
	c.takes(c.lists("c1.", 2, "a."))
	c.want("one less", "a of c1 5, c1, c2, own")
	c.takes(c.lists("c2.", 1, "a.", "d."))
	c.want("two list one", "a of c1 5, c1, c2 (kept out: a belongs to the catalog c1, which does not let it go (coo)), d of c2, own")
	c = newConsumer(t, kept, "c1.", "c2.")
	c.want("after a restart", "a of c1 5, c1, c2 (kept out: a belongs to the catalog c1, which does not let it go (coo)), d of c2, own")
	c.takes(c.lists("c1.", 3, "a.>c2."))
	c.want("handed over", "a of c2 5, c1, c2, d of c2, own")
	c.takes(c.lists("c1.", 4))
	c.want("and let go", "a of c2 5, c1, c2, d of c2, own")
	bad, err := c.lists("c2.", 2, "x.").Replace([]zone.Content{{Owner: dnsname.MustParse("version.c2."), Records: []rr.Record{{Type: rr.TypeTXT, Data: []byte("\x011")}}}})
	if err != nil {
		t.Fatal(err)
	}
	c.takes(bad)
	c.want("a broken catalog", "a of c2 5, c1, c2 (the catalog is broken: it does not say that it is of version 2; the zones that it listed before stay), d of c2, own")
	c.takes(c.lists("c2.", 3, "a./other", "d."))
	c.want("another label", "a of c2, c1, c2, d of c2, own")
	if z, _, err := kept.Load(dnsname.MustParse("a.")); err != nil || z != nil {
		t.Errorf("what was kept of the zone under its old label is still there (%v)", err)
	}
	// Without the catalog its zones are gone, others stay.
	c.cfg.Zones, c.cfg.Catalogs = c.cfg.Zones[:2], c.cfg.Catalogs[:1]
	c.Apply(t.Context(), &Config{Zones: c.cfg.Zones, Catalogs: c.cfg.Catalogs}, "")
	c.want("without the second catalog", "c1, own")
}

// What a catalog lists below or above a configured zone is kept out, as is the root, but where the
// configuration lets it; what it lets alone counts, where it says so.
func TestCatalogTree(t *testing.T) {
	const listed = "a. b. www.own. x.www.own. . c. deep.c1."
	for _, c := range []struct {
		may  string // names that the configuration grants; empty: it says nothing
		want string
	}{
		{"", "a. b. c."}, {"www.own. a.", "a. www.own."}, {". b.", ". b."},
	} {
		s := newConsumer(t, store.InMemory(), "c1.")
		if c.may != "" {
			s.cfg.Catalogs[0].May = func(n dnsname.Name) Permission {
				if slices.Contains(strings.Fields(c.may), n.String()) {
					return Granted
				}
				return NotGranted
			}
			s.Apply(t.Context(), s.cfg, "")
		}
		s.takes(s.lists("c1.", 1, strings.Fields(listed)...))
		var got []string
		told := ""
		for _, st := range s.Status().Zones {
			if st.Catalog != "" {
				got = append(got, st.Zone)
			}
			told += st.Clashes
		}
		slices.Sort(got)
		want := strings.Fields(c.want)
		slices.Sort(want)
		if !slices.Equal(got, want) || !strings.Contains(told, "kept out: ") || c.may == "" && !strings.Contains(told, "www.own lies below own, which is configured here") {
			t.Errorf("with may-list %q: %v are served, want %v; told is %q", c.may, got, want, told)
		}
	}
	// A configured zone below one of a catalog's comes later: the catalog's goes.
	s := newConsumer(t, store.InMemory(), "c1.")
	s.takes(s.lists("c1.", 1, "example."))
	s.want("a member", "c1, example of c1, own")
	s.cfg.Zones = append(s.cfg.Zones, Zone{Name: dnsname.MustParse("tides.example."), Origin: &Files{Load: (&source{snap: zoneVersion("tides.example.", 1, 1)}).load}})
	s.Apply(t.Context(), s.cfg, "")
	s.want("and a configured zone below", "c1 (kept out: example lies above tides.example, which is configured here; to let the catalog have it: may-list), own, tides.example")
}

// A thousand zones come at once, and go; the others are not touched.
func TestCatalogOfMany(t *testing.T) {
	c := newConsumer(t, store.InMemory(), "c1.")
	own := c.table.Load().zones[dnsname.MustParse("own.").Key()]
	var many []string
	for i := range 1000 {
		many = append(many, fmt.Sprintf("z%d.", i))
	}
	c.takes(c.lists("c1.", 1, many...))
	if n := len(c.table.Load().zones); n != 1002 {
		t.Errorf("%d zones are served", n)
	}
	c.takes(c.lists("c1.", 2, many[:999]...))
	for i, want := range []answer.State{998: answer.Unavailable, 999: answer.NotServed} { // also to strangers
		if i < 998 {
			continue
		}
		if _, state := (*requests)(c.Zones).SourceFor(netip.MustParseAddr("203.0.113.1")).Find([]byte(dnsname.MustParse(many[i]).Wire()), false); state != want {
			t.Errorf("%s is %d to strangers, want %d", many[i], state, want)
		}
	}
	if n := len(c.table.Load().zones); n != 1001 || c.table.Load().zones[dnsname.MustParse("own.").Key()] != own {
		t.Errorf("%d zones are served", n)
	}
	if st := c.Status().Zones; !slices.ContainsFunc(st, func(z ZoneStatus) bool { return z.Zone == "c1." && z.Members == 999 }) {
		t.Error("status does not count them")
	}
}

// H-53: strangers are told nothing of a catalog, its peers are.
func TestCatalogHidden(t *testing.T) {
	c := newConsumer(t, nil, "c1.")
	c.takes(c.lists("c1.", 1, "a."))
	peer, other := dnsname.MustParse("k."), dnsname.MustParse("grant.")
	c.cfg.Zones[0].SendTo = []Peer{{Name: "k", Key: &tsig.Key{Name: peer}}}
	c.Apply(t.Context(), c.cfg, "")
	q := (*requests)(c.Zones)
	name := []byte(dnsname.MustParse("c1.").Wire())
	for _, at := range []struct {
		from string
		key  *dnsname.Name
		want answer.State
	}{{"203.0.113.1", nil, answer.NotServed}, {"192.0.2.1", nil, answer.Served}, {"203.0.113.1", &peer, answer.Served}, {"203.0.113.1", &other, answer.NotServed}} {
		if _, state := q.ViewFor(netip.MustParseAddr(at.from), at.key).Find(name, false); state != at.want {
			t.Errorf("%s is told %d, want %d", at.from, state, at.want)
		}
		if at.key == nil {
			if _, state := q.SourceFor(netip.MustParseAddr(at.from)).Find(name, false); state != at.want {
				t.Errorf("%s is told %d over UDP, want %d", at.from, state, at.want)
			}
		}
	}
	if _, state := q.SourceFor(netip.MustParseAddr("203.0.113.1")).Find([]byte(dnsname.MustParse("own.").Wire()), false); state != answer.Served {
		t.Error("other zones are hidden too")
	}
}
