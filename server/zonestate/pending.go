package zonestate

import (
	"context"
	"errors"
	"fmt"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/update"
	"fencepost/zone"
)

// ErrNotPending means that nothing of that kind is pending.
var ErrNotPending = errors.New("nothing of that is pending")

// PendingOf is what requests changed in a zone and its files do not have.
type PendingOf struct {
	Serial  uint32 // of what is served, before it is signed
	Changes []*update.Change
	Problem error // why the files could not be merged with it lately
}

// Pending is what is pending of a zone, in its version for an audience; empty: for everyone.
func (s *Zones) Pending(name dnsname.Name, audience string) (PendingOf, error) {
	z, err := s.fromFiles(name, audience)
	if err != nil {
		return PendingOf{}, err
	}
	z.contentMu.Lock()
	defer z.contentMu.Unlock()
	return s.pendingNow(z), nil
}

// OfferPending is Pending for whoever writes it into the files: what it gives is known again there,
// whatever requests change meanwhile.
func (s *Zones) OfferPending(name dnsname.Name, audience string) (PendingOf, error) {
	z, err := s.fromFiles(name, audience)
	if err != nil {
		return PendingOf{}, err
	}
	z.contentMu.Lock()
	defer z.contentMu.Unlock()
	out := s.pendingNow(z)
	t := s.pendingOf(z).Offer()
	if s.Store != nil {
		if err := s.storing(func() error { return s.storeOf(z).PutPending(z.name, pendingAs(t)) }); err != nil {
			return PendingOf{}, err
		}
	}
	s.pendingOf(z).Take(t)
	return out, nil
}

// DropPending has the files count, whatever requests changed in the sets that drop names.
func (s *Zones) DropPending(ctx context.Context, name dnsname.Name, audience string, drop func(*update.Change) bool, by string) (ZoneResult, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	z, err := s.fromFiles(name, audience)
	if err != nil {
		return ZoneResult{}, err
	}
	found := false
	for _, c := range s.pendingOf(z).List() {
		found = found || c.Differs() && drop(c)
	}
	if !found {
		return ZoneResult{}, ErrNotPending
	}
	var change Change
	in, err := s.load(ctx, z)
	if err == nil {
		z.contentMu.Lock()
		change, err = s.installMerged(ctx, z, in.Zone, origin{by: by, way: store.FromFile, checked: s.Now(), stamp: in.Stamp, checks: in.Checks}, drop)
		z.contentMu.Unlock()
	}
	result := s.loaded(z, change, err)
	s.logChange(z, result.Change)
	return result, nil
}

// fromFiles is a zone that is read from files.
func (s *Zones) fromFiles(name dnsname.Name, audience string) (*zoneState, error) {
	z := s.table.Load().zones[idOf(name, audience)]
	switch {
	case z == nil:
		return nil, fmt.Errorf("%s: %w", name, ErrNoZone)
	case z.role().Fetches() || z.cfg.Load().files().Once:
		return nil, ErrNotFromFiles
	}
	return z, nil
}

// isKept reports whether a zone is in the store alone, and was begun. All of its sets are pending then,
// on a zone without any.
func (s *Zones) isKept(z *zoneState) bool {
	f := z.cfg.Load().files()
	if f == nil || !f.Once {
		return false
	}
	soa := s.pendingOf(z).Change(z.name, rr.TypeSOA)
	return soa != nil && string(soa.File.First()) == noSOA
}

// noSOA is the SOA of a zone without anything: no server, no contact; serial and times are 0.
var noSOA = string(make([]byte, 2+20))

// bare is a zone without anything, under the serial that the kept one had last.
func (s *Zones) bare(z *zoneState) (*zone.Snapshot, error) {
	serial, _, _ := s.lastSource(z)
	b := zone.NewBuilder(z.name, false)
	if err := b.AddRecord(rr.Record{Name: z.name, Type: rr.TypeSOA, Data: rr.SetSerial([]byte(noSOA), serial)}); err != nil {
		return nil, err
	}
	return b.Build().Snapshot, nil
}

// beginKept takes a zone from its files into the store.
func (s *Zones) beginKept(ctx context.Context, z *zoneState, source *zone.Snapshot, o origin) (Change, error) {
	empty, err := s.bare(z)
	if err != nil {
		return Kept, err
	}
	o.stamp, o.checks = "", nil
	touched := update.NewPending().After(empty, source, o.by, s.Now())
	for _, c := range s.pendingOf(z).List() { // that were beside the files
		if touched[c.Key()] == nil {
			touched[c.Key()] = nil
		}
	}
	if err := s.installTogether(ctx, z, source, o, z.lastGood(), touched); err != nil {
		return Kept, err
	}
	return Loaded, nil
}

// pendingNow is what is pending. z.contentMu is held.
func (s *Zones) pendingNow(z *zoneState) (out PendingOf) {
	have := z.lastGood()
	if have.source != nil {
		out.Serial = have.source.Serial()
	}
	for _, c := range s.pendingOf(z).List() {
		if c.Differs() {
			out.Changes = append(out.Changes, c)
		}
	}
	z.mu.Lock()
	defer z.mu.Unlock()
	var conflict *ConflictError
	if errors.As(z.problem, &conflict) {
		out.Problem = z.problem
	}
	return out
}
