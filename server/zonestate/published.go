package zonestate

import (
	"context"
	"errors"

	"golang.org/x/sync/errgroup"

	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

// digestLater is from how many octets on a zone is digested after it is in
// service: a large one would keep the server from being ready.
const digestLater = 8 << 20

func rememberID(z *zoneState) string { return "remember " + z.id() }

// remember keeps what is now in service of unsigned zones from files, so that a
// change without a new serial is noticed also across restarts. s.mu is held.
func (s *Zones) remember(zones []*zoneState, results []ZoneResult, by string) {
	if s.Store == nil {
		return
	}
	var list []publishedVersion
	for i, z := range zones {
		cfg := z.cfg.Load()
		now := z.snap()
		if results[i].Change != Loaded || now == nil || cfg.Role() != Primary || s.takesUpdates(z) {
			continue
		}
		if now.Octets() >= digestLater {
			s.sched.plan(z, here, rememberID(z), s.Now(), func(context.Context) {
				s.storePublished(s.published(z), by)
				s.noteStamp(z)
			})
			continue
		}
		list = append(list, s.published(z)...)
	}
	s.storePublished(list, by)
	var g errgroup.Group
	g.SetLimit(atOnce) // what is noted together is written together
	for _, z := range zones {
		if z.role() == Primary {
			g.Go(func() error { s.noteStamp(z); return nil })
		}
	}
	_ = g.Wait() // nothing fails but the log
}

// publishedVersion is a version of an unsigned zone from a file, to be stored with what was
// published of it.
type publishedVersion struct {
	store.Published
	z    *zoneState
	snap *zone.Snapshot
}

// published is what is to be kept of a zone; nothing if that is known already, or
// if the serial did not move: until it does, what counts is what secondaries have.
func (s *Zones) published(z *zoneState) []publishedVersion {
	now := z.snap()
	if now == nil {
		return nil
	}
	p := store.Published{Zone: z.name.Lower().String(), Serial: now.Serial(), Digest: now.Digest(), At: s.Now()}
	was, found, err := s.storeOf(z).LastPublished(z.name)
	switch {
	case err != nil || !found:
	case was.Digest == p.Digest:
		if m, found, err := s.storeOf(z).Meta(z.name); err == nil && found && m.Serial == was.Serial {
			z.setHead(now, m)
		}
		return nil
	case !rr.NewerSerial(p.Serial, was.Serial):
		s.Log.Warn("the zone changed and its serial did not, so secondaries will not fetch it",
			"zone", z.String(), "serial", p.Serial, "was", was.Serial)
		return nil
	}
	return []publishedVersion{{p, z, now}}
}

// storePublished stores the versions, so that a restart has them whatever became of the
// files, and notes them.
func (s *Zones) storePublished(list []publishedVersion, by string) {
	apart := map[string][]publishedVersion{}
	for _, p := range list {
		apart[p.z.audience] = append(apart[p.z.audience], p)
	}
	for audience, list := range apart {
		s.storePublishedIn(s.Store.For(audience), list, by)
	}
}

// storePublishedIn stores versions of different zones in one step.
func (s *Zones) storePublishedIn(in *store.Store, list []publishedVersion, by string) {
	var versions []store.Version
	var notes []store.Published
	for _, p := range list {
		v := p.z.next(p.snap, store.Meta{Stored: p.At, Checked: p.At, Stamp: p.z.lastGood().stamp}, store.Info{By: by, Way: store.FromFile})
		versions = append(versions, v)
		notes = append(notes, p.Published)
	}
	metas, err := in.PutAll(versions)
	if errors.Is(err, store.ErrNotHead) { // one is not what we took it for: let the store see
		for i := range versions {
			versions[i].Delta = nil
		}
		metas, err = in.PutAll(versions)
	}
	if err == nil {
		err = in.Publish(notes)
	}
	if err != nil {
		s.Log.Error("the published serials could not be stored", "error", err)
		return
	}
	for i, p := range list {
		p.z.setHead(p.snap, metas[i])
	}
}
