package zonestate

import (
	"context"
	"maps"

	"fencepost/store"
	"fencepost/update"
	"fencepost/zone"
)

// installUpdate puts a version that requests made in service, if it can be stored together with what
// is pending by that; else nothing has happened.
func (s *Zones) installUpdate(z *zoneState, source *zone.Snapshot, by string, last version) error {
	o := last.origin
	o.by, o.way = by, store.FromUpdate
	if o.read == nil {
		o.read = last.loaded()
	}
	touched := s.pendingOf(z).After(last.source, source, by, s.Now())
	// What was begun is ended, also where the server ends.
	return s.installTogether(context.Background(), z, source, o, last, touched)
}

// installTogether puts a version in service if it can be stored together with what becomes of what is
// pending.
func (s *Zones) installTogether(ctx context.Context, z *zoneState, source *zone.Snapshot, o origin, last version, touched update.Touched) error {
	kept := &pendingSets{pending: pendingAs(touched)}
	maps.Copy(kept.pending, z.owed)
	if z.role().Signs() {
		z.keys().Lock()
		defer z.keys().Unlock()
		if _, err := s.signVersion(ctx, z, source, o, kept); err != nil {
			return err
		}
	} else if err := s.installPlain(ctx, z, source, o, last, kept); err != nil {
		return err
	}
	if !kept.stored && s.Store != nil {
		if err := s.storing(func() error { return s.storeOf(z).PutPending(z.name, kept.pending) }); err != nil {
			return err
		}
	}
	s.pendingOf(z).Take(touched)
	z.owed = nil
	return nil
}

// installPlain is installUpdate where we do not sign.
func (s *Zones) installPlain(ctx context.Context, z *zoneState, source *zone.Snapshot, o origin, last version, kept *pendingSets) error {
	var delta *zone.Delta
	if last.source != nil {
		delta = zone.Diff(last.source, source)
	}
	made := make(chan version, 1)
	go func() { made <- s.unsigned(last, delta, source, o) }() // while it is stored
	now := s.Now()
	meta := store.Meta{Stored: now, Checked: now, Stamp: o.stamp}
	if err := s.storeWith(ctx, z, source, meta, store.Info{By: o.by, Way: o.way}, kept); err != nil {
		<-made
		return err
	}
	s.putInService(z, <-made)
	return nil
}

// pendingSets is what is stored together with a version, if that can be stored at all: one that cannot
// is not served.
type pendingSets struct {
	pending store.Pending
	stored  bool
}

// storeWith stores a version before it is served: with pending sets, or else as keep does.
func (s *Zones) storeWith(ctx context.Context, z *zoneState, snap *zone.Snapshot, meta store.Meta, info store.Info, b *pendingSets) error {
	if b == nil {
		s.keep(ctx, z, snap, meta, info)
		return nil
	}
	b.stored = true
	if s.Store == nil {
		return nil
	}
	v := z.next(snap, meta, info)
	v.Pending = b.pending
	return s.put(ctx, z, v)
}

// pendingAs is what becomes of what is pending, in the form in which it is stored.
func pendingAs(t update.Touched) store.Pending {
	out := store.Pending{}
	for key, c := range t {
		if out[key] = nil; c != nil {
			out[key] = c.AppendBinary(nil)
		}
	}
	return out
}
