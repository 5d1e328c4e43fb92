package zonestate

import (
	"context"
	"strings"
	"time"

	"fencepost/store"
	"fencepost/zone"
)

func (s *Zones) load(ctx context.Context, z *zoneState) (in Input, err error) {
	have := z.lastGood()
	if s.isKept(z) {
		in.Zone, err = s.bare(z)
		return in, err
	}
	s.cpu.do(ctx, func() { in, err = z.cfg.Load().files().Load(ctx, Input{Zone: have.loaded(), Checks: have.checks}) })
	return in, err
}

// asItWas reports whether nothing has changed in what a zone in service is made of since
// it was loaded. Then no file of it is read.
func (s *Zones) asItWas(z *zoneState) bool {
	cfg, have := z.cfg.Load(), z.lastGood()
	z.mu.Lock()
	problem := z.problem
	z.mu.Unlock()
	files := cfg.files()
	if files != nil && files.Once {
		return problem == nil && have.source != nil && (!cfg.Role().Signs() || s.signedAsNow(cfg, have.fingerprint, have.renew))
	}
	if files == nil || files.Unchanged == nil || have.stamp == "" || problem != nil {
		return false
	}
	stamp, same := files.Unchanged(have.stamp)
	switch {
	case !same:
		return false
	case !cfg.Role().Signs() && have.source != have.served: // it was signed
		return false
	case cfg.Role().Signs() && !s.signedAsNow(cfg, have.fingerprint, have.renew):
		return false
	}
	if stamp != have.stamp {
		z.mu.Lock()
		z.amend(func(v *version) { v.stamp = stamp })
		z.mu.Unlock()
	}
	return true
}

// signedAsNow reports whether a version is signed as the keys and the policy have it now,
// and lasts.
func (s *Zones) signedAsNow(cfg *Zone, made string, renew time.Time) bool {
	now, err := cfg.Signer.Fingerprint()
	return err == nil && now == made && (renew.IsZero() || s.Now().Before(renew))
}

// adoptStored puts the stored version in service where nothing is yet, if it is what
// loading would make.
func (s *Zones) adoptStored(ctx context.Context, z *zoneState) bool {
	cfg := z.cfg.Load()
	files := cfg.files()
	if s.Store == nil || files == nil || files.Unchanged == nil || z.lastGood().served != nil || s.takesUpdates(z) {
		return false
	}
	meta, found, err := s.storeOf(z).Meta(z.name)
	if err != nil || !found || meta.Stamp == "" {
		return false
	}
	stamp, same := files.Unchanged(meta.Stamp)
	if !same {
		return false
	}
	v := version{origin: origin{checked: meta.Checked, stamp: stamp}}
	if cfg.Role().Signs() {
		made, err := cfg.Signer.Fingerprint()
		_, with, _ := strings.Cut(meta.Source, " ")
		now := s.Now()
		if err != nil || with != madeWith(made) || !lasts(meta, now) || !now.After(meta.Stored.Add(-time.Hour)) {
			return false
		}
		v.fingerprint, v.expires, v.renew, v.sourceSerial = made, meta.Expires, meta.Renew, meta.SourceSerial
	} else if meta.Source != "" { // it was signed
		return false
	}
	var snap *zone.Snapshot
	s.cpu.do(ctx, func() { snap, meta, err = s.stored(z) })
	if err != nil || snap == nil {
		return false // which is told where it is loaded
	}
	v.served = snap
	if cfg.Role().Signs() {
		s.putSigned(z, v)
		return true
	}
	plain := s.unsigned(version{}, nil, snap, v.origin)
	s.putInService(z, plain)
	return true
}

// restamp notes that a version was read again from other files, or from files that were
// touched, and is the same.
func (s *Zones) restamp(z *zoneState, o origin) {
	if have := z.lastGood(); have.stamp != o.stamp || have.checks != o.checks || have.read != o.read {
		z.mu.Lock()
		z.amend(func(v *version) { v.stamp, v.checks, v.read = o.stamp, o.checks, o.read })
		z.mu.Unlock()
	}
	s.noteStamp(z)
}

// noteStamp notes in the store what the version in service was read from, where it is the one
// that is stored and something else stands there: as after a start by another program, which
// reads everything again, and once.
func (s *Zones) noteStamp(z *zoneState) {
	z.mu.Lock()
	have := z.lastGood()
	stale := z.head != nil && z.head == have.served && z.headMeta.Stamp != have.stamp
	z.mu.Unlock()
	if s.Store == nil || !stale {
		return
	}
	if err := s.storeOf(z).Update(z.name, func(m *store.Meta) { m.Stamp = have.stamp }); err != nil {
		s.Log.Warn("what a zone was read from could not be noted", "zone", z.String(), "error", err)
		return
	}
	z.mu.Lock()
	defer z.mu.Unlock()
	if z.head == have.served {
		z.headMeta.Stamp = have.stamp
	}
}

// sourceOf is what a signed zone is made of: it is read where that has not been done since
// the start. Nil, without an error, where there is none yet.
func (s *Zones) sourceOf(ctx context.Context, z *zoneState, o *origin) (*zone.Snapshot, error) {
	have := z.lastGood()
	if have.source != nil || have.served == nil || z.role().Fetches() {
		return have.source, nil
	}
	in, err := s.load(ctx, z)
	if err != nil {
		return nil, err
	}
	o.stamp, o.checks = in.Stamp, in.Checks
	if !s.takesUpdates(z) {
		return in.Zone, nil
	}
	// What is settled by that is noted when the files are loaded for their own sake.
	o.read = in.Zone
	source, _, err := s.merge(z, in.Zone, nil)
	return source, err
}
