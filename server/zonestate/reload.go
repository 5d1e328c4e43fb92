package zonestate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/tsig"
	"fencepost/zone"
)

// ZoneResult is what a reload did with one zone.
type ZoneResult struct {
	Zone     dnsname.Name
	Audience string // of the version; empty: everyone's
	Serial   uint32 // now in service; 0 if none is
	Change   Change
	Err      error  // why a new version was not taken
	Note     string // what else follows from the configuration; empty: nothing
}

// Change is what became of a zone.
type Change string

// The changes.
const (
	Loaded    Change = "loaded"    // a new version is in service
	Stored    Change = "stored"    // the version from before the restart is in service: no file has changed
	Unchanged Change = "unchanged" // the same as before
	Kept      Change = "kept"      // the new version was refused; the old one stays
	Missing   Change = "missing"   // there is nothing to answer from
	Removed   Change = "removed"   // no longer configured
	Waiting   Change = "waiting"   // a secondary that looks for its version
)

// ErrSerial is what SerialError wraps: when a zone's content changed and its serial did not
// move forward: secondaries would never take the change.
var ErrSerial = errors.New("the serial did not move forward")

// Apply takes a new configuration and loads all zones again. A zone that
// cannot be loaded keeps the version it has. Questions are answered all the
// while. by says who asked for it, in words.
func (s *Zones) Apply(ctx context.Context, cfg *Config, by string) []ZoneResult {
	s.mu.Lock()
	defer s.mu.Unlock()
	full := s.withMembers(cfg)
	old := s.table.Load()
	next, zones := s.tableFor(full)
	s.deleteFresh()
	s.mostOfZone.Store(cfg.FetchedZone)
	s.transfers.SetMost(cfg.FetchedTogether)
	results := s.prepareAll(ctx, zones, by)
	s.seeKeys(zones, results, func(z *zoneState) bool { return old.zones[z.id()] != z })
	s.remember(zones, results, by)
	s.table.Store(next)
	s.cfg = cfg
	var gone []*zoneState
	for key, z := range old.zones {
		if next.zones[key] != z { // removed, or secondary now that was primary, or the other way
			gone = append(gone, z)
		}
		if next.zones[key] == nil {
			results = append(results, ZoneResult{Zone: z.name, Audience: z.audience, Change: Removed})
		}
	}
	s.sched.forget(gone)
	for i, z := range zones {
		s.logChange(z, results[i].Change)
		s.planFollows(z)
	}
	for _, j := range cfg.Jobs {
		s.planJob(j, s.Now().Add(advanceSoon))
	}
	s.followCatalogs(ctx) // they may have come from the store just now
	return results
}

// ReloadZone loads all versions of one zone again, under the configuration in service. The one for
// everyone comes first.
func (s *Zones) ReloadZone(ctx context.Context, name dnsname.Name, by string) ([]ZoneResult, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	zones := s.table.Load().versions(name)
	if len(zones) == 0 {
		return nil, fmt.Errorf("%s: %w", name, ErrNoZone)
	}
	results := s.prepareAll(ctx, zones, by)
	s.seeKeys(zones, results, func(*zoneState) bool { return false })
	s.remember(zones, results, by)
	for i, z := range zones {
		s.logChange(z, results[i].Change)
	}
	return results, nil
}

// logChange tells the peers of a zone what they may not know.
func (s *Zones) logChange(z *zoneState, c Change) {
	if c == Loaded {
		s.notifyPeers(z)
	} else {
		s.notifyMissed(z)
	}
}

