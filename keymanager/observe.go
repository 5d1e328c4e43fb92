package keymanager

import (
	"context"
	"fmt"
	"slices"
	"time"

	"fencepost/keyring"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/zone"
)

// observed is what the servers of a zone and of its parent showed.
type observed struct {
	of      string // the step of a rollover that it is about, see stepOf; empty: there was none
	looks   []roll.Observation
	ttl     uint32 // of the parent's DS; 0: not seen
	keysTTL uint32 // the longest of the DNSKEY sets of other signers; 0: there are none, or it was not seen
	rejects bool   // a server of the parent has only DS that fit no key
	parent  bool   // the parent was asked outside of rollovers
}

// stepOf tells apart what servers have to show for a rollover; empty: nothing just now.
func stepOf(r *roll.Rollover) string {
	if r == nil || r.Paused || r.Shown.IsZero() {
		return ""
	}
	return fmt.Sprint(r.Kind, r.Started.UnixNano(), r.Step, r.Serial, r.RollingBack)
}

// Observe looks at the servers that have to show something of the keys. It may take long,
// and may run beside other calls for the same zone. What it returns is for Advance.
func (s *Manager) Observe(ctx context.Context) (any, error) {
	ring, err := s.open()
	if err != nil {
		return nil, err
	}
	o := &observed{of: stepOf(ring.Roll.Roll)}
	w := s.observer(ring)
	w.extra = s.Policy.Signing.KeepKeys
	switch r := ring.Roll.Roll; {
	case o.of != "":
		w.serial = r.Serial
		var parents []resolve.Server
		if ring.Roll.NeedsParent() || wantsDS(ring) { // where it does not move the rollover on: it may be wrong
			parents = s.parents(ctx)
		}
		o.looks, o.ttl = w.looks(ctx, s.Servers, parents)
		others, keysTTL := w.looksAtSigners(ctx, s.Signers, ring.Roll.NeedsParent())
		o.looks, o.keysTTL = append(o.looks, others...), keysTTL
	case watchesDS(ring):
		o.parent = true
		o.looks, o.ttl = w.looks(ctx, nil, s.parents(ctx))
	}
	o.rejects = w.rejects.Load()
	return o, nil
}

// lookSoon is when servers are looked at again where what they showed was of another step.
const lookSoon = 2 * time.Second

// Advance looks whether keys have to change, by what Observe has seen, which may be out of
// date; z is what is in service. With resign the zone has to be signed again. again is when
// to look next; zero when there is nothing to wait for.
func (s *Manager) Advance(seen any, z *zone.Snapshot, now time.Time) (resign bool, again time.Time, err error) {
	ring, err := s.open()
	if err != nil {
		return false, again, err
	}
	before := s.fingerprint(ring)
	due, err := s.Policy.startDue(ring, now)
	if err != nil {
		return false, again, err
	}
	o, _ := seen.(*observed)
	if o == nil {
		o = &observed{}
	}
	out := s.advance(ring, o, z, now)
	s.tell(out.Events)
	if watchesDS(ring) {
		out.Again = now.Add(lookSoon)
		if o.parent {
			s.heardOfDS(ring, o, z, now)
			out.Again = now.Add(watchDSEvery)
		}
	}
	if err := ring.Save(); err != nil {
		return false, again, err
	}
	if again = out.Again; again.IsZero() || !due.IsZero() && due.Before(again) {
		again = due
	}
	return out.Resign || s.fingerprint(ring) != before, again, nil
}

// advance moves a rollover on by what was observed, which may be of a step before.
func (s *Manager) advance(ring *keyring.Ring, o *observed, z *zone.Snapshot, now time.Time) roll.Outcome {
	var looks []roll.Observation
	step := stepOf(ring.Roll.Roll)
	if step != "" && step == o.of {
		r := ring.Roll.Roll
		here := roll.Observation{Server: "this server"}
		if z.Serial() != r.Serial && !rr.NewerSerial(z.Serial(), r.Serial) {
			here.Mismatch = fmt.Sprintf("it serves serial %d; %d is needed", z.Serial(), r.Serial)
		}
		looks = append([]roll.Observation{here}, o.looks...)
		s.noteParent(ring, o, now)
		if o.ttl > 0 {
			ring.TTLs.DS = ring.TTLs.DS.Note(o.ttl, now, expireOf(z))
		}
	}
	t := s.Policy.Timing(ring)
	if looks != nil && o.keysTTL > 0 { // caches may have the keys from them
		t.Keys = append(slices.Clone(t.Keys), roll.TTL{Seconds: o.keysTTL})
	}
	out := ring.Roll.Advance(now, looks, &t)
	if step != "" && looks == nil && !out.Resign {
		out.Again = now.Add(lookSoon)
	}
	return out
}

// findParentWait bounds how long the system's resolver is waited for.
const findParentWait = 3 * time.Second

// parents are the servers of the zone above: those that were given, else
// those that the system's resolver knows; none if it knows none either.
func (s *Manager) parents(ctx context.Context) []resolve.Server {
	if len(s.Parent) > 0 || s.Parents == nil {
		return s.Parent
	}
	ctx, cancel := netio.WithTimeout(ctx, netio.Or(s.Net).Clock(), findParentWait)
	defer cancel()
	found, err := s.Parents.Above(ctx, s.Name)
	if err != nil {
		s.Log.Warn("the servers of the parent are not known", "zone", s.Name.String(), "error", err)
	}
	return found
}
