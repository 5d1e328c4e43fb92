package edit

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"

	"fencepost/diag"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Fixed is what was mended in one file.
type Fixed struct {
	Path      string
	Fixes     []Fix
	OldSerial uint32
	Serial    uint32 // raised, when records changed
	Refused   string // why nothing was written, if so
}

// Fix is one mechanical change.
type Fix struct {
	Code     string
	Line     int
	Old, New string // the line before and after
}

// Fix makes the mechanical mends of what a check found, or with dry only says what they
// would be. A file is written wholly or not at all, its serial is raised when its
// records changed, and it is left alone when the mended text would have more errors
// than before.
func (a *Files) Fix(src *source.Set, found *diag.List, dry bool) ([]*Fixed, error) {
	byFile := map[*source.File][]*diag.Diagnostic{}
	var files []*source.File
	for i := range found.All {
		d := &found.All[i]
		if d.Fix == nil || len(d.Fix.Edits) == 0 {
			continue
		}
		f := src.File(d.Fix.Edits[0].Span.Start)
		if f == nil || filepath.Base(f.Name) == workspace.ConfigFile || f.Name == StdinName {
			continue
		}
		if byFile[f] == nil {
			files = append(files, f)
		}
		byFile[f] = append(byFile[f], d)
	}
	var out []*Fixed
	for _, f := range files {
		fixed, err := a.fixFile(src, f, byFile[f], dry)
		if err != nil {
			return out, err
		}
		out = append(out, fixed)
	}
	return out, nil
}

func (a *Files) fixFile(src *source.Set, f *source.File, diags []*diag.Diagnostic, dry bool) (*Fixed, error) {
	unlock, err := lockFolder(filepath.Dir(f.Name))
	if err != nil {
		return nil, err
	}
	defer unlock()
	now, err := a.Reader().File(&source.Set{}, f.Name)
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(now.Content, f.Content) {
		return &Fixed{Path: f.Name, Refused: "it was changed since it was checked; check again"}, nil
	}
	out := &Fixed{Path: f.Name}
	text := applyFixes(src, f, diags, out)
	text, err = a.raiseSerial(f, text, out)
	if err != nil {
		return nil, err
	}
	if why := a.worse(f, text); why != "" {
		return &Fixed{Path: f.Name, Refused: why}, nil
	}
	file := &EditedFile{Path: f.Name, Diags: &diag.List{}, path: f.Name, old: f.Content, text: text}
	if out.Serial == 0 { // no zone of its own: those that include it get new serials
		return out, a.fixPart(file, dry)
	}
	if dry {
		return out, nil
	}
	return out, file.write()
}

// fixPart writes a file that zones include, and raises their serials.
func (a *Files) fixPart(file *EditedFile, dry bool) error {
	b := &Transaction{a: a, r: a.Reader(), locked: map[string]func(){}, parts: map[string]*EditedFile{file.path: file}}
	folder, err := filepath.Abs(filepath.Dir(file.path))
	if err != nil {
		return err
	}
	b.locked[folder] = func() {} // whoever called has it locked
	_, err = b.finish(dry)
	return err
}

// applyFixes replaces the spans of all mends that do not overlap.
func applyFixes(src *source.Set, f *source.File, diags []*diag.Diagnostic, out *Fixed) []byte {
	type change struct {
		diag.Edit
		code string
	}
	var changes []change
	for _, d := range diags {
		for _, e := range d.Fix.Edits {
			changes = append(changes, change{e, d.Rule.Code})
		}
	}
	slices.SortStableFunc(changes, func(a, b change) int { return int(a.Span.Start) - int(b.Span.Start) })
	var text []byte
	at := 0
	for _, c := range changes {
		from, to := f.Offset(c.Span.Start), f.Offset(c.Span.End)
		if from < at {
			continue // another mend has changed this already
		}
		text = append(append(text, f.Content[at:from]...), c.New...)
		at = to
		line, column := src.Line(c.Span.Start)
		end := min(column+to-from, len(line))
		out.Fixes = append(out.Fixes, Fix{c.code, src.Position(c.Span.Start).Line, string(line), string(line[:column]) + c.New + string(line[end:])})
	}
	return append(text, f.Content[at:]...)
}

// raiseSerial raises the serial of a zone file whose records differ from before
// while the serial does not.
func (a *Files) raiseSerial(f *source.File, text []byte, out *Fixed) ([]byte, error) {
	read := func(text []byte) (*zonefile.File, error) {
		set := &source.Set{}
		file, err := set.Add(f.Name, text)
		if err != nil {
			return nil, err
		}
		return zonefile.Parse(file, zonefile.Options{Origin: OriginOf(f.Name), Open: a.Reader().Includes(set, f.Name, nil)}, &diag.List{}), nil
	}
	before, err := read(f.Content)
	if err != nil {
		return nil, err
	}
	after, err := read(text)
	if err != nil || after.SOA() == nil || after.SOA().File != after.Source {
		return text, err // the serial is in another file
	}
	soa, err := rr.ParseSOA(after.SOA().Data)
	if err != nil {
		return nil, err
	}
	out.OldSerial, out.Serial = soa.Serial, soa.Serial
	if before.SOA() != nil {
		if was, err := rr.ParseSOA(before.SOA().Data); err == nil && was.Serial != soa.Serial {
			out.OldSerial = was.Serial
			return text, nil // the mend was the serial's
		}
	}
	if sameRecords(before, after) {
		return text, nil
	}
	ed := zonefile.NewEditor(after)
	out.Serial = zonefile.NextSerial(a.serialStyle(), soa.Serial, a.Now())
	if err := ed.SetSerial(out.Serial); err != nil {
		return nil, err
	}
	return ed.Finish()[after.Source], nil
}

func sameRecords(a, b *zonefile.File) bool {
	count := map[string]int{}
	for _, e := range a.Entries {
		if e.Kind == zonefile.Record {
			count[key(e.Owner, e.Type, e.TTL, e.Data)]++
		}
	}
	for _, e := range b.Entries {
		if e.Kind == zonefile.Record {
			k := key(e.Owner, e.Type, e.TTL, e.Data)
			if count[k]--; count[k] == 0 {
				delete(count, k)
			}
		}
	}
	return len(count) == 0
}

// worse says why a mended text must not be written, or "".
func (a *Files) worse(f *source.File, text []byte) string {
	count := func(text []byte) int {
		set := &source.Set{}
		file, err := set.Add(f.Name, text)
		if err != nil {
			return 1 << 30
		}
		diags, err := a.checkText(a.Reader().Text(set, file, f.Name, OriginOf(f.Name), nil))
		if err != nil {
			return 0 // no zone of its own: an included file
		}
		return diags.Count(diag.Error)
	}
	if was, is := count(f.Content), count(text); is > was {
		errors := "errors"
		if is == 1 {
			errors = "error"
		}
		return fmt.Sprintf("fixed, it would have %d %s instead of %d", is, errors, was)
	}
	return ""
}
