package zonestate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"time"

	"fencepost/dnsname"
	"fencepost/keymanager"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

// Signer signs a zone and looks after its keys. Calls for one zone never overlap.
type Signer interface {
	// Fingerprint tells apart what the keys and the policy make a zone show: when it
	// differs from that of the version in service, the zone is signed again.
	Fingerprint() (string, error)
	// Sign makes a signed version.
	Sign(ctx context.Context, j keymanager.Job) (keymanager.Signed, error)
	// Usable tells why the keys could not sign now, or not soon; nil if they can.
	Usable() error
	// Served is told which version is in service, made as Fingerprint says now.
	Served(serial uint32, now time.Time) error
	// Observe looks at the servers that have to show something of the keys. It may take
	// long, and unlike the others it may run beside calls for the same zone.
	Observe(ctx context.Context) (seen any, err error)
	// Advance looks whether keys have to change, by what Observe has seen, which may be out of
	// date; z is what is in service. With resign the zone has to be signed again. again
	// is when to look next; zero when there is nothing to wait for.
	Advance(seen any, z *zone.Snapshot, now time.Time) (resign bool, again time.Time, err error)
	// State tells what there is to tell of the keys. It asks nobody and does not wait.
	State() keymanager.State
}

// installSigned signs a version and puts it in service. The serial that is
// served follows the source's where it can and never goes back: new signatures
// over the same content need a new serial too (RFC 6781 §4.4).
func (s *Zones) installSigned(ctx context.Context, z *zoneState, source *zone.Snapshot, o origin) (Change, error) {
	z.keys().Lock()
	defer z.keys().Unlock()
	return s.signVersion(ctx, z, source, o, nil)
}

// signVersion is installSigned with z.signing held. To sign a version anew is no
// confirmation by its primary. with is stored together with it; nil: nothing.
func (s *Zones) signVersion(ctx context.Context, z *zoneState, source *zone.Snapshot, o origin, with *pendingSets) (Change, error) {
	cfg, now := z.cfg.Load(), s.Now()
	made, err := cfg.Signer.Fingerprint()
	if err != nil {
		return Kept, &signingError{err}
	}
	have := z.lastGood()
	current, meta := have.served, z.storedMeta()
	if current == nil || meta.Source == "" { // nothing was signed since the start
		stored, m, err := s.stored(z)
		if err != nil {
			s.Log.Warn("the stored version cannot be used", "zone", z.String(), "error", err)
		} else if meta = m; current == nil {
			current = stored
		}
		if stored != nil && err == nil && meta.Source == madeOf(source, made) && lasts(meta, now) && now.After(meta.Stored.Add(-time.Hour)) {
			return s.resumeStored(z, source, stored, meta, made, o)
		}
	} else if current.Serial() == meta.Serial && meta.Source == madeOf(source, made) && lasts(meta, now) && now.After(meta.Stored.Add(-time.Hour)) {
		return s.resumeStored(z, source, current, meta, made, o)
	}
	job := keymanager.Job{Source: source, Signed: current, Serial: nextSerial(source, current), Now: now}
	if have.fingerprint == made && now.Before(have.renew) {
		job.Before = have.source
	}
	var out keymanager.Signed
	s.cpu.do(ctx, func() { out, err = cfg.Signer.Sign(ctx, job) })
	if err != nil {
		return Kept, &signingError{err}
	}
	if job.Before != nil { // signatures that were kept fall due when they did before
		out.Expires, out.Renew = sooner(out.Expires, have.expires), sooner(out.Renew, have.renew)
	}
	if source == have.source && o.way != store.Signing {
		o.by, o.way = "", store.Signing
	}
	err = s.storeWith(ctx, z, out.Zone, store.Meta{Stored: now, Checked: o.checked, From: o.from, SourceSerial: source.Serial(), Stamp: o.stamp,
		Source: madeOf(source, out.Fingerprint), Expires: out.Expires, Renew: out.Renew}, store.Info{By: o.by, Way: o.way}, with)
	if err != nil {
		return Kept, err
	}
	s.putSigned(z, version{served: out.Zone, source: source, sourceSerial: source.Serial(), origin: o, fingerprint: out.Fingerprint, expires: out.Expires, renew: out.Renew})
	return Loaded, nil
}

