package zonestate

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/transfer"
	"fencepost/zone"
)

// primary is a server that shows one version and sends another.
type primary struct {
	at netip.AddrPort
	mu sync.Mutex
	behaviour
}

type behaviour struct {
	shows uint32
	sends *zone.Snapshot
	flags uint16
	rcode message.Rcode
}

func newPrimary(t *testing.T) *primary {
	t.Helper()
	p := &primary{behaviour: behaviour{flags: message.FlagAA}}
	for { // one port for both
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		u, err := net.ListenPacket("udp", l.Addr().String())
		if err != nil {
			l.Close()
			continue
		}
		p.at = l.Addr().(*net.TCPAddr).AddrPort()
		t.Cleanup(func() { l.Close(); u.Close() })
		go p.udp(u)
		go p.tcp(l)
		return p
	}
}

func (p *primary) now() behaviour {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.behaviour
}

func (p *primary) udp(u net.PacketConn) {
	buf := make([]byte, 4096)
	for {
		n, from, err := u.ReadFrom(buf)
		if err != nil {
			return
		}
		p := p.now()
		var q message.Query
		message.ParseQuery(buf[:n], &q)
		var b message.Builder
		b.Begin(nil, &q, 1232, 1232)
		b.SetFlag(p.flags)
		b.SetRcode(p.rcode)
		if p.rcode == message.NoError {
			b.Record(message.AnswerSection, message.QName, rr.TypeSOA, 60, soa(p.shows))
		}
		_, _ = u.WriteTo(b.Finish(), from)
	}
}

func (p *primary) tcp(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		if msg, err := resolve.ReadTCP(c, nil); err == nil {
			var q message.Query
			message.ParseQuery(msg, &q)
			_ = transfer.Send(c, transfer.Whole(p.now().sends), &q, nil, -1, time.Now)
		}
		c.Close()
	}
}

// A copy in which an alias has other data is served as it came, and told of.
func TestOddCopy(t *testing.T) {
	s := New(Options{})
	z := &zoneState{name: dnsname.MustParse("a."), notified: map[string]peerState{}}
	z.cfg.Store(&Zone{Name: z.name, Origin: &Primaries{Servers: []Peer{{Name: "p"}}}})
	s.table.Store(&table{zones: map[string]*zoneState{z.name.Key(): z}, depths: depthBit(1)})
	odd, err := zoneVersion("a.", 5, 1).Replace([]zone.Content{{Owner: dnsname.MustParse("www.a."), Records: []rr.Record{
		{Type: rr.TypeCNAME, TTL: 1, Data: []byte("\x01a\x00")}, {Type: rr.TypeA, TTL: 1, Data: []byte{1, 2, 3, 4}}}}})
	if err != nil {
		t.Fatal(err)
	}
	for serial, want := range map[*zone.Snapshot]string{odd: "www.a.", zoneVersion("a.", 6, 1): ""} {
		if err := s.installFetched(context.Background(), z, serial, Peer{Name: "p"}, expiry{}); err != nil {
			t.Fatal(err)
		}
		got := s.Status().Zones[0]
		if (got.Warning == "") != (want == "") || !strings.Contains(got.Warning, want) || got.State != "serving" {
			t.Errorf("%s, %q; want %q", got.State, got.Warning, want)
		}
	}
}

// A secondary never goes back, and only a primary that shows its version, or gives it
// a newer one, confirms it.
func TestNeverBack(t *testing.T) {
	p, other := newPrimary(t), newPrimary(t)
	s := New(Options{})
	z := &zoneState{name: dnsname.MustParse("a."), notified: map[string]peerState{}}
	z.cfg.Store(&Zone{Name: z.name, Origin: &Primaries{Servers: []Peer{{Name: "p", Address: p.at}, {Name: "other", Address: other.at}}}})
	s.table.Store(&table{zones: map[string]*zoneState{z.name.Key(): z}, depths: depthBit(1)})
	other.rcode = message.Refused
	version := func(serial uint32) *zone.Snapshot { return zoneVersion("a.", serial, byte(serial)) }
	for _, c := range []struct {
		what         string
		shows, sends uint32
		change       func()
		want         uint32 // in service afterwards
		fault        string // none: it counts as a confirmation
	}{
		{"the first version", 102, 102, nil, 102, ""},
		{"it shows a newer one and sends an older", 150, 100, nil, 102, "it sent serial 100, older than our 102"},
		{"it shows a newer one and sends ours", 150, 102, nil, 102, "it sent serial 102"},
		{"it shows an older one", 90, 90, nil, 102, "it shows serial 90, older than our 102"},
		{"it shows one that cannot be compared", 102 + 1<<31, 1, nil, 102, "neither newer nor older"},
		{"it shows ours", 102, 1, nil, 102, ""},
		{"it answers without authority", 200, 200, func() { p.flags = 0 }, 102, "without authority"},
		{"it has authority again, round the end of the numbers", 1<<31 + 90, 1<<31 + 90, func() { p.flags = message.FlagAA }, 1<<31 + 90, ""},
		{"it shows less than it sends", 1<<31 + 91, 1<<31 + 95, nil, 1<<31 + 95, ""},
		{"it refuses", 5, 5, func() { p.rcode = message.Refused }, 1<<31 + 95, "REFUSED"},
		{"the other primary has a newer one", 5, 5, func() { other.rcode, other.shows, other.sends = 0, 1<<31+99, version(1<<31+99) }, 1<<31 + 99, ""},
	} {
		for _, one := range []*primary{p, other} {
			one.mu.Lock()
		}
		if p.shows, p.sends = c.shows, version(c.sends); c.change != nil {
			c.change()
		}
		for _, one := range []*primary{p, other} {
			one.mu.Unlock()
		}
		z.mu.Lock()
		z.clock.Checked = time.Time{}
		z.mu.Unlock()
		err := s.lookForVersion(context.Background(), z)
		if (err == nil) != (c.fault == "") || err != nil && !strings.Contains(err.Error(), c.fault) {
			t.Errorf("%s: %v, want %q", c.what, err, c.fault)
		}
		if got := serialOf(z.snap()); got != c.want {
			t.Errorf("%s: serial %d is in service, want %d", c.what, got, c.want)
		}
		if confirmed := !z.clock.Checked.IsZero(); confirmed != (c.fault == "") {
			t.Errorf("%s: confirmed: %v", c.what, confirmed)
		}
	}
}

