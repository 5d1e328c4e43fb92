package server

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/zone"
)

// ZoneResult is what a reload did with one zone.
type ZoneResult struct {
	Zone   dnsname.Name
	Serial uint32 // now in service; 0 if none is
	Change Change
	Err    error // why a new version was not taken
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
	next := &table{zones: make(map[string]*served, len(cfg.Zones)), keys: map[string]*tsig.Key{}}
	zones := make([]*served, len(cfg.Zones))
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
			if p.Key != nil {
				next.keys[p.Key.Name.Key()] = p.Key
			}
		}
	}
	results := make([]ZoneResult, len(zones))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, z := range zones {
		g.Go(func() error {
			results[i] = s.prepare(ctx, z)
			return nil
		})
	}
	_ = g.Wait() // the errors are in the results
	s.remember(zones, results)
	s.table.Store(next)
	s.cfg = cfg
	for key, z := range old.zones {
		if next.zones[key] == nil {
			s.sched.cancel(refreshID(z))
			s.sched.cancel(expireID(z))
			s.sched.cancel(signID(z))
			results = append(results, ZoneResult{Zone: z.name, Change: Removed})
		}
	}
	for i, z := range zones {
		if results[i].Change == Loaded {
			s.tellPeers(z)
		}
	}
	return results
}

// prepare loads one zone. s.mu is held.
func (s *Server) prepare(ctx context.Context, z *served) ZoneResult {
	if len(z.cfg.Load().FetchFrom) > 0 {
		return s.prepareSecondary(ctx, z)
	}
	r := ZoneResult{Zone: z.name, Change: Loaded}
	snap, err := z.cfg.Load().Load(ctx)
	if err == nil {
		r.Change, err = s.install(ctx, z, snap, "")
	}
	r.Err = err
	z.mu.Lock()
	z.problem = ""
	if err != nil {
		z.problem = err.Error()
		s.Log.Error("zone not loaded", "zone", z.name.String(), "error", err)
	}
	z.mu.Unlock()
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
func (s *Server) install(ctx context.Context, z *served, source *zone.Snapshot, from string) (Change, error) {
	cfg := z.cfg.Load()
	if cfg.Sign != nil {
		return s.installSigned(ctx, z, source, from)
	}
	if now := z.snap.Load(); now != nil {
		if zone.Equal(now, source) {
			return Unchanged, nil
		}
		if from == "" && !newer(source, now) {
			return Kept, serialError(source, now)
		}
	}
	s.putInService(z, source, source, from, time.Time{})
	return Loaded, nil
}

func serialError(new, now *zone.Snapshot) error {
	what := "the content changed and the serial is still"
	if rr.CompareSerials(new.Serial(), now.Serial()) != rr.SerialEqual {
		what = fmt.Sprintf("the serial went backwards, from %d to", now.Serial())
	}
	return fmt.Errorf("%w: %s %d, so secondaries would not take the change; run: fencepost serial %s --next",
		ErrSerial, what, new.Serial(), strings.TrimSuffix(new.Apex().String(), "."))
}

// putInService makes a version the one that is answered from.
func (s *Server) putInService(z *served, source, snap *zone.Snapshot, from string, expires time.Time) {
	z.mu.Lock()
	z.source, z.kept, z.from, z.since, z.expires, z.problem = source, snap, from, s.Now(), expires, ""
	z.snap.Store(snap)
	z.mu.Unlock()
	s.Log.Info("zone in service", "zone", z.name.String(), "serial", snap.Serial(), "records", snap.Records())
}

// defaultSignatureRefresh is how long before they expire signatures are renewed.
const defaultSignatureRefresh = 5 * 24 * time.Hour

func (c *Zone) signatureRefresh() time.Duration {
	if c.RefreshSignatures > 0 {
		return c.RefreshSignatures
	}
	return defaultSignatureRefresh
}

// installSigned signs a version and puts it in service. The serial that is
// served follows the source's where it can and never goes back: new signatures
// over the same content need a new serial too (RFC 6781 §4.4).
func (s *Server) installSigned(ctx context.Context, z *served, source *zone.Snapshot, from string) (Change, error) {
	cfg, now := z.cfg.Load(), s.Now()
	digest := sourceDigest(source, cfg.SignedWith)
	stored, meta, err := s.stored(z)
	if err != nil {
		s.Log.Warn("the stored version cannot be used", "zone", z.name.String(), "error", err)
		stored = nil
	}
	current := z.snap.Load()
	if current == nil && stored != nil {
		current = stored
	}
	fresh := meta.Source == digest && now.Before(meta.Expires.Add(-cfg.signatureRefresh())) && now.After(meta.Stored.Add(-time.Hour))
	if stored != nil && fresh {
		s.scheduleSigning(z, meta.Expires)
		if z.snap.Load() != nil && z.snap.Load().Serial() == stored.Serial() {
			return Unchanged, nil
		}
		s.putInService(z, source, stored, from, meta.Expires)
		return Loaded, nil
	}
	serial := source.Serial()
	if current != nil && !rr.NewerSerial(serial, current.Serial()) {
		serial = current.Serial() + 1
		if serial == 0 {
			serial = 1
		}
	}
	snap, expires, err := cfg.Sign(ctx, source, serial, now)
	if err != nil {
		return Kept, fmt.Errorf("signing: %w", err)
	}
	if s.Store != nil {
		err := s.Store.Save(snap, journal.Meta{Stored: now, Checked: now, From: from, SourceSerial: source.Serial(), Source: digest, Expires: expires})
		if err != nil {
			return Kept, fmt.Errorf("keeping the signed version: %w", err)
		}
	}
	s.putInService(z, source, snap, from, expires)
	s.scheduleSigning(z, expires)
	return Loaded, nil
}

func (s *Server) stored(z *served) (*zone.Snapshot, journal.Meta, error) {
	if s.Store == nil {
		return nil, journal.Meta{}, nil
	}
	return s.Store.Load(z.name)
}

func signID(z *served) string { return "sign " + z.name.Key() }

// signRetry is when signing is tried again after it failed.
const signRetry = 10 * time.Minute

// scheduleSigning plans the renewal of signatures.
func (s *Server) scheduleSigning(z *served, expires time.Time) {
	s.sched.set(signID(z), expires.Add(-z.cfg.Load().signatureRefresh()), func(ctx context.Context) {
		z.mu.Lock()
		source, from := z.source, z.from
		z.mu.Unlock()
		if source == nil || z.cfg.Load().Sign == nil {
			return
		}
		if _, err := s.installSigned(ctx, z, source, from); err != nil {
			s.Log.Error("signatures not renewed", "zone", z.name.String(), "error", err)
			z.mu.Lock()
			z.problem = err.Error()
			z.mu.Unlock()
			s.scheduleSigning(z, s.Now().Add(z.cfg.Load().signatureRefresh()+signRetry))
			return
		}
		s.tellPeers(z)
	})
}
