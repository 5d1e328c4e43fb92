package zonestate

import (
	"context"
	"errors"
	"fmt"
	"time"

	"fencepost/answer"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/store"
	"fencepost/zone"
)

func refreshID(z *zoneState) string { return "refresh " + z.id() }
func expireID(z *zoneState) string  { return "expire " + z.id() }

// prepareSecondary puts the copy from before a restart in service, if it has
// not expired, and plans to look for a newer one at once.
func (s *Zones) prepareSecondary(ctx context.Context, z *zoneState) ZoneResult {
	r := ZoneResult{Zone: z.name, Audience: z.audience, Change: Unchanged}
	if z.snap() == nil {
		r.Change = Waiting
		snap, meta, err := s.stored(z)
		switch {
		case err != nil:
			r.Err = fmt.Errorf("the copy from before the restart cannot be used: %w", err)
			s.Log.Error("the stored copy cannot be used: it is fetched anew", "zone", z.String(), "error", err)
			s.setProblem(z, r.Err)
		case snap != nil:
			if s.restore(ctx, z, snap, meta) {
				r.Change = Loaded
			}
		}
		s.sched.plan(z, z.fromPrimary(), refreshID(z), s.Now(), func(ctx context.Context) { s.refresh(ctx, z) })
	} else {
		if z.failing() {
			s.refreshNow(z) // what was wrong, such as a secret, may have been mended
		}
		if have := z.lastGood(); z.role().Signs() && have.source != nil && !s.signedAsNow(z.cfg.Load(), have.fingerprint, have.renew) {
			s.planSigning(z, s.Now()) // likewise, such as a passphrase
		}
	}
	r.Serial = serialOf(z.snap())
	return r
}

// failing reports whether no primary could be reached lately.
func (z *zoneState) failing() bool {
	z.mu.Lock()
	defer z.mu.Unlock()
	return !z.clock.Failing.IsZero()
}

// restore takes a stored copy; its age counts from when a primary last
// confirmed it, so a stop does not make it young again (RFC 1034 §4.3.5).
func (s *Zones) restore(ctx context.Context, z *zoneState, snap *zone.Snapshot, meta store.Meta) bool {
	soa, ok := snap.SOA()
	if !ok {
		return false
	}
	var source *zone.Snapshot
	if z.role().Signs() {
		s.cpu.do(ctx, func() { source = sourceOfSigned(snap, meta) })
	}
	z.mu.Lock()
	z.clock.Timers(soa)
	z.clock.Checked, z.clock.Until = meta.Checked, meta.Until
	v := version{served: snap, source: snap, origin: origin{from: meta.From, checked: meta.Checked}, expires: meta.Expires, renew: meta.Renew, warning: oddity(snap)}
	if z.role().Signs() {
		v.source = source
		v.sourceSerial = serialOf(source)
	}
	if v.expires.IsZero() {
		v.expires = signer.FirstExpiry(snap, s.Now())
	}
	expired := z.clock.Expired(s.Now())
	if expired {
		v.withdrawn = true
		z.version.Store(&v)
		s.setProblemLocked(z, errExpired(z.clock.Checked))
		z.troubled = z.clock.Expires()
	}
	z.mu.Unlock()
	if expired {
		s.Log.Error("zone expired: the copy from before the restart is too old to be served", "zone", z.String(), "confirmed", meta.Checked.UTC().Format(time.RFC3339))
		return false
	}
	s.putInService(z, v)
	s.planExpiry(z)
	if source != nil { // signed as it is stored, or as the keys and the policy have it now; errors are told
		if s.signAgain(ctx, z) != nil {
			s.planSigning(z, s.Now().Add(signRetry))
		}
	}
	return true
}

// refreshNow looks for a new version at once. While one look is going on,
// further wishes are merged into one more. One that waits to be loaded will look anyway.
func (s *Zones) refreshNow(z *zoneState) {
	if !z.begun.Load() {
		return
	}
	s.sched.plan(z, z.fromPrimary(), refreshID(z), s.Now(), func(ctx context.Context) { s.refresh(ctx, z) })
}

// notifyRest is how long after one look at the primaries a NOTIFY may bring about
// another: without a key anybody can send one (RFC 1996 §5).
const notifyRest = time.Second

// refreshSoon looks for a new version as soon as a NOTIFY may make it. None is lost:
// one that comes early is heeded at the end of the rest.
func (s *Zones) refreshSoon(z *zoneState) {
	if !z.begun.Load() {
		return
	}
	now := s.Now()
	z.mu.Lock()
	at := z.looked.Add(notifyRest)
	if z.looked.After(now) || at.Before(now) { // the former after a clock that was set back
		at = now
	}
	z.mu.Unlock()
	s.sched.plan(z, z.fromPrimary(), refreshID(z), at, func(ctx context.Context) { s.refresh(ctx, z) })
}

// refresh looks at the primaries for a newer version and fetches it.
func (s *Zones) refresh(ctx context.Context, z *zoneState) {
	z.mu.Lock()
	if z.busy {
		z.again = true
		z.mu.Unlock()
		return
	}
	z.busy, z.looked = true, s.Now()
	z.mu.Unlock()
	err := s.look(ctx, z)
	z.mu.Lock()
	defer z.mu.Unlock()
	z.busy = false
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		s.noteFetch(z, err)
		z.clock.Failed(s.Now(), s.Rand())
		s.Log.Warn("no primary could be asked", "zone", z.String(), "error", err, "again", z.clock.Next.UTC().Format(time.RFC3339))
	}
	next := z.clock.Next
	if z.again {
		z.again, next = false, s.Now()
	}
	s.sched.planNext(z, z.fromPrimary(), refreshID(z), next, func(ctx context.Context) { s.refresh(ctx, z) })
}