// However often a zone is to be looked after while one look is going on, there is one
// more look afterwards and not two at a time.
func TestLooksAreMerged(t *testing.T) {
	asked, answer := make(chan struct{}, 100), make(chan struct{})
	at := udpPeer(t, func(b *message.Builder) {
		asked <- struct{}{}
		<-answer
		showsSerial(7)(b)
	})
	s := New(Options{})
	name := dnsname.MustParse("a.")
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: name, Origin: &Primaries{Servers: []Peer{{Name: "p", Address: at}}}}}}, "")
	z := s.table.Load().zones[name.Key()]
	z.version.Store(versionOf("a.", 7, 1))
	s.sched.cancel(refreshID(z)) // it begins now
	done := make(chan struct{})
	go func() { s.refresh(t.Context(), z); close(done) }()
	<-asked
	for range 5 {
		s.refresh(t.Context(), z) // returns at once: one is going on
	}
	if n := len(asked); n != 0 {
		t.Errorf("%d more looks began while one was going on", n)
	}
	before := time.Now()
	close(answer)
	<-done
	s.sched.mu.Lock()
	next := s.sched.byID[refreshID(z)]
	s.sched.mu.Unlock()
	if next == nil || next.at.Before(before) || next.at.After(time.Now().Add(time.Second)) {
		t.Errorf("after the wishes of meanwhile the next look is %+v", next)
	}
}

// Whenever a primary gets new versions and tells of them, before, while and after we look or fetch,
// for however long: soon after the last NOTIFY we have its version (RFC 1996 §3.11).
func TestNoNotifyIsLost(t *testing.T) {
	const step = 200 * time.Millisecond
	for lasts := time.Duration(0); lasts <= 1600*time.Millisecond; lasts += 2 * step {
		for first := step; first <= 2*time.Second; first += step {
			for second := first; second <= first+2*time.Second; second += step {
				synctest.Test(t, func(t *testing.T) {
					s := New(Options{})
					name := dnsname.MustParse("a.")
					ctx, cancel := context.WithCancel(t.Context())
					var wg sync.WaitGroup
					var primary atomic.Uint32
					primary.Store(1)
					s.look = func(ctx context.Context, z *zoneState) error {
						serial := primary.Load()
						select {
						case <-time.After(lasts): // the transfer of what it had when it was asked
						case <-ctx.Done():
						}
						v := versionOf("a.", serial, 1)
						soa, _ := v.served.SOA()
						z.mu.Lock()
						defer z.mu.Unlock()
						z.version.Store(v)
						z.clock.Confirmed(s.Now(), soa, 0)
						return nil
					}
					<-s.Begin(ctx, &Config{Zones: []Zone{{Name: name, Origin: &Primaries{Servers: []Peer{{Name: "p"}}}}}}, nil, &wg)
					z := s.table.Load().zones[name.Key()]
					begin := time.Now()
					for _, at := range []time.Duration{first, second} {
						time.Sleep(time.Until(begin.Add(at)))
						primary.Add(1)
						s.refreshSoon(z)
					}
					time.Sleep(2*(lasts+notifyRest) + time.Millisecond)
					if got, want := z.snap().Serial(), primary.Load(); got != want {
						t.Errorf("looks last %s, versions come after %s and %s: serial %d stays, the primary has %d", lasts, first, second, got, want)
					}
					cancel()
					wg.Wait()
				})
			}
		}
	}
}

// What is odd about a version is found as well where only what changed is looked at.
func TestOddityAfter(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 2026))
	z := zoneVersion("a.", 1, 1)
	last, found := version{served: z, source: z}, 0
	for range 1500 {
		c := zone.Content{Owner: dnsname.MustParse(fmt.Sprintf("h%d.a.", r.IntN(5)))}
		if r.IntN(3) == 0 {
			c.Records = append(c.Records, rr.Record{Type: rr.TypeCNAME, TTL: 60, Data: []byte("\x01x\x00")})
		}
		if r.IntN(3) == 0 {
			c.Records = append(c.Records, rr.Record{Type: rr.TypeTXT, TTL: 60, Data: []byte{1, byte(r.IntN(3))}})
		}
		next, err := z.Replace([]zone.Content{c})
		if err != nil {
			t.Fatal(err)
		}
		got, want := oddityAfter(last, zone.Diff(z, next), next), oddity(next)
		if got != want {
			t.Fatalf("%q, not %q", got, want)
		}
		if want != "" {
			found++
		}
		z, last = next, version{served: next, source: next, warning: want}
	}
	if found < 100 || found > 1400 {
		t.Errorf("%d of the versions are odd", found)
	}
}
