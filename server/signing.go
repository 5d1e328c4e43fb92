package server

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/rr"
	"fencepost/zone"
)

// Signer signs a zone and looks after its keys. Calls for one zone never overlap.
type Signer interface {
	// Fingerprint tells apart what the keys and the policy make a zone show: when it
	// differs from that of the version in service, the zone is signed again.
	Fingerprint() (string, error)
	// Sign makes a signed version.
	Sign(ctx context.Context, j SignJob) (SignedZone, error)
	// Served is told which version is in service, made as Fingerprint says now.
	Served(serial uint32, now time.Time) error
	// Tend looks whether keys have to change, and at the servers that have to show
	// it; z is what is in service. With resign the zone has to be signed again. again
	// is when to look next; zero when there is nothing to wait for.
	Tend(ctx context.Context, z *zone.Snapshot, now time.Time) (resign bool, again time.Time, err error)
	// State tells what there is to tell of the keys. It asks nobody and does not wait.
	State() KeyState
}

// SignJob says what is to be signed.
type SignJob struct {
	Source *zone.Snapshot // unsigned
	// Signed is the version in service, nil if there is none. Before is the unsigned
	// one that it was made of; nil if that, the keys or the policy are others now. With
	// Before only what changed need be signed; the rest keeps its time.
	Before, Signed *zone.Snapshot
	Serial         uint32
	Now            time.Time
}

// SignedZone is what Sign made.
type SignedZone struct {
	Zone        *zone.Snapshot
	Fingerprint string    // what it was made with
	Expires     time.Time // when the first signature does; zero without signatures
	Renew       time.Time // when to sign again at the latest
}

// installSigned signs a version and puts it in service. The serial that is
// served follows the source's where it can and never goes back: new signatures
// over the same content need a new serial too (RFC 6781 §4.4).
func (s *Server) installSigned(ctx context.Context, z *served, source *zone.Snapshot, from string, checked time.Time) (Change, error) {
	z.signing.Lock()
	defer z.signing.Unlock()
	return s.signVersion(ctx, z, source, from, checked)
}

// signVersion is installSigned with z.signing held. checked is when a primary last
// confirmed the source: to sign it anew is no confirmation.
func (s *Server) signVersion(ctx context.Context, z *served, source *zone.Snapshot, from string, checked time.Time) (Change, error) {
	cfg, now := z.cfg.Load(), s.Now()
	made, err := cfg.Signer.Fingerprint()
	if err != nil {
		return Kept, fmt.Errorf("the keys: %w", err)
	}
	digest := sourceDigest(source, made)
	stored, meta, err := s.stored(z)
	if err != nil {
		s.Log.Warn("the stored version cannot be used", "zone", z.name.String(), "error", err)
		stored = nil
	}
	if stored != nil && meta.Source == digest && lasts(meta, now) && now.After(meta.Stored.Add(-time.Hour)) {
		return s.takeStored(z, source, stored, meta, made, from)
	}
	current := z.snap.Load()
	if current == nil {
		current = stored
	}
	job := SignJob{Source: source, Signed: current, Serial: nextSerial(source, current), Now: now}
	z.mu.Lock()
	expires, renew := z.expires, z.renew
	if z.made == made && current == z.snap.Load() && now.Before(renew) {
		job.Before = z.source
	}
	z.mu.Unlock()
	out, err := cfg.Signer.Sign(ctx, job)
	if err != nil {
		return Kept, fmt.Errorf("signing: %w", err)
	}
	if job.Before != nil { // signatures that were kept fall due when they did before
		out.Expires, out.Renew = sooner(out.Expires, expires), sooner(out.Renew, renew)
	}
	s.keep(z, out.Zone, journal.Meta{Stored: now, Checked: checked, From: from, SourceSerial: source.Serial(),
		Source: sourceDigest(source, out.Fingerprint), Expires: out.Expires, Renew: out.Renew})
	s.putSigned(z, source, out.Zone, from, out.Fingerprint, out.Expires, out.Renew)
	return Loaded, nil
}

