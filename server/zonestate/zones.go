// Package zonestate keeps zones: each has an origin, a signer where it is signed, and one
// version in service at a time, reached with one atomic load; a new version is wholly ready
// before it is put there, and one with errors never is. What is planned for a zone, transfers
// and NOTIFY, the clock of a secondary, re-signing in time, belongs to it and ends with it.
// Waiting is done by one scheduler, not by a goroutine a zone. It asks other servers, and
// listens on nothing.
package zonestate

import (
	"context"
	"log/slog"
	"net/netip"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/server/request"
	"fencepost/store"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/zone"
)

// Peer is another server.
type Peer = resolve.Server

// Config is all that is told of zones. Do not change it once it was given away.
type Config struct {
	Zones []Zone
	// Audiences are those for which some zones have versions of their own.
	Audiences []Audience
	// Catalogs are those of Zones whose members are served too.
	Catalogs []Catalog
	Jobs     []Job
	// FetchedZone is the most octets of a transferred zone, 0 is transfer.DefaultMax;
	// FetchedTogether bounds all that come in at one time, 0 does not.
	FetchedZone, FetchedTogether int64
	// Identity is what the server says of itself; nil: nothing.
	Identity *request.Identity
	// Keys are known besides those of peers and grants: what is signed with one is verified, and may
	// nothing that others may not.
	Keys []*tsig.Key
}

// Job is done every so often, beginning soon after the start.
type Job struct {
	Name  string
	Every time.Duration
	Do    func(ctx context.Context)
}

// Options of Zones.
type Options struct {
	Net netio.Network // nil is the system's
	Log *slog.Logger
	// Now is the clock by which zones are signed and expire; nil is the network's. Signed
	// messages, which other machines have to understand, always go by that.
	Now func() time.Time
	// Stepped leaves what is planned to RunDue; else they are done when they are due.
	Stepped bool
	Store   *store.Store   // keeps fetched and signed versions; nil keeps none
	Rand    func() float64 // chance from 0 to 1 that spreads timers
}

// Zones are the zones in service. Make them with New and start with Begin.
type Zones struct {
	Options
	clock netio.Clock
	table atomic.Pointer[table]
	sched *scheduler

	mu    sync.Mutex // held while the configuration changes
	cfg   *Config    // without what catalogs list
	start time.Time
	catalogs
	catalogState atomic.Pointer[catalogState]
	local        []netip.AddrPort
	running      *sync.WaitGroup // ends when all that was begun has
	ending       <-chan struct{} // closed when the server ends
	cpu          cpuPlaces
	strange      strangers
	counts       request.Counts

	mostOfZone atomic.Int64    // octets that are fetched of one zone
	transfers  transfer.Budget // octets that are fetched together
	fetches    transfer.Conns
	repeats    repeats  // requests to change zones that came lately
	health     health   // of peers
	keyInUse   sync.Map // address of a peer with several keys → the name of the one it takes

	look func(ctx context.Context, z *zoneState) error // lookForVersion, but in tests

	silentAtStart sync.Map // addresses of secondaries, see servedElsewhere
}

// table is the zones that are served. It is never
// changed: a reload makes another.
type table struct {
	zones   map[string]*zoneState // by served.id, so that those for audiences are found by no name
	views   audiences             // what some askers see in their place
	depths  uint64                // bit n: some zone's name has n labels (63: or more)
	hidden  bool                  // some zones answer no strangers; see public
	public  *view                 // what strangers see then
	friends friends               // who is told of them
	keys    map[string]*tsig.Key  // of all peers, by the key of their name
	peers   map[netip.Addr]bool   // where peers are

	identity *request.Identity
}

func depthBit(labels int) uint64 { return 1 << min(labels, 63) }

