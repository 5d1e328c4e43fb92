// Package server answers for zones on sockets: UDP and TCP, transfers in and
// out, NOTIFY, the clocks of secondaries, re-signing in time.
//
// Every zone has one version in service at a time, reached with one atomic
// load; a new version is wholly ready before it is put there, and one with
// errors never is. Waiting is done by one scheduler, not by a goroutine a zone.
package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/rr"
	"fencepost/server/datagram"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/zone"
)

// Peer is another server.
type Peer struct {
	Name    string
	Address netip.AddrPort
	Key     *tsig.Key // nil: known by its address only
}

// Zone says what is served and how.
type Zone struct {
	Name dnsname.Name
	// Load reads and checks a zone we are primary for; nil for a secondary.
	Load func(ctx context.Context) (*zone.Snapshot, error)
	// Signer signs the zone and looks after its keys; nil leaves it unsigned.
	Signer Signer

	// Octets is about how much work the zone is to load: of many zones the small ones
	// are in service first.
	Octets int64

	SendTo    []Peer // are told of new versions and may transfer
	FetchFrom []Peer // our primaries
}

// Config is all that a Server is told. Do not change it once it was given away.
type Config struct {
	Listen []netip.AddrPort
	Zones  []Zone
	Jobs   []Job
	// FetchedZone is the most octets of a transferred zone, 0 is transfer.DefaultMax;
	// FetchedTogether bounds all that come in at one time, 0 does not.
	FetchedZone, FetchedTogether int64
}

// Job is done every so often, beginning soon after the start.
type Job struct {
	Name  string
	Every time.Duration
	Do    func(ctx context.Context)
}

// Options of a Server.
type Options struct {
	Log *slog.Logger
	Now func() time.Time // the clock; nil is time.Now
	// Wall is the clock that signed messages go by, which other machines have to
	// share, also when Now is played; nil is time.Now.
	Wall  func() time.Time
	Store *journal.Store // keeps fetched and signed versions; nil keeps none
	Rand  func() float64 // chance from 0 to 1 that spreads timers
}

// Server serves zones. Make it with New and start it with Run.
type Server struct {
	Options
	table atomic.Pointer[table]
	sched *scheduler

	mu      sync.Mutex // held while the configuration changes
	cfg     *Config
	start   time.Time
	local   []netip.AddrPort
	conns   places
	strange strangers
	counts  counters

	mostOfZone atomic.Int64    // octets that are fetched of one zone
	transfers  transfer.Budget // octets that are fetched together

	cutoff context.CancelFunc
}

// counters are statistics of the server.
type counters struct{ udp, tcp, dropped, transfers atomic.Uint64 }

// table is the zones that are served, by the key of their name. It is never
// changed: a reload makes another.
type table struct {
	zones  map[string]*served
	depths uint64               // bit n: some zone's name has n labels (63: or more)
	keys   map[string]*tsig.Key // of all peers, by the key of their name
	peers  map[netip.Addr]bool  // where peers are
}

func depthBit(labels int) uint64 { return 1 << min(labels, 63) }

// served is one zone in service.
type served struct {
	name dnsname.Name
	cfg  atomic.Pointer[Zone]
	// snap is what is answered from; nil while there is nothing to answer from.
	snap atomic.Pointer[zone.Snapshot]
	// begun tells that it was loaded once, or could not be: until then it is not fetched.
	begun atomic.Bool
	// gone tells that it is no longer served, or that another took its place: nothing is
	// planned for it any more. Under the scheduler's lock.
	gone bool

	signing sync.Mutex // held while a version is signed or its keys are looked after

	mu      sync.Mutex
	made    string         // what the signed version in service was made with; see Signer
	renew   time.Time      // when to sign it again
	source  *zone.Snapshot // what was loaded or fetched; differs from snap if we sign
	kept    *zone.Snapshot // what we have even if it has expired
	clock   transfer.Clock
	from    string    // the primary that the version came from
	since   time.Time // when snap was put in service
	expires time.Time // of the first signature, where we sign
	warning string    // what is odd about the version in service
	problem string    // why the latest attempt to load, fetch or sign failed
	// troubled is since when there has been a problem; zero: there is none.
	troubled time.Time
	unstored string    // why the version in service could not be stored
	busy     bool      // a refresh is going on
	looked   time.Time // when the last one began
	again    bool      // and another was asked for meanwhile
	told     map[string]peerState
}

