package edit

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Reverse says what reverse zones to derive or check.
type Reverse struct {
	Network string // such as 198.51.100.0/24; empty, to check: all there are
	Servers []string
	Contact string
	Dry     bool
}

// host is an address of the workspace's forward zones with the name that has it.
type host struct {
	addr  netip.Addr
	name  dnsname.Name
	place string
}

// Reverse makes the reverse zones of a network, or completes them, from the
// addresses in the workspace's forward zones. Networks that do not end at a dot
// of the reverse tree become several zones, or, within a /24, a slice that the
// /24's zone delegates by aliases (RFC 2317).
func (a *Files) Reverse(o Reverse) (*Edited, error) {
	net, err := netip.ParsePrefix(o.Network)
	if err != nil {
		return nil, Usage("%q is not a network: write ADDRESS/LENGTH, such as 198.51.100.0/24 or 2001:db8:5a17::/48", o.Network)
	}
	net = net.Masked()
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	hosts, err := a.hosts(c, net)
	if err != nil {
		return nil, err
	}
	b, err := a.BeginIn(c.Dir)
	if err != nil {
		return nil, err
	}
	defer b.close()
	if net.Addr().Is4() && net.Bits() > 24 {
		err = b.slice(c, net, hosts, o)
	} else {
		err = b.reverseZones(c, net, hosts, o)
	}
	if err != nil {
		return nil, err
	}
	return b.finish(o.Dry)
}

