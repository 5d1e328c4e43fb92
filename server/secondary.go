package server

import (
	"context"
	"errors"
	"fmt"

	"time"

	"fencepost/answer"
	"fencepost/journal"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/transfer"
	"fencepost/zone"
)

func refreshID(z *served) string { return "refresh " + z.name.Key() }
func expireID(z *served) string  { return "expire " + z.name.Key() }

// prepareSecondary puts the copy from before a restart in service, if it has
// not expired, and plans to look for a newer one at once.
func (s *Server) prepareSecondary(ctx context.Context, z *served) ZoneResult {
	r := ZoneResult{Zone: z.name, Change: Unchanged}
	if z.snap.Load() == nil {
		r.Change = Waiting
		snap, meta, err := s.stored(z)
		switch {
		case err != nil:
			r.Err = fmt.Errorf("the copy from before the restart cannot be used: %w", err)
			s.Log.Error("the stored copy cannot be used: it is fetched anew", "zone", z.name.String(), "error", err)
			s.setProblem(z, r.Err.Error())
		case snap != nil:
			if s.restore(ctx, z, snap, meta) {
				r.Change = Loaded
			}
		}
		s.sched.plan(z, z.fromPrimary(), refreshID(z), s.Now(), func(ctx context.Context) { s.refresh(ctx, z) })
	} else if z.failing() {
		s.refreshNow(z) // what was wrong, such as a secret, may have been mended
	}
	r.Serial = serialOf(z.snap.Load())
	return r
}

// failing tells whether no primary could be reached lately.
func (z *served) failing() bool {
	z.mu.Lock()
	defer z.mu.Unlock()
	return !z.clock.Failing.IsZero()
}

// restore takes a stored copy; its age counts from when a primary last
// confirmed it, so a stop does not make it young again (RFC 1034 §4.3.5).
func (s *Server) restore(ctx context.Context, z *served, snap *zone.Snapshot, meta journal.Meta) bool {
	soa, ok := snap.SOA()
	if !ok {
		return false
	}
	z.mu.Lock()
	z.clock.Timers(soa)
	z.clock.Checked = meta.Checked
	z.kept, z.from = snap, meta.From
	source := snap
	if z.cfg.Load().Signer != nil {
		source = nil // what is stored is signed: the unsigned version is fetched again
	}
	z.source = source
	expired := z.clock.Expired(s.Now())
	if expired {
		s.setProblemLocked(z, expiredWords(z.clock.Checked))
		z.troubled = z.clock.Expires()
	}
	z.mu.Unlock()
	if expired {
		s.Log.Error("zone expired: the copy from before the restart is too old to be served", "zone", z.name.String(), "confirmed", meta.Checked.UTC().Format(time.RFC3339))
		return false
	}
	ends := meta.Expires
	if ends.IsZero() {
		ends = signer.FirstExpiry(snap, s.Now())
	}
	s.putInService(z, source, snap, meta.From, ends)
	z.mu.Lock()
	z.warning, z.renew = oddity(snap), meta.Renew
	z.mu.Unlock()
	s.planExpiry(z)
	return true
}

