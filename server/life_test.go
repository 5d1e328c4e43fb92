package server_test

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/cryptotest"
	"time"

	"fencepost/dnsname"
	"fencepost/keymanager"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/server"
	"fencepost/server/zonestate"
	"fencepost/signer"
	"fencepost/store"
	"fencepost/zone"
)

// A life is a primary that signs, two secondaries and the servers of the zone above, the
// real ones, on a network and a clock that are played: what they do in months takes a
// moment, and the same seed gives the same life.
type life struct {
	t       *testing.T
	r       *rand.Rand
	clock   *netio.Virtual
	net     *netio.Memory
	servers map[string]*server.Server
	log     bytes.Buffer // of all servers, as they come
	logged  sync.Mutex
	parent  *zone.Snapshot // of example.
	source  *zone.Snapshot // of tides.example., unsigned
	mu      sync.Mutex
	seen    map[string]int // what happened, for the test to count
	proved  map[proved]bool
}

// proved is a version that was proved beside one of the zone above.
type proved struct {
	zone, above *zone.Snapshot
	decade      int64 // of days
}

var (
	lifeZone  = dnsname.MustParse("tides.example.")
	lifeAbove = dnsname.MustParse("example.")
	lifeHosts = map[string]netip.Addr{"above": netip.MustParseAddr("192.0.2.1"), "primary": netip.MustParseAddr("192.0.2.10"),
		"one": netip.MustParseAddr("192.0.2.11"), "two": netip.MustParseAddr("192.0.2.12")}
)

func hostPort(name string) netip.AddrPort { return netip.AddrPortFrom(lifeHosts[name], 53) }

// Write takes a line of a log.
func (l *life) Write(b []byte) (int, error) {
	l.logged.Lock()
	defer l.logged.Unlock()
	return l.log.Write(b)
}

// logOf is the log of one server, with the time that is played.
func (l *life) logOf(name string) *slog.Logger {
	return slog.New(slog.NewTextHandler(l, &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		if a.Key == slog.TimeKey {
			a.Value = slog.TimeValue(l.clock.Now())
		}
		return a
	}})).With("server", name)
}

// hosts are the servers in the order in which they do what is due at one moment.
var hosts = []string{"above", "primary", "one", "two"}

// until lets time pass.
func (l *life) until(ctx context.Context, to time.Time) {
	for {
		next := to
		for _, name := range hosts {
			if at, ok := l.servers[name].Next(); ok && at.Before(next) {
				next = at
			}
		}
		if at, ok := l.clock.Next(); ok && at.Before(next) {
			next = at
		}
		l.clock.Advance(next)
		l.net.Settle()
		ran := false
		for _, name := range hosts {
			ran = l.servers[name].RunDue(ctx) || ran
			l.net.Settle()
		}
		if !ran && !next.Before(to) {
			return
		}
	}
}

