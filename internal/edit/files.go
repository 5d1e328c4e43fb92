// Package edit changes zone files: transactions over several of them that are locked, patched,
// proved and then written wholly or not at all. What a person wrote and an edit does not touch
// stays as it is.
package edit

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zoneload"
)

// Files are the files of a workspace, or bare ones.
type Files struct {
	// Workspace is the folder given with --workspace; empty: the nearest one.
	Workspace string
	// Now is the clock for everything that depends on time.
	Now func() time.Time
	// PinnedConfig is the configuration where it is not to be read from the workspace; else nil.
	PinnedConfig *workspace.Config

	reading sync.Once
	read    *zoneload.Reader // see Reader
}

// Findings is wrapped when a command did what it was asked and there are
// findings with severity error. Usage is wrapped when it was asked wrongly.
var (
	ErrFindings = errors.New("there are findings")
	ErrUsage    = errors.New("wrong use")
)

// Usage makes an error that says how a command was used wrongly.
func Usage(format string, args ...any) error {
	return &usageError{fmt.Sprintf(format, args...)}
}

type usageError struct{ text string }

func (e *usageError) Error() string { return e.text }
func (e *usageError) Unwrap() error { return ErrUsage }

// Dir finds the workspace.
func (a *Files) Dir() (string, error) {
	if a.Workspace != "" {
		if _, err := os.Stat(filepath.Join(a.Workspace, workspace.ConfigFile)); err != nil {
			return "", fmt.Errorf("%s: %w", a.Workspace, workspace.ErrNone)
		}
		return filepath.Abs(a.Workspace)
	}
	return workspace.Locate(".")
}

// ConfigError says that fencepost.toml has errors; they are in Diags.
type ConfigError struct {
	Source *source.Set
	Diags  *diag.List
}

func (e *ConfigError) Error() string { return "the configuration has errors" }

// Unwrap makes it a finding.
func (e *ConfigError) Unwrap() error { return ErrFindings }

// Config reads the workspace's configuration; findings come as *ConfigError.
func (a *Files) Config() (*workspace.Config, error) {
	if a.PinnedConfig != nil {
		return a.PinnedConfig, nil
	}
	dir, err := a.Dir()
	if err != nil {
		return nil, err
	}
	src, diags := &source.Set{}, &diag.List{}
	c, err := LoadConfig(dir, src, diags)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, &ConfigError{src, diags}
	}
	return c, nil
}

// Shown is the path as a person in the present folder would write it.
func Shown(path string) string {
	wd, err := os.Getwd()
	if err != nil {
		return path
	}
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	if rel, err := filepath.Rel(wd, path); err == nil && !strings.HasPrefix(rel, "..") {
		return rel
	}
	return path
}

// IsFile reports whether an operand is an existing path rather than a zone name.
func IsFile(operand string) bool {
	_, err := os.Stat(operand)
	return err == nil || strings.ContainsRune(operand, os.PathSeparator)
}

// ZoneFile finds the master file that an operand means: a path, or a zone of
// the workspace. origin is the zone's name if it is known from there.
func (a *Files) ZoneFile(operand string) (path string, origin dnsname.Name, err error) {
	if IsFile(operand) {
		return operand, OriginOf(operand), nil
	}
	zone, audience := workspace.SplitAudience(operand)
	name, perr := WholeName(zone)
	if perr != nil {
		return "", dnsname.Name{}, Usage("%q is neither a file nor a zone name: %v", operand, perr)
	}
	dir, err := a.Dir()
	if err != nil {
		return "", dnsname.Name{}, fmt.Errorf("%s is not a file, and %w", operand, err)
	}
	path = filepath.Join(dir, workspace.ZonesDir, workspace.FileName(name))
	if audience != "" {
		path = strings.TrimSuffix(path, workspace.ZoneSuffix) + workspace.AudienceMark + audience + workspace.ZoneSuffix
		if _, err := os.Stat(path); err != nil {
			return "", dnsname.Name{}, fmt.Errorf("%s has no file for the audience %s; make it with: fencepost new %s --audience %s", zone, audience, zone, audience)
		}
	}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return "", dnsname.Name{}, a.noSuchZone(dir, name, path)
	}
	return path, name, nil
}

func (a *Files) noSuchZone(dir string, name dnsname.Name, path string) error {
	var have []string
	files, _ := filepath.Glob(filepath.Join(dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	for _, f := range files {
		have = append(have, strings.TrimSuffix(filepath.Base(f), workspace.ZoneSuffix))
	}
	plain := strings.TrimSuffix(name.String(), ".")
	if c, err := a.Config(); err == nil {
		if z := c.Find(name); z != nil && z.Kept {
			return KeptInStore(name)
		}
		if z := c.Find(name); z != nil && z.Catalog != nil && len(z.FetchFrom) == 0 {
			return workspace.IsCatalog(z)
		}
		if z := c.Find(name); z != nil && len(z.FetchFrom) > 0 {
			var from []string
			for _, p := range z.FetchFrom {
				from = append(from, p.Name)
			}
			return fmt.Errorf("%s is fetched from %s (fetch-from in fencepost.toml): there is no file of it here, and it is changed there; what is served is shown by: fencepost dump %s", plain, strings.Join(from, ", "), plain)
		}
	}
	err := fmt.Errorf("there is no zone %s: %s does not exist", plain, Shown(path))
	if meant := diag.Closest(plain, have); meant != "" {
		return fmt.Errorf("%w; did you mean %s?", err, meant)
	}
	return fmt.Errorf("%w; make it with: fencepost new %s", err, plain)
}

// KeptInStore says that a zone has no file to be edited.
func KeptInStore(zone dnsname.Name) error {
	return Usage("%[1]s is kept in the store (keep in fencepost.toml) and has no file: change it with add, change and remove --at SERVER; what is served is shown by: fencepost dump %[1]s", zone.Plain())
}

// OriginOf is the zone name that a file name says, if it ends in .zone.
func OriginOf(path string) dnsname.Name {
	base := filepath.Base(path)
	if !strings.HasSuffix(base, workspace.ZoneSuffix) {
		return dnsname.Name{}
	}
	stem, _ := workspace.SplitAudience(strings.TrimSuffix(base, workspace.ZoneSuffix))
	stem = strings.ReplaceAll(stem, "%2f", "/")
	if stem == "root" {
		return dnsname.Root
	}
	n, err := dnsname.Parse(stem, dnsname.Root)
	if err != nil {
		return dnsname.Name{}
	}
	return n
}

// WriteFile replaces a file wholly or not at all, and makes it last. Owner and mode
// of an existing file are kept.
func WriteFile(path string, text []byte) error { return wholefile.Write(path, text, 0o666) }
