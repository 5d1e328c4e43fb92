package edit

import (
	"errors"
	"fmt"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// Input is a zone read from a file with all that was found.
type Input struct {
	Path  string
	File  *source.File
	Zone  *zonefile.Loaded // nil if not even the name is known, which is among the findings
	Diags *diag.List
}

// Errors counts the findings that keep the zone out of service.
func (in *Input) Errors() int { return in.Diags.Count(diag.Error) }

// Reader reads zone files as the workspace says, as it said it when this was first asked: one
// command reads many.
func (a *Files) Reader() *zoneload.Reader {
	a.reading.Do(func() { a.read = a.FreshReader() })
	return a.read
}

// FreshReader is a reader by what the workspace says now.
func (a *Files) FreshReader() *zoneload.Reader {
	r := &zoneload.Reader{Settings: workspace.DefaultSettings(), Now: a.Now, Shown: Shown}
	if c, err := a.Config(); err == nil {
		r.Settings, r.IncludeFrom = c.Checks, c.IncludeFrom
	}
	return r
}

// LoadZone reads and checks a zone file. want, if not the zero name, is what the
// zone must be called. That nothing tells its name is among the findings.
func LoadZone(r *zoneload.Reader, src *source.Set, diags *diag.List, path string, origin, want dnsname.Name) (*Input, error) {
	t, err := r.Open(src, path, origin)
	if err != nil {
		return nil, err
	}
	t.Want = want
	in := &Input{Path: path, File: t.Main, Diags: diags}
	if in.Zone, err = r.ReadAndCheck(t, diags); err != nil && !errors.Is(err, zoneload.ErrNoName) {
		return nil, err
	}
	return in, nil
}

// checkText checks a zone's text that is not on disk yet.
func (a *Files) checkText(t zoneload.Text) (*diag.List, error) {
	diags, r := &diag.List{}, a.Reader()
	if _, err := r.ReadAndCheck(t, diags); err != nil {
		return nil, err
	}
	return r.Settings.Settle(diags, t.Source.Files(), false), nil
}

// LoadConfig reads the configuration of a workspace; its files are named in
// findings as a person in the present folder would write them.
func LoadConfig(dir string, src *source.Set, diags *diag.List) (*workspace.Config, error) {
	have := len(src.Files())
	c, err := workspace.Load(dir, src, diags)
	for _, f := range src.Files()[have:] {
		f.Name = Shown(f.Name)
	}
	return c, err
}

// Settings say which findings count: those of the workspace if there is one that
// can be read.
func (a *Files) Settings() *lint.Settings {
	if c, err := a.Config(); err == nil {
		return c.Checks
	}
	return workspace.DefaultSettings()
}

// StdinName is what a text from standard input is called in findings.
const StdinName = "standard input"

// ReadClean reads a zone that must have no errors of the language.
func (a *Files) ReadClean(t zoneload.Text) (*zone.Snapshot, error) {
	diags := &diag.List{}
	z, err := a.Reader().Read(t, diags)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", t.Main.Name, err)
	}
	if diags.Count(diag.Error) > 0 {
		diags.Sort()
		for _, d := range diags.All {
			if d.Severity == diag.Error {
				return nil, &InvalidError{t.Main.Name, diags.Count(diag.Error), fmt.Sprintf("%s: %s", t.Source.Position(d.Span.Start), d.Message)}
			}
		}
	}
	return z.Snapshot, nil
}

// InvalidError says that a zone was not taken into service for its errors.
type InvalidError struct {
	Path   string
	Errors int
	First  string // the first of them, with its place
}

func (e *InvalidError) Error() string {
	more := ""
	if e.Errors > 1 {
		more = fmt.Sprintf(" (and %d more)", e.Errors-1)
	}
	return fmt.Sprintf("%s%s; see: fencepost check %s", e.First, more, e.Path)
}

// RelativeData is the text of data with names as short as the zone permits.
func RelativeData(apex dnsname.Name, t rr.Type, data []byte) string {
	text := rr.DataText(t, data)
	info := rr.Lookup(t)
	if info == nil || len(info.Targets()) == 0 {
		return text
	}
	words := strings.Fields(text)
	for _, target := range info.Targets() {
		if target.Word >= len(words) {
			return text
		}
		name, err := dnsname.Parse(words[target.Word], dnsname.Root)
		if err != nil || strings.Contains(text, `"`) {
			return text
		}
		words[target.Word] = name.Relative(apex)
	}
	return strings.Join(words, " ")
}

// InvalidExpectations says that files of expectations cannot be understood.
type InvalidExpectations struct {
	Source *source.Set
	Diags  *diag.List
}

func (e *InvalidExpectations) Error() string {
	return "the expectations cannot be understood; nothing was asked"
}

// Unwrap makes it a finding.
func (e *InvalidExpectations) Unwrap() error { return ErrFindings }
