package edit

import (
	"maps"
	"os"
	"path/filepath"
	"slices"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
	"fencepost/zoneload"
)

// mostBeside is how many octets of other zones are read to judge one: what is larger is a matter of
// checking the whole workspace.
const mostBeside = 64 << 20

// Part is a zone of the workspace that was read, with the files that it was read from.
type Part struct {
	Zone  *zonefile.Loaded
	Path  string
	Files []*source.File
}

// Between adds to diags what other zones of the workspace say of some of them: those that hold names which
// they point to or delegate, and those above them. What is wrong elsewhere is said where that is checked.
// texts are those of files that are not saved yet, by their whole paths.
func (a *Files) Between(src *source.Set, parts []Part, texts map[string][]byte, diags *diag.List) {
	c, err := a.Config()
	if err != nil {
		return
	}
	var members []*lint.Zone
	own := map[*source.File]bool{}
	have := map[string]bool{}
	for _, p := range parts {
		_, audience := workspace.SplitAudience(filepath.Base(p.Path))
		if p.Zone == nil || audience != "" || have[p.Zone.Apex().Key()] || !SameFile(p.Path, c.File(p.Zone.Apex())) || c.Find(p.Zone.Apex()) == nil {
			continue // a file for an audience is compared with that for everyone
		}
		m := lint.NewZone(p.Zone, src)
		m.Keys = PublicKeys(c, p.Zone.Apex())
		members = append(members, m)
		have[p.Zone.Apex().Key()] = true
		for _, f := range p.Files {
			own[f] = true
		}
	}
	others := a.beside(c, src, members, have, texts)
	if len(members)+len(others) < 2 {
		return
	}
	found := &diag.List{}
	lint.RunWorkspace(checks.All, slices.Concat(members, others), src, found)
	for _, d := range found.All {
		if own[src.File(d.Span.Start)] {
			diags.Add(d)
		}
	}
}

// beside reads the zones that matter for some of the workspace and are not among those.
func (a *Files) beside(c *workspace.Config, src *source.Set, members []*lint.Zone, have map[string]bool, texts map[string][]byte) (out []*lint.Zone) {
	wanted := map[string]dnsname.Name{}
	seek := func(n dnsname.Name) {
		for ; ; n = n.Parent() {
			if held := c.Find(n); held != nil {
				if held.HasFile() && !have[n.Key()] {
					wanted[n.Key()] = n
				}
				return
			}
			if n == dnsname.Root {
				return
			}
		}
	}
	asked := map[string]bool{}
	for _, m := range members {
		if m.Apex() != dnsname.Root {
			seek(m.Apex().Parent())
		}
		checks.Elsewhere(m, func(wire []byte) {
			if asked[string(wire)] {
				return
			}
			asked[string(wire)] = true
			if n, err := dnsname.FromWire(wire); err == nil {
				seek(n)
			}
		})
	}
	left := int64(mostBeside)
	for _, key := range slices.Sorted(maps.Keys(wanted)) {
		path := c.File(wanted[key])
		text, open := texts[wholePath(path)]
		if !open {
			info, err := os.Stat(path)
			if err != nil || info.Size() > left {
				continue
			}
			left -= info.Size()
		}
		if m := a.besideOne(src, wanted[key], path, text, open); m != nil {
			m.Keys = PublicKeys(c, wanted[key])
			out = append(out, m)
		}
	}
	return out
}

// besideOne reads a zone that another is compared with. What is wrong with it is not said here.
func (a *Files) besideOne(src *source.Set, name dnsname.Name, path string, text []byte, open bool) *lint.Zone {
	r, diags := a.Reader(), &diag.List{}
	var t zoneload.Text
	var err error
	if !open {
		t, err = r.Open(src, path, name)
	} else if f, ferr := src.Add(Shown(path), text); ferr == nil {
		t = r.Text(src, f, path, name, nil)
	} else {
		err = ferr
	}
	if err != nil {
		return nil
	}
	z, err := r.Read(t, diags)
	if err != nil || diags.Count(diag.Error) > 0 || !z.Apex().Equal(name) {
		return nil
	}
	return lint.NewZone(z, src)
}

// between is Between for the zone of an edit, where records come that point out of it.
func (e *ZoneEdit) between(src *source.Set, z *zonefile.Loaded, texts map[string][]byte, diags *diag.List) {
	if e.b.partial || !e.pointsElsewhere() {
		return
	}
	e.b.a.Between(src, []Part{{z, e.path, slices.Clone(src.Files())}}, texts, diags)
}

// pointsElsewhere reports whether a record comes that points out of the zone.
func (e *ZoneEdit) pointsElsewhere() (yes bool) {
	for k, n := range e.expected {
		if n <= 0 {
			continue
		}
		if r, ok := keyRecord(k); ok {
			checks.Targets(r.Type, r.Data, func(wire []byte) {
				if name, err := dnsname.FromWire(wire); err == nil && !name.AtOrBelow(e.file.Apex) {
					yes = true
				}
			})
		}
	}
	return yes
}

// newTexts are the texts of the zones that change together, by their whole paths.
func (b *Transaction) newTexts() map[string][]byte {
	out := map[string][]byte{}
	for _, e := range b.edits {
		if e.text != nil {
			out[wholePath(e.path)] = e.text
		}
	}
	return out
}

// SameFile reports whether two paths lead to one file.
func SameFile(a, b string) bool {
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	return errX == nil && errY == nil && os.SameFile(x, y)
}

// wholePath is a path from the root; as it is where that cannot be told.
func wholePath(path string) string {
	if whole, err := filepath.Abs(path); err == nil {
		return whole
	}
	return path
}
