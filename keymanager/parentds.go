package keymanager

import (
	"fmt"
	"slices"
	"time"

	"fencepost/keyring"
	"fencepost/roll"
	"fencepost/zone"
)

// watchDSEvery is how often the parent is asked for the DS of a zone outside
// rollovers: for as long as the zone lives, for it may turn wrong at any time.
const watchDSEvery = time.Hour

// wantsDS reports whether there are keys that the parent is to have the DS of.
func wantsDS(ring *keyring.Ring) bool {
	return slices.ContainsFunc(ring.Keys, func(e *keyring.Entry) bool { return e.DS })
}

// watchesDS reports whether the parent is asked for the DS outside of rollovers.
func watchesDS(ring *keyring.Ring) bool { return ring.Roll.Roll == nil && wantsDS(ring) }

// heardOfDS notes whether the parent has the DS of the keys in use.
func (s *Manager) heardOfDS(ring *keyring.Ring, o *observed, z *zone.Snapshot, now time.Time) {
	if o.ttl > 0 {
		ring.TTLs.DS = ring.TTLs.DS.Note(o.ttl, now, expireOf(z))
	}
	if (ring.Roll.Unseen() || ring.Roll.Lingers()) && ring.Roll.NoteParent(o.looks, now) {
		s.tell([]string{"the parent has the DS of the keys in use, and no other"})
	}
	s.noteParent(ring, o, now)
}

// noteParent keeps what is wrong at the parent, and tells when that changes. While the DS is being
// changed there, or was never entered, only what makes resolvers reject the zone is wrong.
func (s *Manager) noteParent(ring *keyring.Ring, o *observed, now time.Time) {
	was, p, answered := ring.Parent, &ring.Parent, false
	p.Problem, p.Rejects, p.Lacks, p.Names = "", o.rejects, nil, nil
	for _, l := range o.looks {
		if !l.Parent || l.Err != nil {
			continue
		}
		answered = true
		if l.Mismatch != "" && p.Problem == "" {
			p.Problem = l.Server + ": " + l.Mismatch
		}
		for _, e := range ring.Keys {
			switch has := slices.Contains(l.DS, e.Tag); {
			case e.DS && !has && !slices.Contains(p.Lacks, e.Tag):
				p.Lacks = append(p.Lacks, e.Tag)
			case has && !e.Publish && !slices.Contains(p.Names, e.Tag):
				p.Names = append(p.Names, e.Tag)
			}
		}
	}
	if !answered { // nothing new is known
		ring.Parent = was
		return
	}
	if (ring.Roll.ChangesDS() || ring.Roll.Unseen()) && !o.rejects {
		p.Problem, p.Lacks, p.Names = "", nil, nil
	}
	switch {
	case p.Problem == "":
		p.Since = time.Time{}
	case was.Problem == "":
		p.Since = now
	}
	switch {
	case p.Problem == was.Problem:
	case p.Problem == "":
		s.Log.Info("the DS at the parent is right again", "zone", s.Name.String())
	default:
		s.Log.Error("the DS at the parent is not that of the keys in use", "zone", s.Name.String(), "problem", p.Problem, "rejected", p.Rejects, "next", NextForDS(ring))
	}
}

// NextForDS is what to do about what is wrong with the DS at the parent; empty if nothing is. A key that
// the parent still names helps at once where it is still there: the zone is rejected for as long as the
// wrong DS is in caches.
func NextForDS(ring *keyring.Ring) string {
	if ring.Parent.Problem == "" {
		return ""
	}
	out := "have the parent's operator enter the DS of the keys in use: fencepost handover " + ring.Zone.Plain()
	for _, tag := range ring.Parent.Names {
		if e := ring.ByTag(tag); e != nil && ring.Parent.Rejects && MayPutBack(e) {
			return fmt.Sprintf("put key %d back, which the parent names: fencepost key activate %s %d; then %s", tag, ring.Zone.Plain(), tag, out)
		}
	}
	return out
}

// MayPutBack reports whether a key that left the zone can be used again.
func MayPutBack(e *keyring.Entry) bool {
	return !e.Publish && !e.Foreign && !e.Revoked && e.File != "" && e.EntryPoint()
}

// stuckAfter is for how long something may be wrong before a rollover counts as
// stuck.
const stuckAfter = time.Hour

// State tells what there is to tell of the keys. It asks nobody and does not wait.
func (s *Manager) State() (out State) {
	ring, err := s.open()
	if err != nil {
		return out // the server has the same problem, and says so
	}
	now := s.Now()
	if r := ring.Roll.Roll; r != nil {
		t := s.Policy.Timing(ring)
		out.Rollover = r.Kind.Description()
		for _, row := range r.Timeline(now, &t) {
			if row.Phase == roll.Now {
				out.Step, out.Waits = row.Title, row.Waits
			}
		}
		for _, o := range r.States {
			out.Stuck = out.Stuck || o.Problem != "" && now.Sub(later(o.Seen, r.Shown)) > stuckAfter && !r.Shown.IsZero()
		}
	}
	if ring.Parent.Problem != "" {
		out.DS, out.DSWrong, out.NextForDS = ring.Parent.Problem, ring.Parent.Rejects || len(ring.Parent.Lacks) > 0, NextForDS(ring)
		out.Stuck = out.Stuck || ring.Roll.Roll == nil
		return out
	}
	if ring.Roll.Roll != nil {
		return out
	}
	for _, e := range ring.Keys {
		switch {
		case e.DS && !e.Seen.IsZero():
			out.DS = fmt.Sprintf("the parent has the DS of key %d", e.Tag)
		case e.DS:
			out.DS = fmt.Sprintf("the parent has not been seen to have the DS of key %d", e.Tag)
		}
	}
	return out
}
