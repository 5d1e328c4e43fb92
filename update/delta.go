package update

import (
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// FromDelta is the request that makes the same difference to a zone as a delta does, on the version
// that it was made from. Its prerequisites say that all that it touches is as it was there, so that
// nothing which somebody else changed meanwhile is written over. The serial is left to the server,
// unless other fields of the SOA change too. Records that signers make are left out. Where only a part
// of the zone is known, nothing is said of other types that a name may have, but that it is no alias.
func FromDelta(old *zone.Snapshot, d *zone.Delta, part bool) *Request {
	r := &Request{Zone: d.Apex}
	absent := map[string]bool{} // what was said of names that are not in use
	var servers, gone, come []rr.Record
	for i := range d.Sets {
		c := &d.Sets[i]
		if made[c.Type()] || c.SerialAlone() {
			continue
		}
		r.asItWas(old, c, absent, part)
		less, more := difference(c)
		gone = append(gone, less...)
		if c.Type() == rr.TypeNS && c.Owner.Equal(d.Apex) {
			servers = append(servers, more...)
		} else {
			come = append(come, more...)
		}
	}
	// The last server of the zone cannot be taken away, so that new ones come first; nothing can be
	// added beside an alias, so that what goes goes before all else comes.
	r.Changes = slices.Concat(servers, gone, come)
	return r
}

// asItWas adds the prerequisites for one set.
func (r *Request) asItWas(old *zone.Snapshot, c *zone.SetDelta, absent map[string]bool, part bool) {
	var n zone.Node
	if !old.GetName(c.Owner, &n) || len(n.Types(nil)) == 0 {
		types := []rr.Type{rr.TypeANY}
		if part && c.Type() != rr.TypeCNAME {
			types = []rr.Type{c.Type(), rr.TypeCNAME}
		}
		for _, t := range types {
			if key := keyOf(c.Owner, t); !absent[key] {
				absent[key] = true
				r.Prerequisites = append(r.Prerequisites, meta(c.Owner, rr.ClassNone, t, nil))
			}
		}
		return
	}
	set, ok := n.Find(c.Type())
	if !ok {
		r.Prerequisites = append(r.Prerequisites, meta(c.Owner, rr.ClassNone, c.Type(), nil))
	}
	for data := range set.Data {
		r.Prerequisites = append(r.Prerequisites, meta(c.Owner, rr.ClassIN, set.Type, data))
	}
}

// difference is what becomes of one set. An SOA is replaced and never taken away.
func difference(c *zone.SetDelta) (gone, come []rr.Record) {
	stays := map[string]bool{}
	for data := range c.Added.Data {
		come = append(come, rr.Record{Name: c.Owner, Type: c.Added.Type, Class: rr.ClassIN, TTL: c.Added.TTL, Data: data})
		stays[string(rr.AppendFolded(nil, c.Added.Type, data))] = true
	}
	for data := range c.Removed.Data {
		if c.Removed.Type != rr.TypeSOA && !stays[string(rr.AppendFolded(nil, c.Removed.Type, data))] {
			gone = append(gone, meta(c.Owner, rr.ClassNone, c.Removed.Type, data))
		}
	}
	return gone, come
}

// meta is a record that says something of others.
func meta(n dnsname.Name, c rr.Class, t rr.Type, data []byte) rr.Record {
	return rr.Record{Name: n, Class: c, Type: t, Data: data}
}