func soaRecord(serial uint32) rr.Record {
	data := []byte("\x03ns1\x05tides\x07example\x00\x01h\x05tides\x07example\x00")
	for _, n := range []uint32{serial, 7200, 900, 7 * 86400, 300} {
		data = append(data, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	}
	return rr.Record{Type: rr.TypeSOA, TTL: 3600, Data: data}
}

// begin makes the zones and starts the servers.
func (l *life) begin(ctx context.Context, wg *sync.WaitGroup) {
	ns := rr.Record{Type: rr.TypeNS, TTL: 3600, Data: []byte("\x03ns1\x05tides\x07example\x00")}
	l.source = l.build(lifeZone, zone.Content{Owner: lifeZone, Records: []rr.Record{soaRecord(1), ns}},
		zone.Content{Owner: dnsname.MustParse("ns1.tides.example."), Records: []rr.Record{{Type: rr.TypeA, TTL: 3600, Data: []byte{192, 0, 2, 10}}}})
	l.parent = l.build(lifeAbove, zone.Content{Owner: lifeAbove, Records: []rr.Record{soaRecord(1), {Type: rr.TypeNS, TTL: 3600, Data: []byte("\x02ns\x07example\x00")}}},
		zone.Content{Owner: lifeZone, Records: []rr.Record{ns}})
	policy := keymanager.DefaultPolicy()
	policy.Renew.Single = 30 * 24 * time.Hour
	peers := func(names ...string) (out []resolve.Server) {
		for _, n := range names {
			out = append(out, resolve.Server{Name: n, Address: hostPort(n)})
		}
		return out
	}
	load := func(z **zone.Snapshot) func(context.Context, zonestate.Input) (zonestate.Input, error) {
		return func(context.Context, zonestate.Input) (zonestate.Input, error) {
			l.mu.Lock()
			defer l.mu.Unlock()
			return zonestate.Input{Zone: *z}, nil
		}
	}
	signed := keymanager.Zone{Name: lifeZone, Dir: l.t.TempDir(), Policy: policy, Servers: peers("one", "two"), Parent: peers("above")}
	for _, name := range hosts {
		log, host := l.logOf(name), l.net.Host(lifeHosts[name])
		s := server.New(zonestate.Options{Net: host, Log: log, Stepped: true, Store: store.InMemory(), Rand: func() float64 { return 0 }})
		l.servers[name] = s
		cfg := &zonestate.Config{}
		switch name {
		case "above":
			cfg.Zones = []zonestate.Zone{{Name: lifeAbove, Origin: &zonestate.Files{Load: load(&l.parent)}}}
		case "primary":
			cfg.Zones = []zonestate.Zone{{Name: lifeZone, Origin: &zonestate.Files{Load: load(&l.source)}, SendTo: toServer("one", "two"),
				Signer: &keymanager.Manager{Env: keymanager.Env{Net: host, Now: l.clock.Now, Log: log}, Zone: signed}}}
		default:
			cfg.Zones = []zonestate.Zone{{Name: lifeZone, Origin: &zonestate.Primaries{Servers: toServer("primary")}}}
		}
		ready := make(chan struct{})
		wg.Go(func() {
			if err := s.Run(ctx, []netip.AddrPort{hostPort(name)}, cfg, func(server.Start) { close(ready) }); err != nil {
				l.t.Error(err)
			}
		})
		<-ready
	}
}

func toServer(names ...string) (out []zonestate.Peer) {
	for _, n := range names {
		out = append(out, zonestate.Peer{Name: n, Address: hostPort(n)})
	}
	return out
}

func (l *life) build(apex dnsname.Name, contents ...zone.Content) *zone.Snapshot {
	z, err := zone.NewBuilder(apex, false).Build().Replace(contents)
	if err != nil {
		l.t.Fatal(err)
	}
	return z
}

// edit publishes a change of the zone.
func (l *life) edit(ctx context.Context) {
	l.mu.Lock()
	owner := dnsname.MustParse(fmt.Sprintf("h%d.tides.example.", l.r.IntN(20)))
	c := zone.Content{Owner: owner}
	if l.r.IntN(3) > 0 {
		c.Records = []rr.Record{{Type: rr.TypeA, TTL: 3600, Data: []byte{192, 0, 2, byte(l.r.IntN(250))}}}
	}
	var apex zone.Node
	l.source.ApexNode(&apex)
	var w zone.NodeWriter
	for set := range apex.RRsets {
		if set.Type != rr.TypeSOA {
			w.AddSet(set)
		}
	}
	z, err := l.source.Replace([]zone.Content{c, {Owner: lifeZone, Records: append(w.Records(), soaRecord(l.source.Serial()+1))}})
	if err == nil {
		l.source = z
	}
	l.mu.Unlock()
	if err != nil {
		l.t.Fatal(err)
	}
	if _, err := l.servers["primary"].ReloadZone(ctx, lifeZone, "the test"); err != nil {
		l.t.Error(err)
	}
	l.seen["edits"]++
}

// registry takes over what the zone asks for by CDS (RFC 7344), as whoever runs the zone
// above would.
func (l *life) registry(ctx context.Context) {
	z := l.servers["primary"].Snapshot(lifeZone)
	if z == nil {
		return
	}
	cds, _ := z.Find(lifeZone, rr.TypeCDS, rr.TypeCDS)
	ds, _ := l.parent.Find(lifeZone, rr.TypeDS, rr.TypeDS)
	want := slices.Collect(cds.Data)
	if len(want) == 0 || slices.EqualFunc(want, slices.Collect(ds.Data), bytes.Equal) {
		return
	}
	content := zone.Content{Owner: lifeZone, Records: []rr.Record{{Type: rr.TypeNS, TTL: 3600, Data: []byte("\x03ns1\x05tides\x07example\x00")}}}
	for _, d := range want {
		content.Records = append(content.Records, rr.Record{Type: rr.TypeDS, TTL: 3600, Data: d})
	}
	l.mu.Lock()
	next, err := l.parent.Replace([]zone.Content{content, {Owner: lifeAbove, Records: []rr.Record{soaRecord(l.parent.Serial() + 1), {Type: rr.TypeNS, TTL: 3600, Data: []byte("\x02ns\x07example\x00")}}}})
	if err == nil {
		l.parent = next
	}
	l.mu.Unlock()
	if err != nil {
		l.t.Fatal(err)
	}
	if _, err := l.servers["above"].ReloadZone(ctx, lifeAbove, "the registry"); err != nil {
		l.t.Error(err)
	}
	l.seen["ds"]++
}

// look checks what must hold at any time: whatever a server serves is proved, and a DS at
// the parent leads to one of its keys.
func (l *life) look() {
	ds, _ := l.parent.Find(lifeZone, rr.TypeDS, rr.TypeDS)
	for _, name := range []string{"primary", "one", "two"} {
		z := l.servers[name].Snapshot(lifeZone)
		if z == nil {
			l.seen["expired"]++
			continue
		}
		// To prove takes long: once for each version, DS and ten days.
		k := proved{z, l.parent, l.clock.Now().Unix() / (10 * 86400)}
		if l.proved[k] {
			continue
		}
		l.proved[k] = true
		var anchors []rr.Record
		for data := range ds.Data {
			anchors = append(anchors, rr.Record{Name: lifeZone, Type: rr.TypeDS, Class: rr.ClassIN, TTL: ds.TTL, Data: data})
		}
		proof, err := signer.Verify(context.Background(), z, l.clock.Now(), signer.VerifyOptions{Anchors: anchors})
		if err != nil || proof.Total > 0 {
			l.t.Fatalf("%s, %s serves serial %d, which is not proved: %v %+v", l.clock.Now().UTC(), name, z.Serial(), err, proof)
		}
	}
}

// live plays so many days, and returns what the servers logged.
func (l *life) live(days int) string {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	l.begin(ctx, &wg)
	back := map[string]int{} // who is away, until which hour
	start := l.clock.Now()
	for hour := range days * 24 {
		l.until(ctx, start.Add(time.Duration(hour+1)*time.Hour))
		for name, until := range back {
			if until == hour {
				l.net.SetDown(lifeHosts[name], false)
				delete(back, name)
			}
		}
		if len(back) == 0 && l.r.IntN(120) == 0 {
			name := []string{"one", "two", "primary", "above"}[l.r.IntN(4)]
			back[name] = hour + 1 + l.r.IntN(40)
			if name == "two" && l.seen["long"] == 0 { // once so long that it expires
				back[name], l.seen["long"] = hour+9*24, 1
			}
			l.net.SetDown(lifeHosts[name], true)
			l.seen["outages"]++
		}
		if l.r.IntN(30) == 0 {
			l.edit(ctx)
		}
		if l.r.IntN(6) == 0 {
			l.registry(ctx)
		}
		l.look()
	}
	for name := range back {
		l.net.SetDown(lifeHosts[name], false)
	}
	l.until(ctx, l.clock.Now().Add(6*time.Hour)) // what was missed is made up for
	want := l.servers["primary"].Snapshot(lifeZone)
	for _, name := range []string{"one", "two"} {
		if got := l.servers[name].Snapshot(lifeZone); got == nil || !zone.Equal(got, want) {
			l.t.Errorf("in the end %s has another version than the primary", name)
		}
	}
	cancel()
	wg.Wait()
	return l.log.String()
}

// Ninety days with edits, outages, an expiry and rollovers, in a moment, and the same
// again octet for octet for the same seed.
func TestNinetyDays(t *testing.T) {
	days := 90
	if testing.Short() { // as with the race detector, which takes twenty times as long
		days = 45
	}
	one := func(seed uint64, days int) (log string, seen map[string]int) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			cryptotest.SetGlobalRandom(t, seed)
			clock := netio.NewVirtual(time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC))
			l := &life{t: t, r: rand.New(rand.NewPCG(seed, 90)), clock: clock, net: netio.NewMemory(clock), servers: map[string]*server.Server{}, seen: map[string]int{}, proved: map[proved]bool{}}
			log = l.live(days)
			seen = l.seen
		})
		return log, seen
	}
	long, seen := one(1, days)
	if seen["edits"] == 0 || seen["outages"] == 0 || days == 90 && (seen["expired"] == 0 || seen["ds"] < 3) {
		t.Errorf("it was a quiet life: %v", seen)
	}
	if strings.Count(long, "rollover of all keys") == 0 {
		t.Error("no key was replaced")
	}
	t.Logf("%d lines; %v", strings.Count(long, "\n"), seen)
	const some = 8
	first, _ := one(2, some)
	if again, _ := one(2, some); again != first {
		t.Errorf("the same life is told otherwise:\n%s", firstDifferent(first, again))
	}
	if other, _ := one(3, some); other == first {
		t.Error("another life is told in the same words")
	}
}

func firstDifferent(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range min(len(x), len(y)) {
		if x[i] != y[i] {
			return fmt.Sprintf("line %d\n%s\n%s", i+1, x[i], y[i])
		}
	}
	return "one is longer"
}
