package edit

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// Rename says which name is to be called what.
type Rename struct {
	Zone, From, To string
	Dry            bool
}

// Rename gives a name another one: its records and those of the names below it move,
// and all that points to them in the zones of the workspace follows, in all versions. In the
// version for an audience only what that holds moves.
func (a *Files) Rename(o Rename) (*Edited, error) {
	b, e, err := a.edit(o.Zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	from, err := e.owner(o.From)
	if err != nil {
		return nil, err
	}
	to, err := e.owner(o.To)
	if err != nil {
		return nil, err
	}
	if err := e.mayRename(from, to); err != nil {
		return nil, err
	}
	if err := e.rename(from, to); err != nil {
		return nil, err
	}
	paths, err := a.Mentioning(from)
	if err != nil {
		return nil, err
	}
	if e.rules.audience != "" { // the name stays what it is to all others
		paths = nil
	}
	for _, path := range paths {
		other, err := b.openFile(path, OriginOf(path))
		if err != nil {
			return nil, fmt.Errorf("%s may point to %s: %w", Shown(path), from, err)
		}
		if other != e {
			if err := other.rename(from, to); err != nil {
				return nil, err
			}
		}
	}
	return b.finish(o.Dry)
}

// mayRename refuses what would not be a renaming.
func (e *ZoneEdit) mayRename(from, to dnsname.Name) error {
	err := MayRename(e.file, from, to, func(r *zonefile.Entry) string { return e.src.Position(r.Span.Start).String() })
	if errors.Is(err, errNoRecords) {
		return e.none(from, 0)
	}
	return err
}

// errNoRecords means that a name has no records, and none below it has.
var errNoRecords = errors.New("there are no records of that name")

// MayRename says why a name of a zone is not to be called another; nil: it may be. where tells people
// where a record stands.
func MayRename(f *zonefile.File, from, to dnsname.Name, where func(*zonefile.Entry) string) error {
	switch {
	case from.Equal(f.Apex) || to.Equal(f.Apex):
		return Usage("the zone's own name is not renamed here; a zone with another name is made with: fencepost new NAME --like %s", f.Apex.Plain())
	case from.Equal(to):
		return &quiet{fmt.Sprintf("%s is called so already", from), ErrAlready}
	case to.Below(from) || from.Below(to):
		return Usage("%s and %s lie one below the other", from, to)
	}
	found, taken := false, ""
	for _, r := range f.All {
		owner, err := dnsname.FromWire(r.Owner)
		if r.Kind != zonefile.Record || err != nil {
			continue
		}
		found = found || owner.AtOrBelow(from)
		if owner.AtOrBelow(to) && taken == "" {
			taken = where(r)
		}
		if owner.AtOrBelow(from) && r.Type == rr.TypeNS {
			return fmt.Errorf("%s is delegated, at %s: its zone would not be renamed with it", owner, where(r))
		}
	}
	if !found {
		return errNoRecords
	}
	if taken != "" {
		return fmt.Errorf("there is a %s already, at %s", to, taken)
	}
	return nil
}

// Renamed is a name after the renaming; ok is false for one that it does not touch.
func Renamed(name, from, to dnsname.Name) (after dnsname.Name, ok bool) {
	if !name.AtOrBelow(from) {
		return name, false
	}
	head := name.Wire()[:len(name.Wire())-len(from.Wire())]
	after, err := dnsname.FromWire([]byte(head + to.Wire()))
	return after, err == nil
}

// rename writes the new name wherever the old one is meant, and books the records that
// change by it.
func (e *ZoneEdit) rename(from, to dnsname.Name) error {
	words := map[*zonefile.Entry]map[int]string{}
	e.file.Mentions(func(m zonefile.Mention) {
		after, ok := Renamed(m.Name, from, to)
		if !ok {
			return
		}
		text := m.Text(after)
		e.ed.SetWord(&m, text)
		if words[m.Entry] == nil {
			words[m.Entry] = map[int]string{}
		}
		words[m.Entry][m.Tok] = text
	})
	for _, r := range e.file.All {
		if r.Kind != zonefile.Record {
			continue
		}
		owner, err := dnsname.FromWire(r.Owner)
		if err != nil {
			return err
		}
		e.noteText(r, from)
		after, moved := Renamed(owner, from, to)
		if !moved && words[r] == nil {
			continue
		}
		data, err := r.With(words[r])
		if err != nil {
			return err
		}
		if r.Type == rr.TypeSOA {
			e.soa = data
			continue
		}
		e.expect(owner, r.Type, r.Data, -1)
		e.expect(after, r.Type, data, +1)
	}
	return nil
}

// noteText tells of a text that holds the old name: what it means there only people
// know.
func (e *ZoneEdit) noteText(r *zonefile.Entry, old dnsname.Name) {
	if textNames(r, old) {
		e.b.note("the text at %s still holds %s: change it by hand if that is the host", e.src.Position(r.Span.Start), old.Plain())
	}
}

// textNames reports whether a record has a text that holds a name.
func textNames(r *zonefile.Entry, name dnsname.Name) bool {
	if r.Kind != zonefile.Record || !zonefile.HoldsText(r.Type) && r.Type != rr.TypeURI {
		return false
	}
	plain := bytes.ToLower([]byte(name.Plain()))
	return slices.ContainsFunc(r.Tokens[r.TypeTok+1:], func(t rr.Token) bool { return bytes.Contains(bytes.ToLower(t.Text), plain) })
}

// Mentioning are the zone files of the workspace in which a name's first label stands.
func (a *Files) Mentioning(name dnsname.Name) (out []string, err error) {
	dir, err := a.Dir()
	if err != nil {
		return nil, nil // a file by itself
	}
	files, err := filepath.Glob(filepath.Join(dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	if err != nil {
		return nil, err
	}
	label := []byte(strings.ToLower(strings.TrimSuffix(name.String(), name.Parent().String())))
	label = bytes.TrimSuffix(label, []byte("."))
	for _, path := range files {
		text, err := wholefile.Read(path, zoneload.MaxFile)
		if err != nil {
			return nil, err
		}
		if low := bytes.ToLower(text); bytes.Contains(low, label) || bytes.Contains(low, []byte("$include")) {
			out = append(out, path)
		}
	}
	return out, nil
}
