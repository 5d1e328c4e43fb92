package zonestate

import (
	"context"
	"errors"
	"fmt"
	"time"

	"fencepost/dnsname"
	"fencepost/store"
	"fencepost/zone"
)

// Step is a new version of a zone that is read from files, by what differs from the one
// before. Whoever makes it has checked it as Load does.
type Step struct {
	Before string // Snapshot.Digest of the source it begins with
	Delta  *zone.Delta
	Stamp  string // of the files, see Input
}

// Errors of steps: the zone is to be loaded instead.
var (
	ErrNotFromFiles   = errors.New("the zone is not read from files")
	ErrAnotherVersion = errors.New("the change is one of another version")
)

// ErrNotInFiles means that a version in service was not what its files hold.
var ErrNotInFiles = errors.New("the version in service differs from the zone's files")

// proveAfter is how long after the last step of a zone its files are read. A row of edits is
// read once.
const proveAfter = time.Minute

// TakeStep puts a version in service without reading its files, under the configuration in
// service. With an error nothing has happened; that the version is refused is in the result.
//
// A step is believed for a while only: it has no stamp, so the next reload and the next start
// read the files, and so does the server itself, a minute after the last step.
func (s *Zones) TakeStep(ctx context.Context, name dnsname.Name, st Step, by string) (ZoneResult, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	z := s.table.Load().zones[name.Key()]
	switch {
	case z == nil:
		return ZoneResult{}, fmt.Errorf("%s: %w", name, ErrNoZone)
	case z.role().Fetches() || z.cfg.Load().files().Once:
		return ZoneResult{}, ErrNotFromFiles
	}
	last := z.lastGood()
	have := last.loaded()
	if have == nil || have.Digest() != st.Before {
		return ZoneResult{}, ErrAnotherVersion
	}
	next, err := have.With(st.Delta)
	if err != nil {
		return ZoneResult{}, err
	}
	in := Input{Zone: next, Delta: st.Delta}
	if known := last.checks; known != nil {
		in.Checks = known.After(next, st.Delta)
	}
	change, err := s.install(ctx, z, in, origin{by: by, way: store.FromFile, checked: s.Now()})
	result := s.loaded(z, change, err)
	s.remember([]*zoneState{z}, []ZoneResult{result}, by)
	s.logChange(z, result.Change)
	if err == nil && st.Stamp != "" {
		s.sched.plan(z, here, "prove "+z.id(), s.Now().Add(proveAfter), func(ctx context.Context) { s.proveStep(ctx, z, st.Stamp) })
	}
	return result, nil
}

// proveStep reads the files of a zone of which the last step told what they hold. Files that have
// changed since wait for a reload; a version that is not what they hold is replaced by what is.
func (s *Zones) proveStep(ctx context.Context, z *zoneState, stamp string) {
	files, last := z.cfg.Load().files(), z.lastGood()
	have := last.loaded()
	if files == nil || files.Unchanged == nil || have == nil || last.stamp != "" {
		return // it is another kind of zone now, or has been loaded meanwhile
	}
	if _, same := files.Unchanged(stamp); !same {
		return
	}
	in, err := s.load(ctx, z)
	if err == nil {
		if in.Delta != nil && in.Delta.Empty() || zone.Equal(have, in.Zone) {
			s.stepProved(z, have, in)
			return
		}
		err = ErrNotInFiles
	}
	if now := z.lastGood(); now.loaded() != have {
		return // another step came meanwhile, which is proved for itself
	}
	s.Log.Error("an edit was handed over that is not in the zone's files: they are read again", "zone", z.String(), "error", err)
	if _, err := s.ReloadZone(ctx, z.name, "the server itself"); err != nil {
		s.Log.Error("reload", "zone", z.String(), "error", err)
	}
}

// stepProved notes that the files of a zone hold what was made of a step.
func (s *Zones) stepProved(z *zoneState, have *zone.Snapshot, in Input) {
	z.mu.Lock()
	last := z.lastGood()
	fits := last.loaded() == have
	if fits {
		z.amend(func(v *version) { v.stamp, v.checks = in.Stamp, in.Checks })
	}
	z.mu.Unlock()
	if fits {
		s.noteStamp(z)
	}
}
