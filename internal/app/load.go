package app

import (
	"errors"
	"maps"
	"path/filepath"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// zoneInput is a zone read from a file with all that was found.
type zoneInput struct {
	path  string
	file  *source.File
	zone  *zonefile.Loaded // nil if not even the name is known
	src   *source.Set
	diags *diag.List
}

// errors counts the findings that keep the zone out of service.
func (in *zoneInput) errors() int { return in.diags.Count(diag.Error) }

// loadZone reads and checks a zone file. want, if not the zero name, is what the
// zone must be called.
func (a *App) loadZone(src *source.Set, diags *diag.List, path string, origin, want dnsname.Name, settings *lint.Settings) (*zoneInput, error) {
	f, err := readFile(src, path)
	if err != nil {
		return nil, err
	}
	in := &zoneInput{path: path, file: f, src: src, diags: diags}
	in.zone = zonefile.Load(f, zonefile.Options{Origin: origin, Open: a.includes(src, path)}, diags)
	if in.zone == nil {
		diags.Add(RuleNoName.At(source.Span{Start: f.Pos(0), End: f.Pos(0)}, "nothing tells the name of this zone").
			Suggest("begin the file with $ORIGIN, name it ZONE.zone, or say --origin"))
		return in, nil
	}
	if !want.IsZero() && !in.zone.Apex().Equal(want) {
		diags.Add(RuleOtherZone.At(in.zone.SOASpan, "this is the zone %s; %s was expected", in.zone.Apex(), want).
			Suggest("correct the owner of the SOA, or the name of the file"))
		return in, nil
	}
	lint.Run(checks.All, in.zone, src, a.Now(), forAudience(settings, path), diags)
	return in, nil
}

// forAudience leaves out, for a file that only some askers see, that it holds
// private addresses: that is what such files are for.
func forAudience(s *lint.Settings, path string) *lint.Settings {
	if _, audience := splitAudience(filepath.Base(path)); audience == "" || s == nil {
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

// Rules of files as a whole.
var (
	RuleNoName = &diag.Rule{Code: "no-zone-name", Severity: diag.Error, Title: "nothing tells the name of the zone", Ref: "RFC 1035 §5.1",
		Doc: "The file has no SOA record that could be read, no $ORIGIN, and its name does not end in .zone."}
	RuleOtherZone = &diag.Rule{Code: "other-zone", Severity: diag.Error, Title: "the file holds another zone than its name says", Ref: "",
		Doc: "In a workspace the file zones/NAME.zone holds the zone NAME. The SOA in it belongs to another name: often a file was copied and its SOA or $ORIGIN left as it was."}
	RuleNoFile = &diag.Rule{Code: "missing-zone-file", Severity: diag.Error, Title: "a zone of the configuration has no file", Ref: "",
		Doc: "fencepost.toml lists a zone we are primary for, and zones/NAME.zone does not exist. Make it with `fencepost new NAME`."}
	RuleUnreadable = &diag.Rule{Code: "unreadable-zone-file", Severity: diag.Error, Title: "a zone file cannot be read", Ref: "",
		Doc: "The file is there, and this user may not read it, or it is no regular file, or it is too large. What is served of the zone is the last good version."}
	RuleUnlisted = &diag.Rule{Code: "unlisted-zone-file", Severity: diag.Note, Title: "a zone file is not in the configuration", Ref: "",
		Doc: "The file is checked and not served: no [[zone]] section names it."}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{RuleNoName, RuleOtherZone, RuleNoFile, RuleUnreadable, RuleUnlisted, RuleSerialKept, RuleKeyMode, RuleKeysUnused, RuleKeysUnusable, RuleTooShort, RuleZoneMode}

// checkText checks a zone's text that is not on disk yet.
func (a *App) checkText(src *source.Set, f *source.File, opts zonefile.Options) (*diag.List, error) {
	diags, settings := &diag.List{}, a.settings()
	z := zonefile.Load(f, opts, diags)
	if z == nil {
		return nil, errors.New("nothing tells the name of this zone")
	}
	lint.Run(checks.All, z, src, a.Now(), settings, diags)
	return settings.Settle(diags, src.Files(), false), nil
}

// loadConfig reads the configuration of a workspace; its files are named in
// findings as a person in the present folder would write them.
func loadConfig(dir string, src *source.Set, diags *diag.List) (*workspace.Config, error) {
	have := len(src.Files())
	c, err := workspace.Load(dir, src, diags)
	for _, f := range src.Files()[have:] {
		f.Name = Shown(f.Name)
	}
	return c, err
}

// settings say which findings count: those of the workspace if there is one that
// can be read.
func (a *App) settings() *lint.Settings {
	if c, err := a.Config(); err == nil {
		return c.Checks
	}
	return workspace.DefaultSettings()
}