// signingError says that a zone could not be signed.
type signingError struct{ err error }

func (e *signingError) Error() string { return "signing: " + e.err.Error() }
func (e *signingError) Unwrap() error { return e.err }

// madeOf tells apart what a signed version was made of: the content of the unsigned
// zone, and the keys and policy.
func madeOf(source *zone.Snapshot, signedWith string) string {
	return source.Digest() + " " + madeWith(signedWith)
}

func madeWith(fingerprint string) string {
	sum := sha256.Sum256([]byte(fingerprint))
	return hex.EncodeToString(sum[:16])
}

// storedMeta is what is known of the newest version in the store, as far as it has been
// looked at.
func (z *zoneState) storedMeta() store.Meta {
	z.mu.Lock()
	defer z.mu.Unlock()
	return z.headMeta
}

func sooner(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// lasts reports whether the signatures of a stored version need no renewal yet. One
// that went unsigned has none.
func lasts(meta store.Meta, now time.Time) bool {
	return meta.Expires.IsZero() || now.Before(meta.Renew)
}

// resumeStored puts a version that was signed before in service again.
func (s *Zones) resumeStored(z *zoneState, source, stored *zone.Snapshot, meta store.Meta, made string, o origin) (Change, error) {
	if now := z.snap(); now != nil && now.Serial() == stored.Serial() {
		z.mu.Lock()
		z.amend(func(v *version) {
			v.source, v.sourceSerial, v.fingerprint, v.renew = source, source.Serial(), made, meta.Renew
		})
		z.mu.Unlock()
		s.restamp(z, o)
		s.planSigning(z, meta.Renew)
		s.noteServed(z, stored)
		return Unchanged, nil
	}
	s.putSigned(z, version{served: stored, source: source, sourceSerial: source.Serial(), origin: o, fingerprint: made, expires: meta.Expires, renew: meta.Renew})
	s.restamp(z, o)
	return Loaded, nil
}

func (s *Zones) putSigned(z *zoneState, v version) {
	s.putInService(z, v)
	s.planSigning(z, v.renew)
	s.noteServed(z, v.served)
	if z.audience == "" { // the others may have to be signed with other keys now
		for _, version := range s.table.Load().versions(z.name) {
			if version != z && version.role().Signs() {
				s.planAdvance(version, s.Now().Add(advanceSoon))
			}
		}
	}
}

// noteServed tells the signer what is in service, and plans to look after its keys.
func (s *Zones) noteServed(z *zoneState, snap *zone.Snapshot) {
	if err := z.cfg.Load().Signer.Served(snap.Serial(), s.Now()); err != nil {
		s.Log.Error("the keys' state could not be kept", "zone", z.String(), "error", err)
	}
	s.planAdvance(z, s.Now().Add(advanceSoon))
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

func signID(z *zoneState) string    { return "sign " + z.id() }
func advanceID(z *zoneState) string { return "advance " + z.id() }

const (
	signRetry    = 10 * time.Minute // when signing is tried again after it failed
	advanceSoon  = 2 * time.Second  // after a new version: the peers have been told by then
	advanceRetry = 5 * time.Minute  // when the keys could not be looked after
)

// planSigning plans the renewal of signatures.
func (s *Zones) planSigning(z *zoneState, at time.Time) {
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
func (s *Zones) signAgain(ctx context.Context, z *zoneState) error {
	z.keys().Lock()
	defer z.keys().Unlock()
	return s.signAgainLocked(ctx, z, "")
}

func (s *Zones) signAgainLocked(ctx context.Context, z *zoneState, by string) error {
	have := z.lastGood()
	z.mu.Lock()
	o, problem := have.origin, z.problem
	o.by, o.way, o.checked = by, store.Signing, z.clock.Checked
	expired := z.role().Fetches() && z.clock.Expired(s.Now())
	z.mu.Unlock()
	if !z.role().Signs() || expired {
		return nil
	}
	source, err := s.sourceOf(ctx, z, &o)
	if err == nil && source == nil {
		return nil
	}
	change := Kept
	if err == nil {
		change, err = s.signVersion(ctx, z, source, o, nil)
	}
	if err != nil {
		s.Log.Error("the zone could not be signed again", "zone", z.String(), "error", err)
		s.setProblem(z, err)
		return err
	}
	var signing *signingError
	if have.from == "" && problem != nil && !errors.As(problem, &signing) {
		s.setProblem(z, problem) // new signatures do not mend the file that was refused
	}
	if change == Loaded {
		s.notifyPeers(z)
	}
	return nil
}

// planAdvance plans to look after the keys of a zone.
func (s *Zones) planAdvance(z *zoneState, at time.Time) {
	if at.IsZero() {
		s.sched.cancel(advanceID(z))
		return
	}
	s.sched.plan(z, keyCare, advanceID(z), at, func(ctx context.Context) {
		err := s.advance(ctx, z)
		s.noteCare(z, err)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("the keys could not be looked after", "zone", z.String(), "error", err)
			s.planAdvance(z, s.Now().Add(advanceRetry))
		}
	})
}

// maxAdvances bounds how often a zone is signed in one go.
const maxAdvances = 8

// advance looks after the keys of a zone and signs it again when they ask for it.
func (s *Zones) advance(ctx context.Context, z *zoneState) error {
	for range maxAdvances {
		cfg := z.cfg.Load()
		if !cfg.Role().Signs() || z.snap() == nil {
			return nil
		}
		// Others are waited for while nobody waits for us.
		seen, err := cfg.Signer.Observe(ctx)
		if err != nil {
			return err
		}
		if done, err := s.advanceBy(ctx, z, cfg, seen); done || err != nil {
			return err
		}
	}
	s.planAdvance(z, s.Now().Add(advanceSoon))
	return nil
}

// advanceBy looks after the keys once, by what was seen; done is set where nothing follows
// from it at once.
func (s *Zones) advanceBy(ctx context.Context, z *zoneState, cfg *Zone, seen any) (done bool, err error) {
	z.keys().Lock()
	defer z.keys().Unlock()
	snap := z.snap()
	if snap == nil {
		return true, nil
	}
	resign, again, err := cfg.Signer.Advance(seen, snap, s.Now())
	if err == nil && z.audience != "" { // whoever looks after the keys does so for everyone's version
		have := z.lastGood()
		resign = !s.signedAsNow(cfg, have.fingerprint, have.renew)
	}
	if err != nil {
		return true, err
	}
	if !resign {
		s.planAdvance(z, again)
		return true, nil
	}
	if err := s.signAgainLocked(ctx, z, ""); err != nil {
		return true, err
	}
	return z.snap() == snap, nil // else nothing to sign from yet
}

// KeysOf runs f while nothing else happens to the keys of a zone, then looks after
// them. by says who asked for it, in words.
func (s *Zones) KeysOf(ctx context.Context, name dnsname.Name, by string, f func() error) error {
	z := s.table.Load().zones[name.Key()]
	if z == nil {
		return f()
	}
	z.keys().Lock()
	err := f()
	if err == nil && z.role().Signs() {
		err = s.signAgainLocked(ctx, z, by)
	}
	z.keys().Unlock()
	if err == nil && z.role().Signs() {
		err = s.advance(ctx, z)
	}
	return err
}

// ClockMoved makes everything happen that is due after the clock was set forward,
// as in a rehearsal, and waits until it has.
func (s *Zones) ClockMoved(ctx context.Context) error {
	if s.Stepped {
		s.RunDue(ctx)
		return ctx.Err()
	}
	return s.sched.settle(ctx)
}
