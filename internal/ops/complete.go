package ops

import (
	"context"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

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
			names[z.Name.Plain()] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// OwnerNames are the owners in a zone, relative to it.
func (a *App) OwnerNames(zone string) (out []string) {
	path, origin, err := a.ZoneFile(zone)
	if err != nil {
		return nil
	}
	src := &source.Set{}
	f, err := a.Reader().File(src, path)
	const most = 4 << 20 // a shell does not wait for more
	if err != nil || len(f.Content) > most {
		return nil
	}
	parsed := zonefile.Parse(f, zonefile.Options{Origin: origin, Open: a.Reader().Includes(src, path, nil)}, &diag.List{})
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
		k := keyInfo(ring, e)
		out = append(out, [2]string{strconv.Itoa(int(e.Tag)), k.Role + ", " + string(e.State)})
	}
	return out
}

// Serials are the serials that a zone can go back to, each with when and by whom.
func (a *App) Serials(zone string) (out [][2]string) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	h, err := a.History(ctx, HistoryOptions{Zone: zone})
	if err != nil {
		return nil
	}
	for i, s := range h.Steps {
		if i > 0 { // the first is what there is
			out = append(out, [2]string{strconv.FormatUint(uint64(s.Serial), 10), s.At.UTC().Format("2006-01-02 15:04") + " " + s.By})
		}
	}
	if n := len(h.Steps); n > 0 {
		out = append(out, [2]string{strconv.FormatUint(uint64(h.Steps[n-1].From), 10), "the oldest that is kept"})
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
