package zonestate

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/update"
	"fencepost/zone"
)

// takesUpdates reports whether a zone may differ from its files by requests: then its serials are ours.
func (s *Zones) takesUpdates(z *zoneState) bool {
	cfg := z.cfg.Load()
	if cfg.files() == nil {
		return false
	}
	return cfg.Updates != nil || len(cfg.Follows) > 0 || cfg.files().Once || cfg.files().Numbered || !s.pendingOf(z).Empty()
}

// pendingOf is what requests changed in a zone beside its files.
func (s *Zones) pendingOf(z *zoneState) *update.Pending {
	z.mu.Lock()
	defer z.mu.Unlock()
	if z.pending == nil {
		z.pending = s.storedPending(z)
	}
	return z.pending
}

func (s *Zones) storedPending(z *zoneState) *update.Pending {
	if s.Store == nil {
		return update.NewPending()
	}
	if has, err := s.storeOf(z).HasPending(z.name); err == nil && !has {
		return update.NewPending()
	}
	var kept store.Pending
	err := s.storing(func() (err error) {
		kept, err = s.storeOf(z).Pending(z.name)
		return err
	})
	var all []*update.Change
	for _, octets := range kept {
		c, perr := update.ParseChange(z.name, octets)
		if perr != nil {
			err = errors.Join(err, perr)
			continue
		}
		all = append(all, c)
	}
	if err != nil {
		s.Log.Error("some of what requests changed can no longer be told from what is in the file", "zone", z.String(), "error", err)
	}
	return update.NewPending(all...)
}

// ConflictError says that what was changed in a file does not go together with what requests changed.
type ConflictError struct {
	Zone dnsname.Name
	*update.Conflicts
	Where []string // where the file has each of them; empty: nowhere
}

func (e *ConflictError) Error() string {
	const most = 3
	var parts []string
	for i, c := range e.List {
		if len(parts) == most {
			parts = append(parts, fmt.Sprintf("and %d more", len(e.List)-most))
			break
		}
		at := "the file has " + update.Describe(c.InFile)
		if e.Where[i] != "" {
			at = e.Where[i] + " has " + update.Describe(c.InFile)
		}
		parts = append(parts, fmt.Sprintf("%s %s %s: %s; served is %s, since %s", c.Owner.Plain(), c.Type, c.Why, at, update.Describe(c.Now), c.At.UTC().Format("2006-01-02 15:04 MST")))
	}
	return strings.Join(parts, "; ")
}

func (e *ConflictError) Unwrap() error { return e.Conflicts }

// merge is what is to be served of a version from files: with what is pending in it, under the
// file's serial if that is newer than what is in service, else the next. touched is what becomes
// of what is pending. drop is true for pending sets that are given up; nil gives up none.
func (s *Zones) merge(z *zoneState, read *zone.Snapshot, drop func(*update.Change) bool) (source *zone.Snapshot, touched update.Touched, err error) {
	merged, touched, err := s.pendingOf(z).Merge(read, drop)
	var conflicts *update.Conflicts
	if errors.As(err, &conflicts) {
		return nil, nil, s.located(z, conflicts)
	}
	if err != nil {
		return nil, nil, err
	}
	serial, digest, known := s.lastSource(z)
	if !known || rr.NewerSerial(read.Serial(), serial) {
		return merged, touched, nil
	}
	if source, err = update.WithSerial(merged, serial); err == nil && source.Digest() != digest {
		source, err = update.WithSerial(merged, rr.NextSerial(serial))
	}
	return source, touched, err
}

// located says where a file has what is in conflict.
func (s *Zones) located(z *zoneState, c *update.Conflicts) error {
	e := &ConflictError{z.name, c, make([]string, len(c.List))}
	if f := z.cfg.Load().files(); f != nil && f.Where != nil {
		for i := range c.List {
			e.Where[i] = f.Where(c.List[i].Owner, c.List[i].Type)
		}
	}
	return e
}

// lastSource is the serial and the digest of what the version in service was made of, or the one that
// is stored; known is false where there is none.
func (s *Zones) lastSource(z *zoneState) (serial uint32, digest string, known bool) {
	if have := z.lastGood(); have.source != nil {
		return have.source.Serial(), have.source.Digest(), true
	}
	stored, meta, err := s.stored(z)
	switch {
	case err != nil || stored == nil:
		serial, known = s.floorOf(z)
		return serial, "", known
	case meta.Source == "": // it was not signed
		return stored.Serial(), stored.Digest(), true
	}
	digest, _, _ = strings.Cut(meta.Source, " ")
	return meta.SourceSerial, digest, true
}

// installMerged is install of a zone that requests may have changed; drop is as for merge.
// z.contentMu is held.
func (s *Zones) installMerged(ctx context.Context, z *zoneState, read *zone.Snapshot, o origin, drop func(*update.Change) bool) (Change, error) {
	source, touched, err := s.merge(z, read, drop)
	if err != nil {
		return Kept, err
	}
	if z.cfg.Load().files().Once && !s.isKept(z) {
		return s.beginKept(ctx, z, source, o)
	}
	o.read = read
	last := z.lastGood()
	source, delta := zone.Share(last.source, source)
	change := Loaded
	if z.role().Signs() {
		change, err = s.installSigned(ctx, z, source, o)
	} else {
		change = s.installRead(ctx, z, source, delta, last, o)
	}
	if err != nil {
		return change, err
	}
	s.pendingOf(z).Take(touched)
	s.settle(z, touched)
	return change, nil
}

// installRead puts a version in service that is not signed, and stores it unless it is what is stored.
func (s *Zones) installRead(ctx context.Context, z *zoneState, source *zone.Snapshot, delta *zone.Delta, last version, o origin) Change {
	if z.snap() == source {
		s.restamp(z, o)
		return Unchanged
	}
	if z.snap() == nil { // the first version after a start
		if stored, meta, err := s.stored(z); err == nil && stored != nil && meta.Source == "" && stored.Digest() == source.Digest() {
			s.putInService(z, s.unsigned(version{}, nil, stored, o))
			s.noteStamp(z)
			return Loaded
		}
	}
	s.storeUnsigned(ctx, z, source, o)
	s.putInService(z, s.unsigned(last, delta, source, o))
	return Loaded
}

// settle stores what became of what is pending by a file. Where that fails it is stored with what
// comes next: until then a restart merges the file once more, to the same end.
func (s *Zones) settle(z *zoneState, t update.Touched) {
	if s.Store == nil || len(t)+len(z.owed) == 0 {
		return
	}
	if z.owed == nil {
		z.owed = store.Pending{}
	}
	for key, value := range pendingAs(t) {
		z.owed[key] = value
	}
	if err := s.storing(func() error { return s.storeOf(z).PutPending(z.name, z.owed) }); err != nil {
		s.Log.Error("what the file has of what requests changed could not be noted", "zone", z.String(), "error", err)
		return
	}
	z.owed = nil
}