// tableFor is the table of a configuration, and its zones in the order there. A zone
// that is served already keeps what it has.
func (s *Zones) tableFor(cfg *Config) (next *table, zones []*zoneState) {
	old := s.table.Load()
	next = &table{zones: make(map[string]*zoneState, len(cfg.Zones)), keys: map[string]*tsig.Key{}, peers: map[netip.Addr]bool{}, identity: cfg.Identity}
	zones = make([]*zoneState, len(cfg.Zones))
	for _, k := range cfg.Keys {
		next.keys[k.Name.Key()] = k
	}
	for i := range cfg.Zones {
		zc := &cfg.Zones[i]
		id := idOf(zc.Name, zc.Audience)
		z := old.zones[id]
		if _, other := s.catalogs.fresh[id]; other { // a zone of that name, and another one
			z = nil
		}
		if z == nil || z.cfg.Load().Role().Fetches() != zc.Role().Fetches() {
			z = &zoneState{name: zc.Name, audience: zc.Audience, notified: map[string]peerState{}}
		}
		z.cfg.Store(zc)
		next.zones[id], zones[i] = z, z
		next.depths |= depthBit(zc.Name.Labels())
		if zc.Updates != nil {
			for _, k := range zc.Updates.Keys {
				next.keys[k.Name.Key()] = k
			}
		}
		for _, p := range slices.Concat(zc.SendTo, zc.fetchFrom()) {
			next.peers[p.Address.Addr().Unmap()] = true
			if p.Key != nil {
				next.keys[p.Key.Name.Key()] = p.Key
			}
			for _, k := range p.Also {
				next.keys[k.Name.Key()] = k
			}
		}
	}
	next.views = s.audiencesOf(cfg, next)
	next.hide(s, cfg)
	return next, zones
}

// atOnce is how many zones are prepared at once: many of them wait for the disk, and what
// waits together is written together.
const atOnce = 64

// passOver finds the zones in service of which nothing has changed.
func (s *Zones) passOver(zones []*zoneState) []ZoneResult {
	results := make([]ZoneResult, len(zones))
	var next atomic.Int64
	var wg sync.WaitGroup
	for range cap(s.cpu) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(zones); i = int(next.Add(1)) - 1 {
				z := zones[i]
				if z.snap() != nil && !z.role().Fetches() && s.asItWas(z) {
					results[i] = ZoneResult{Zone: z.name, Audience: z.audience, Change: Unchanged, Serial: serialOf(z.snap())}
				}
			}
		})
	}
	wg.Wait()
	return results
}

// prepareAll loads zones, the small ones first: a large one that has to be signed does
// not hold the others back.
func (s *Zones) prepareAll(ctx context.Context, zones []*zoneState, by string) []ZoneResult {
	results := s.passOver(zones)
	var order []int
	for i := range zones {
		if results[i].Change == "" {
			order = append(order, i)
		}
	}
	work := make([]int64, len(zones))
	for _, i := range order {
		if f := zones[i].cfg.Load().files(); f != nil && f.Work != nil {
			work[i] = f.Work()
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(work[a], work[b]) })
	var g errgroup.Group
	g.SetLimit(atOnce) // what takes a processor has fewer places, see cpuPlaces
	for _, i := range order {
		ctx, done := s.cpu.take(ctx) // in this order: no large one is before a small one
		g.Go(func() error {
			defer done()
			if err := ctx.Err(); err != nil { // the server stops
				results[i] = ZoneResult{Zone: zones[i].name, Audience: zones[i].audience, Change: Missing, Err: err}
				return nil
			}
			results[i] = s.prepare(ctx, zones[i], by)
			zones[i].begun.Store(true)
			return nil
		})
	}
	_ = g.Wait() // the errors are in the results
	return results
}

// planJob plans a job; one that the configuration has no more is not done again.
func (s *Zones) planJob(j Job, at time.Time) {
	s.sched.plan(nil, jobs, "job "+j.Name, at, func(ctx context.Context) {
		s.mu.Lock()
		known := slices.ContainsFunc(s.cfg.Jobs, func(o Job) bool { return o.Name == j.Name })
		s.mu.Unlock()
		if known {
			s.planJob(j, s.Now().Add(j.Every))
			j.Do(ctx)
		}
	})
}

// prepare loads one zone. s.mu is held.
func (s *Zones) prepare(ctx context.Context, z *zoneState, by string) ZoneResult {
	if z.role().Fetches() {
		return s.prepareSecondary(ctx, z)
	}
	if s.adoptStored(ctx, z) {
		return ZoneResult{Zone: z.name, Audience: z.audience, Change: Stored, Serial: serialOf(z.snap())}
	}
	var change Change
	in, err := s.load(ctx, z)
	if err == nil {
		change, err = s.install(ctx, z, in, origin{by: by, way: store.FromFile, checked: s.Now()})
	}
	return s.loaded(z, change, err)
}

