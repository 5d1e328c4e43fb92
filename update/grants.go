package update

import (
	"net/netip"
	"slices"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// Grant is what the holder of a key may change. What no grant allows is refused.
type Grant struct {
	Key   dnsname.Name
	Zones []dnsname.Name // empty: any
	Names []Place        // the owner is at one of them; empty: any
	Types []rr.Type      // empty: any
	// Add lets records be added, by which single ones (CNAME, DNAME, SOA) and TTLs of sets change;
	// Remove lets records and sets be removed.
	Add, Remove bool
	// OwnAddress lets addresses be added only that the request comes from.
	OwnAddress bool
}

// Place is a name, or all names below it without the name itself.
type Place struct {
	Name  dnsname.Name
	Below bool
}

func (p Place) holds(n dnsname.Name) bool {
	if p.Below {
		return n.Below(p.Name)
	}
	return n.Equal(p.Name)
}

// Grants are all grants of a server.
type Grants []Grant

// For are those that speak of a key and a zone. Where there are none the request is refused before its
// prerequisites are looked at, see MayAsk.
func (gs Grants) For(key, zone dnsname.Name) Grants {
	return slices.DeleteFunc(slices.Clone(gs), func(g Grant) bool {
		return !g.Key.Equal(key) || len(g.Zones) > 0 && !slices.ContainsFunc(g.Zones, zone.Equal)
	})
}

// MayAsk looks whether each prerequisite is about a name where something is granted; nil: it is. By
// their codes everything in a zone could be found out, also in a version that whoever holds the key is
// not answered from. Names outside the zone have their own answer, see Check.
func (gs Grants) MayAsk(r *Request) *Refusal {
	for i := range r.Prerequisites {
		x := &r.Prerequisites[i]
		if x.Name.AtOrBelow(r.Zone) && !slices.ContainsFunc(gs, func(g Grant) bool { return g.reaches(x.Name) }) {
			return refuse(message.Refused, "the key has no grant for %s", x.Name)
		}
	}
	return nil
}

// reaches reports whether a grant speaks of a name.
func (g *Grant) reaches(n dnsname.Name) bool {
	return len(g.Names) == 0 || slices.ContainsFunc(g.Names, func(p Place) bool { return p.holds(n) })
}

// Asker is where a request came from.
type Asker struct {
	From netip.Addr
	// Proven tells that the address cannot be made up: the request came over a connection, or with a
	// cookie that the server gave to that address (RFC 7873 §5.2).
	Proven bool
}

// Allow looks whether each change is granted (RFC 2136 §3.3); nil: it is. The grants are those of For,
// and z is the zone before the request: to put another record in the place of one, as of a CNAME, takes
// that one away.
func (gs Grants) Allow(r *Request, z *zone.Snapshot, from Asker) *Refusal {
	for i := range r.Changes {
		x := &r.Changes[i]
		if !slices.ContainsFunc(gs, func(g Grant) bool { return g.covers(x, from) }) {
			proven := from
			if proven.Proven = true; !from.Proven && slices.ContainsFunc(gs, func(g Grant) bool { return g.covers(x, proven) }) {
				return refuse(message.Refused, "%s %s: one's own address counts over TCP, or with a DNS cookie", x.Name, x.Type)
			}
			verb := "remove"
			if x.Class == rr.ClassIN {
				verb = "add"
			}
			what := x.Type.String()
			if x.Type == rr.TypeANY {
				what = "all records"
			}
			return refuse(message.Refused, "the key may not %s %s at %s", verb, what, x.Name)
		}
		gone := rr.Record{Name: x.Name, Class: rr.ClassNone, Type: x.Type}
		if replacesOther(z, x) && !slices.ContainsFunc(gs, func(g Grant) bool { return g.covers(&gone, from) }) {
			return refuse(message.Refused, "the key may not remove %s at %s, whose place it would take", x.Type, x.Name)
		}
	}
	return nil
}

// covers reports whether a grant allows a change. All records of a name at once go only with a grant
// for any type.
func (g *Grant) covers(x *rr.Record, from Asker) bool {
	adds := x.Class == rr.ClassIN
	switch {
	case adds && !g.Add, !adds && !g.Remove:
		return false
	case !g.reaches(x.Name):
		return false
	case len(g.Types) > 0 && !slices.Contains(g.Types, x.Type):
		return false
	}
	return !adds || !g.OwnAddress || notAddress(x.Type) || from.Proven && string(x.Data) == string(from.From.Unmap().AsSlice())
}

// replacesOther reports whether a record that is added takes the place of another one: CNAME and DNAME do;
// of an SOA that is what it is for.
func replacesOther(z *zone.Snapshot, x *rr.Record) bool {
	if z == nil || x.Class != rr.ClassIN || !single[x.Type] || x.Type == rr.TypeSOA {
		return false
	}
	var n zone.Node
	if !z.GetName(x.Name, &n) {
		return false
	}
	set, there := n.Find(x.Type)
	return there && !rr.SameData(x.Type, set.First(), x.Data)
}

func notAddress(t rr.Type) bool { return t != rr.TypeA && t != rr.TypeAAAA }
