package edit

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"sort"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Tidied is what came of tidying one file.
type Tidied struct {
	Path           string
	Changed        bool
	Removed, Added []string // lines
}

// TidyOptions says what to tidy and how far.
type TidyOptions struct {
	Operands []string // files and zones; none: all zones of the workspace
	Check    bool     // only tell which are not tidy
	Shorten  bool     // names relative to the origin, types and data by their names
}

// Tidy puts files into the house style, or with Check only tells which are not.
// Without operands it takes all zones of the workspace. Files with errors are
// left alone. With Check the error wraps ErrFindings when a file is not tidy.
func (a *Files) Tidy(ctx context.Context, o TidyOptions) (out []*Tidied, err error) {
	paths, err := a.ZoneFiles(o.Operands)
	if err != nil {
		return nil, err
	}
	untidy := false
	for _, path := range paths {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		t, err := a.tidyFile(path, o)
		if err != nil {
			return out, err
		}
		out = append(out, t)
		untidy = untidy || t.Changed
	}
	if o.Check && untidy {
		return out, ErrFindings
	}
	return out, nil
}

// ZoneFiles are the paths of operands, or of all zones of the workspace.
func (a *Files) ZoneFiles(operands []string) (paths []string, err error) {
	for _, op := range operands {
		path, _, err := a.ZoneFile(op)
		if err != nil {
			return nil, err
		}
		paths = append(paths, path)
	}
	if len(operands) > 0 {
		return paths, nil
	}
	dir, err := a.Dir()
	if err != nil {
		return nil, err
	}
	paths, err = filepath.Glob(filepath.Join(dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	sort.Strings(paths)
	return paths, err
}

func (a *Files) tidyFile(path string, o TidyOptions) (*Tidied, error) {
	unlock, err := lockFolder(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer unlock()
	var src source.Set
	f, err := a.Reader().File(&src, path)
	if err != nil {
		return nil, err
	}
	before, wrong := ParseLone(&src, f, a.Reader().Includes(&src, path, nil))
	if wrong > 0 {
		return nil, fmt.Errorf("%s has errors, so it was left as it is; see: fencepost check %s", Shown(path), Shown(path))
	}
	if _, cut := zonefile.CutOff(f.Content); cut {
		return nil, cutOffError(path)
	}
	text := zonefile.Tidy(before)
	if o.Shorten {
		if text, err = a.shortened(path, before); err != nil {
			return nil, err
		}
	}
	out := &Tidied{Path: Shown(path), Changed: !bytes.Equal(text, f.Content)}
	if !out.Changed {
		return out, nil
	}
	if err := a.SameMeaning(path, before, 0, text); err != nil {
		return nil, err
	}
	out.Removed, out.Added = lineChanges(f.Content, text)
	if o.Check {
		return out, nil
	}
	return out, (&EditedFile{Path: out.Path, path: path, old: f.Content, text: text}).write()
}

// shortened is the text of a file with short names, in the house style.
func (a *Files) shortened(path string, before *zonefile.File) ([]byte, error) {
	short := before
	for range 2 { // names in data that were numbers before are shortened second
		head, text := zonefile.Shorten(short)
		var src source.Set
		f, err := src.Add(before.Source.Name, append([]byte(head), text...))
		if err != nil {
			return nil, err
		}
		wrong := 0
		if short, wrong = ParseLone(&src, f, a.Reader().Includes(&src, path, nil)); wrong > 0 {
			return nil, fmt.Errorf("%s is laid out in a way that its names cannot be shortened; it was left as it is", Shown(path))
		}
	}
	return zonefile.Tidy(short), nil
}

// openFunc reads a file that another includes.
type openFunc func(path string, from *source.File) (*source.File, error)

// ParseLone reads a file to be tidied, one that others include too: without a name
// of its own it is taken to be relative to the root. Files that it includes are
// read for the owners that they leave behind; they may have errors or be missing.
// wrong counts the errors of the file itself.
func ParseLone(src *source.Set, f *source.File, open openFunc) (file *zonefile.File, wrong int) {
	origin := OriginOf(f.Name)
	if origin.IsZero() {
		origin = dnsname.Root
	}
	diags := &diag.List{}
	file = zonefile.Parse(f, zonefile.Options{Origin: origin, Open: func(path string, from *source.File) (*source.File, error) {
		if in, err := open(path, from); err == nil {
			return in, nil
		}
		return nil, nil
	}}, diags)
	for _, d := range diags.All {
		if d.Severity == diag.Error && src.File(d.Span.Start) == f {
			wrong++
		}
	}
	return file, wrong
}

// SameMeaning proves that a tidied text says what the file said: the same records
// in the same order with the same TTLs, with as many errors as that, and is tidy itself.
func (a *Files) SameMeaning(path string, before *zonefile.File, wrong int, text []byte) error {
	var src source.Set
	f, err := src.Add(before.Source.Name, text)
	if err != nil {
		return err
	}
	after, stays := ParseLone(&src, f, a.Reader().Includes(&src, path, nil))
	if stays != wrong || !slices.Equal(said(before), said(after)) || !bytes.Equal(zonefile.Tidy(after), text) {
		return fmt.Errorf("%s is laid out in a way that cannot be tidied without changing it; it was left as it is", Shown(path))
	}
	return nil
}

// said is the records of a file and of those that it includes, in order.
func said(f *zonefile.File) (out []string) {
	for _, e := range f.All {
		if e.Kind == zonefile.Record {
			out = append(out, key(e.Owner, e.Type, e.TTL, e.Data))
		}
	}
	return out
}