// hosts are the addresses in a network that the forward zones give to hosts, in
// order. Where several names have one address the first counts; the others are
// told by Reverse.
func (a *Files) hosts(c *workspace.Config, net netip.Prefix) (out []host, err error) {
	files, err := filepath.Glob(filepath.Join(c.Dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	if err != nil {
		return nil, err
	}
	for _, path := range files {
		var src source.Set
		t, err := a.Reader().Open(&src, path, OriginOf(path))
		if err != nil {
			return nil, err
		}
		z, err := a.Reader().Read(t, &diag.List{})
		if err != nil {
			continue
		}
		at := 0
		for n := range z.Nodes {
			for set := range n.RRsets {
				i := 0
				for data := range set.Data {
					ip, ok := AddressOf(set.Type, data)
					if owner := z.Owner(n); ok && net.Contains(ip) && !n.Occluded() && !owner.IsWildcard() {
						out = append(out, host{ip, owner, src.Position(z.Positions[at+i]).String()})
					}
					i++
				}
				at += set.N
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].addr.Less(out[j].addr) })
	return out, nil
}

// reverseNames are the names of the zones that a network makes: one for each
// octet or nibble boundary at or below its length.
func reverseNames(net netip.Prefix) (out []netip.Prefix) {
	step := 4
	if net.Addr().Is4() {
		step = 8
	}
	bits := (net.Bits() + step - 1) / step * step
	for addr := net.Addr(); net.Contains(addr); {
		p := netip.PrefixFrom(addr, bits)
		out = append(out, p)
		next, ok := following(p)
		if !ok || bits == 0 {
			break
		}
		addr = next
	}
	return out
}

// following is the first address after a network.
func following(p netip.Prefix) (netip.Addr, bool) {
	b := p.Addr().AsSlice()
	for i := p.Bits() - 1; i >= 0; i-- {
		b[i/8] ^= 0x80 >> (i % 8)
		if b[i/8]&(0x80>>(i%8)) != 0 {
			a, ok := netip.AddrFromSlice(b)
			return a, ok
		}
	}
	return netip.Addr{}, false
}

// reverseZone is the name of the zone of a network that ends at a dot.
func reverseZone(p netip.Prefix) dnsname.Name {
	n := dnsname.Reverse(p.Addr())
	drop := (32 - p.Bits()) / 8
	if p.Addr().Is6() {
		drop = (128 - p.Bits()) / 4
	}
	for range drop {
		n = n.Parent()
	}
	return n
}

func (b *Transaction) reverseZones(c *workspace.Config, net netip.Prefix, hosts []host, o Reverse) error {
	parts := reverseNames(net)
	if len(parts) > 256 {
		return Usage("%s would make %d zones; choose a length that is a multiple of %d", net, len(parts), map[bool]int{true: 8, false: 4}[net.Addr().Is4()])
	}
	for _, p := range parts {
		var own []host
		for _, h := range hosts {
			if p.Contains(h.addr) {
				own = append(own, h)
			}
		}
		if err := b.reverseParts(c, reverseZone(p), own, o); err != nil {
			return err
		}
	}
	return nil
}

// zonesBelow are the zones of the workspace that lie directly below a zone.
func zonesBelow(c *workspace.Config, zone dnsname.Name) (out []dnsname.Name) {
	files, _ := filepath.Glob(filepath.Join(c.Dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	for _, f := range files {
		if n := OriginOf(f); n.Below(zone) {
			out = append(out, n)
		}
	}
	return slices.DeleteFunc(out, func(n dnsname.Name) bool {
		return slices.ContainsFunc(out, func(o dnsname.Name) bool { return n.Below(o) })
	})
}

// reverseParts makes a reverse zone or completes it, and the zones below it that are
// there: an address belongs to the lowest, which the one above delegates.
func (b *Transaction) reverseParts(c *workspace.Config, zone dnsname.Name, hosts []host, o Reverse) error {
	below := zonesBelow(c, zone)
	var own []host
	for _, h := range hosts {
		if !slices.ContainsFunc(below, func(z dnsname.Name) bool { return dnsname.Reverse(h.addr).AtOrBelow(z) }) {
			own = append(own, h)
		}
	}
	for _, z := range below {
		var theirs []host
		for _, h := range hosts {
			if dnsname.Reverse(h.addr).AtOrBelow(z) {
				theirs = append(theirs, h)
			}
		}
		if err := b.reverseParts(c, z, theirs, o); err != nil {
			return err
		}
	}
	return b.reverseFile(c, zone, own, below, dnsname.Reverse, o)
}

// reverseFile makes one reverse zone or completes it. place says where the PTR
// of an address stands in it; below are zones that it delegates.
func (b *Transaction) reverseFile(c *workspace.Config, zone dnsname.Name, hosts []host, below []dnsname.Name, place func(netip.Addr) dnsname.Name, o Reverse) error {
	path := c.File(zone)
	if _, err := os.Stat(path); err != nil {
		return b.newReverse(c, zone, hosts, below, place, o)
	}
	e, err := b.openFile(path, zone)
	if err != nil {
		return err
	}
	if err := b.delegateZones(c, e, below); err != nil {
		return err
	}
	for _, h := range b.onePerAddress(hosts) {
		name := place(h.addr)
		have := e.file.Records(name, rr.TypePTR)
		if len(have) > 0 {
			if !slices.ContainsFunc(have, func(r *zonefile.Entry) bool { return dnsname.EqualWire(r.Data, h.name.Wire()) }) {
				other, _ := dnsname.FromWire(have[0].Data)
				b.note("%s belongs to %s and points back to %s; it was left", h.addr, h.name, other)
			}
			continue
		}
		if len(e.file.Records(name, rr.TypeCNAME)) > 0 || delegatedAbove(e, name) {
			b.note("%s lies in a part that is delegated; its PTR belongs there", h.addr)
			continue
		}
		if err := e.addWire(name, rr.TypePTR, []byte(h.name.Wire())); err != nil {
			return err
		}
	}
	return nil
}

// delegateZones writes the delegations of zones of the workspace that are not there.
func (b *Transaction) delegateZones(c *workspace.Config, e *ZoneEdit, below []dnsname.Name) error {
	for _, z := range below {
		if len(e.file.Records(z, rr.TypeNS)) > 0 {
			continue
		}
		child, err := b.openFile(c.File(z), z)
		if err != nil {
			return err
		}
		for _, sv := range child.servers() {
			if err := e.addWire(z, rr.TypeNS, []byte(sv.name.Wire())); err != nil {
				return err
			}
		}
	}
	return nil
}

// delegatedAbove reports whether a name lies in a part that the zone delegates.
func delegatedAbove(e *ZoneEdit, name dnsname.Name) bool {
	for n := name; n.Below(e.file.Apex); n = n.Parent() {
		if len(e.file.Records(n, rr.TypeNS)) > 0 {
			return true
		}
	}
	return false
}

// onePerAddress keeps the first host of each address and tells of the others.
func (b *Transaction) onePerAddress(hosts []host) (out []host) {
	for i, h := range hosts {
		if i > 0 && hosts[i-1].addr == h.addr {
			first := out[len(out)-1]
			if !first.name.Equal(h.name) { // else two versions of a zone have it
				b.note("%s belongs to %s and to %s; it points back to the first", h.addr, first.name, h.name)
			}
			continue
		}
		out = append(out, h)
	}
	return out
}

// newReverse makes a reverse zone with the PTRs of the hosts. Servers and contact
// are those of the forward zone that most of the hosts are in, unless given.
func (b *Transaction) newReverse(c *workspace.Config, zone dnsname.Name, hosts []host, below []dnsname.Name, place func(netip.Addr) dnsname.Name, o Reverse) error {
	s := Starter{Zone: zone.String(), Servers: o.Servers, Contact: o.Contact}
	pattern := b.patternFor(c, hosts)
	if pattern == nil && len(s.Servers) == 0 {
		return Usage("say which servers answer for %s: --ns NAME", zone)
	}
	if pattern != nil {
		if len(s.Servers) == 0 {
			for _, sv := range pattern.servers() {
				s.Servers = append(s.Servers, sv.name.String())
			}
		}
		// Whoever runs the servers, the person responsible is the same.
		if soa, err := rr.ParseSOA(pattern.file.SOA().Data); err == nil && s.Contact == "" {
			s.Contact = soa.RName.String()
		}
	}
	_, text, err := b.a.zoneText(s)
	if err != nil {
		return err
	}
	for _, z := range below {
		child, err := b.openFile(c.File(z), z)
		if err != nil {
			return err
		}
		text += "\n"
		for _, sv := range child.servers() {
			text += fmt.Sprintf("%-15s NS     %s\n", z.Relative(zone), sv.name)
		}
	}
	text += "\n"
	for _, h := range b.onePerAddress(hosts) {
		text += fmt.Sprintf("%-15s PTR    %s\n", place(h.addr).Relative(zone), h.name)
	}
	if text, err = tidyText(text, zone); err != nil {
		return err
	}
	if err := b.create(c.File(zone), zone, text); err != nil {
		return err
	}
	return b.list(zone)
}

// patternFor is the forward zone of the workspace that the hosts are in, or the
// only one there is.
func (b *Transaction) patternFor(c *workspace.Config, hosts []host) *ZoneEdit {
	count := map[string]int{}
	best := ""
	for _, z := range c.Zones {
		if z.Name.AtOrBelow(dnsname.MustParse("arpa.")) || !z.HasFile() {
			continue
		}
		n := 1
		for _, h := range hosts {
			if h.name.AtOrBelow(z.Name) {
				n++
			}
		}
		if count[z.Name.Key()] = n; best == "" || n > count[best] {
			best = z.Name.Key()
		}
	}
	if best == "" {
		return nil
	}
	name, _ := dnsname.FromWire([]byte(best))
	e, err := b.openFile(c.File(name), name)
	if err != nil {
		return nil
	}
	return e
}

// slice makes the zone of a part of a /24 and, where the /24's zone is in the
// workspace, the delegation and the aliases that lead there (RFC 2317 §4).
func (b *Transaction) slice(c *workspace.Config, net netip.Prefix, hosts []host, o Reverse) error {
	whole := netip.PrefixFrom(net.Addr(), 24).Masked()
	first := net.Addr().As4()[3]
	last := int(first) | (1<<(32-net.Bits()) - 1)
	zone, err := reverseZone(whole).Child(fmt.Sprintf("%d-%d", first, last))
	if err != nil {
		return err
	}
	place := func(a netip.Addr) dnsname.Name {
		n, _ := zone.Child(fmt.Sprint(a.As4()[3])) // a number of three digits is never too long
		return n
	}
	if err := b.reverseFile(c, zone, hosts, nil, place, o); err != nil {
		return err
	}
	parent := reverseZone(whole)
	if _, err := os.Stat(c.File(parent)); err != nil {
		b.note("the operator of %s delegates %s to these servers and adds an alias for each address, such as: %d CNAME %s", parent, zone, first, place(net.Addr()))
		return nil
	}
	e, err := b.openFile(c.File(parent), parent)
	if err != nil {
		return err
	}
	return b.delegateSlice(c, e, zone, place, int(first), last, o)
}

func (b *Transaction) delegateSlice(c *workspace.Config, e *ZoneEdit, zone dnsname.Name, place func(netip.Addr) dnsname.Name, first, last int, o Reverse) error {
	if len(e.file.Records(zone, rr.TypeNS)) == 0 {
		servers, err := b.sliceServers(c, e, zone, o)
		if err != nil {
			return err
		}
		for _, name := range servers {
			if err := e.addWire(zone, rr.TypeNS, []byte(name.Wire())); err != nil {
				return err
			}
		}
	}
	for i := first; i <= last; i++ {
		owner, err := e.file.Apex.Child(fmt.Sprint(i))
		if err != nil {
			return err
		}
		target, err := zone.Child(fmt.Sprint(i))
		if err != nil {
			return err
		}
		for _, r := range e.file.Records(owner, rr.TypePTR) { // it has moved into the slice
			e.ed.Remove(r)
			e.expect(owner, rr.TypePTR, r.Data, -1)
		}
		if len(e.file.Records(owner, rr.TypeCNAME)) > 0 {
			continue
		}
		text := target.Relative(e.origin())
		if err := e.add(&RecordSpec{owner: owner, t: rr.TypeCNAME, text: text, wire: []byte(target.Wire()), beside: zone}); err != nil {
			return err
		}
	}
	return nil
}

// sliceServers are the servers of a slice's zone: those given, or those in the
// file that was just made or is there.
func (b *Transaction) sliceServers(c *workspace.Config, e *ZoneEdit, zone dnsname.Name, o Reverse) (out []dnsname.Name, err error) {
	for _, s := range o.Servers {
		n, err := dnsname.Parse(strings.SplitN(s, "=", 2)[0], dnsname.Root)
		if err != nil {
			return nil, Usage("--ns %s: %v", s, err)
		}
		out = append(out, n)
	}
	if len(out) > 0 {
		return out, nil
	}
	from := e
	if own, err := b.openFile(c.File(zone), zone); err == nil {
		from = own
	} else if pattern := b.patternFor(c, nil); pattern != nil {
		from = pattern
	}
	for _, sv := range from.servers() {
		out = append(out, sv.name)
	}
	return out, nil
}
