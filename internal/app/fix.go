package app

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
	Mends     []Mend
	OldSerial uint32
	Serial    uint32 // raised, when records changed
	Refused   string // why nothing was written, if so
}

// Mend is one mechanical change.
type Mend struct {
	Code     string
	Line     int
	Old, New string // the line before and after
}

// Fix makes the mechanical mends of what a check found, or with dry only says what they
// would be. A file is written wholly or not at all, its serial is raised when its
// records changed, and it is left alone when the mended text would have more errors
// than before.
func (a *App) Fix(res *Checked, dry bool) ([]*Fixed, error) {
	byFile := map[*source.File][]*diag.Diagnostic{}
	var files []*source.File
	for i := range res.Diags.All {
		d := &res.Diags.All[i]
		if d.Fix == nil || len(d.Fix.Edits) == 0 {
			continue
		}
		f := res.Source.File(d.Fix.Edits[0].Span.Start)
		if f == nil || filepath.Base(f.Name) == workspace.ConfigFile || f.Name == stdinName {
			continue
		}
		if byFile[f] == nil {
			files = append(files, f)
		}
		byFile[f] = append(byFile[f], d)
	}
	var out []*Fixed
	for _, f := range files {
		fixed, err := a.fixFile(res.Source, f, byFile[f], dry)
		if err != nil {
			return out, err
		}
		out = append(out, fixed)
	}
	return out, nil
}

func (a *App) fixFile(src *source.Set, f *source.File, diags []*diag.Diagnostic, dry bool) (*Fixed, error) {
	unlock, err := lockFolder(filepath.Dir(f.Name))
	if err != nil {
		return nil, err
	}
	defer unlock()
	now, err := readFile(&source.Set{}, f.Name)
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
	if dry {
		return out, nil
	}
	return out, (&EditedFile{Path: f.Name, path: f.Name, old: f.Content, text: text}).write()
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
		out.Mends = append(out.Mends, Mend{c.code, src.Position(c.Span.Start).Line, string(line), string(line[:column]) + c.New + string(line[end:])})
	}
	return append(text, f.Content[at:]...)
}

// raiseSerial raises the serial of a zone file whose records differ from before
// while the serial does not.
func (a *App) raiseSerial(f *source.File, text []byte, out *Fixed) ([]byte, error) {
	read := func(text []byte) (*zonefile.File, error) {
		set := &source.Set{}
		file, err := set.Add(f.Name, text)
		if err != nil {
			return nil, err
		}
		return zonefile.Parse(file, zonefile.Options{Origin: originOf(f.Name), Open: a.includes(set, f.Name)}, &diag.List{}), nil
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
func (a *App) worse(f *source.File, text []byte) string {
	count := func(text []byte) int {
		set := &source.Set{}
		file, err := set.Add(f.Name, text)
		if err != nil {
			return 1 << 30
		}
		diags, err := a.checkText(set, file, zonefile.Options{Origin: originOf(f.Name), Open: a.includes(set, f.Name)})
		if err != nil {
			return 0 // no zone of its own: an included file
		}
		return diags.Count(diag.Error)
	}
	if was, is := count(f.Content), count(text); is > was {
		return fmt.Sprintf("fixed it would have %d errors in place of %d", is, was)
	}
	return ""
}
