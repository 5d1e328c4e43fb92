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

// errNone means that a zone has nothing to be done in it.
var errNone = errors.New("there is no such record")

// ErrAlready means that all is as an edit would make it: nothing was written, and nothing is wrong.
var ErrAlready = errors.New("it is so already")

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
	var already []error
	for _, s := range list {
		err := e.applyOne(o, s, do)
		if err != nil && !errors.Is(err, ErrAlready) {
			return nil, err
		}
		if err != nil {
			already = append(already, err)
		}
	}
	switch n := len(already); {
	case n == len(list) && n > 0:
		return nil, already[0]
	case n > 0:
		b.note("%d of %d records are so already", n, len(list))
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
	found, did := false, false
	var already error
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
		switch err := do(e, &one); {
		case errors.Is(err, ErrAlready):
			already = err
		case err != nil:
			return err
		default:
			did = true
		}
	}
	switch {
	case !found:
		return errNone
	case !did:
		return already
	}
	return nil
}

// applyToMany does an edit in all zones of the workspace that fit the pattern.
func (a *Files) applyToMany(o Edit, do func(e *ZoneEdit, s *RecordSpec) error) (*Edited, error) {
	if _, err := path.Match(o.Zones, ""); err != nil {
		return nil, Usage("--zones %q is not a pattern: * stands for anything, ? for one character", o.Zones)
	}
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	a.PinnedConfig = c
	defer func() { a.PinnedConfig = nil }()
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
		case !errors.Is(err, errNone) && !errors.Is(err, ErrAlready):
			return false, err
		}
	}
	return did, nil
}