// peerState is how far a peer has been told of the present version.
type peerState struct {
	Serial  uint32
	Acked   bool
	Fetched uint32 // serial of the version it transferred last
	Tries   int
	Newer   bool // it has a newer serial than ours
	Error   string
}

// New makes a server; it does nothing yet.
func New(o Options) *Server {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Wall == nil {
		o.Wall = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Rand == nil {
		o.Rand = func() float64 { return 0 }
	}
	s := &Server{Options: o, sched: newScheduler(o.Now)}
	s.table.Store(&table{})
	return s
}

// ErrListen is wrapped when a socket cannot be opened.
var ErrListen = errors.New("cannot listen")

// Run opens the sockets, loads the zones and serves until ctx is done; then it
// finishes what it has begun and returns. ready is called when questions are
// answered: when all zones are in service, or a moment after the start if that takes
// longer; zones are answered for as they come.
func (s *Server) Run(ctx context.Context, cfg *Config, ready func(Start)) error {
	ctx, s.cutoff = context.WithCancel(ctx)
	defer s.cutoff()
	s.start = s.Now()
	socks, err := listen(cfg.Listen)
	if err != nil {
		return err
	}
	s.local = socks.addrs
	s.noteFamilies(socks.addrs)
	var wg sync.WaitGroup
	wg.Go(func() { s.sched.run(ctx) })
	next, _ := s.tableFor(cfg)
	s.table.Store(next)
	loaded := make(chan []ZoneResult, 1)
	wg.Go(func() { loaded <- s.Reload(ctx, cfg) })
	for _, u := range socks.udp {
		wg.Go(func() { u.Serve(func() datagram.Handler { return s.newHandler() }) })
	}
	for _, l := range socks.tcp {
		wg.Go(func() { s.serveTCP(ctx, l, &wg) })
	}
	start := Start{Addrs: socks.addrs}
	select {
	case start.Results = <-loaded:
	case <-time.After(startPatience):
		start.Loading = s.loading()
	}
	if ready != nil {
		ready(start)
	}
	if start.Results == nil {
		s.awaitZones(ctx, loaded)
	}
	<-ctx.Done()
	socks.close()
	wg.Wait()
	return nil
}

// awaitZones tells when the zones are loaded that were not at the start.
func (s *Server) awaitZones(ctx context.Context, loaded <-chan []ZoneResult) {
	select {
	case <-ctx.Done():
	case all := <-loaded:
		s.Log.Info("all zones are loaded", "zones", len(all), "took", s.Now().Sub(s.start).Round(time.Second).String())
	}
}

// startPatience is how long the start waits for all zones before it says that the
// server is ready.
const startPatience = time.Second

// Start is what there is to tell when a server is ready.
type Start struct {
	Addrs   []netip.AddrPort
	Results []ZoneResult // nil while zones are still being loaded
	Loading int          // how many still are
}

// loading counts the zones that have not been loaded yet.
func (s *Server) loading() (n int) {
	for _, z := range s.table.Load().zones {
		if !z.begun.Load() {
			n++
		}
	}
	return n
}

// sockets are all that a server listens on.
type sockets struct {
	addrs []netip.AddrPort
	udp   []datagram.Listener
	tcp   []net.Listener
}

func (s *sockets) close() {
	for _, u := range s.udp {
		u.Close()
	}
	for _, l := range s.tcp {
		l.Close()
	}
}

// listen opens UDP and TCP on each address. Port 0 means any: UDP takes the
// one that TCP was given.
func listen(addrs []netip.AddrPort) (*sockets, error) {
	socks := &sockets{}
	for _, want := range addrs {
		const attempts = 20 // a port free for TCP may be taken for UDP
		var err error
		for range attempts {
			if err = socks.open(want); err == nil || want.Port() != 0 {
				break
			}
		}
		if err != nil {
			socks.close()
			return nil, listenError(want, err)
		}
	}
	return socks, nil
}

// listenCauses are what keeps a socket from being opened, and what to do.
var listenCauses = []struct {
	err  error
	what string
}{
	{syscall.EADDRINUSE, "another program listens there; stop it, or write another port in [serve] listen"},
	{syscall.EACCES, "ports below 1024 need a right: have the service manager give it (CAP_NET_BIND_SERVICE), start as root, or write a port above 1023 in [serve] listen"},
	{syscall.EADDRNOTAVAIL, "this machine does not have the address; see what it has, and write that in [serve] listen"},
}

// listenError says why an address cannot be listened on, and what to do.
func listenError(want netip.AddrPort, err error) error {
	for _, c := range listenCauses {
		if errors.Is(err, c.err) {
			return fmt.Errorf("%w on %s: %s (%w)", ErrListen, want, c.what, err)
		}
	}
	return fmt.Errorf("%w on %s: %w", ErrListen, want, err)
}

// noteFamilies tells of wildcards that take one family alone.
func (s *Server) noteFamilies(addrs []netip.AddrPort) {
	for _, a := range addrs {
		if !a.Addr().IsUnspecified() || slices.ContainsFunc(addrs, func(b netip.AddrPort) bool { return b.Port() == a.Port() && b.Addr().Is4() != a.Addr().Is4() }) {
			continue
		}
		other := "[::]"
		if a.Addr().Is6() {
			other = "0.0.0.0"
		}
		s.Log.Info("this address takes one family alone", "address", a.String(), "for the other add", fmt.Sprintf("%s:%d", other, a.Port()))
	}
}

func (s *sockets) open(want netip.AddrPort) error {
	// One socket, one family: [::] is IPv6 alone, so that 0.0.0.0 can stand beside it.
	network := "tcp4"
	if want.Addr().Is6() && !want.Addr().Is4In6() {
		network = "tcp6"
	}
	l, err := net.Listen(network, want.String())
	if err != nil {
		return err
	}
	got := netip.AddrPortFrom(want.Addr(), uint16(l.Addr().(*net.TCPAddr).Port))
	us, err := datagram.Listen(got, runtime.GOMAXPROCS(0))
	if err != nil {
		l.Close()
		return err
	}
	s.tcp, s.udp, s.addrs = append(s.tcp, l), append(s.udp, us...), append(s.addrs, got)
	return nil
}

// Find implements answer.Source.
func (s *Server) Find(name []byte, above bool) (*zone.Snapshot, answer.State) {
	z := s.table.Load().find(name, above)
	if z == nil {
		return nil, answer.NotServed
	}
	if snap := z.snap.Load(); snap != nil {
		return snap, answer.Served
	}
	return nil, answer.Unavailable
}

// find is the zone with the longest apex at or above the name, or nil. Only
// endings as long as some zone's name are looked up.
func (t *table) find(name []byte, above bool) *served {
	var buf [dnsname.MaxWire]byte
	low := dnsname.AppendLower(buf[:0], name)
	labels := dnsname.LabelsWire(low)
	for i := 0; ; i += 1 + int(low[i]) {
		if t.depths&depthBit(labels) != 0 && !(above && i == 0) {
			if z := t.zones[string(low[i:])]; z != nil {
				return z
			}
		}
		if low[i] == 0 {
			return nil
		}
		labels--
	}
}

// exact is the zone of that name, or nil.
func (t *table) exact(name []byte) *served {
	var buf [dnsname.MaxWire]byte
	return t.zones[string(dnsname.AppendLower(buf[:0], name))]
}

// localFor is an address of ours to send from to peer: one we listen on, of the
// same kind, so that the peer knows us by it.
func (s *Server) localFor(peer netip.AddrPort) netip.Addr {
	for _, a := range s.local {
		if ip := a.Addr(); ip.Is4() == peer.Addr().Is4() && !ip.IsUnspecified() && ip.IsLoopback() == peer.Addr().IsLoopback() {
			return ip
		}
	}
	return netip.Addr{}
}

// serialOf is the serial of a version, for logs.
func serialOf(z *zone.Snapshot) uint32 {
	if z == nil {
		return 0
	}
	return z.Serial()
}

func newer(a, b *zone.Snapshot) bool { return rr.NewerSerial(a.Serial(), b.Serial()) }
