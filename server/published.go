package server

import (
	"fencepost/journal"
	"fencepost/rr"
	"fencepost/zone"
)

// Digest tells versions of a zone apart by their whole content.
func Digest(z *zone.Snapshot) string { return sourceDigest(z, "") }

// remember keeps what is now in service of unsigned zones from files, so that a
// change without a new serial is noticed also across restarts. s.mu is held.
func (s *Server) remember(zones []*served, results []ZoneResult) {
	if s.Store == nil {
		return
	}
	var list []journal.Published
	for i, z := range zones {
		cfg := z.cfg.Load()
		now := z.snap.Load()
		if results[i].Change != Loaded || now == nil || cfg.Sign != nil || len(cfg.FetchFrom) > 0 {
			continue
		}
		p := journal.Published{Zone: z.name.Lower().String(), Serial: now.Serial(), Digest: Digest(now), At: s.Now()}
		was, found, err := s.Store.LastPublished(z.name)
		if err == nil && found && was.Digest == p.Digest {
			continue
		}
		if found && !rr.NewerSerial(p.Serial, was.Serial) {
			s.Log.Warn("the content changed since it was last served and the serial did not move, so secondaries will not take it",
				"zone", z.name.String(), "serial", p.Serial, "was", was.Serial)
			continue // until the serial moves, what counts is what the secondaries have
		}
		list = append(list, p)
	}
	if err := s.Store.Publish(list); err != nil {
		s.Log.Error("what was published could not be noted", "error", err)
	}
}