// refreshNow looks for a new version at once. While one look is going on,
// further wishes are merged into one more. One that waits to be loaded will look anyway.
func (s *Server) refreshNow(z *served) {
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
func (s *Server) refreshSoon(z *served) {
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
func (s *Server) refresh(ctx context.Context, z *served) {
	z.mu.Lock()
	if z.busy {
		z.again = true
		z.mu.Unlock()
		return
	}
	z.busy, z.looked = true, s.Now()
	z.mu.Unlock()
	err := s.lookForVersion(ctx, z)
	z.mu.Lock()
	defer z.mu.Unlock()
	z.busy = false
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		s.setProblemLocked(z, err.Error())
		z.clock.Failed(s.Now(), s.Rand())
		s.Log.Warn("no primary could be asked", "zone", z.name.String(), "error", err, "again", z.clock.Next.UTC().Format(time.RFC3339))
	}
	next := z.clock.Next
	if z.again {
		z.again, next = false, s.Now()
	}
	s.sched.plan(z, z.fromPrimary(), refreshID(z), next, func(ctx context.Context) { s.refresh(ctx, z) })
}

// lookForVersion asks one primary after another until one has told us that our
// version is the newest, or given us a newer one.
func (s *Server) lookForVersion(ctx context.Context, z *served) error {
	var errs []error
	for _, p := range z.cfg.Load().FetchFrom {
		err := s.lookAt(ctx, z, p)
		if err == nil {
			return nil
		}
		errs = append(errs, fmt.Errorf("%s (%s): %w", p.Name, p.Address, err))
		if ctx.Err() != nil {
			break
		}
	}
	return errors.Join(errs...)
}

func (s *Server) lookAt(ctx context.Context, z *served, p Peer) error {
	z.mu.Lock()
	have := z.source
	if z.kept != nil && z.cfg.Load().Signer == nil {
		have = z.kept
	}
	z.mu.Unlock()
	serial, err := s.askSerial(ctx, z, p)
	if err != nil {
		return err
	}
	if have != nil && serial == have.Serial() {
		return s.confirm(ctx, z, have)
	}
	if err := notOlder("shows", serial, have); err != nil {
		return err
	}
	snap, err := transfer.Receive(ctx, transfer.Fetch{Zone: z.name, Server: p.Address, Key: p.Key, Max: s.mostOfZone.Load(), Budget: &s.transfers, Now: s.Wall, Local: s.localFor(p.Address)})
	if err != nil {
		return err
	}
	if err := notOlder("sent", snap.Serial(), have); err != nil {
		return err
	}
	return s.takeCopy(ctx, z, snap, p)
}

// notOlder refuses a version that is not newer than the one we have: to go back
// would undo changes, and whoever has such a version has not confirmed ours.
func notOlder(how string, serial uint32, have *zone.Snapshot) error {
	if have == nil || rr.NewerSerial(serial, have.Serial()) {
		return nil
	}
	if rr.CompareSerials(serial, have.Serial()) == rr.SerialUndefined {
		return fmt.Errorf("it %s serial %d, which is neither newer nor older than our %d (RFC 1982 §3.2)", how, serial, have.Serial())
	}
	return fmt.Errorf("it %s serial %d, older than our %d: its own copy went back or is behind; raise the serial there", how, serial, have.Serial())
}

// askSerial asks a primary for its SOA.
func (s *Server) askSerial(ctx context.Context, z *served, p Peer) (uint32, error) {
	resp, err := resolve.Ask(ctx, p.Address, resolve.Request{Name: z.name, Type: rr.TypeSOA, TSIG: p.Key, Now: s.Wall, Local: s.localFor(p.Address)})
	if err != nil {
		return 0, err
	}
	if resp.Rcode() != message.NoError {
		return 0, fmt.Errorf("asked for the SOA it answers %s (%s)", resp.Rcode().Words(), resp.Rcode())
	}
	if resp.Flags&message.FlagAA == 0 {
		return 0, errors.New("it answers for the zone without authority: it does not serve it, or its own copy has expired")
	}
	for _, r := range resp.Answer {
		if r.Type == rr.TypeSOA && r.Name.Equal(z.name) {
			soa, err := rr.ParseSOA(r.Data)
			return soa.Serial, err
		}
	}
	return 0, errors.New("its answer holds no SOA")
}

// confirm takes note that our version is still the newest. One that had
// expired is served again.
func (s *Server) confirm(ctx context.Context, z *served, have *zone.Snapshot) error {
	soa, _ := have.SOA()
	now := s.Now()
	z.mu.Lock()
	z.clock.Confirmed(now, soa, s.Rand())
	s.setProblemLocked(z, "")
	revive := z.snap.Load() == nil && z.kept != nil
	if revive {
		z.snap.Store(z.kept)
		z.since = now
	}
	z.mu.Unlock()
	if s.Store != nil {
		if err := s.Store.Update(z.name, func(m *journal.Meta) { m.Checked = now }); err != nil {
			s.Log.Warn("the check could not be noted", "zone", z.name.String(), "error", err)
		}
	}
	s.planExpiry(z)
	return nil
}

// takeCopy checks a fetched version, stores it and puts it in service.
func (s *Server) takeCopy(ctx context.Context, z *served, snap *zone.Snapshot, p Peer) error {
	soa, ok := snap.SOA()
	if !ok {
		return errors.New("the zone it sent has no SOA")
	}
	var apex zone.Node
	snap.ApexNode(&apex)
	if _, ok := apex.Find(rr.TypeNS); !ok {
		return errors.New("the zone it sent has no NS records")
	}
	now := s.Now()
	if z.cfg.Load().Signer == nil {
		// On stable storage before it is offered to others (RFC 1995 §2).
		s.keep(z, snap, journal.Meta{Stored: now, Checked: now, From: p.Name})
	}
	if _, err := s.install(ctx, z, snap, p.Name, now); err != nil {
		return err
	}
	odd := oddity(snap)
	if odd != "" {
		s.Log.Warn("the copy is served as it came", "zone", z.name.String(), "but", odd)
	}
	z.mu.Lock()
	z.warning = odd
	z.clock.Confirmed(now, soa, s.Rand())
	z.mu.Unlock()
	s.planExpiry(z)
	s.tellPeers(z)
	return nil
}

// oddity says what a good zone would not have, empty if there is nothing such. A
// secondary serves what its primary has all the same: it must not differ.
func oddity(snap *zone.Snapshot) string {
	for n := range snap.Nodes {
		if !n.HasAlias() {
			continue
		}
		for set := range n.RRsets {
			if set.Type != rr.TypeCNAME && set.Type != rr.TypeRRSIG && set.Type != rr.TypeNSEC {
				return fmt.Sprintf("%s is an alias and has %s records besides (RFC 1034 §3.6.2), which resolvers take for one or the other; fix it at the primary", snap.Owner(n), set.Type)
			}
		}
	}
	return ""
}

// expiredWords says why an expired copy is not served.
func expiredWords(checked time.Time) string {
	return "expired: no primary has confirmed it since " + checked.UTC().Format(time.RFC3339)
}

// planExpiry takes the zone out of service when no primary has confirmed it
// for too long.
func (s *Server) planExpiry(z *served) {
	z.mu.Lock()
	at := z.clock.Expires()
	z.mu.Unlock()
	s.sched.plan(z, here, expireID(z), at, func(context.Context) {
		z.mu.Lock()
		defer z.mu.Unlock()
		if z.clock.Expired(s.Now()) {
			z.snap.Store(nil)
			s.setProblemLocked(z, expiredWords(z.clock.Checked))
			s.Log.Error("zone expired", "zone", z.name.String())
		}
	})
}

var _ answer.Source = (*Server)(nil)