// confirm takes note that our version is still the newest. One that had
// expired is served again.
func (s *Zones) confirm(z *zoneState, have *zone.Snapshot, said expiry) error {
	soa, _ := have.SOA()
	now := s.Now()
	z.mu.Lock()
	had := z.clock.Expires()
	z.clock.Confirmed(now, soa, s.Rand())
	if said.known {
		z.clock.Said(now, said.seconds, false, had)
	}
	until := z.clock.Until
	s.noteFetch(z, nil)
	if z.lastGood().withdrawn {
		z.amend(func(v *version) { v.withdrawn, v.since = false, now })
	}
	z.mu.Unlock()
	if s.Store != nil {
		if err := s.storeOf(z).Update(z.name, func(m *store.Meta) { m.Checked, m.Until = now, until }); err != nil {
			s.Log.Warn("the check could not be noted", "zone", z.String(), "error", err)
		}
	}
	s.planExpiry(z)
	return nil
}

// installFetched checks a fetched version, stores it and puts it in service.
func (s *Zones) installFetched(ctx context.Context, z *zoneState, snap *zone.Snapshot, p Peer, said expiry) error {
	soa, ok := snap.SOA()
	if !ok {
		return errors.New("the zone it sent has no SOA")
	}
	var apex zone.Node
	snap.ApexNode(&apex)
	if _, ok := apex.Find(rr.TypeNS); !ok {
		return errors.New("the zone it sent has no NS records")
	}
	now, last := s.Now(), z.lastGood()
	snap, delta := zone.Share(last.source, snap)
	oddities := make(chan string, 1)
	go func() { oddities <- oddityAfter(last, delta, snap) }() // while it is stored
	if _, err := s.install(ctx, z, Input{Zone: snap, Delta: delta}, origin{from: p.Name, by: p.Name, way: store.FromTransfer, checked: now}); err != nil {
		return err
	}
	odd := <-oddities
	if odd != "" {
		s.Log.Warn("the copy is served as it came", "zone", z.String(), "but", odd)
	}
	z.mu.Lock()
	z.amend(func(v *version) { v.warning = odd })
	z.clock.Confirmed(now, soa, s.Rand())
	if said.known {
		z.clock.Said(now, said.seconds, true, time.Time{})
	}
	until := z.clock.Until
	z.mu.Unlock()
	if s.Store != nil && !until.IsZero() {
		if err := s.storeOf(z).Update(z.name, func(m *store.Meta) { m.Until = until }); err != nil {
			s.Log.Warn("how long the copy may be served could not be noted", "zone", z.String(), "error", err)
		}
	}
	s.planExpiry(z)
	s.notifyPeers(z)
	s.catalogChanged(z)
	return nil
}

// oddity says what a good zone would not have, empty if there is nothing such. A
// secondary serves what its primary has all the same: it must not differ.
func oddity(snap *zone.Snapshot) string {
	for n := range snap.Nodes {
		if odd := aliasOddity(snap, n); odd != "" {
			return odd
		}
	}
	return ""
}

// oddityAfter is oddity of a version that came by a change from another: where that had
// none, only the names that changed can have any.
func oddityAfter(last version, d *zone.Delta, snap *zone.Snapshot) string {
	if d == nil || last.warning != "" {
		return oddity(snap)
	}
	var n zone.Node
	for i := range d.Sets {
		if c := &d.Sets[i]; !c.Hashed() && snap.GetName(c.Owner, &n) {
			if odd := aliasOddity(snap, &n); odd != "" {
				return odd
			}
		}
	}
	return ""
}

func aliasOddity(snap *zone.Snapshot, n *zone.Node) string {
	if !n.HasAlias() {
		return ""
	}
	for set := range n.RRsets {
		if set.Type != rr.TypeCNAME && set.Type != rr.TypeRRSIG && set.Type != rr.TypeNSEC {
			return fmt.Sprintf("%s is an alias and has %s records besides (RFC 1034 §3.6.2), which resolvers take for one or the other; fix it at the primary", snap.Owner(n), set.Type)
		}
	}
	return ""
}

// errExpired says why an expired copy is not served.
func errExpired(checked time.Time) error {
	return fmt.Errorf("expired: no primary has confirmed it since %s", checked.UTC().Format("2006-01-02 15:04:05 UTC"))
}

// planExpiry takes the zone out of service when no primary has confirmed it
// for too long.
func (s *Zones) planExpiry(z *zoneState) {
	z.mu.Lock()
	at := z.clock.Expires()
	z.mu.Unlock()
	s.sched.plan(z, here, expireID(z), at, func(context.Context) {
		z.mu.Lock()
		defer z.mu.Unlock()
		if z.clock.Expired(s.Now()) {
			z.amend(func(v *version) { v.withdrawn = true })
			s.setProblemLocked(z, errExpired(z.clock.Checked))
			s.Log.Error("zone expired", "zone", z.String())
		}
	})
}

var _ answer.Source = (*requests)(nil)
