package edit

import (
	"fmt"

	"fencepost/rr"
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

// Fold writes what requests changed into the file of a zone, in the file's own style: lines that do not
// differ stay as they are, with their comments. The serial becomes the one that is served, so that
// nothing has to be published again. Where the file was changed too, the error is *update.Conflicts.
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
	if e.ed.Placement == zonefile.BesideLike { // other versions are not to have it
		e.ed.Placement = zonefile.BesideOwner
	}
	now, err := e.snapshot(e.file.Source)
	if err != nil {
		return nil, err
	}
	if o.Over {
		changes = overwriting(changes, now)
	}
	target, _, err := update.NewPending(changes...).Merge(now, nil)
	if err != nil {
		return nil, err
	}
	want := restorable(now, target, false)
	if len(want) == 0 {
		return nil, &quiet{fmt.Sprintf("%s has everything already", Shown(e.path)), errAlready}
	}
	if rr.NewerSerial(serial, now.Serial()) {
		e.serial = &serial
	}
	if err := e.bringAllBack(want); err != nil {
		return nil, err
	}
	e.also = func() error { return e.proveRestored(target, false) }
	return b.finish(o.Dry)
}

// overwriting are changes as if the file had been left alone.
func overwriting(changes []*update.Change, file *zone.Snapshot) []*update.Change {
	out := make([]*update.Change, len(changes))
	for i, c := range changes {
		out[i] = c.On(file)
	}
	return out
}
