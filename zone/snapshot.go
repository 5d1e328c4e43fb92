package zone

import (
	"fencepost/dnsname"
	"fencepost/rr"
)

// counted is what is counted of the names in pages.
type counted struct {
	names, records, wildcards int
	wild                      []uint64 // hashes of the names that have a wildcard below them
}

// add books a name; key is its key.
func (c *counted) add(key []byte, records int) {
	c.names++
	c.records += records
	if hasStar(key) {
		c.wildcards++
		eachStar(key, func(above []byte) { c.wild = append(c.wild, hashKey(above)) })
	}
}

func (c *counted) join(o *counted) {
	c.names += o.names
	c.records += o.records
	c.wildcards += o.wildcards
	c.wild = append(c.wild, o.wild...)
}

// newSnapshot makes a version of finished pages.
func newSnapshot(apex dnsname.Name, leaves []leaf, c *counted) *Snapshot {
	s := &Snapshot{apex: apex, apexLabels: apex.Labels(), apexLower: []byte(apex.Key()), class: rr.ClassIN, sum: &factsCell{},
		names: c.names, records: c.records, wildcards: c.wildcards, wild: makeWildFilter(c.wild)}
	for i := range leaves {
		s.octets += len(leaves[i].page)
	}
	s.setTree(makeTree(leafChildren(leaves)))
	return s
}

// setTree completes the snapshot with its tree and what is cached of the apex.
func (s *Snapshot) setTree(root *inner, height int) {
	s.root, s.height = root, height
	var n Node
	s.soa, s.hasSOA, s.signed, s.param, s.apexNode = rr.SOA{}, false, false, nil, Node{}
	s.hasApex = s.Get(nil, &s.apexNode)
	if s.ApexNode(&n) {
		if set, ok := n.Find(rr.TypeSOA); ok {
			soa, err := rr.ParseSOA(set.First())
			s.soa, s.hasSOA = soa, err == nil
		}
		_, s.signed = n.Find(rr.TypeDNSKEY)
		set, _ := n.Find(rr.TypeNSEC3PARAM)
		for data := range set.Data {
			if len(data) >= 5 && data[1] == 0 && s.param == nil { // RFC 5155 §4.1.2
				s.param = data
			}
		}
	}
}
