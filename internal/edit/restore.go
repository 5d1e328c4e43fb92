package edit

import (
	"fmt"
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Restore is what a zone is to become again.
type Restore struct {
	Zone    string
	Serial  uint32         // of the version
	Version *zone.Snapshot // its records
	Signed  bool           // what a signer makes is left to it, the serial with it
	// Served is the serial that was last put in service; 0: it is not known.
	Served uint32
	Dry    bool
}

// Restore edits the file of a zone so that it has the records of an earlier version, under
// a new serial: secondaries go forward only. What does not differ stays as it is written,
// with its comments.
func (a *Files) Restore(o Restore) (*Edited, error) {
	b, e, err := a.edit(o.Zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	now, err := e.snapshot(e.file.Source)
	if err != nil {
		return nil, err
	}
	want := restorable(now, o.Version, o.Signed)
	if len(want) == 0 {
		return nil, &quiet{fmt.Sprintf("%s has the records of serial %d already", Shown(e.path), o.Serial), ErrAlready}
	}
	if !o.Signed {
		next := zonefile.NextSerial(e.rules.style, max(now.Serial(), o.Serial), a.Now())
		if o.Served != 0 && rr.NewerSerial(o.Served, now.Serial()) {
			next = zonefile.NextSerial(e.rules.style, o.Served, a.Now())
		} else if rr.NewerSerial(now.Serial(), o.Serial) {
			next = zonefile.NextSerial(e.rules.style, now.Serial(), a.Now())
		}
		e.serial = &next
	}
	if err := e.bringAllBack(want); err != nil {
		return nil, err
	}
	e.also = func() error { return e.proveRestored(o.Version, o.Signed) }
	return b.finish(o.Dry)
}

// bringAllBack makes sets of the file what deltas make of them.
func (e *ZoneEdit) bringAllBack(want []zone.SetDelta) error {
	have := map[string][]*zonefile.Entry{}
	for _, r := range e.file.All {
		if r.Kind == zonefile.Record {
			k := entryKey(r.Owner, r.Type)
			have[k] = append(have[k], r)
		}
	}
	var come []*RecordSpec
	for i := range want {
		c := &want[i]
		more, err := e.bringBack(c, have[entryKey([]byte(c.Owner.Wire()), c.Type())])
		if err != nil {
			return &LayoutError{c.Owner, err.Error()}
		}
		come = append(come, more...)
	}
	// They come when all others have gone: one may take its owner from the line above.
	for _, s := range come {
		if err := e.ed.Insert(zonefile.NewRecord{Owner: s.owner, TTL: s.ttl, HasTTL: s.hasTTL, Type: s.t, Text: s.text, Data: s.wire}); err != nil {
			return &LayoutError{s.owner, err.Error()}
		}
		e.expect(s.owner, s.t, s.wire, +1)
	}
	return nil
}

// LayoutError says that an edit cannot be made in the file as it is written.
type LayoutError struct {
	Owner dnsname.Name // of what cannot be changed; zero: that is not known
	what  string
}

func (e *LayoutError) Error() string { return e.what }

func entryKey(owner []byte, t rr.Type) string { return key(owner, t, 0, nil) }

// restorable is what has to change in a file so that it has the records of a version.
// What a signer makes is left to it.
func restorable(now, old *zone.Snapshot, signed bool) (out []zone.SetDelta) {
	for c := range zone.Changes(now, old) {
		if c.SerialAlone() || signed && rr.MadeBySigner(c.Type()) || c.Removed.Equal(c.Added) {
			continue
		}
		out = append(out, c)
	}
	return out
}

// snapshot reads a text of the zone in progress.
func (e *ZoneEdit) snapshot(f *source.File) (*zone.Snapshot, error) {
	src := &source.Set{}
	text, err := src.Add(Shown(e.path), f.Content)
	if err != nil {
		return nil, err
	}
	return e.b.a.ReadClean(e.reading(src, text, e.b.partTexts()))
}

// proveRestored looks whether the new text has the records of the version.
func (e *ZoneEdit) proveRestored(old *zone.Snapshot, signed bool) error {
	now, err := e.snapshot(&source.File{Content: e.text})
	if err != nil {
		return err
	}
	if left := restorable(now, old, signed); len(left) > 0 {
		return &LayoutError{left[0].Owner, fmt.Sprintf("the layout of %s does not allow this edit: %s %s would differ; edit it by hand", Shown(e.path), left[0].Owner, left[0].Type())}
	}
	return nil
}

// bringBack makes one set of the file what it was: records are changed where they stand,
// as far as there are both old and new ones. What is left of the new ones has to be put in.
func (e *ZoneEdit) bringBack(c *zone.SetDelta, have []*zonefile.Entry) (more []*RecordSpec, err error) {
	if c.Type() == rr.TypeSOA {
		soa, err := rr.ParseSOA(e.file.SOA().Data)
		if err != nil {
			return nil, err
		}
		wire := rr.SetSerial(slices.Clone(c.Added.First()), soa.Serial)
		s := &RecordSpec{owner: c.Owner, t: rr.TypeSOA, wire: wire}
		s.ttl, s.hasTTL = c.Added.TTL, c.Added.TTL != c.Removed.TTL
		return nil, e.changeSOA(s, Timers{})
	}
	var gone []*zonefile.Entry
	come := slices.Collect(c.Added.Data)
	for data := range c.Removed.Data {
		i := slices.IndexFunc(come, func(d []byte) bool { return rr.SameData(c.Type(), d, data) })
		for _, r := range have {
			switch {
			case !rr.SameData(r.Type, r.Data, data):
			case i >= 0: // it stays, with another TTL
				if err := e.retime(r, e.back(c, data, r)); err != nil {
					return nil, err
				}
			default:
				gone = append(gone, r)
			}
		}
		if i >= 0 {
			come = slices.Delete(come, i, i+1)
		}
	}
	for i, r := range gone {
		if i < len(come) {
			if err := e.change(r, e.back(c, come[i], r)); err != nil {
				return nil, err
			}
			continue
		}
		e.ed.Remove(r)
		e.expect(c.Owner, r.Type, r.Data, -1)
	}
	for _, data := range come[min(len(gone), len(come)):] {
		more = append(more, e.back(c, data, nil))
	}
	return more, nil
}

// back is a record that comes back, in the place of r if that is not nil. Its TTL is
// written where it would have another one.
func (e *ZoneEdit) back(c *zone.SetDelta, data []byte, r *zonefile.Entry) *RecordSpec {
	s := &RecordSpec{owner: c.Owner, t: c.Type(), wire: data, text: RelativeData(e.file.Apex, c.Type(), data), ttl: c.Added.TTL}
	def, one := e.file.DefaultTTL()
	isDefault := one && def == s.ttl
	if r == nil {
		s.hasTTL = !isDefault
		return s
	}
	s.dropTTL = isDefault && r.TTL != s.ttl && e.ed.HasDefault(r)
	s.hasTTL = r.TTL != s.ttl && !s.dropTTL
	return s
}
