package update

import (
	"slices"

	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// Limits bound what requests may make of a zone; 0 is no bound. They count records.
type Limits struct {
	Set  int // of one type at a name
	Name int // at a name
	Zone int // of the zone, as a request leaves it
}

// answerable is how many octets of a set fit into a message beside the rest (RFC 1035 §4.2.2).
const answerable = 60000

// theSigners are types that say how the zone is signed: whoever signs it makes them, from keys and policy
// (RFC 3007 §4.3, RFC 7344 §4, RFC 8976 §3.3). They are those of the apex.
var theSigners = map[rr.Type]bool{rr.TypeDNSKEY: true, rr.TypeCDS: true, rr.TypeCDNSKEY: true, rr.TypeNSEC3PARAM: true, rr.TypeZONEMD: true}

// Forbidden says why a zone must not become what a request makes of it; nil: it may. after is the zone
// with the changes. What was too large before may stay so, and shrink.
func (r *Request) Forbidden(before, after *zone.Snapshot, l Limits) *Refusal {
	for i := range r.Changes {
		x := &r.Changes[i]
		if x.Class != rr.ClassIN {
			continue
		}
		switch apex := x.Name.Equal(after.Apex()); {
		case apex && theSigners[x.Type]:
			return refuse(message.Refused, "%s %s: it follows from the keys and the policy where the zone is signed", x.Name, x.Type)
		case apex && x.Type == rr.TypeDS:
			return refuse(message.Refused, "%s DS: the DS of a zone stands in its parent (RFC 4035 §2.4)", x.Name)
		}
		var is, was zone.Node
		if !after.GetName(x.Name, &is) {
			continue
		}
		had := before.GetName(x.Name, &was)
		if no := l.node(x, &is, &was, had, x.Name.Equal(after.Apex())); no != nil {
			return no
		}
	}
	if l.Zone > 0 && after.Records() > l.Zone && after.Records() > before.Records() {
		return refuse(message.Refused, "the zone would have %d records, and messages may leave it with %d at most", after.Records(), l.Zone)
	}
	return nil
}

// node looks at the name of a change.
func (l *Limits) node(x *rr.Record, is, was *zone.Node, had, apex bool) *Refusal {
	count := func(n *zone.Node) (records int, types []rr.Type) {
		for set := range n.RRsets {
			records, types = records+set.N, append(types, set.Type)
		}
		return records, types
	}
	records, types := count(is)
	before := 0
	var old zone.RRset
	if had {
		before, _ = count(was)
		old, _ = was.Find(x.Type)
	}
	set, _ := is.Find(x.Type)
	octets := 0
	for data := range set.Data {
		const header = 12 // with a compressed owner
		octets += header + len(data)
	}
	switch {
	case !apex && (x.Type == rr.TypeDNAME || x.Type == rr.TypeNS) && slices.Contains(types, rr.TypeDNAME) && slices.Contains(types, rr.TypeNS):
		return refuse(message.Refused, "%s: a DNAME does not stand beside NS records (RFC 6672 §2.3)", x.Name)
	case octets > answerable && set.N > old.N:
		return refuse(message.Refused, "%s %s: the set would have %d octets, too many for an answer", x.Name, x.Type, octets)
	case l.Set > 0 && set.N > l.Set && set.N > old.N:
		return refuse(message.Refused, "%s %s: the set would have %d records, and messages may make sets of %d at most", x.Name, x.Type, set.N, l.Set)
	case l.Name > 0 && records > l.Name && records > before:
		return refuse(message.Refused, "%s would have %d records, and messages may leave a name with %d at most", x.Name, records, l.Name)
	}
	return nil
}
