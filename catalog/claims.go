package catalog

import (
	"fmt"
	"maps"
	"slices"

	"fencepost/dnsname"
)

// Listing is what a catalog says, as it was read last without an error.
type Listing struct {
	Catalog dnsname.Name
	Members []Member
}

// Owned is a zone that a catalog has.
type Owned struct {
	Catalog dnsname.Name
	Member
}

// Clash is a zone that a catalog lists and does not get.
type Clash struct {
	Catalog, Zone dnsname.Name
	Why           string // in words that go behind the zone's name
}

func (c Clash) String() string { return c.Zone.Plain() + " " + c.Why }

// Settle finds out which zones catalogs have. refuse says why a catalog may not have a zone; empty: it
// may. A zone that a catalog had before stays with it while it is listed there, unless that lets
// another one have it which lists it too (RFC 9432 §4.4.1, §5.2). A zone that lies below one of another
// catalog, or above one, would take part of it: it is kept out, unless granted says that it may.
func Settle(listings []Listing, before map[string]Owned, refuse func(catalog, zone dnsname.Name) string, granted func(catalog, zone dnsname.Name) bool) (now map[string]Owned, clashes []Clash) {
	now = map[string]Owned{}
	listed := map[string]map[string]Member{} // by catalog and zone
	for _, l := range listings {
		of := map[string]Member{}
		for _, m := range l.Members {
			of[m.Zone.Key()] = m
		}
		listed[l.Catalog.Key()] = of
	}
	for key, was := range before { // those that stay
		m, still := listed[was.Catalog.Key()][key]
		if !still || refuse(was.Catalog, m.Zone) != "" {
			continue
		}
		if _, there := listed[m.Moves.Key()][key]; !m.Moves.IsZero() && there && !m.Moves.Equal(was.Catalog) {
			taken := listed[m.Moves.Key()][key]
			now[key] = Owned{m.Moves, taken}
			continue
		}
		now[key] = Owned{was.Catalog, m}
	}
	trees := treesOf(now)
	for _, l := range listings {
		for _, m := range l.Members {
			key := m.Zone.Key()
			owner, has := now[key]
			why := refuse(l.Catalog, m.Zone)
			switch {
			case why != "":
			case !has:
				if why = trees.touches(l.Catalog, m.Zone); why == "" || granted(l.Catalog, m.Zone) {
					now[key], why = Owned{l.Catalog, m}, ""
					trees.add(l.Catalog, m.Zone)
				}
			case !owner.Catalog.Equal(l.Catalog) && !m.Moves.Equal(owner.Catalog): // it was not handed over just now
				why = fmt.Sprintf("belongs to the catalog %s, which does not let it go (coo)", owner.Catalog.Plain())
			}
			if why != "" {
				clashes = append(clashes, Clash{l.Catalog, m.Zone, why})
			}
		}
	}
	return now, clashes
}

// trees are the zones that catalogs have, and the names above them.
type trees struct {
	zones map[string]Owned
	above map[string][]Owned // of the zones below a name, one of each catalog
}

func treesOf(zones map[string]Owned) *trees {
	t := &trees{zones, map[string][]Owned{}}
	for _, key := range slices.Sorted(maps.Keys(zones)) {
		t.add(zones[key].Catalog, zones[key].Zone)
	}
	return t
}

func (t *trees) add(catalog, zone dnsname.Name) {
	for up := zone; up.Labels() > 0; {
		up = up.Parent()
		k := up.Key()
		if !slices.ContainsFunc(t.above[k], func(o Owned) bool { return o.Catalog.Equal(catalog) }) {
			t.above[k] = append(t.above[k], Owned{catalog, Member{Zone: zone}})
		}
	}
}

// touches says which zone of another catalog a zone lies below, or above; empty: none.
func (t *trees) touches(catalog, zone dnsname.Name) string {
	for _, o := range t.above[zone.Key()] {
		if !o.Catalog.Equal(catalog) {
			return fmt.Sprintf("lies above %s, which the catalog %s lists", o.Zone.Plain(), o.Catalog.Plain())
		}
	}
	for up := zone; up.Labels() > 0; {
		up = up.Parent()
		if o, there := t.zones[up.Key()]; there && !o.Catalog.Equal(catalog) {
			return fmt.Sprintf("lies below %s, which the catalog %s lists", o.Zone.Plain(), o.Catalog.Plain())
		}
	}
	return ""
}