// loaded books what came of loading a zone.
func (s *Zones) loaded(z *zoneState, change Change, err error) ZoneResult {
	r := ZoneResult{Zone: z.name, Audience: z.audience, Change: change, Err: err}
	if err != nil {
		s.Log.Error("zone not loaded", "zone", z.String(), "error", err)
		s.serveStored(z)
		s.setProblem(z, err)
	} else {
		s.setProblem(z, nil)
	}
	now := z.snap()
	r.Serial = serialOf(now)
	if err != nil {
		r.Change = Kept
		if now == nil {
			r.Change = Missing
		}
	}
	return r
}

// install puts a new version of a zone in service, signed if that is configured.
func (s *Zones) install(ctx context.Context, z *zoneState, in Input, o origin) (Change, error) {
	z.contentMu.Lock()
	defer z.contentMu.Unlock()
	last := z.lastGood()
	before := last.loaded()
	source, delta := in.Zone, in.Delta
	switch {
	case delta == nil:
		source, delta = zone.Share(before, source)
	case delta.Empty():
		source = before
	}
	o.stamp, o.checks = in.Stamp, in.Checks
	if f := z.cfg.Load().files(); f != nil && f.Author != nil && before != nil && source != before {
		if name := f.Author(ctx); name != "" {
			o.by = name
		}
	}
	if s.takesUpdates(z) {
		return s.installMerged(ctx, z, source, o, nil)
	}
	if z.role().Signs() {
		return s.installSigned(ctx, z, source, o)
	}
	now := z.snap()
	if now == source {
		s.restamp(z, o)
		return Unchanged, nil
	}
	if now != nil && o.from == "" && !newer(source, now) && !s.aheadOfPublished(z, source, now) {
		return Kept, &SerialError{Zone: z.name, Now: now.Serial(), New: source.Serial()}
	}
	made := make(chan version, 1)
	go func() { made <- s.unsigned(last, delta, source, o) }() // while it is stored
	if now != nil || o.from != "" {                            // else all are stored together, see remember
		s.storeUnsigned(ctx, z, source, o)
	}
	s.putInService(z, <-made)
	return Loaded, nil
}

// aheadOfPublished reports whether a version follows the one that was published last,
// where the one in service does not: the server was started with a file that had been
// set back, and secondaries have more than it.
func (s *Zones) aheadOfPublished(z *zoneState, source, now *zone.Snapshot) bool {
	if s.Store == nil {
		return false
	}
	was, found, err := s.storeOf(z).LastPublished(z.name)
	return err == nil && found && !rr.NewerSerial(now.Serial(), was.Serial) && now.Serial() != was.Serial && rr.NewerSerial(source.Serial(), was.Serial)
}

// SerialError says that a zone changed and secondaries would not take it.
type SerialError struct {
	Zone     dnsname.Name
	Now, New uint32 // the serial in service and that of the new version; New may be the same
}

func (e *SerialError) Error() string {
	if e.New != e.Now {
		return fmt.Sprintf("%s: the serial went backwards, from %d to %d, so secondaries would not take the change", ErrSerial, e.Now, e.New)
	}
	return fmt.Sprintf("%s: the content changed and the serial is still %d, so secondaries would not take the change", ErrSerial, e.New)
}

// Unwrap is ErrSerial.
func (e *SerialError) Unwrap() error { return ErrSerial }

// serveStored puts the last good version in service where there is none, as after a
// restart with a file that cannot be taken. Its signatures go on being renewed.
func (s *Zones) serveStored(z *zoneState) {
	if z.snap() != nil {
		return
	}
	stored, meta, err := s.stored(z)
	if err != nil {
		s.Log.Warn("the stored version cannot be used", "zone", z.String(), "error", err)
		return
	}
	if stored == nil {
		return
	}
	s.putInService(z, version{served: stored, source: stored, origin: origin{from: meta.From, checked: meta.Checked}, expires: meta.Expires, renew: meta.Renew})
	if !z.role().Signs() {
		return
	}
	at := meta.Renew
	if soon := s.Now().Add(signRetry); at.Before(soon) {
		at = soon
	}
	s.planSigning(z, at)
}

// setProblem notes what is wrong with a zone, or that nothing is any more.
func (s *Zones) setProblem(z *zoneState, problem error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	s.setProblemLocked(z, problem)
}

func (s *Zones) setProblemLocked(z *zoneState, problem error) {
	z.problem = problem
	switch {
	case problem == nil:
		z.troubled = time.Time{}
	case z.troubled.IsZero():
		z.troubled = s.Now()
	}
}
