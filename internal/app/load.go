package app

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// maxZoneFile is the largest file that is read; positions are 32 bits.
const maxZoneFile = source.MaxTotal

// readFile takes a file into the set.
func readFile(src *source.Set, path string) (*source.File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s is a folder, not a file", path)
	}
	if info.Size() > maxZoneFile {
		return nil, fmt.Errorf("%s is larger than 4 GiB", path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return src.Add(Shown(path), text)
}

// includes reads files for $INCLUDE, relative to the including file and never
// outside the folder of the zone file and those that the workspace allows.
func (a *App) includes(src *source.Set, root string) func(string, *source.File) (*source.File, error) {
	return a.includesWith(src, root, nil)
}

// includesWith is includes with texts in the place of files that are about to
// change, by their names.
func (a *App) includesWith(src *source.Set, root string, texts map[string][]byte) func(string, *source.File) (*source.File, error) {
	dir, _ := filepath.Abs(filepath.Dir(root))
	return func(path string, from *source.File) (*source.File, error) {
		base, err := filepath.Abs(filepath.Dir(from.Name))
		if err != nil {
			return nil, err
		}
		full := path
		if !filepath.IsAbs(full) {
			full = filepath.Join(base, path)
		}
		if !within(dir, full) && !a.mayInclude(full) {
			return nil, errors.New("it lies outside the folder of the zone file; allow its folder in fencepost.toml: [include] from = [...]")
		}
		if text, changed := texts[Shown(full)]; changed {
			return src.Add(Shown(full), text)
		}
		f, err := readFile(src, full)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("there is no file %s", Shown(full))
		}
		return f, err
	}
}

// within tells whether a path lies in a folder.
func within(dir, path string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(os.PathSeparator))
}

// mayInclude tells whether the workspace allows to include a file from where it is.
func (a *App) mayInclude(path string) bool {
	c, err := a.Config()
	if err != nil {
		return false
	}
	for _, dir := range c.IncludeFrom {
		if within(dir, path) {
			return true
		}
	}
	return false
}

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
	RuleUnlisted = &diag.Rule{Code: "unlisted-zone-file", Severity: diag.Note, Title: "a zone file is not in the configuration", Ref: "",
		Doc: "The file is checked and not served: no [[zone]] section names it."}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{RuleNoName, RuleOtherZone, RuleNoFile, RuleUnlisted, RuleSerialKept, RuleKeyMode, RuleKeysUnused, RuleKeysUnusable, RuleTooShort, RuleZoneMode}

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
