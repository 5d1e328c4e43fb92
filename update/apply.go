package update

import (
	"bytes"
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Apply carries out the changes, in their order, on a version of the zone before it is signed
// (RFC 2136 §3.4.2): the next version, or z itself where they come to nothing. Its serial is what
// raise makes of the one before, which has to be newer, unless the request brought a newer one
// (§3.6). It takes a request that Scan finds nothing in. What is at or below a cut is kept and hidden
// (§7.13, §7.18), likewise what a DNAME is set above (RFC 6672 §5.2).
func (r *Request) Apply(z *zone.Snapshot, raise func(serial uint32) uint32) (*zone.Snapshot, error) {
	w := &work{z: z, names: map[string]*name{}}
	for i := range r.Changes {
		x := &r.Changes[i]
		steps[x.Class](w.at(x.Name), x)
	}
	contents := w.changed()
	if len(contents) == 0 {
		return z, nil
	}
	apex := w.at(z.Apex())
	if !apex.differs(rr.TypeSOA) {
		apex.raise(raise(z.Serial()))
		contents = w.changed()
	}
	return z.Replace(contents)
}

// steps are what records of a class do.
var steps = map[rr.Class]func(n *name, x *rr.Record){rr.ClassIN: (*name).add, rr.ClassAny: (*name).deleteSets, rr.ClassNone: (*name).deleteRecord}

// work is what has become of the names that a request is about.
type work struct {
	z     *zone.Snapshot
	names map[string]*name
	order []*name
}

// name is one of them.
type name struct {
	owner       dnsname.Name
	apex        bool
	before, now []rr.Record
}

// at is a name as it is by now.
func (w *work) at(owner dnsname.Name) *name {
	n := w.names[owner.Key()]
	if n != nil {
		return n
	}
	n = &name{owner: owner, apex: owner.Equal(w.z.Apex())}
	var node zone.Node
	if w.z.GetName(owner, &node) {
		n.owner = w.z.Owner(&node)
		for set := range node.RRsets {
			for data := range set.Data {
				n.before = append(n.before, rr.Record{Name: n.owner, Type: set.Type, Class: rr.ClassIN, TTL: set.TTL, Data: data})
			}
		}
	}
	n.now = slices.Clone(n.before)
	w.names[owner.Key()] = n
	w.order = append(w.order, n)
	return n
}

// changed are the names that have become different.
func (w *work) changed() (out []zone.Content) {
	for _, n := range w.order {
		if !sameRecords(n.before, n.now) {
			out = append(out, zone.Content{Owner: n.owner, Records: n.now})
		}
	}
	return out
}

// differs reports whether the records of a type have become different.
func (n *name) differs(t rr.Type) bool {
	other := func(x rr.Record) bool { return x.Type != t }
	return !sameRecords(slices.DeleteFunc(slices.Clone(n.before), other), slices.DeleteFunc(slices.Clone(n.now), other))
}

func sameRecords(a, b []rr.Record) bool {
	order := func(x, y rr.Record) int {
		if x.Type != y.Type {
			return int(x.Type) - int(y.Type)
		}
		return bytes.Compare(x.Data, y.Data)
	}
	a, b = slices.Clone(a), slices.Clone(b)
	slices.SortFunc(a, order)
	slices.SortFunc(b, order)
	return slices.EqualFunc(a, b, func(x, y rr.Record) bool { return x.TTL == y.TTL && order(x, y) == 0 })
}

// beside are the types that may stand beside an alias (RFC 4035 §2.5).
var beside = map[rr.Type]bool{rr.TypeCNAME: true, rr.TypeRRSIG: true, rr.TypeNSEC: true}

// single are the types of which a name has one record: a new one takes its place (RFC 2136
// §3.4.2.2, RFC 6672 §5.2).
var single = map[rr.Type]bool{rr.TypeCNAME: true, rr.TypeDNAME: true, rr.TypeSOA: true}

// add adds a record (RFC 2136 §3.4.2.2); what would stand beside an alias, or an SOA that is not
// newer, is passed over. All records of a set have the TTL of the one that came last (RFC 2181 §5.2).
func (n *name) add(x *rr.Record) {
	at, replaces := -1, replaced(x) // the record whose place it takes
	for i := range n.now {
		y := &n.now[i]
		if x.Type == rr.TypeCNAME && !beside[y.Type] || y.Type == rr.TypeCNAME && !beside[x.Type] {
			return
		}
		if y.Type == x.Type && at < 0 && replaces(y) {
			at = i
		}
	}
	if x.Type == rr.TypeSOA && !n.newerSOA(x) {
		return
	}
	for i := range n.now {
		if y := &n.now[i]; y.Type == x.Type {
			y.TTL = x.TTL
		}
	}
	if at >= 0 {
		n.now[at].Data = x.Data
		return
	}
	n.now = append(n.now, rr.Record{Name: n.owner, Type: x.Type, Class: rr.ClassIN, TTL: x.TTL, Data: x.Data})
}

// newerSOA reports whether there is an SOA, and x has a newer serial.
func (n *name) newerSOA(x *rr.Record) bool {
	is, err := rr.ParseSOA(x.Data)
	for _, y := range n.now {
		if y.Type == rr.TypeSOA && err == nil {
			was, err := rr.ParseSOA(y.Data)
			return err == nil && rr.NewerSerial(is.Serial, was.Serial)
		}
	}
	return false
}

// replaced is how the record is known whose place x takes, among those of its type.
func replaced(x *rr.Record) func(y *rr.Record) bool {
	const wks, addressAndProtocol = 11, 5
	switch {
	case single[x.Type]:
		return func(*rr.Record) bool { return true }
	case x.Type == wks && len(x.Data) >= addressAndProtocol:
		return func(y *rr.Record) bool { return bytes.HasPrefix(y.Data, x.Data[:addressAndProtocol]) }
	}
	return func(y *rr.Record) bool { return rr.SameData(x.Type, x.Data, y.Data) }
}

// deleteSets removes a set, or with type ANY all of them (§3.4.2.3); SOA and NS of the apex stay.
func (n *name) deleteSets(x *rr.Record) {
	n.now = slices.DeleteFunc(n.now, func(y rr.Record) bool {
		stays := n.apex && (y.Type == rr.TypeSOA || y.Type == rr.TypeNS)
		return !stays && (x.Type == rr.TypeANY || x.Type == y.Type)
	})
}

// deleteRecord removes a record (§3.4.2.4); the SOA and the last NS of the apex stay.
func (n *name) deleteRecord(x *rr.Record) {
	servers := 0
	for _, y := range n.now {
		if y.Type == rr.TypeNS {
			servers++
		}
	}
	if n.apex && (x.Type == rr.TypeSOA || x.Type == rr.TypeNS && servers == 1) {
		return
	}
	if at := slices.IndexFunc(n.now, func(y rr.Record) bool { return y.Type == x.Type && rr.SameData(x.Type, x.Data, y.Data) }); at >= 0 {
		n.now = slices.Delete(n.now, at, at+1)
	}
}

// raise gives the SOA another serial.
func (n *name) raise(serial uint32) {
	for i := range n.now {
		if y := &n.now[i]; y.Type == rr.TypeSOA {
			y.Data = rr.SetSerial(y.Data, serial)
		}
	}
}
