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
	opts := zonefile.Options{Origin: origin, Open: a.includes(src, path)}
	return &zoneInput{path: path, file: f, src: src, diags: diags, zone: a.lintText(src, f, path, opts, want, settings, diags)}, nil
}

// lintText checks the text of a zone file at path, saved or not: all that check says of
// one file is said here. The zone is nil if not even its name is known. want, if not the
// zero name, is what it must be called.
func (a *App) lintText(src *source.Set, f *source.File, path string, opts zonefile.Options, want dnsname.Name, settings *lint.Settings, diags *diag.List) *zonefile.Loaded {
	z := zonefile.Load(f, opts, diags)
	switch {
	case z == nil:
		diags.Add(RuleNoName.At(fileStart(f), "nothing tells the name of this zone").
			Suggest("begin the file with $ORIGIN, name it ZONE.zone, or say --origin"))
	case !want.IsZero() && !z.Apex().Equal(want) && !z.NotText:
		diags.Add(RuleOtherZone.At(z.SOASpan, "this is the zone %s; %s was expected", z.Apex(), want).
			Suggest("correct the owner of the SOA, or the name of the file"))
	default:
		lint.Run(checks.All, z, src, a.Now(), forAudience(settings, path), diags)
	}
	return z
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
var Rules = []*diag.Rule{RuleNoName, RuleOtherZone, RuleNoFile, RuleUnreadable, RuleUnlisted, RuleSerialKept, RuleKeyMode, RuleKeysUnused, RuleKeysUnusable, RuleTooShort, RuleOldSignatures, RuleZoneMode, RuleExpiresSoon}

// checkText checks a zone's text that is not on disk yet.
func (a *App) checkText(src *source.Set, f *source.File, opts zonefile.Options) (*diag.List, error) {
	diags, settings := &diag.List{}, a.settings()
	if a.lintText(src, f, f.Name, opts, dnsname.Name{}, settings, diags) == nil {
		return nil, errors.New("nothing tells the name of this zone")
	}
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
