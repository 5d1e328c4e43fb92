package server

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/tsig"
	"fencepost/zone"
)

// ZoneResult is what a reload did with one zone.
type ZoneResult struct {
	Zone   dnsname.Name
	Serial uint32 // now in service; 0 if none is
	Change Change
	Err    error  // why a new version was not taken
	Note   string // what else follows from the configuration; empty: nothing
}

// Change is what became of a zone.
type Change string

// The changes.
const (
	Loaded    Change = "loaded"    // a new version is in service
	Unchanged Change = "unchanged" // the same as before
	Kept      Change = "kept"      // the new version was refused; the old one stays
	Missing   Change = "missing"   // there is nothing to answer from
	Removed   Change = "removed"   // no longer configured
	Waiting   Change = "waiting"   // a secondary that looks for its version
)

// ErrSerial is wrapped when a zone's content changed and its serial did not
// move forward: secondaries would never take the change.
var ErrSerial = errors.New("the serial did not move forward")

// Reload takes a new configuration and loads all zones again. A zone that
// cannot be loaded keeps the version it has. Questions are answered all the
// while.
func (s *Server) Reload(ctx context.Context, cfg *Config) []ZoneResult {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.table.Load()
	next, zones := s.tableFor(cfg)
	s.mostOfZone.Store(cfg.FetchedZone)
	s.transfers.SetMost(cfg.FetchedTogether)
	results := s.prepareAll(ctx, zones)
	s.remember(zones, results)
	s.table.Store(next)
	s.cfg = cfg
	var gone []*served
	for key, z := range old.zones {
		if next.zones[key] != z { // removed, or secondary now that was primary, or the other way
			gone = append(gone, z)
		}
		if next.zones[key] == nil {
			results = append(results, ZoneResult{Zone: z.name, Change: Removed})
		}
	}
	s.sched.forget(gone)
	for i, z := range zones {
		if results[i].Change == Loaded {
			s.tellPeers(z)
		} else {
			s.tellMissed(z)
		}
	}
	for _, j := range cfg.Jobs {
		s.planJob(j, s.Now().Add(tendSoon))
	}
	return results
}

// tableFor is the table of a configuration, and its zones in the order there. A zone
// that is served already keeps what it has.
func (s *Server) tableFor(cfg *Config) (next *table, zones []*served) {
	old := s.table.Load()
	next = &table{zones: make(map[string]*served, len(cfg.Zones)), keys: map[string]*tsig.Key{}, peers: map[netip.Addr]bool{}}
	zones = make([]*served, len(cfg.Zones))
	for i := range cfg.Zones {
		zc := &cfg.Zones[i]
		z := old.zones[zc.Name.Key()]
		if z == nil || (len(z.cfg.Load().FetchFrom) == 0) != (len(zc.FetchFrom) == 0) {
			z = &served{name: zc.Name, told: map[string]peerState{}}
		}
		z.cfg.Store(zc)
		next.zones[zc.Name.Key()], zones[i] = z, z
		next.depths |= depthBit(zc.Name.Labels())
		for _, p := range slices.Concat(zc.SendTo, zc.FetchFrom) {
			next.peers[p.Address.Addr().Unmap()] = true
			if p.Key != nil {
				next.keys[p.Key.Name.Key()] = p.Key
			}
		}
	}
	return next, zones
}

// prepareAll loads zones, the small ones first: a large one that has to be signed does
// not hold the others back.
func (s *Server) prepareAll(ctx context.Context, zones []*served) []ZoneResult {
	order := make([]int, len(zones))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(zones[a].cfg.Load().Octets, zones[b].cfg.Load().Octets) })
	results := make([]ZoneResult, len(zones))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, i := range order {
		g.Go(func() error {
			if err := ctx.Err(); err != nil { // the server stops
				results[i] = ZoneResult{Zone: zones[i].name, Change: Missing, Err: err}
				return nil
			}
			results[i] = s.prepare(ctx, zones[i])
			zones[i].begun.Store(true)
			return nil
		})
	}
	_ = g.Wait() // the errors are in the results
	return results
}

