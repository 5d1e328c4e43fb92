package lint

import (
	"bytes"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// What a check may ask the Pass about other names than the one it looks at. All such
// questions come here, so that they can be noted; see CheckState.

// IsServer reports whether an NS record of the zone points to the name. The set of
// them is made when first asked for, or before where a check says that it will ask.
func (p *Pass) IsServer(n *Name) bool {
	var buf [2 * dnsname.MaxWire]byte
	return p.servers()[string(n.AppendKey(buf[:0]))]
}

// serversOf is the keys of all names in the zone that NS records point to.
func serversOf(z *zonefile.Loaded) map[string]bool {
	servers := map[string]bool{}
	var key []byte
	for node := range z.Nodes {
		set, _ := node.Find(rr.TypeNS)
		for data := range set.Data {
			var ok bool
			if key, ok = z.AppendKey(key[:0], data); ok {
				servers[string(key)] = true
			}
		}
	}
	return servers
}

// Remember is what make found out about a record's data, made once for all checks
// that ask about the same record one after another. All must want the same thing
// of records of one type.
func Remember[T any](p *Pass, data []byte, make func() T) T {
	if len(data) > 0 && p.about == &data[0] {
		if v, ok := p.known.(T); ok {
			return v
		}
	}
	v := make()
	if len(data) > 0 {
		p.about, p.known = &data[0], v
	}
	return v
}

// Text is how something is written. A check may say more with it; one that decides by it
// whether there is a finding is run again each time.
func (p *Pass) Text(span source.Span) []byte {
	p.readText = true
	return p.Source.Text(span)
}

// Find is the RRset of an owner name in wire form, if the zone has it.
func (p *Pass) Find(wire []byte, t rr.Type) (set zone.RRset, ok bool) {
	var buf [2 * dnsname.MaxWire]byte
	key, ok := p.Zone.AppendKey(buf[:0], wire)
	if !ok {
		return set, false
	}
	if p.elsewhere(key) {
		p.asked.ask(key, t)
	}
	var n zone.Node
	if !p.Zone.Get(key, &n) {
		return set, false
	}
	return n.Find(t)
}

// elsewhere reports whether it has to be noted that a name is asked about: it is neither
// the one that is looked at nor below it.
func (p *Pass) elsewhere(key []byte) bool {
	if p.asked == nil || p.at == nil {
		return false
	}
	var buf [2 * dnsname.MaxWire]byte
	return !bytes.HasPrefix(key, p.at.AppendKey(buf[:0]))
}

// Target says what is known in the zone about a name that a record points to.
type Target struct {
	InZone    bool // at or below the apex, and not delegated away
	Delegated bool // at or below a cut: somebody else's data, or glue
	Exists    bool // has records, or names below it, or a wildcard covers it
	Wildcard  bool // only a wildcard covers it
	Alias     bool // has a CNAME
	Address   bool // has an A or AAAA record
}

// maxLooked bounds what Look remembers. Targets repeat: several checks ask about
// each, and many records name the same host.
const maxLooked = 1 << 12

// Look finds out about an absolute name in wire form, which must not be changed
// afterwards.
func (p *Pass) Look(wire []byte) Target {
	if p.last == &wire[0] { // several checks in a row ask about the same record
		return p.lastIs
	}
	p.last = &wire[0]
	if p.asked != nil {
		p.noteLook(wire)
	}
	if t, ok := p.looked[string(wire)]; ok {
		p.lastIs = t
		return t
	}
	t := p.look(wire)
	p.lastIs = t
	switch {
	case p.looked == nil:
		p.looked = map[string]Target{} // most zones are small
	case len(p.looked) >= maxLooked:
		clear(p.looked)
	}
	p.looked[string(wire)] = t
	return t
}

func (p *Pass) noteLook(wire []byte) {
	var buf [2 * dnsname.MaxWire]byte
	if key, ok := p.Zone.AppendKey(buf[:0], wire); ok && p.elsewhere(key) {
		p.asked.askBelow(key)
	}
}

func (p *Pass) look(wire []byte) (t Target) {
	var buf [2 * dnsname.MaxWire]byte
	key, ok := p.Zone.AppendKey(buf[:0], wire)
	if !ok {
		return t
	}
	if p.Zone.Unread(wire) {
		// A record of this name could not be read, which was reported: what the
		// name lacks is not known.
		return Target{InZone: true, Exists: true, Address: true}
	}
	var m zone.Match
	p.Zone.Lookup(key, &m)
	node := &m.Node
	switch {
	case m.Cut || m.BelowDNAME:
		t.Delegated = true
		var glue zone.Node
		if p.Zone.Get(key, &glue) {
			node = &glue
		} else {
			return t
		}
	case m.Exact:
	case m.EmptyNonTerminal:
		t.InZone, t.Exists = true, true
		return t
	default:
		exists, empty := p.Zone.Wildcard(key, m.Encloser, node)
		if t.Wildcard = exists; !exists || empty {
			t.InZone, t.Exists = true, exists
			return t
		}
	}
	t.InZone, t.Exists = !t.Delegated, true
	t.Alias = node.HasAlias()
	_, a := node.Find(rr.TypeA)
	_, aaaa := node.Find(rr.TypeAAAA)
	t.Address = a || aaaa
	return t
}
