package zonestate

import (
	"context"
	"fmt"
	"time"

	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
)

// NOTIFY is repeated with growing gaps until it is answered (RFC 1996 §3.6).
const (
	notifyTries   = 6
	notifyTimeout = 2 * time.Second
	notifyGap     = 5 * time.Second // after the first try; doubled each time
)

// notifyPeers tells all peers of a zone about its new version.
func (s *Zones) notifyPeers(z *zoneState) {
	for _, p := range z.cfg.Load().SendTo {
		s.tell(z, p)
	}
}

// notifyMissed tells the peers that have not been reached with the present version, or
// that are new: what kept them away, such as a wrong secret, may have been mended.
func (s *Zones) notifyMissed(z *zoneState) {
	snap := z.snap()
	if snap == nil {
		return
	}
	for _, p := range z.cfg.Load().SendTo {
		z.mu.Lock()
		state, known := z.notified[p.Name]
		z.mu.Unlock()
		if !known || state.Serial != snap.Serial() || !state.Acked && state.Fetched != snap.Serial() {
			s.tell(z, p)
		}
	}
}

func notifyID(z *zoneState, p Peer) string { return "notify " + p.Name + " " + z.id() }

func (s *Zones) tell(z *zoneState, p Peer) {
	snap := z.snap()
	if snap == nil {
		return
	}
	serial := snap.Serial()
	z.mu.Lock()
	z.notified[p.Name] = peerState{Serial: serial, Fetched: z.notified[p.Name].Fetched}
	z.mu.Unlock()
	s.sched.plan(z, toPeer(p), notifyID(z, p), s.Now(), func(ctx context.Context) { s.notifyOnce(ctx, z, p, serial, 1) })
}

func (s *Zones) notifyOnce(ctx context.Context, z *zoneState, p Peer, serial uint32, try int) {
	if resting := s.health.may(p.Address, s.Now()); resting != nil {
		z.mu.Lock()
		state := z.notified[p.Name]
		if state.Serial != serial { // it is told of a newer version meanwhile
			z.mu.Unlock()
			return
		}
		state.Error, state.Tries = resting, max(state.Tries, resting.tries)
		z.notified[p.Name] = state
		z.mu.Unlock()
		s.sched.planNext(z, toPeer(p), notifyID(z, p), s.Now().Add(resting.wait), func(ctx context.Context) { s.notifyOnce(ctx, z, p, serial, try) })
		return
	}
	err := s.withKeys(p, func(key *tsig.Key) error {
		return resolve.Notify(ctx, resolve.Notification{Net: s.Net, Server: p.Address, Zone: z.name, Key: key, Timeout: notifyTimeout, Local: s.localFor(p.Address)})
	})
	if ctx.Err() != nil {
		return
	}
	s.health.note(p.Address, s.Now(), err)
	z.mu.Lock()
	state := z.notified[p.Name]
	if state.Serial != serial { // it is told of a newer version meanwhile
		z.mu.Unlock()
		return
	}
	state.Tries, state.Acked, state.Error = try, err == nil, err
	z.notified[p.Name] = state
	z.mu.Unlock()
	if err == nil || state.Fetched == serial {
		s.Log.Info("peer told of the new version", "zone", z.String(), "peer", p.Name, "serial", serial)
		s.sched.plan(z, toPeer(p), lookID(z, p), s.Now().Add(lookAfter), func(ctx context.Context) { s.lookAtPeer(ctx, z, p, serial) })
		return
	}
	s.Log.Warn("peer not reached by NOTIFY", "zone", z.String(), "peer", p.Name, "try", try, "error", err)
	if try < notifyTries {
		s.sched.planNext(z, toPeer(p), notifyID(z, p), s.Now().Add(notifyGap<<(try-1)), func(ctx context.Context) { s.notifyOnce(ctx, z, p, serial, try+1) })
	}
}

// lookAfter is how long a peer that was told has to fetch, before it is asked what it has.
const lookAfter = 30 * time.Second

func lookID(z *zoneState, p Peer) string { return "look " + p.Name + " " + z.id() }

// lookAtPeer asks a peer that was told of a version and did not fetch it what it serves.
// One that has a newer serial will never fetch ours (RFC 1982 §3): it says nothing, so
// we have to.
func (s *Zones) lookAtPeer(ctx context.Context, z *zoneState, p Peer, serial uint32) {
	z.mu.Lock()
	state := z.notified[p.Name]
	z.mu.Unlock()
	if state.Serial != serial || state.Fetched == serial {
		return
	}
	var resp *resolve.Response
	err := s.withKeys(p, func(key *tsig.Key) (err error) {
		resp, err = resolve.Ask(ctx, p.Address, resolve.Request{Net: s.Net, Name: z.name, Type: rr.TypeSOA, Timeout: notifyTimeout, TSIG: key, Local: s.localFor(p.Address)})
		return err
	})
	if err != nil {
		return // a peer may answer nobody's queries
	}
	for _, r := range resp.Answer {
		soa, err := rr.ParseSOA(r.Data)
		if r.Type != rr.TypeSOA || err != nil || !rr.NewerSerial(soa.Serial, serial) {
			continue
		}
		z.mu.Lock()
		if state = z.notified[p.Name]; state.Serial == serial && state.Fetched != serial {
			state.Newer, state.Error = true, &AheadError{Zone: z.name, Its: soa.Serial, Ours: serial}
			z.notified[p.Name] = state
		}
		z.mu.Unlock()
		s.Log.Error("a peer has a newer serial than ours and will not take this version", "zone", z.String(), "peer", p.Name, "its", soa.Serial, "ours", serial)
	}
}

// AheadError says that a peer has a newer version than ours.
type AheadError struct {
	Zone      dnsname.Name
	Its, Ours uint32
}

func (e *AheadError) Error() string {
	return fmt.Sprintf("it has serial %d, which is newer than ours, %d: it will not take this version", e.Its, e.Ours)
}
