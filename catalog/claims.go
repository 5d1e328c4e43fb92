package catalog

import (
	"fmt"

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
	Other         dnsname.Name // the catalog that has it; the zero name: it is configured otherwise
}

func (c Clash) String() string {
	if c.Other.IsZero() {
		return fmt.Sprintf("%s is configured here in another way", c.Zone.Plain())
	}
	return fmt.Sprintf("%s belongs to the catalog %s, which does not let it go (coo)", c.Zone.Plain(), c.Other.Plain())
}

// Settle finds out which zones catalogs have. configured reports whether a zone is one without them:
// that stays, whatever they say. A zone that a catalog had before stays with it while it is listed
// there, unless that lets another one have it which lists it too (RFC 9432 §4.4.1, §5.2).
func Settle(listings []Listing, before map[string]Owned, configured func(dnsname.Name) bool) (now map[string]Owned, clashes []Clash) {
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
		if !still || configured(m.Zone) {
			continue
		}
		if _, there := listed[m.Moves.Key()][key]; !m.Moves.IsZero() && there && !m.Moves.Equal(was.Catalog) {
			taken := listed[m.Moves.Key()][key]
			now[key] = Owned{m.Moves, taken}
			continue
		}
		now[key] = Owned{was.Catalog, m}
	}
	for _, l := range listings {
		for _, m := range l.Members {
			key := m.Zone.Key()
			owner, has := now[key]
			switch {
			case configured(m.Zone):
				clashes = append(clashes, Clash{Catalog: l.Catalog, Zone: m.Zone})
			case !has:
				now[key] = Owned{l.Catalog, m}
			case !owner.Catalog.Equal(l.Catalog) && !m.Moves.Equal(owner.Catalog): // it was not handed over just now
				clashes = append(clashes, Clash{l.Catalog, m.Zone, owner.Catalog})
			}
		}
	}
	return now, clashes
}