func sooner(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// lasts tells whether the signatures of a stored version need no renewal yet. One
// that went unsigned has none.
func lasts(meta journal.Meta, now time.Time) bool {
	return meta.Expires.IsZero() || now.Before(meta.Renew)
}

// takeStored puts a version that was signed before in service again.
func (s *Server) takeStored(z *served, source, stored *zone.Snapshot, meta journal.Meta, made, from string) (Change, error) {
	if now := z.snap.Load(); now != nil && now.Serial() == stored.Serial() {
		z.mu.Lock()
		z.source, z.made, z.renew = source, made, meta.Renew
		z.mu.Unlock()
		s.planSigning(z, meta.Renew)
		s.noteServed(z, stored)
		return Unchanged, nil
	}
	s.putSigned(z, source, stored, from, made, meta.Expires, meta.Renew)
	return Loaded, nil
}

func (s *Server) putSigned(z *served, source, snap *zone.Snapshot, from, made string, expires, renew time.Time) {
	s.putInService(z, source, snap, from, expires)
	z.mu.Lock()
	z.made, z.renew = made, renew
	z.mu.Unlock()
	s.planSigning(z, renew)
	s.noteServed(z, snap)
}

// noteServed tells the signer what is in service, and plans to look after its keys.
func (s *Server) noteServed(z *served, snap *zone.Snapshot) {
	if err := z.cfg.Load().Signer.Served(snap.Serial(), s.Now()); err != nil {
		s.Log.Error("the keys' state could not be kept", "zone", z.name.String(), "error", err)
	}
	s.planTending(z, s.Now().Add(tendSoon))
}

// nextSerial is the source's serial if that moves forward, else one more than the
// present one.
func nextSerial(source, current *zone.Snapshot) uint32 {
	serial := source.Serial()
	if current != nil && !rr.NewerSerial(serial, current.Serial()) {
		serial = rr.NextSerial(current.Serial())
	}
	return serial
}

func (s *Server) stored(z *served) (*zone.Snapshot, journal.Meta, error) {
	if s.Store == nil {
		return nil, journal.Meta{}, nil
	}
	return s.Store.Load(z.name)
}

func signID(z *served) string { return "sign " + z.name.Key() }
func tendID(z *served) string { return "tend " + z.name.Key() }

const (
	signRetry = 10 * time.Minute // when signing is tried again after it failed
	tendSoon  = 2 * time.Second  // after a new version: the peers have been told by then
	tendRetry = 5 * time.Minute  // when the keys could not be looked after
)

// planSigning plans the renewal of signatures.
func (s *Server) planSigning(z *served, at time.Time) {
	if at.IsZero() {
		s.sched.cancel(signID(z))
		return
	}
	s.sched.plan(z, here, signID(z), at, func(ctx context.Context) {
		if err := s.signAgain(ctx, z); err != nil {
			s.planSigning(z, s.Now().Add(signRetry))
		}
	})
}

// signAgain signs what is known of a zone anew and tells its peers.
func (s *Server) signAgain(ctx context.Context, z *served) error {
	z.signing.Lock()
	defer z.signing.Unlock()
	return s.signAgainLocked(ctx, z)
}

func (s *Server) signAgainLocked(ctx context.Context, z *served) error {
	z.mu.Lock()
	source, from, checked, problem := z.source, z.from, z.clock.Checked, z.problem
	expired := len(z.cfg.Load().FetchFrom) > 0 && z.clock.Expired(s.Now())
	z.mu.Unlock()
	if source == nil || z.cfg.Load().Signer == nil || expired {
		return nil
	}
	change, err := s.signVersion(ctx, z, source, from, checked)
	if err != nil {
		s.Log.Error("the zone could not be signed again", "zone", z.name.String(), "error", err)
		s.setProblem(z, err.Error())
		return err
	}
	if from == "" && problem != "" && !strings.HasPrefix(problem, "signing: ") {
		s.setProblem(z, problem) // new signatures do not mend the file that was refused
	}
	if change == Loaded {
		s.tellPeers(z)
	}
	return nil
}

// planTending plans to look after the keys of a zone.
func (s *Server) planTending(z *served, at time.Time) {
	if at.IsZero() {
		s.sched.cancel(tendID(z))
		return
	}
	s.sched.plan(z, tending, tendID(z), at, func(ctx context.Context) {
		if err := s.tend(ctx, z); err != nil && ctx.Err() == nil {
			s.Log.Error("the keys could not be looked after", "zone", z.name.String(), "error", err)
			s.planTending(z, s.Now().Add(tendRetry))
		}
	})
}

// maxTends bounds how often a zone is signed in one go.
const maxTends = 8

// tend looks after the keys of a zone and signs it again when they ask for it.
func (s *Server) tend(ctx context.Context, z *served) error {
	z.signing.Lock()
	defer z.signing.Unlock()
	for range maxTends {
		cfg, snap := z.cfg.Load(), z.snap.Load()
		if cfg.Signer == nil || snap == nil {
			return nil
		}
		resign, again, err := cfg.Signer.Tend(ctx, snap, s.Now())
		if err != nil {
			return err
		}
		if !resign {
			s.planTending(z, again)
			return nil
		}
		if err := s.signAgainLocked(ctx, z); err != nil {
			return err
		}
		if z.snap.Load() == snap { // nothing to sign from yet
			return nil
		}
	}
	s.planTending(z, s.Now().Add(tendSoon))
	return nil
}

// ErrUnsigned means that a zone is not signed here.
var ErrUnsigned = errors.New("the zone is not signed here: no policy is given for it")

// Tend looks after the keys of a zone now, and waits until that is done.
func (s *Server) Tend(ctx context.Context, name dnsname.Name) error {
	z := s.table.Load().zones[name.Key()]
	if z == nil {
		return fmt.Errorf("%s: %w", name, ErrNoZone)
	}
	if z.cfg.Load().Signer == nil {
		return fmt.Errorf("%s: %w", name, ErrUnsigned)
	}
	return s.tend(ctx, z)
}

// KeysOf runs f while nothing else happens to the keys of a zone, then looks after
// them.
func (s *Server) KeysOf(ctx context.Context, name dnsname.Name, f func() error) error {
	z := s.table.Load().zones[name.Key()]
	if z == nil {
		return f()
	}
	z.signing.Lock()
	err := f()
	if err == nil && z.cfg.Load().Signer != nil {
		err = s.signAgainLocked(ctx, z)
	}
	z.signing.Unlock()
	if err == nil && z.cfg.Load().Signer != nil {
		err = s.tend(ctx, z)
	}
	return err
}

// ClockMoved makes everything happen that is due after the clock was set forward,
// as in a rehearsal, and waits until it has.
func (s *Server) ClockMoved(ctx context.Context) error { return s.sched.settle(ctx) }
