// Package zoneload reads zone files: the one way in for whoever serves, checks, signs or
// edits them, so that all of them agree. A zone comes back, or an error, never neither.
package zoneload

import (
	"errors"
	"maps"
	"path/filepath"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Reader reads the zone files of a workspace, or bare ones.
type Reader struct {
	// IncludeFrom are folders from which files may be included, besides that of the zone.
	IncludeFrom []string
	Settings    *lint.Settings   // which findings count; nil: as usual
	Now         func() time.Time // for checks
	// Shown is a path as findings name it; nil: as it is.
	Shown func(path string) string
}

func (r *Reader) shown(path string) string {
	if r.Shown == nil {
		return path
	}
	return r.Shown(path)
}

// Text is the text of a zone file, saved or not.
type Text struct {
	Source  *source.Set
	Main    *source.File
	Path    string // where it is, or is to be
	Options zonefile.Options
	Want    dnsname.Name // what the zone must be called; the zero name: anything
}

// Open is the file at a path as a text. origin is the zone's name if it is known from
// elsewhere.
func (r *Reader) Open(src *source.Set, path string, origin dnsname.Name) (Text, error) {
	f, err := r.File(src, path)
	if err != nil {
		return Text{}, err
	}
	return r.Text(src, f, path, origin, nil), nil
}

// Text is a text that may not be saved yet. texts are those of other files, by the names that
// findings give them, in place of what is saved.
func (r *Reader) Text(src *source.Set, main *source.File, path string, origin dnsname.Name, texts map[string][]byte) Text {
	return Text{Source: src, Main: main, Path: path, Options: zonefile.Options{Origin: origin, Open: r.Includes(src, path, texts)}}
}

// ErrNoName means that nothing tells the name of a zone. It is told as a finding too.
var ErrNoName = errors.New("nothing tells the name of this zone")

// Read reads the records of a text. What is wrong with it goes to diags.
func (r *Reader) Read(t Text, diags *diag.List) (*zonefile.Loaded, error) {
	z := zonefile.Load(t.Main, t.Options, diags)
	if z == nil {
		diags.Add(RuleNoName.At(start(t.Main), "nothing tells the name of this zone").
			Suggest("begin the file with $ORIGIN, name it ZONE.zone, or say --origin"))
		return nil, ErrNoName
	}
	return z, nil
}

// Check checks what Read has read: all that is said of one file is said here.
func (r *Reader) Check(t Text, z *zonefile.Loaded, diags *diag.List) {
	if t.isWanted(z, diags) {
		lint.Run(checks.All, z, t.Source, r.Now(), forAudience(r.Settings, t.Path), diags)
	}
}

// isWanted reports whether a zone is called what it must be called.
func (t *Text) isWanted(z *zonefile.Loaded, diags *diag.List) bool {
	if t.Want.IsZero() || z.Apex().Equal(t.Want) || z.NotText {
		return true
	}
	diags.Add(RuleOtherZone.At(z.SOASpan, "this is the zone %s; %s was expected", z.Apex(), t.Want).
		Suggest("correct the owner of the SOA, or the name of the file"))
	return false
}

// ReadAndCheck is both.
func (r *Reader) ReadAndCheck(t Text, diags *diag.List) (*zonefile.Loaded, error) {
	z, err := r.Read(t, diags)
	if err == nil {
		r.Check(t, z, diags)
	}
	return z, err
}

// forAudience leaves out, for a file that only some askers see, that it holds
// private addresses: that is what such files are for.
func forAudience(s *lint.Settings, path string) *lint.Settings {
	if _, audience := workspace.SplitAudience(filepath.Base(path)); audience == "" || s == nil {
		return s
	}
	own := *s
	own.Severity = maps.Clone(s.Severity)
	if own.Severity == nil {
		own.Severity = map[string]diag.Severity{}
	}
	own.Severity["private-address"] = diag.Off
	return &own
}

func start(f *source.File) source.Span { return source.Span{Start: f.Pos(0), End: f.Pos(0)} }

// Rules of files as a whole.
var (
	RuleNoName = &diag.Rule{Code: "no-zone-name", Severity: diag.Error, Title: "nothing tells the name of the zone", Ref: "RFC 1035 §5.1",
		Doc: "The file has no SOA record that could be read, no $ORIGIN, and its name does not end in .zone."}
	RuleOtherZone = &diag.Rule{Code: "other-zone", Severity: diag.Error, Title: "the file holds another zone than its name says", Ref: "",
		Doc: "In a workspace the file zones/NAME.zone holds the zone NAME. The SOA in it belongs to another name: often a file was copied and its SOA or $ORIGIN left as it was."}
)
