package zonestate

import (
	"errors"
	"net/netip"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/server/request"
	"fencepost/store"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/zone"
)

// requests is the server as those see it who turn requests into responses.
type requests Zones

// Requests is what handlers of requests share.
func (s *Zones) Requests() *request.Env {
	return &request.Env{Zones: (*requests)(s), Clock: s.clock.Now, Log: s.Log, Counts: &s.counts, Stranger: s.logStranger}
}

// Find implements answer.Source.
func (s *requests) Find(name []byte, above bool) (*zone.Snapshot, answer.State) {
	z := s.table.Load().find(name, above)
	if z == nil {
		return nil, answer.NotServed
	}
	return z.found()
}

// found is what there is to answer from.
func (z *zoneState) found() (*zone.Snapshot, answer.State) {
	if snap := z.snap(); snap != nil {
		return snap, answer.Served
	}
	if z.lastGood().withdrawn {
		return nil, answer.Expired
	}
	return nil, answer.Unavailable
}

// Exact implements request.Zones.
func (s *requests) Exact(name []byte) request.Zone {
	if z := s.table.Load().exact(name); z != nil {
		return requested{(*Zones)(s), z}
	}
	return nil
}

// Key implements request.Zones.
func (s *requests) Key(name dnsname.Name) *tsig.Key { return s.table.Load().keys[name.Key()] }

// Identity implements request.Zones.
func (s *requests) Identity() *request.Identity { return s.table.Load().identity }

// Heard implements request.Zones.
func (s *requests) Heard(at netip.AddrPort) { s.health.heard(at) }

// requested is a zone that a request is about.
type requested struct {
	s *Zones
	*zoneState
}

func (z requested) Name() dnsname.Name          { return z.name }
func (z requested) Snapshot() *zone.Snapshot    { return z.snap() }
func (z requested) Expire() int64               { return z.expire(z.s.Now()) }
func (z requested) Receivers() []resolve.Server { return z.cfg.Load().SendTo }
func (z requested) Primaries() []resolve.Server { return z.cfg.Load().fetchFrom() }
func (z requested) Changed()                    { z.s.refreshSoon(z.zoneState) }

// Fetched takes note that a peer has transferred a version.
func (z requested) Fetched(peer string, serial uint32) {
	z.mu.Lock()
	defer z.mu.Unlock()
	state := z.notified[peer]
	state.Fetched = serial
	z.notified[peer] = state
}

// Steps is what leads from a serial to a version, in one difference (RFC 1995 §6); nil
// where that is not kept or is more than the version itself (§5).
func (z requested) Steps(to *zone.Snapshot, from uint32) transfer.Body {
	if z.s.Store == nil {
		return nil
	}
	// Many steps over the same names are much less in one.
	const most, least = 4, 64 << 10
	deltas, err := z.s.storeOf(z.zoneState).Steps(z.name, from, to.Serial(), int64(max(most*to.Octets(), least)))
	if err != nil {
		if errors.Is(err, store.ErrDamaged) {
			z.s.Log.Error("what changed in a zone cannot be read, so it is sent whole", "zone", z.String(), "error", err)
		}
		return nil
	}
	all := zone.Join(deltas...)
	body, ok := transfer.Steps([]*zone.Delta{all})
	if !ok || all.Octets() > to.Octets() {
		return nil
	}
	return body
}

// expire is for how many seconds a zone may still be served: for ever, so as long as the
// SOA says, where we are primary (RFC 7314 §3.1, §3.2). Negative: it is not served.
func (z *zoneState) expire(now time.Time) int64 {
	snap := z.snap()
	if snap == nil {
		return -1
	}
	soa, _ := snap.SOA()
	if !z.role().Fetches() {
		return int64(soa.Expire)
	}
	z.mu.Lock()
	defer z.mu.Unlock()
	left := int64(z.clock.Expires().Sub(now) / time.Second)
	return max(0, min(left, int64(soa.Expire)))
}
