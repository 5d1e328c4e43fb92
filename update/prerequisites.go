package update

import (
	"slices"

	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// setID is one RRset.
type setID struct {
	name string // its key
	t    rr.Type
}

// Check looks whether the prerequisites hold in a version of the zone (RFC 2136 §3.2). Aliases are
// not followed, wildcards stand for themselves (§1.1.3), and a name that has only others below it
// is not in use (§2.4.4).
func (r *Request) Check(z *zone.Snapshot) *Refusal {
	want := map[setID][]*rr.Record{}
	var order []setID
	for i := range r.Prerequisites {
		x := &r.Prerequisites[i]
		if bad := r.wrong(x, prerequisites); bad != nil {
			return bad
		}
		if x.Class == rr.ClassIN {
			id := setID{x.Name.Key(), x.Type}
			if want[id] == nil {
				order = append(order, id)
			}
			want[id] = append(want[id], x)
			continue
		}
		if unmet := met(z, x); unmet != nil {
			return unmet
		}
	}
	for _, id := range order {
		if x := want[id][0]; !sameSet(z, want[id]) {
			return refuse(message.NXRRSet, "%s %s has other records", x.Name, x.Type)
		}
	}
	return nil
}

// unmet are the codes of what does not hold: by whether it should be there, and whether it is
// about one set.
var unmet = map[[2]bool]message.Rcode{{true, false}: message.NXDomain, {true, true}: message.NXRRSet, {false, false}: message.YXDomain, {false, true}: message.YXRRSet}

// met looks whether a name or a set is in use, or is not; nil: as was said.
func met(z *zone.Snapshot, x *rr.Record) *Refusal {
	should, one := x.Class == rr.ClassAny, x.Type != rr.TypeANY
	is := false
	var n zone.Node
	if z.GetName(x.Name, &n) {
		for set := range n.RRsets {
			is = is || !one || set.Type == x.Type
		}
	}
	if is == should {
		return nil
	}
	what := x.Name.String()
	if one {
		what += " " + x.Type.String()
	}
	if should {
		return refuse(unmet[[2]bool{should, one}], "%s does not exist", what)
	}
	return refuse(unmet[[2]bool{should, one}], "%s exists", what)
}

// sameSet reports whether a set is these records, and nothing else; duplicates count once.
func sameSet(z *zone.Snapshot, want []*rr.Record) bool {
	folded := func(t rr.Type, data []byte) string { return string(rr.AppendFolded(nil, t, data)) }
	var a, b []string
	for _, x := range want {
		a = append(a, folded(x.Type, x.Data))
	}
	var n zone.Node
	if z.GetName(want[0].Name, &n) {
		for set := range n.RRsets {
			if set.Type == want[0].Type {
				for data := range set.Data {
					b = append(b, folded(set.Type, data))
				}
			}
		}
	}
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(slices.Compact(a), slices.Compact(b))
}
