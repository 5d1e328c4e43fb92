package app

import (
	"context"
	"path/filepath"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint/checks"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/workspace"
)

// Checked is the result of Check.
type Checked struct {
	Source *source.Set
	Diags  *diag.List
	Files  []CheckedFile
}

// CheckedFile is one file that was looked at.
type CheckedFile struct {
	Path    string
	Zone    string // empty if its name is not known
	Serial  uint32
	Names   int
	Records int
}

// Check reads files, or the whole workspace if there are none, and reports
// everything that is wrong. The error wraps ErrFindings when there are errors.
func (a *App) Check(ctx context.Context, operands []string, origin string) (*Checked, error) {
	res := &Checked{Source: &source.Set{}, Diags: &diag.List{}}
	var err error
	if len(operands) == 0 {
		err = a.checkWorkspace(ctx, res)
	} else {
		err = a.checkFiles(ctx, res, operands, origin)
	}
	if err != nil {
		return nil, err
	}
	res.Diags.Sort()
	if res.Diags.Count(diag.Error) > 0 {
		return res, ErrFindings
	}
	return res, nil
}

func (a *App) checkFiles(ctx context.Context, res *Checked, operands []string, origin string) error {
	var given dnsname.Name
	if origin != "" {
		var err error
		if given, err = dnsname.Parse(origin, dnsname.Root); err != nil {
			return usage("--origin %s: %v", origin, err)
		}
	}
	for _, op := range operands {
		if err := ctx.Err(); err != nil {
			return err
		}
		path, name, err := a.zoneFile(op)
		if err != nil {
			return err
		}
		if !given.IsZero() {
			name = given
		}
		if filepath.Base(path) == workspace.ConfigFile {
			if _, err := workspace.Load(filepath.Dir(path), res.Source, res.Diags); err != nil {
				return err
			}
			res.Files = append(res.Files, CheckedFile{Path: Shown(path)})
			continue
		}
		if err := a.checkZone(res, path, name, dnsname.Name{}); err != nil {
			return err
		}
	}
	return nil
}

func (a *App) checkZone(res *Checked, path string, origin, want dnsname.Name) error {
	in, err := a.loadZone(res.Source, res.Diags, path, origin, want)
	if err != nil {
		return err
	}
	f := CheckedFile{Path: Shown(path)}
	if in.zone != nil {
		f.Zone, f.Serial, f.Names, f.Records = in.zone.Apex().String(), in.zone.Serial(), in.zone.Names(), in.zone.Records()
	}
	res.Files = append(res.Files, f)
	return nil
}

// checkWorkspace checks the configuration and every zone file in the folder.
func (a *App) checkWorkspace(ctx context.Context, res *Checked) error {
	dir, err := a.Dir()
	if err != nil {
		return err
	}
	c, err := workspace.Load(dir, res.Source, res.Diags)
	if err != nil {
		return err
	}
	res.Files = append(res.Files, CheckedFile{Path: Shown(filepath.Join(dir, workspace.ConfigFile))})
	files, err := filepath.Glob(filepath.Join(dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	if err != nil {
		return err
	}
	sort.Strings(files)
	have := map[string]bool{}
	for _, path := range files {
		if err := ctx.Err(); err != nil {
			return err
		}
		name := originOf(path)
		have[name.Key()] = true
		if err := a.checkZone(res, path, name, name); err != nil {
			return err
		}
		if c != nil && c.Find(name) == nil {
			f := res.Source.Files()[len(res.Source.Files())-1]
			res.Diags.Add(RuleUnlisted.At(source.Span{Start: f.Pos(0), End: f.Pos(0)}, "%s is in no [[zone]] section, so it is not served", strings.TrimSuffix(name.String(), ".")))
		}
	}
	if c == nil {
		return nil
	}
	for _, z := range c.Zones {
		if len(z.FetchFrom) == 0 && !have[z.Name.Key()] {
			f := res.Source.Files()[0]
			res.Diags.Add(RuleNoFile.At(source.Span{Start: f.Pos(0), End: f.Pos(0)}, "the zone %s has no file %s", z.Name, Shown(c.File(z.Name))).
				Suggest("make it with: fencepost new %s", strings.TrimSuffix(z.Name.String(), ".")))
		}
	}
	return nil
}

// Catalogue is every rule there is.
func Catalogue() []*diag.Rule {
	rules := checks.Catalogue()
	rules = append(rules, Rules...)
	rules = append(rules, workspace.Rules...)
	return append(rules, signer.Rules...)
}

// Explanation is what `explain` knows about a word: a rule or a record type.
type Explanation struct {
	Rule *diag.Rule
	Type *rr.Info
}

// Explain looks up a code of a finding or a record type.
func Explain(word string) (*Explanation, error) {
	for _, r := range Catalogue() {
		if strings.EqualFold(r.Code, word) {
			return &Explanation{Rule: r}, nil
		}
	}
	if t, ok := rr.ParseType(word); ok && rr.Lookup(t) != nil {
		return &Explanation{Type: rr.Lookup(t)}, nil
	}
	var known []string
	for _, r := range Catalogue() {
		known = append(known, r.Code)
	}
	if meant := diag.Closest(word, append(known, rr.Mnemonics()...)); meant != "" {
		return nil, usage("nothing is known about %q; did you mean %s?", word, meant)
	}
	return nil, usage("nothing is known about %q: give the code of a finding, or a record type", word)
}
