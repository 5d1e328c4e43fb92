package server

import (
	"context"

	"fencepost/journal"
	"fencepost/rr"
	"fencepost/zone"
)

// Digest tells versions of a zone apart by their whole content.
func Digest(z *zone.Snapshot) string { return sourceDigest(z, "") }

// digestLater is from how many octets on a zone is digested after it is in
// service: a large one would keep the server from being ready.
const digestLater = 8 << 20

func rememberID(z *served) string { return "remember " + z.name.Key() }

// remember keeps what is now in service of unsigned zones from files, so that a
// change without a new serial is noticed also across restarts. s.mu is held.
func (s *Server) remember(zones []*served, results []ZoneResult) {
	if s.Store == nil {
		return
	}
	var list []publishedVersion
	for i, z := range zones {
		cfg := z.cfg.Load()
		now := z.snap.Load()
		if results[i].Change != Loaded || now == nil || cfg.Signer != nil || len(cfg.FetchFrom) > 0 {
			continue
		}
		if now.Octets() >= digestLater {
			s.sched.plan(z, here, rememberID(z), s.Now(), func(context.Context) { s.keepPublished(s.published(z)) })
			continue
		}
		list = append(list, s.published(z)...)
	}
	s.keepPublished(list)
}

// publishedVersion is a version of an unsigned zone from a file, to be stored with what was
// published of it.
type publishedVersion struct {
	journal.Published
	snap *zone.Snapshot
}

// published is what is to be kept of a zone; nothing if that is known already, or
// if the serial did not move: until it does, what counts is what secondaries have.
func (s *Server) published(z *served) []publishedVersion {
	now := z.snap.Load()
	if now == nil {
		return nil
	}
	p := journal.Published{Zone: z.name.Lower().String(), Serial: now.Serial(), Digest: Digest(now), At: s.Now()}
	was, found, err := s.Store.LastPublished(z.name)
	switch {
	case err != nil || !found:
	case was.Digest == p.Digest:
		return nil
	case !rr.NewerSerial(p.Serial, was.Serial):
		s.Log.Warn("the content changed since it was last served and the serial did not move, so secondaries will not take it",
			"zone", z.name.String(), "serial", p.Serial, "was", was.Serial)
		return nil
	}
	return []publishedVersion{{p, now}}
}

// keepPublished stores the versions, so that a restart has them whatever became of the
// files, and notes them.
func (s *Server) keepPublished(list []publishedVersion) {
	var versions []journal.Version
	var notes []journal.Published
	for _, p := range list {
		versions = append(versions, journal.Version{Zone: p.snap, Meta: journal.Meta{Stored: p.At, Checked: p.At}})
		notes = append(notes, p.Published)
	}
	err := s.Store.SaveAll(versions)
	if err == nil {
		err = s.Store.Publish(notes)
	}
	if err != nil {
		s.Log.Error("what was published could not be noted", "error", err)
	}
}
