package zonestate

import (
	"context"
	"errors"
	"time"

	"fencepost/signer"
	"fencepost/store"
	"fencepost/zone"
)

// version is what is known of one version of a zone. It never changes: what becomes of
// it is another one in its place.
type version struct {
	served *zone.Snapshot // what is answered from
	// source is what was loaded or fetched: served itself where we do not sign. Nil where
	// we sign and it is not known, as after a restart of a signer in the middle.
	source *zone.Snapshot
	// withdrawn is set where it may not be served any more: no primary has confirmed it
	// for too long.
	withdrawn bool
	origin
	fingerprint string    // what the signed version was made with; see Signer
	since       time.Time // when it was put in service
	expires     time.Time // when the first signature ends; zero without signatures
	renew       time.Time // when to sign again
	warning     string    // what is odd about it

	sourceSerial uint32 // where we sign: that of the source
}

// origin says where a version comes from.
type origin struct {
	from string // the primary; empty: a file
	// read is what the files held, before what is pending was merged into it; nil: it is not known,
	// or is the source.
	read    *zone.Snapshot
	by      string     // who had it loaded, in words; empty: nobody in particular
	way     store.Way  // how
	checked time.Time  // when the primary last confirmed the source
	stamp   string     // of files: what the source was read from; see Input
	checks  CheckState // of files, likewise
}

// loaded is what was loaded or fetched last, as far as it is known.
func (v *version) loaded() *zone.Snapshot {
	if v.read != nil {
		return v.read
	}
	return v.source
}

// snap is what is answered from; nil while there is nothing.
func (z *zoneState) snap() *zone.Snapshot {
	if v := z.version.Load(); v != nil && !v.withdrawn {
		return v.served
	}
	return nil
}

// lastGood is what we have, even if it may not be served; a version without content if
// there is nothing.
func (z *zoneState) lastGood() version {
	if v := z.version.Load(); v != nil {
		return *v
	}
	return version{}
}

// amend puts a version in the place of the one there is that differs in what f changes,
// and is the same to those who ask. z.mu is held.
func (z *zoneState) amend(f func(v *version)) {
	v := z.lastGood()
	f(&v)
	z.version.Store(&v)
}

// putInService makes a version the one that is answered from.
func (s *Zones) putInService(z *zoneState, v version) {
	v.since = s.Now()
	z.mu.Lock()
	s.setProblemLocked(z, nil)
	z.version.Store(&v)
	z.mu.Unlock()
	s.planLapse(z)
	s.Log.Info("zone in service", "zone", z.String(), "serial", v.served.Serial(), "records", v.served.Records())
}

// stored is the newest version in the store; nil where there is none.
func (s *Zones) stored(z *zoneState) (*zone.Snapshot, store.Meta, error) {
	if s.Store == nil {
		return nil, store.Meta{}, nil
	}
	var snap *zone.Snapshot
	var meta store.Meta
	err := s.storing(func() (err error) {
		snap, meta, err = s.storeOf(z).Load(z.name)
		return err
	})
	if err == nil && snap != nil {
		z.setHead(snap, meta)
	}
	return snap, meta, err
}

// setHead notes what the newest version in the store is.
func (z *zoneState) setHead(snap *zone.Snapshot, meta store.Meta) {
	z.mu.Lock()
	defer z.mu.Unlock()
	z.head, z.headMeta = snap, meta
}

// next is a version to be stored after the one that is there.
func (z *zoneState) next(snap *zone.Snapshot, meta store.Meta, info store.Info) store.Version {
	v := store.Version{Zone: snap, Meta: meta, Info: info}
	z.mu.Lock()
	head := z.head
	v.Prev = z.headMeta
	z.mu.Unlock()
	if head != nil {
		v.Delta = zone.Diff(head, snap)
	}
	return v
}

// storeRetry is when a version that could not be stored is tried again.
const storeRetry = time.Minute

func storeID(z *zoneState) string { return "store " + z.id() }

// keep stores a version that is about to be served, so that it is on stable storage
// before anyone is offered it (RFC 1995 §2). Where that fails, as on a full disk, it is
// served all the same: what is valid now must not lapse. It is told, and tried again.
func (s *Zones) keep(ctx context.Context, z *zoneState, snap *zone.Snapshot, meta store.Meta, info store.Info) {
	if s.Store != nil {
		s.storeOr(s.sched.plan, ctx, z, snap, meta, info)
	}
}

// storeOr is keep that plans the next try by plan: the retry of one version does not put off that of
// a newer one.
func (s *Zones) storeOr(plan func(*zoneState, queue, string, time.Time, func(context.Context)), ctx context.Context, z *zoneState, snap *zone.Snapshot, meta store.Meta, info store.Info) {
	err := s.put(ctx, z, z.next(snap, meta, info))
	if err == nil {
		return
	}
	s.setUnstored(z, err)
	s.Log.Error("the version in service could not be stored: a restart would bring an older one back", "zone", z.String(), "serial", snap.Serial(), "error", err)
	plan(z, here, storeID(z), s.Now().Add(storeRetry), func(ctx context.Context) {
		if z.snap() == snap {
			s.storeOr(s.sched.planNext, ctx, z, snap, meta, info)
		}
	})
}

// put stores a version.
func (s *Zones) put(ctx context.Context, z *zoneState, v store.Version) error {
	s.cpu.waits(ctx)
	var got store.Meta
	err := s.storing(func() (err error) {
		got, err = s.storeOf(z).Put(v)
		if errors.Is(err, store.ErrNotHead) { // it is not what we took it for: let the store see
			v.Delta = nil
			got, err = s.storeOf(z).Put(v)
		}
		return err
	})
	if err != nil {
		return err
	}
	z.mu.Lock()
	z.unstored = nil
	z.head, z.headMeta = v.Zone, got
	z.mu.Unlock()
	s.sched.cancel(storeID(z))
	return nil
}

// storeUnsigned stores a version of a zone that we do not sign.
func (s *Zones) storeUnsigned(ctx context.Context, z *zoneState, snap *zone.Snapshot, o origin) {
	now := s.Now()
	s.keep(ctx, z, snap, store.Meta{Stored: now, Checked: now, From: o.from, Stamp: o.stamp}, store.Info{By: o.by, Way: o.way})
}

// unsigned is a version that is served as it was loaded or fetched. delta is what differs
// from the version before, which was served in the same way; nil: it is not known.
func (s *Zones) unsigned(before version, delta *zone.Delta, snap *zone.Snapshot, o origin) version {
	v := version{served: snap, source: snap, origin: o}
	if delta != nil && before.served == before.source {
		v.expires = signer.FirstExpiryAfter(before.expires, delta, snap, s.Now())
	} else {
		v.expires = signer.FirstExpiry(snap, s.Now())
	}
	return v
}
