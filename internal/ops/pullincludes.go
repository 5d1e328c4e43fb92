package ops

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/internal/edit"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// pulledIncludes are the files that a master file from elsewhere includes, by their paths beside it.
type pulledIncludes map[string][]byte

// includesOf reads what a master file includes, as far as it is there and lies beside or below it. What
// cannot be taken along stands in the notes.
func includesOf(p *Pulled, path string) pulledIncludes {
	dir, err := filepath.Abs(filepath.Dir(path))
	if err != nil {
		return nil
	}
	out, src := pulledIncludes{}, &source.Set{}
	open := func(asked string, from *source.File) (*source.File, error) {
		full := asked
		if !filepath.IsAbs(full) {
			full = filepath.Join(filepath.Dir(from.Name), asked)
		}
		rel, err := filepath.Rel(dir, full)
		if err != nil || !filepath.IsLocal(rel) {
			p.Notes = append(p.Notes, fmt.Sprintf("NOT TAKEN ALONG: %s, which %s includes, does not lie beside it: copy it into the folder of the zone, and include it from there", asked, edit.Shown(from.Name)))
			return nil, errors.New("it lies elsewhere")
		}
		text, err := wholefile.Read(full, zoneload.MaxFile)
		if err != nil {
			why := err.Error()
			if errors.Is(err, fs.ErrNotExist) {
				why = "there is no such file"
			}
			p.Notes = append(p.Notes, fmt.Sprintf("MISSING: %s, which %s includes: %s", asked, edit.Shown(from.Name), why))
			return nil, err
		}
		out[rel] = text
		return src.Add(full, text)
	}
	if f, err := src.Add(filepath.Join(dir, filepath.Base(path)), p.Text); err == nil {
		zonefile.Parse(f, zonefile.Options{Origin: p.Zone, Open: open}, &diag.List{})
	}
	return out
}

// at are the same files by where they will lie beside a zone file, as findings name them.
func (in pulledIncludes) at(path string) map[string][]byte {
	out := map[string][]byte{}
	for rel, text := range in {
		out[edit.Shown(filepath.Join(filepath.Dir(path), rel))] = text
	}
	return out
}

// write writes them beside a zone file, none over another.
func (in pulledIncludes) write(p *Pulled, path string) error {
	for _, rel := range slices.Sorted(maps.Keys(in)) {
		to := filepath.Join(filepath.Dir(path), rel)
		if have, err := wholefile.Read(to, zoneload.MaxFile); err == nil {
			if string(have) == string(in[rel]) {
				continue
			}
			return fmt.Errorf("%s exists already and is another; nothing was written over it", edit.Shown(to))
		}
		if err := wholefile.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := edit.WriteFile(to, in[rel]); err != nil {
			return err
		}
		p.Files = append(p.Files, edit.Shown(to))
	}
	return nil
}

// fileName is what a file given with --file is called in words.
func fileName(path string) string {
	if path == "-" {
		return edit.StdinName
	}
	return edit.Shown(strings.TrimSpace(path))
}