// zoneState is one zone in service.
type zoneState struct {
	name     dnsname.Name
	audience string // whose version of the zone it is; empty: everyone's
	// everyone is the version for everyone, of one for an audience; else nil.
	everyone atomic.Pointer[zoneState]
	cfg      atomic.Pointer[Zone]
	// version is what there is of the zone; nil while there is nothing. It is changed
	// under mu, and read with one load.
	version atomic.Pointer[version]
	// begun tells that it was loaded once, or could not be: until then it is not fetched.
	begun atomic.Bool
	// gone tells that it is no longer served, or that another took its place: nothing is
	// planned for it any more. Under the scheduler's lock.
	gone bool

	// contentMu is held while the content changes, by files or by requests; it is taken before signing.
	contentMu sync.Mutex
	owed      store.Pending // of what is pending, what could not be stored; under contentMu
	requests  updateQueue

	askedPeers sync.Once // see floorOf
	peersHave  uint32

	signing sync.Mutex // held while a version is signed or its keys are looked after; see keys

	mu      sync.Mutex // guards what follows
	clock   transfer.Clock
	problem error // why the latest attempt to load, fetch or sign failed
	// troubled is since when there has been a problem; zero: there is none.
	troubled time.Time
	unstored error     // why what is in service, or was asked for, could not be stored
	busy     bool      // a refresh is going on
	looked   time.Time // when the last one began
	again    bool      // and another was asked for meanwhile
	notified map[string]peerState
	// head is the newest version in the store, with what is known of it; nil where that
	// has not been looked at yet.
	head     *zone.Snapshot
	headMeta store.Meta
	// pending is what requests changed beside the files; nil where it has not been looked at yet.
	pending *update.Pending
	follows map[string]*FollowState // by Follow.id
}

// keys is held while the keys of a zone are used: all its versions have the same.
func (z *zoneState) keys() *sync.Mutex {
	if everyone := z.everyone.Load(); everyone != nil {
		return &everyone.signing
	}
	return &z.signing
}

// peerState is how far a peer has been told of the present version.
type peerState struct {
	Serial  uint32
	Acked   bool
	Fetched uint32 // serial of the version it transferred last
	Tries   int
	Newer   bool // it has a newer serial than ours
	Error   error
}

// New makes Zones without any; it does nothing yet.
func New(o Options) *Zones {
	o.Net = netio.Or(o.Net)
	clock := o.Net.Clock()
	if o.Now == nil {
		o.Now = clock.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Rand == nil {
		o.Rand = func() float64 { return 0 }
	}
	s := &Zones{Options: o, clock: clock, sched: newScheduler(o.Now, clock), cpu: make(cpuPlaces, runtime.GOMAXPROCS(0)), running: &sync.WaitGroup{}}
	s.table.Store(&table{})
	s.look = s.lookForVersion
	s.knowAnswered()
	return s
}

// Begin takes a configuration and begins to load its zones; questions can be answered at
// once, of zones as they come. local are the addresses that are listened on. Until ctx is done
// what is planned is done, unless that is left to RunDue; wg ends when all of it has. loaded
// tells when all zones are.
func (s *Zones) Begin(ctx context.Context, cfg *Config, local []netip.AddrPort, wg *sync.WaitGroup) (loaded <-chan []ZoneResult) {
	s.start, s.local, s.running, s.ending = s.Now(), local, wg, ctx.Done()
	if !s.Stepped {
		wg.Go(func() { s.sched.run(ctx) })
	}
	next, _ := s.tableFor(cfg)
	s.table.Store(next)
	done := make(chan []ZoneResult, 1)
	wg.Go(func() { done <- s.Apply(ctx, cfg, "") })
	return done
}

// Started is when Begin was called.
func (s *Zones) Started() time.Time { return s.start }

// End closes what is kept open for later.
func (s *Zones) End() { s.fetches.Close() }

// Loading counts the zones that have not been loaded yet.
func (s *Zones) Loading() (n int) {
	for _, z := range s.table.Load().zones {
		if !z.begun.Load() {
			n++
		}
	}
	return n
}

// IsPeer reports whether a peer has the address.
func (s *Zones) IsPeer(at netip.Addr) bool { return s.table.Load().peers[at] }

// find is the zone with the longest apex at or above the name, or nil. Only
// endings as long as some zone's name are looked up.
func (t *table) find(name []byte, above bool) *zoneState {
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
func (t *table) exact(name []byte) *zoneState {
	var buf [dnsname.MaxWire]byte
	return t.zones[string(dnsname.AppendLower(buf[:0], name))]
}

// localFor is an address of ours to send from to peer: one we listen on, of the
// same kind, so that the peer knows us by it.
func (s *Zones) localFor(peer netip.AddrPort) netip.Addr {
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
