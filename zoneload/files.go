package zoneload

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
)

// Limits of what is read as zones: enough for tens of millions of records, and too
// little to take a machine's memory.
const (
	MaxFile     = 1 << 30 // octets of a file, and of all that it includes
	maxIncluded = 10000   // files that a zone includes, counted each time
)

// File reads a zone file.
func (r *Reader) File(src *source.Set, path string) (*source.File, error) {
	text, err := wholefile.Read(path, MaxFile)
	if err != nil {
		return nil, err
	}
	return src.Add(r.shown(path), text)
}

// Includes reads files for $INCLUDE, relative to the including file and never outside the
// folder of the zone file and those that are allowed. texts are in the place of files that
// are about to change, by the names that findings give them.
func (r *Reader) Includes(src *source.Set, root string, texts map[string][]byte) func(string, *source.File) (*source.File, error) {
	dir, _ := filepath.Abs(filepath.Dir(root))
	files, octets := 0, 0
	return func(path string, from *source.File) (*source.File, error) {
		if files > maxIncluded {
			return nil, nil // told of once
		}
		if files++; files > maxIncluded {
			return nil, fmt.Errorf("more than %d files are included; the rest is left out", maxIncluded)
		}
		base, err := filepath.Abs(filepath.Dir(from.Name))
		if err != nil {
			return nil, err
		}
		full := path
		if !filepath.IsAbs(full) {
			full = filepath.Join(base, path)
		}
		if err := r.includable(dir, full); err != nil {
			return nil, err
		}
		text, changed := texts[r.shown(full)]
		if !changed {
			text, err = wholefile.Read(full, MaxFile)
			if errors.Is(err, fs.ErrNotExist) {
				return nil, fmt.Errorf("there is no file %s", r.shown(full))
			}
			if err != nil {
				return nil, err
			}
		}
		if octets += len(text); octets > MaxFile {
			files = maxIncluded + 1
			return nil, fmt.Errorf("all that is included is more than %d octets; the rest is left out", MaxFile)
		}
		return src.Add(r.shown(full), text)
	}
}

// private are the files of a workspace that no finding may quote.
var private = []string{workspace.SecretsFile, "*.pem", "keyring.toml"}

// Includable says why the file at path, which is absolute, may not be included by the zone file
// root; nil: it may.
func (r *Reader) Includable(root, path string) error {
	dir, err := filepath.Abs(filepath.Dir(root))
	if err != nil {
		return err
	}
	return r.includable(dir, path)
}

// includable says why a file may not be included. Links count as where they lead:
// what is read is quoted in findings, to whoever may write zone files.
func (r *Reader) includable(dir, path string) error {
	allowed := append([]string{dir}, r.IncludeFrom...)
	inside := func(path string, resolve func(string) string) bool {
		return slices.ContainsFunc(allowed, func(dir string) bool { return within(resolve(dir), path) })
	}
	if !inside(path, func(dir string) string { return dir }) {
		return errors.New("it lies outside the folder of the zone file; allow its folder in fencepost.toml: [include] from = [...]")
	}
	leads, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil // there is none: opening it tells
	}
	if slices.ContainsFunc(private, func(p string) bool { ok, _ := filepath.Match(p, filepath.Base(leads)); return ok }) {
		return errors.New("keys and secrets are not included")
	}
	if leads != path && !inside(leads, func(dir string) string {
		if real, err := filepath.EvalSymlinks(dir); err == nil {
			return real
		}
		return dir
	}) {
		return errors.New("it is a link to outside the folder of the zone file; allow that folder in fencepost.toml: [include] from = [...]")
	}
	return nil
}

// within reports whether a path lies in a folder.
func within(dir, path string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(os.PathSeparator))
}
