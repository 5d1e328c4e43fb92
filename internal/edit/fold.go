package edit

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/update"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Fold says how what requests changed in a zone is written into its file.
type Fold struct {
	Zone string
	// Pending gives what is pending, and the serial of what is served. It is asked while the file is
	// locked.
	Pending func() ([]*update.Change, uint32, error)
	Over    bool // write over what was changed in the file as well
	Dry     bool
}

// Left is a set that stays pending, and why.
type Left struct {
	Owner dnsname.Name
	Type  rr.Type
	Why   string
}

// Fold writes what requests changed into the file of a zone, in the file's own style: lines that do not
// differ stay as they are, with their comments. The serial becomes the one that is served, so that
// nothing has to be published again. What would put an error into the file, or has no place in its
// layout, stays pending (Edited.Left) and keeps nothing else back; where that is all, its error is
// returned. Where the file was changed too, the error is *update.Conflicts.
func (a *Files) Fold(o Fold) (*Edited, error) {
	b, e, err := a.edit(o.Zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	changes, serial, err := o.Pending()
	if err != nil {
		return nil, err
	}
	if o.Over {
		now, err := e.snapshot(e.file.Source)
		if err != nil {
			return nil, err
		}
		changes = overwriting(changes, now)
	}
	f := &folding{o: o, b: b, e: e, serial: serial, tries: triesOf(len(e.file.Source.Content))}
	r, err := f.all(changes)
	if err == nil {
		r.Left = f.left
	}
	return r, err
}

// triesOf is how often a fold is tried without one set or another, each of which reads the whole file: 200
// times a file of ordinary size, less often a large one.
func triesOf(octets int) int {
	const most, least, read = 200, 10, 256 << 20 // of all tries together, in octets
	return min(most, max(least, read/max(octets, 1)))
}

// folding is a Fold in progress.
type folding struct {
	o      Fold
	b      *Transaction
	e      *ZoneEdit // fresh; nil: it was used
	serial uint32
	tries  int
	left   []Left
}

// all writes as much as can be written.
func (f *folding) all(changes []*update.Change) (*Edited, error) {
	r, first := f.try(changes, f.o.Dry)
	if !isRefusal(first) {
		return r, first
	}
	bad := map[string]string{} // owners whose changes stay, with why
	without := func() []*update.Change {
		return slices.DeleteFunc(slices.Clone(changes), func(c *update.Change) bool { return bad[c.Owner.Key()] != "" })
	}
	for err := first; err != nil; {
		keep := without()
		more := f.blamed(err, keep)
		if len(more) == 0 {
			more = f.search(keep)
		}
		maps.Copy(bad, more)
		if len(more) == 0 {
			return nil, first
		}
		if err = f.fits(without()); err != nil && !isRefusal(err) {
			return nil, err
		}
	}
	for again := true; again; { // one may have been blamed for what another does, or wait for another
		again = false
		for _, owner := range slices.Sorted(maps.Keys(bad)) {
			why := bad[owner]
			if delete(bad, owner); f.tries <= 0 || f.fits(without()) != nil {
				bad[owner] = why
				continue
			}
			again = len(bad) > 0
		}
	}
	keep := without()
	if !slices.ContainsFunc(keep, (*update.Change).Differs) {
		return nil, first
	}
	for _, c := range changes {
		if why := bad[c.Owner.Key()]; why != "" && c.Differs() {
			f.left = append(f.left, Left{c.Owner, c.Type, why})
		}
	}
	return f.try(keep, f.o.Dry)
}

// fits is nil where changes can be written together, as no change always can.
func (f *folding) fits(changes []*update.Change) error {
	if !slices.ContainsFunc(changes, (*update.Change).Differs) {
		return nil
	}
	_, err := f.try(changes, true)
	return err
}

// isRefusal reports whether an error says that the file must not, or cannot, become what was asked for.
func isRefusal(err error) bool {
	var rejected *RejectedError
	var layout *LayoutError
	return errors.As(err, &rejected) || errors.As(err, &layout)
}

// try writes some of the changes, or none of them.
func (f *folding) try(changes []*update.Change, dry bool) (*Edited, error) {
	f.tries--
	e := f.e
	if f.e = nil; e == nil {
		f.b.edits, f.b.parts, f.b.fresh, f.b.notes = nil, nil, nil, nil
		var err error
		if e, err = f.b.open(f.o.Zone); err != nil {
			return nil, err
		}
	}
	if e.ed.Placement == zonefile.BesideLike { // other versions are not to have it
		e.ed.Placement = zonefile.BesideOwner
	}
	now, err := e.snapshot(e.file.Source)
	if err != nil {
		return nil, err
	}
	target, _, err := update.NewPending(changes...).Merge(now, nil)
	if err != nil {
		return nil, err
	}
	want := restorable(now, target, false)
	if len(want) == 0 {
		return nil, &quiet{fmt.Sprintf("%s has everything already", Shown(e.path)), ErrAlready}
	}
	if rr.NewerSerial(f.serial, now.Serial()) {
		e.serial = &f.serial
	}
	if err := e.bringAllBack(want); err != nil {
		return nil, err
	}
	e.also = func() error { return e.proveRestored(target, false) }
	return f.b.finish(dry)
}

// blamed are the owners of changes that a refusal speaks of, by their keys, with what it says.
func (f *folding) blamed(err error, changes []*update.Change) map[string]string {
	owners, bad := map[string]bool{}, map[string]string{}
	for _, c := range changes {
		owners[c.Owner.Key()] = c.Differs() || owners[c.Owner.Key()]
	}
	var layout *LayoutError
	if errors.As(err, &layout) && owners[layout.Owner.Key()] {
		bad[layout.Owner.Key()] = layout.Error()
	}
	var rejected *RejectedError
	if !errors.As(err, &rejected) {
		return bad
	}
	apex := changes[0].Owner
	if z := f.b.edits[0].file.Apex; !z.IsZero() {
		apex = z
	}
	at := ownersAt(rejected.Source, apex)
	for _, d := range rejected.Diags.All {
		if d.Severity != diag.Error {
			continue
		}
		if owner := at(d.Span.Start); owners[owner] && bad[owner] == "" {
			bad[owner] = d.Message
		}
	}
	return bad
}

// ownersAt tells which owner the record at a place has, as its key; empty: no record stands there.
func ownersAt(src *source.Set, apex dnsname.Name) func(source.Pos) string {
	read := map[*source.File][]*zonefile.Entry{}
	return func(at source.Pos) string {
		f := src.File(at)
		if f == nil {
			return ""
		}
		if _, is := read[f]; !is {
			read[f] = zonefile.Parse(f, zonefile.Options{Origin: apex}, &diag.List{}).Entries
		}
		for _, r := range read[f] {
			if r.Kind == zonefile.Record && r.Span.Start <= at && at <= r.Span.End {
				if owner, err := dnsname.FromWire(r.Owner); err == nil {
					return owner.Key()
				}
			}
		}
		return ""
	}
}

// search finds the owners whose changes cannot be written beside the others, by trying: those in whose
// place nothing else helps are left out.
func (f *folding) search(changes []*update.Change) map[string]string {
	byOwner := map[string][]*update.Change{}
	for _, c := range changes {
		byOwner[c.Owner.Key()] = append(byOwner[c.Owner.Key()], c)
	}
	bad := map[string]string{}
	var good []*update.Change
	var look func(owners []string)
	look = func(owners []string) {
		some := slices.Clone(good)
		for _, o := range owners {
			some = append(some, byOwner[o]...)
		}
		_, err := f.try(some, true)
		switch {
		case err == nil || !isRefusal(err):
			good = some
		case len(owners) > 1 && f.tries > 0:
			look(owners[:len(owners)/2])
			look(owners[len(owners)/2:])
		default:
			for _, o := range owners {
				bad[o] = refusalText(err)
			}
		}
	}
	look(slices.Sorted(maps.Keys(byOwner)))
	return bad
}

// refusalText is what a refusal says, in a line.
func refusalText(err error) string {
	var rejected *RejectedError
	if errors.As(err, &rejected) {
		for _, d := range rejected.Diags.All {
			if d.Severity == diag.Error {
				return d.Message
			}
		}
	}
	return err.Error()
}

// overwriting are changes as if the file had been left alone.
func overwriting(changes []*update.Change, file *zone.Snapshot) []*update.Change {
	out := make([]*update.Change, len(changes))
	for i, c := range changes {
		out[i] = c.On(file)
	}
	return out
}
