package zonestate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/update"
)

// Follow keeps the addresses of a name like those of another that is somewhere else.
type Follow struct {
	Owner  dnsname.Name
	Source dnsname.Name
	TTL    uint32 // of the records, where there are none yet
	// AtLeast and AtMost bound how long after one look the next one is, which is else the TTL of the source.
	AtLeast, AtMost time.Duration
	// Look finds the addresses. An error leaves things as they are.
	Look func(ctx context.Context) (resolve.Addresses, error)
}

// FollowState is how far a Follow has got.
type FollowState struct {
	Owner, Source string
	Checked       time.Time // when the source answered last; zero: it has not since the start
	Failing       time.Time // since when it does not; zero: it does
	Next          time.Time
	Problem       error
}

func (f *Follow) id(z *zoneState) string {
	return "follow " + z.id() + f.Owner.Key() + f.Source.Key()
}

func (f *Follow) words() string { return "follow " + f.Source.Plain() }

// planFollows plans looks that are not planned yet, and forgets what is no longer configured.
func (s *Zones) planFollows(z *zoneState) {
	cfg := z.cfg.Load()
	z.mu.Lock()
	known := z.follows
	z.follows = map[string]*FollowState{}
	var fresh []*Follow
	for i := range cfg.Follows {
		f := &cfg.Follows[i]
		state := known[f.id(z)]
		if state == nil {
			state = &FollowState{Owner: f.Owner.String(), Source: f.Source.String(), Next: s.Now()}
			fresh = append(fresh, f)
		}
		z.follows[f.id(z)] = state
	}
	z.mu.Unlock()
	for _, f := range fresh {
		s.planFollow(z, f.id(z), s.Now())
	}
}

func (s *Zones) planFollow(z *zoneState, id string, at time.Time) {
	s.sched.plan(z, following, id, at, func(ctx context.Context) { s.follow(ctx, z, id) })
}

// follow looks once, under the configuration in service.
func (s *Zones) follow(ctx context.Context, z *zoneState, id string) {
	cfg := z.cfg.Load()
	i := slices.IndexFunc(cfg.Follows, func(f Follow) bool { return f.id(z) == id })
	if i < 0 {
		return
	}
	f := &cfg.Follows[i]
	found, err := f.Look(ctx)
	if ctx.Err() != nil {
		return
	}
	wait := f.AtLeast
	if err == nil {
		err = s.followTo(z, f, found)
	}
	if err == nil {
		wait = max(f.AtLeast, min(found.TTL, f.AtMost))
	}
	now := s.Now()
	next := now.Add(wait + time.Duration(float64(wait)*s.Rand()/followSpread))
	z.mu.Lock()
	state := z.follows[id]
	if state == nil { // no longer configured
		z.mu.Unlock()
		return
	}
	began := err != nil && state.Failing.IsZero()
	state.Next, state.Problem = next, err
	switch {
	case err == nil:
		state.Checked, state.Failing = now, time.Time{}
	case began:
		state.Failing = now
	}
	z.mu.Unlock()
	if began {
		s.Log.Warn("the addresses of a name are no longer followed: they stay as they are", "zone", z.String(), "name", f.Owner.String(), "source", f.Source.String(), "error", err)
	}
	s.planFollow(z, id, next)
}

// followSpread is which part of a wait is added by chance at most.
const followSpread = 10

// errAlias means that what is followed has no place in the zone.
var errAlias = errors.New("a CNAME record is there: remove it, and the addresses are followed")

// followTo gives a name the addresses that were found, where it has others. It is never left without any.
func (s *Zones) followTo(z *zoneState, f *Follow, found resolve.Addresses) error {
	have := z.lastGood()
	if have.source == nil {
		return errors.New("the zone's file could not be read")
	}
	r := &update.Request{Zone: z.name}
	for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
		set, _ := have.source.Find(f.Owner, t, 0)
		ttl := f.TTL
		if set.N > 0 {
			ttl = set.TTL
		}
		if sameAddresses(slices.Collect(set.Data), found.Sets[t]) {
			continue
		}
		r.Changes = append(r.Changes, rr.Record{Name: f.Owner, Type: t, Class: rr.ClassAny})
		for _, data := range found.Sets[t] {
			r.Changes = append(r.Changes, rr.Record{Name: f.Owner, Type: t, Class: rr.ClassIN, TTL: ttl, Data: data})
		}
	}
	if len(r.Changes) == 0 {
		return nil
	}
	if err := s.UpdateBy(z.name, r, f.words()); err != nil {
		return fmt.Errorf("the addresses could not be changed: %w", err)
	}
	if _, alias := z.lastGood().source.Find(f.Owner, rr.TypeCNAME, 0); alias {
		return errAlias
	}
	return nil
}

func sameAddresses(a, b [][]byte) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.SortFunc(a, bytes.Compare)
	slices.SortFunc(b, bytes.Compare)
	return slices.EqualFunc(a, b, bytes.Equal)
}