// planJob plans a job; one that the configuration has no more is not done again.
func (s *Server) planJob(j Job, at time.Time) {
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
func (s *Server) prepare(ctx context.Context, z *served) ZoneResult {
	if len(z.cfg.Load().FetchFrom) > 0 {
		return s.prepareSecondary(ctx, z)
	}
	r := ZoneResult{Zone: z.name, Change: Loaded}
	snap, err := z.cfg.Load().Load(ctx)
	if err == nil {
		r.Change, err = s.install(ctx, z, snap, "", s.Now())
	}
	r.Err = err
	if err != nil {
		s.Log.Error("zone not loaded", "zone", z.name.String(), "error", err)
		s.serveStored(z)
		s.setProblem(z, err.Error())
	} else {
		s.setProblem(z, "")
	}
	now := z.snap.Load()
	r.Serial = serialOf(now)
	if err != nil {
		r.Change = Kept
		if now == nil {
			r.Change = Missing
		}
	}
	return r
}

// install puts a new version of a zone in service, signed if that is
// configured. from names the primary it came from, "" for a file.
func (s *Server) install(ctx context.Context, z *served, source *zone.Snapshot, from string, checked time.Time) (Change, error) {
	cfg := z.cfg.Load()
	if cfg.Signer != nil {
		return s.installSigned(ctx, z, source, from, checked)
	}
	if now := z.snap.Load(); now != nil {
		if zone.Equal(now, source) {
			return Unchanged, nil
		}
		if from == "" && !newer(source, now) && !s.aheadOfPublished(z, source, now) {
			return Kept, serialError(source, now)
		}
	}
	s.putInService(z, source, source, from, signer.FirstExpiry(source, s.Now()))
	return Loaded, nil
}

// aheadOfPublished tells whether a version follows the one that was published last,
// where the one in service does not: the server was started with a file that had been
// set back, and secondaries have more than it.
func (s *Server) aheadOfPublished(z *served, source, now *zone.Snapshot) bool {
	if s.Store == nil {
		return false
	}
	was, found, err := s.Store.LastPublished(z.name)
	return err == nil && found && !rr.NewerSerial(now.Serial(), was.Serial) && now.Serial() != was.Serial && rr.NewerSerial(source.Serial(), was.Serial)
}

func serialError(new, now *zone.Snapshot) error {
	zone := strings.TrimSuffix(new.Apex().String(), ".")
	if rr.CompareSerials(new.Serial(), now.Serial()) != rr.SerialEqual {
		return fmt.Errorf("%w: the serial went backwards, from %d to %d, so secondaries would not take the change; run: fencepost serial %s --next, or take the steps of: fencepost serial %s --set %d --plan",
			ErrSerial, now.Serial(), new.Serial(), zone, zone, new.Serial())
	}
	return fmt.Errorf("%w: the content changed and the serial is still %d, so secondaries would not take the change; run: fencepost serial %s --next", ErrSerial, new.Serial(), zone)
}

// serveStored puts the last good version in service where there is none, as after a
// restart with a file that cannot be taken. Its signatures go on being renewed.
func (s *Server) serveStored(z *served) {
	if z.snap.Load() != nil {
		return
	}
	stored, meta, err := s.stored(z)
	if err != nil {
		s.Log.Warn("the stored version cannot be used", "zone", z.name.String(), "error", err)
		return
	}
	if stored == nil {
		return
	}
	s.putInService(z, stored, stored, meta.From, meta.Expires)
	if z.cfg.Load().Signer == nil {
		return
	}
	z.mu.Lock()
	z.renew = meta.Renew
	z.mu.Unlock()
	at := meta.Renew
	if soon := s.Now().Add(signRetry); at.Before(soon) {
		at = soon
	}
	s.planSigning(z, at)
}

// setProblem notes what is wrong with a zone, or that nothing is any more.
func (s *Server) setProblem(z *served, problem string) {
	z.mu.Lock()
	defer z.mu.Unlock()
	s.setProblemLocked(z, problem)
}

func (s *Server) setProblemLocked(z *served, problem string) {
	z.problem = problem
	switch {
	case problem == "":
		z.troubled = time.Time{}
	case z.troubled.IsZero():
		z.troubled = s.Now()
	}
}

// storeRetry is when a version that could not be stored is tried again.
const storeRetry = time.Minute

func storeID(z *served) string { return "store " + z.name.Key() }

// keep stores a version that is about to be served. Where that fails, as on a full
// disk, it is served all the same: what is valid now must not lapse. It is told, and
// tried again.
func (s *Server) keep(z *served, snap *zone.Snapshot, meta journal.Meta) {
	if s.Store == nil {
		return
	}
	err := s.Store.Save(snap, meta)
	z.mu.Lock()
	z.unstored = ""
	if err != nil {
		z.unstored = err.Error()
	}
	z.mu.Unlock()
	if err == nil {
		s.sched.cancel(storeID(z))
		return
	}
	s.Log.Error("the version in service could not be stored: a restart would bring an older one back", "zone", z.name.String(), "serial", snap.Serial(), "error", err)
	s.sched.plan(z, here, storeID(z), s.Now().Add(storeRetry), func(context.Context) {
		if now := z.snap.Load(); now == snap {
			s.keep(z, snap, meta)
		}
	})
}

// putInService makes a version the one that is answered from.
func (s *Server) putInService(z *served, source, snap *zone.Snapshot, from string, expires time.Time) {
	z.mu.Lock()
	z.source, z.kept, z.from, z.since, z.expires = source, snap, from, s.Now(), expires
	s.setProblemLocked(z, "")
	z.snap.Store(snap)
	z.mu.Unlock()
	s.planLapse(z)
	s.Log.Info("zone in service", "zone", z.name.String(), "serial", snap.Serial(), "records", snap.Records())
}
