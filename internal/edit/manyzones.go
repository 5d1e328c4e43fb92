package edit

import (
	"errors"
	"path"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zonefile"
)

// Edits of many zones at once: those whose name fits a pattern, all or none. A zone in
// which there is nothing to be done is passed over.

// Errors that mean that a zone has nothing to be done in it.
var (
	errNone    = errors.New("there is no such record")
	errAlready = errors.New("the record is there already")
)

// quiet is an error that one of those is behind, without its words.
type quiet struct {
	text string
	is   error
}

func (q *quiet) Error() string { return q.text }
func (q *quiet) Unwrap() error { return q.is }

// apply does an edit, in one zone or in those that fit o.Zones; do is called for each
// record that is meant.
func (a *Files) apply(o Edit, do func(e *ZoneEdit, s *RecordSpec) error) (*Edited, error) {
	if o.Everywhere && o.From == "" && !o.remove {
		return nil, Usage("--everywhere needs --from DATA: the data that are to be replaced wherever they stand")
	}
	if o.Zones != "" {
		return a.applyToMany(o, do)
	}
	b, e, list, err := a.begin(o)
	if err != nil {
		return nil, err
	}
	defer b.close()
	for _, s := range list {
		if err := e.applyOne(o, s, do); err != nil {
			return nil, err
		}
	}
	return b.finish(o.Dry)
}

// applyOne does an edit of one record or, everywhere, of all that have its data.
func (e *ZoneEdit) applyOne(o Edit, s *RecordSpec, do func(e *ZoneEdit, s *RecordSpec) error) error {
	if !o.Everywhere {
		return do(e, s)
	}
	if s.t == 0 || s.wire == nil && o.From == "" {
		return Usage("--everywhere needs a type and data")
	}
	meant := func(data []byte) bool { return rr.SameData(s.t, data, s.wire) }
	if o.From != "" {
		var err error
		if meant, err = e.meantBy(s.t, o.From); err != nil {
			return err
		}
	}
	found := false
	for _, r := range e.file.All {
		if r.Kind != zonefile.Record || r.Type != s.t || !meant(r.Data) || e.ed.Removed(r) {
			continue
		}
		owner, err := dnsname.FromWire(r.Owner)
		if err != nil {
			return err
		}
		one := *s
		one.owner, found = owner, true
		if err := do(e, &one); err != nil {
			return err
		}
	}
	if !found {
		return errNone
	}
	return nil
}

// applyToMany does an edit in all zones of the workspace that fit the pattern.
func (a *Files) applyToMany(o Edit, do func(e *ZoneEdit, s *RecordSpec) error) (*Edited, error) {
	if _, err := path.Match(o.Zones, ""); err != nil {
		return nil, Usage("--zones %q is no pattern: * stands for anything, ? for one character", o.Zones)
	}
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	a.Held = c
	defer func() { a.Held = nil }()
	b, err := a.BeginIn(c.Dir)
	if err != nil {
		return nil, err
	}
	defer b.close()
	fit, idle := 0, 0
	for _, z := range c.Zones {
		if match, _ := path.Match(strings.ToLower(o.Zones), strings.ToLower(z.Name.Plain())); !match || !z.HasFile() {
			continue
		}
		fit++
		e, err := b.openFile(c.File(z.Name), z.Name)
		if err != nil {
			return nil, err
		}
		did, err := e.applyHere(o, do)
		if err != nil {
			return nil, err
		}
		if !did {
			idle++
		}
	}
	if fit == 0 {
		return nil, Usage("no zone of the workspace that is changed here fits %q", o.Zones)
	}
	if idle > 0 {
		b.note("%d of %d zones have nothing to be changed", idle, fit)
	}
	return b.finish(o.Dry)
}

// applyHere does an edit in one of many zones, and reports whether there was anything to do.
func (e *ZoneEdit) applyHere(o Edit, do func(e *ZoneEdit, s *RecordSpec) error) (did bool, err error) {
	args, err := expandAll(o.Records)
	if err != nil {
		return false, err
	}
	for _, r := range args {
		s, err := e.wanted(r, &o)
		if err != nil {
			return false, err
		}
		switch err := e.applyOne(o, s, do); {
		case err == nil:
			did = true
		case !errors.Is(err, errNone) && !errors.Is(err, errAlready):
			return false, err
		}
	}
	return did, nil
}
