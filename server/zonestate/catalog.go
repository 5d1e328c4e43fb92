package zonestate

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"fencepost/catalog"
	"fencepost/dnsname"
	"fencepost/zone"
)

// Catalog is a zone that lists others, which are served as it says (RFC 9432 §5).
type Catalog struct {
	Zone dnsname.Name
	// Member is how a zone that it lists is served.
	Member func(m catalog.Member) Zone
	// May says whether the configuration lets it list a zone; nil is NotLimited.
	May func(zone dnsname.Name) Permission
}

// Permission is what the configuration says of a zone that a catalog lists.
type Permission uint8

// The permissions.
const (
	NotLimited Permission = iota // nothing is said of what the catalog may list
	Granted                      // it may list the zone, also in the tree of a zone that is configured here
	NotGranted
)

func (c *Catalog) permission(zone dnsname.Name) Permission {
	if c == nil || c.May == nil {
		return NotLimited
	}
	return c.May(zone)
}

// configuredTree is the zones that are configured, but for catalogs, and the names above them.
type configuredTree struct{ zones, above map[string]dnsname.Name }

func treeOf(cfg *Config) configuredTree {
	t := configuredTree{map[string]dnsname.Name{}, map[string]dnsname.Name{}}
	for i := range cfg.Zones {
		name := cfg.Zones[i].Name
		if t.zones[name.Key()] = name; cfg.Zones[i].Lists {
			continue
		}
		for up := name; up.Labels() > 0; {
			up = up.Parent()
			t.above[up.Key()] = name
		}
	}
	return t
}

// refuse says why a catalog may not have a zone: what is configured here is not its to change, nor is
// what lies below or above that. Empty: it may.
func (t *configuredTree) refuse(may Permission, zone dnsname.Name) string {
	if _, there := t.zones[zone.Key()]; there {
		return "is configured here in another way"
	}
	switch may {
	case Granted:
		return ""
	case NotGranted:
		return "is not one of those that the catalog may list (may-list)"
	}
	if zone == dnsname.Root {
		return "is the root; a catalog may list it only where may-list says so"
	}
	if below, there := t.above[zone.Key()]; there {
		return fmt.Sprintf("lies above %s, which is configured here; to let the catalog have it: may-list", below.Plain())
	}
	for up := zone; up.Labels() > 0; {
		up = up.Parent()
		if over, there := t.zones[up.Key()]; there {
			return fmt.Sprintf("lies below %s, which is configured here; to let the catalog have it: may-list", over.Plain())
		}
	}
	return ""
}

// catalogs is what came of the catalogs. Zones.mu guards it.
type catalogs struct {
	listings map[string]catalog.Listing // by catalog: what it said last without an error
	read     map[string]*zone.Snapshot  // and the version that said so, or was broken
	owned    map[string]catalog.Owned   // by zone
	broken   map[string]string          // why that version counts for nothing
	notes    map[string]string          // what is odd about a catalog, by its key
	fresh    map[string]dnsname.Name    // zones of which nothing is to be left, by their keys
}

// readCatalogs looks what the catalogs of a configuration say now. Of one that is broken, or is not
// there yet, counts what it said before. s.mu is held.
func (s *Zones) readCatalogs(cfg *Config) (owned map[string]catalog.Owned, notes map[string]string) {
	c := &s.catalogs
	notes = map[string]string{}
	var list []catalog.Listing
	for i := range cfg.Catalogs {
		name := cfg.Catalogs[i].Zone
		key := name.Key()
		var snap *zone.Snapshot
		if z := s.table.Load().zones[key]; z != nil {
			snap = z.lastGood().served
		}
		if snap != nil && snap != c.read[key] {
			members, err := catalog.Read(snap)
			delete(c.broken, key)
			if err != nil {
				c.broken[key] = fmt.Sprintf("%v; the zones that it listed before stay", err)
				s.Log.Error("a catalog is not followed", "zone", name.String(), "error", err)
			} else {
				c.listings[key] = catalog.Listing{Catalog: name, Members: members}
			}
			c.read[key] = snap
		}
		if l, known := c.listings[key]; known {
			list = append(list, l)
		}
		if why := c.broken[key]; why != "" {
			notes[key] = why
		}
	}
	tree, catalogs := treeOf(cfg), map[string]*Catalog{}
	for i := range cfg.Catalogs {
		catalogs[cfg.Catalogs[i].Zone.Key()] = &cfg.Catalogs[i]
	}
	may := func(from, zone dnsname.Name) Permission { return catalogs[from.Key()].permission(zone) }
	owned, clashes := catalog.Settle(list, c.owned,
		func(from, zone dnsname.Name) string { return tree.refuse(may(from, zone), zone) },
		func(from, zone dnsname.Name) bool { return may(from, zone) == Granted })
	const most = 3 // that are named
	count := map[string]int{}
	for _, clash := range clashes {
		key := clash.Catalog.Key()
		if count[key]++; count[key] > most {
			continue
		}
		if notes[key] != "" {
			notes[key] += "; "
		}
		notes[key] += "kept out: " + clash.String()
	}
	for key, n := range count {
		if n > most {
			notes[key] += fmt.Sprintf("; and %d more", n-most)
		}
	}
	return owned, notes
}

