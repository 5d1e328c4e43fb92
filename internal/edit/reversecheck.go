package edit

import (
	"fmt"
	"net/netip"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Mismatch is an address and a name that do not agree both ways.
type Mismatch struct {
	Address string `json:"address"`
	Name    string `json:"name"`
	Place   string `json:"place"` // file:line:column
	Problem string `json:"problem"`
}

// ReverseCheck compares the addresses of the workspace's forward zones with the
// PTR records of its reverse zones, both ways. The error wraps ErrFindings when
// something does not agree.
func (a *Files) ReverseCheck(network string) (out []Mismatch, looked int, err error) {
	net := netip.Prefix{}
	if network != "" {
		if net, err = netip.ParsePrefix(network); err != nil {
			return nil, 0, Usage("%q is not a network: write ADDRESS/LENGTH, such as 198.51.100.0/24", network)
		}
		net = net.Masked()
	}
	c, err := a.Config()
	if err != nil {
		return nil, 0, err
	}
	b, err := a.BeginIn(c.Dir) // only to read: nothing is written
	if err != nil {
		return nil, 0, err
	}
	defer b.close()
	have := map[netip.Addr][]dnsname.Name{}
	var all []host
	elsewhere := 0
	for _, family := range []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0")} {
		hosts, err := a.hosts(c, family)
		if err != nil {
			return nil, 0, err
		}
		for _, h := range hosts {
			have[h.addr] = append(have[h.addr], h.name)
		}
		all = append(all, hosts...)
	}
	for _, h := range all {
		if net.IsValid() && !net.Contains(h.addr) {
			continue
		}
		e, name, err := b.ptrPlace(h.addr)
		if err != nil || delegatedAbove(e, name) {
			elsewhere++ // not ours to say
			continue
		}
		looked++
		if m, bad := missesPTR(e, name, h, len(have[h.addr]) > 1); bad {
			out = append(out, m)
		}
	}
	for _, e := range b.edits {
		more, n := ptrsAstray(b, e, net, have)
		out, looked = append(out, more...), looked+n
	}
	if len(out) > 0 {
		return out, looked, ErrFindings
	}
	if looked == 0 && elsewhere > 0 {
		return nil, 0, fmt.Errorf("no reverse zone of the workspace holds any of the %d addresses, so there is nothing to compare with; make one with: fencepost reverse NETWORK", elsewhere)
	}
	return out, looked, nil
}

// missesPTR reports whether an address does not point back. Of several names of
// one address any will do.
func missesPTR(e *ZoneEdit, name dnsname.Name, h host, shared bool) (Mismatch, bool) {
	ptrs := e.file.Records(name, rr.TypePTR)
	for _, r := range ptrs {
		if dnsname.EqualWire(r.Data, h.name.Wire()) {
			return Mismatch{}, false
		}
	}
	m := Mismatch{Address: h.addr.String(), Name: h.name.String(), Place: h.place, Problem: "there is no PTR"}
	if len(ptrs) > 0 {
		if shared {
			return m, false
		}
		other, _ := dnsname.FromWire(ptrs[0].Data)
		m.Problem = "the PTR names " + other.String()
	}
	return m, true
}

// ptrsAstray finds PTR records in a reverse zone whose host, in a zone of the
// workspace, does not have the address.
func ptrsAstray(b *Transaction, e *ZoneEdit, net netip.Prefix, have map[netip.Addr][]dnsname.Name) (out []Mismatch, looked int) {
	for _, r := range e.file.All {
		if r.Type != rr.TypePTR || r.Owner == nil {
			continue
		}
		owner, _ := dnsname.FromWire(r.Owner)
		addr, ok := dnsname.AddrOf(owner)
		host, err := dnsname.FromWire(r.Data)
		if !ok || err != nil || net.IsValid() && !net.Contains(addr) {
			continue
		}
		home, known, err := b.holder(host)
		if err != nil || !known || delegatedAbove(home, host) {
			continue
		}
		looked++
		found := false
		for _, n := range have[addr] {
			found = found || n.Equal(host)
		}
		if !found {
			out = append(out, Mismatch{addr.String(), host.String(), e.src.Position(r.Span.Start).String(), "the host does not have this address"})
		}
	}
	return out, looked
}
