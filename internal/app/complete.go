package app

import (
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Words that a shell completes. What cannot be read completes nothing.

// ZoneNames are the zones of the workspace: those with a file and those configured.
func (a *App) ZoneNames() []string {
	dir, err := a.Dir()
	if err != nil {
		return nil
	}
	names := map[string]bool{}
	files, _ := filepath.Glob(filepath.Join(dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	for _, f := range files {
		names[strings.TrimSuffix(filepath.Base(f), workspace.ZoneSuffix)] = true
	}
	if c, err := a.Config(); err == nil {
		for _, z := range c.Zones {
			names[plainName(z.Name)] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// OwnerNames are the owners in a zone, relative to it.
func (a *App) OwnerNames(zone string) (out []string) {
	path, origin, err := a.zoneFile(zone)
	if err != nil {
		return nil
	}
	src := &source.Set{}
	f, err := readFile(src, path)
	const most = 4 << 20 // a shell does not wait for more
	if err != nil || len(f.Content) > most {
		return nil
	}
	parsed := zonefile.Parse(f, zonefile.Options{Origin: origin, Open: a.includes(src, path)}, &diag.List{})
	seen := map[string]bool{}
	for _, e := range parsed.All {
		owner, err := dnsname.FromWire(e.Owner)
		if e.Kind == zonefile.Record && err == nil && !seen[owner.Key()] {
			seen[owner.Key()] = true
			out = append(out, owner.Relative(parsed.Apex))
		}
	}
	return out
}

// KeyTags are the keys of a zone, each with what it is.
func (a *App) KeyTags(zone, dir string) (out [][2]string) {
	ring, _, err := a.Keys(zone, dir)
	if err != nil {
		return nil
	}
	for _, e := range ring.Keys {
		k := keyInfo(ring.Zone, e)
		out = append(out, [2]string{strconv.Itoa(int(e.Tag)), k.Role + ", " + string(e.State)})
	}
	return out
}

// PeerNames are the peers of the workspace.
func (a *App) PeerNames() []string {
	c, err := a.Config()
	if err != nil {
		return nil
	}
	return slices.Sorted(maps.Keys(c.Peers))
}

// SecretNames are the names of the secrets of the workspace.
func (a *App) SecretNames() []string {
	c, err := a.Config()
	if err != nil {
		return nil
	}
	return slices.Sorted(maps.Keys(c.Keys))
}
