package ops

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// CheckOptions says what to check.
type CheckOptions struct {
	Operands []string // files and zones; none: the whole workspace
	Origin   string   // name of the zone, where a file does not say it
	Stdin    []byte   // what the operand - stands for
}

// Checked is the result of Check.
type Checked struct {
	Source *source.Set
	Diags  *diag.List
	Files  []CheckedFile
	// PassedOver are the files of folders that are no zone files by their names, and that none of
	// the zones includes.
	PassedOver []string

	reader  *zoneload.Reader
	members []*lint.Zone
	parts   []edit.Part // zones that were given
	unread  []error     // operands that could not be read
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
func (a *App) Check(ctx context.Context, o CheckOptions) (*Checked, error) {
	res := &Checked{Source: &source.Set{}, Diags: &diag.List{}, reader: a.FreshReader()}
	var err error
	if len(o.Operands) == 0 {
		err = a.checkWorkspace(ctx, res)
	} else {
		err = a.checkFiles(ctx, res, o)
	}
	if err != nil {
		return nil, err
	}
	res.Diags = res.reader.Settings.Settle(res.Diags, res.Source.Files(), len(o.Operands) == 0)
	res.Diags.Sort()
	if len(res.unread) > 0 {
		return res, errors.Join(res.unread...)
	}
	if res.Diags.Count(diag.Error) > 0 {
		return res, edit.ErrFindings
	}
	return res, nil
}

func (a *App) checkFiles(ctx context.Context, res *Checked, o CheckOptions) error {
	given, err := edit.GivenOrigin(o.Origin)
	if err != nil {
		return err
	}
	for _, op := range expandFolders(o.Operands) {
		if err := ctx.Err(); err != nil {
			return err
		}
		check := a.checkOperand
		if op == "-" {
			check = func(res *Checked, _ string, given dnsname.Name) error { return a.checkStdin(res, o.Stdin, given) }
		}
		if err := check(res, op, given); err != nil { // the others are checked all the same
			res.unread = append(res.unread, err)
		}
	}
	if len(res.Files) == 0 {
		return errors.Join(res.unread...)
	}
	res.PassedOver = passedOver(res, o.Operands)
	a.Between(res.Source, res.parts, nil, res.Diags)
	return nil
}

// passedOver are the files of folders that were neither checked nor included.
func passedOver(res *Checked, operands []string) (out []string) {
	seen := map[string]bool{}
	for _, f := range res.Source.Files() {
		seen[f.Name] = true
	}
	for _, op := range operands {
		entries, err := os.ReadDir(op)
		if err != nil {
			continue
		}
		for _, e := range entries {
			name := edit.Shown(filepath.Join(op, e.Name()))
			if e.Type().IsRegular() && !strings.HasPrefix(e.Name(), ".") && !seen[name] {
				out = append(out, name)
			}
		}
	}
	return out
}

// expandFolders puts the zone files of folders in their place.
func expandFolders(operands []string) (out []string) {
	for _, op := range operands {
		files, _ := filepath.Glob(filepath.Join(op, "*"+workspace.ZoneSuffix))
		if info, err := os.Stat(op); err != nil || !info.IsDir() || len(files) == 0 {
			out = append(out, op)
			continue
		}
		out = append(out, files...)
	}
	return out
}

func (a *App) checkOperand(res *Checked, op string, given dnsname.Name) error {
	path, name, err := a.ZoneFile(op)
	if err != nil {
		return err
	}
	if !given.IsZero() {
		name = given
	}
	if filepath.Base(path) == workspace.ConfigFile {
		if _, err := edit.LoadConfig(filepath.Dir(path), res.Source, res.Diags); err != nil {
			return err
		}
		res.Files = append(res.Files, CheckedFile{Path: edit.Shown(path)})
		return nil
	}
	have := len(res.Source.Files())
	in, err := a.checkZone(res, path, name, dnsname.Name{})
	if err == nil {
		res.parts = append(res.parts, edit.Part{Zone: in.Zone, Path: path, Files: slices.Clone(res.Source.Files()[have:])})
	}
	return err
}

// checkStdin checks a zone that comes on standard input; what it includes is looked for
// in the present folder.
func (a *App) checkStdin(res *Checked, text []byte, origin dnsname.Name) error {
	f, err := res.Source.Add(edit.StdinName, text)
	if err != nil {
		return err
	}
	z, err := res.reader.ReadAndCheck(res.reader.Text(res.Source, f, edit.StdinName, origin, nil), res.Diags)
	if err != nil && !errors.Is(err, zoneload.ErrNoName) {
		return err
	}
	res.add(edit.StdinName, z)
	return nil
}

// add takes note of a file that was looked at.
func (res *Checked) add(name string, z *zonefile.Loaded) {
	f := CheckedFile{Path: name}
	if z != nil {
		f.Zone, f.Serial, f.Names, f.Records = z.Apex().String(), z.Serial(), z.Names(), z.Records()
	}
	res.Files = append(res.Files, f)
}

func (a *App) checkZone(res *Checked, path string, origin, want dnsname.Name) (*edit.Input, error) {
	in, err := edit.LoadZone(res.reader, res.Source, res.Diags, path, origin, want)
	if err != nil {
		return nil, err
	}
	res.add(edit.Shown(path), in.Zone)
	return in, nil
}

// checkWorkspace checks the configuration, every zone file in the folder, how
// the zones fit together, and who can read and write what.
func (a *App) checkWorkspace(ctx context.Context, res *Checked) error {
	dir, err := a.Dir()
	if err != nil {
		return err
	}
	if err := edit.FinishIn(filepath.Join(dir, workspace.ZonesDir)); err != nil {
		res.unread = append(res.unread, err)
	}
	c, err := edit.LoadConfig(dir, res.Source, res.Diags)
	if err != nil {
		return err
	}
	res.Files = append(res.Files, CheckedFile{Path: edit.Shown(filepath.Join(dir, workspace.ConfigFile))})
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
		name := edit.OriginOf(path)
		_, audience := workspace.SplitAudience(strings.TrimSuffix(filepath.Base(path), workspace.ZoneSuffix))
		have[name.Key()+audience] = true
		in, err := a.checkZone(res, path, name, name)
		if err != nil {
			f, ferr := res.Source.Add(edit.Shown(path), nil)
			if ferr != nil {
				return ferr
			}
			res.Diags.Add(RuleUnreadable.At(fileStart(f), "it cannot be read: %v", err))
			continue
		}
		a.inWorkspace(res, c, in, name, audience)
	}
	if c == nil {
		return nil
	}
	for _, z := range c.Zones {
		for _, a := range z.Audiences {
			if len(z.FetchFrom) == 0 && !have[z.Name.Key()+a.Name] {
				res.Diags.Add(RuleNoFile.At(fileStart(res.Source.Files()[0]), "the zone %s has no file %s", z.Name, edit.Shown(c.AudienceFile(z.Name, a.Name))).
					Suggest("make it with: fencepost new %s --audience %s", strings.TrimSuffix(z.Name.String(), "."), a.Name))
			}
		}
		if z.HasFile() && !have[z.Name.Key()] {
			res.Diags.Add(RuleNoFile.At(fileStart(res.Source.Files()[0]), "the zone %s has no file %s", z.Name, edit.Shown(c.File(z.Name))).
				Suggest("make it with: fencepost new %s", strings.TrimSuffix(z.Name.String(), ".")))
		}
	}
	lint.RunWorkspace(checks.All, res.members, res.Source, res.Diags)
	a.serialsMoved(ctx, c, res)
	followsForWeb(c, res)
	checkKeyModes(c, res)
	checkSignatureTimes(c, res)
	if err := checkStore(c, res); err != nil {
		return err
	}
	return checkKeys(c, res)
}

// inWorkspace looks at a zone file as part of the workspace. Of a zone with
// several audiences the file for everyone is compared with other zones, the rest with that.
func (a *App) inWorkspace(res *Checked, c *workspace.Config, in *edit.Input, name dnsname.Name, audience string) {
	checkZoneMode(in, res)
	if c == nil {
		return
	}
	if in.Zone != nil {
		res.members = append(res.members, &lint.Zone{Loaded: in.Zone, Keys: edit.PublicKeys(c, name), Audience: audience})
	}
	plain := strings.TrimSuffix(name.String(), ".")
	z := c.Find(name)
	switch {
	case z == nil:
		res.Diags.Add(RuleUnlisted.At(fileStart(in.File), "%s is in no [[zone]] section, so it is not served", plain))
	case audience != "" && !slices.ContainsFunc(z.Audiences, func(x *workspace.Audience) bool { return x.Name == audience }):
		res.Diags.Add(RuleUnlisted.At(fileStart(in.File), "the [[zone]] section of %s does not list the audience %s", plain, audience).
			Suggest("add there: audiences = [%q]", audience))
	}
}

func fileStart(f *source.File) source.Span { return source.Span{Start: f.Pos(0), End: f.Pos(0)} }