// withMembers is a configuration with the zones that its catalogs list. s.mu is held.
func (s *Zones) withMembers(cfg *Config) *Config {
	if len(cfg.Catalogs) == 0 {
		s.catalogs = catalogs{}
		s.catalogState.Store(&catalogState{})
		return cfg
	}
	if s.catalogs.listings == nil {
		s.catalogs = catalogs{listings: map[string]catalog.Listing{}, read: map[string]*zone.Snapshot{}, broken: map[string]string{}}
	}
	owned, notes := s.readCatalogs(cfg)
	for i := range cfg.Catalogs {
		name := cfg.Catalogs[i].Zone
		if note := notes[name.Key()]; note != "" && s.catalogs.notes[name.Key()] != note {
			s.Log.Warn("a catalog is not followed in all", "zone", name.String(), "why", note)
		}
	}
	s.renewed(s.catalogs.owned, owned)
	s.catalogs.owned, s.catalogs.notes = owned, notes
	out := *cfg
	out.Zones = slices.Clone(cfg.Zones)
	served := map[string]func(catalog.Member) Zone{}
	for i := range cfg.Catalogs {
		served[cfg.Catalogs[i].Zone.Key()] = cfg.Catalogs[i].Member
	}
	state := &catalogState{members: map[string]int{}, notes: notes}
	for _, key := range slices.Sorted(maps.Keys(owned)) {
		o := owned[key]
		z := served[o.Catalog.Key()](o.Member)
		z.Catalog = o.Catalog
		out.Zones = append(out.Zones, z)
		state.members[o.Catalog.Key()]++
	}
	s.catalogState.Store(state)
	return &out
}

// catalogState is how many zones catalogs have, and what is odd about them. It never changes.
type catalogState struct {
	members map[string]int
	notes   map[string]string
}

// renewed forgets what is kept of zones that no catalog lists any more, or lists as others than they
// were (RFC 9432 §5.3, §5.4).
func (s *Zones) renewed(before, now map[string]catalog.Owned) {
	for key, was := range before {
		is, still := now[key]
		if still && (is.Label == was.Label || !is.Catalog.Equal(was.Catalog)) {
			continue // handed over, it is the same zone
		}
		if s.catalogs.fresh == nil {
			s.catalogs.fresh = map[string]dnsname.Name{}
		}
		s.catalogs.fresh[was.Zone.Key()] = was.Zone
	}
}

// followCatalogs serves the zones that the catalogs list by now, and no others of theirs. s.mu is held.
func (s *Zones) followCatalogs(ctx context.Context) {
	if len(s.cfg.Catalogs) == 0 {
		return
	}
	full := s.withMembers(s.cfg)
	old := s.table.Load()
	next, zones := s.tableFor(full)
	s.deleteFresh()
	var come, gone []*zoneState
	for _, z := range zones {
		if old.zones[z.id()] != z {
			come = append(come, z)
		}
	}
	for id, z := range old.zones {
		if next.zones[id] != z {
			gone = append(gone, z)
		}
	}
	if len(come)+len(gone) == 0 {
		return
	}
	results := s.prepareAll(ctx, come, "a catalog")
	s.table.Store(next)
	s.sched.forget(gone)
	for i, z := range come {
		s.logChange(z, results[i].Change)
	}
	s.Log.Info("zones of catalogs", "come", len(come), "gone", len(gone))
}

// deleteFresh deletes what is kept of zones that are gone or are others now. The table that they are
// not taken over into is made already.
func (s *Zones) deleteFresh() {
	for id := range s.catalogs.fresh {
		name := s.catalogs.fresh[id]
		if s.Store == nil {
			continue
		}
		if err := s.Store.Delete(name); err != nil {
			s.Log.Warn("the stored versions of a zone could not be deleted", "zone", name.String(), "error", err)
		}
	}
	s.catalogs.fresh = nil
}

// catalogChanged has the zones of a catalog followed soon, where a zone is one.
func (s *Zones) catalogChanged(z *zoneState) {
	if !z.cfg.Load().Lists {
		return
	}
	s.sched.plan(nil, here, "catalogs", s.Now(), func(ctx context.Context) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.followCatalogs(ctx)
	})
}
