package edit

import (
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zonefile"
)

// Delegate says what to delegate to whom.
type Delegate struct {
	Zone, Child string
	Servers     []string // NAME or NAME=ADDRESS[,ADDRESS]; none: those of the child's own zone
	Create      bool     // make the child's zone too
	Contact     string   // of the child, with Create
	Dry         bool
}

// Delegate cuts a child out of a zone: NS records, only the addresses that are
// needed as glue, and DS records when the child is a signed zone of the
// workspace. With Create the child's zone is made in the same step.
func (a *Files) Delegate(o Delegate) (*Edited, error) {
	b, e, err := a.edit(o.Zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	child, err := e.childName(o.Child)
	if err != nil {
		return nil, err
	}
	own := b.childFile(child)
	servers, err := delegationServers(e, own, child, o.Servers)
	if err != nil {
		return nil, err
	}
	if own != nil && o.Create {
		return nil, fmt.Errorf("the zone %s exists already, in %s; leave --create out", child, Shown(own.path))
	}
	if err := e.addServers(child, servers); err != nil {
		return nil, err
	}
	if err := e.addDS(child, own); err != nil {
		return nil, err
	}
	if err := e.addGlue(child, servers); err != nil {
		return nil, err
	}
	if o.Create {
		if err := b.createChild(child, servers, o.Contact); err != nil {
			return nil, err
		}
	}
	e.noteHidden(child)
	return b.finish(o.Dry)
}

// childName reads the name of a child, relative to the zone.
func (e *ZoneEdit) childName(text string) (dnsname.Name, error) {
	text, err := e.encodeName(text)
	if err != nil {
		return dnsname.Name{}, err
	}
	// A name that ends in the zone's needs no final dot here.
	if plain := strings.TrimSuffix(e.file.Apex.String(), "."); strings.HasSuffix(strings.ToLower(text), "."+strings.ToLower(plain)) {
		text += "."
	}
	child, err := dnsname.Parse(text, e.file.Apex)
	if err != nil {
		return child, Usage("the child %q: %v", text, err)
	}
	if !child.Below(e.file.Apex) {
		return child, Usage("%s is not below the zone %s", child, e.file.Apex)
	}
	return child, nil
}

// childFile opens the child's own zone if it is in the workspace. It is only read.
func (b *Transaction) childFile(child dnsname.Name) *ZoneEdit {
	c, err := b.a.Config()
	if err != nil {
		return nil
	}
	if _, err := os.Stat(c.File(child)); err != nil {
		return nil
	}
	e, err := b.openFile(c.File(child), child)
	if err != nil {
		return nil
	}
	return e
}

// delegationServers are the servers given, or those that the child lists itself.
func delegationServers(e, own *ZoneEdit, child dnsname.Name, given []string) ([]starterServer, error) {
	if len(given) == 0 {
		if own == nil {
			return nil, Usage("say which servers answer for %s: --ns NAME, or --ns NAME=ADDRESS for one inside it", child)
		}
		return own.servers(), nil
	}
	var out []starterServer
	for _, g := range given {
		text, addrs, _ := strings.Cut(g, "=")
		sv := starterServer{}
		text, err := e.encodeName(text)
		if err != nil {
			return nil, err
		}
		origin := e.file.Apex
		if strings.Contains(text, ".") && !strings.HasSuffix(text, ".") {
			// A name with dots may be whole or relative to the zone: it is whole if it
			// ends in the zone's name, or if the zone has no such name below.
			if whole, err := dnsname.Parse(text, dnsname.Root); err == nil && (whole.AtOrBelow(e.file.Apex) || !strings.HasSuffix("."+strings.ToLower(text), "."+strings.ToLower(child.Relative(e.file.Apex)))) {
				origin = dnsname.Root
			}
		}
		if sv.name, err = dnsname.Parse(text, origin); err != nil {
			return nil, Usage("--ns %s: %v", g, err)
		}
		for _, s := range strings.FieldsFunc(addrs, func(c rune) bool { return c == ',' }) {
			ip, err := netip.ParseAddr(s)
			if err != nil || ip.Zone() != "" {
				return nil, Usage("--ns %s: %q is not an address", g, s)
			}
			sv.addrs = append(sv.addrs, ip)
		}
		if own != nil && len(sv.addrs) == 0 {
			sv.addrs, sv.own = own.addresses(sv.name), true
		}
		out = append(out, sv)
	}
	return out, nil
}

// servers are the name servers of a zone with their addresses in it.
func (e *ZoneEdit) servers() (out []starterServer) {
	for _, r := range e.file.Records(e.file.Apex, rr.TypeNS) {
		name, err := dnsname.FromWire(r.Data)
		if err == nil {
			out = append(out, starterServer{name: name, addrs: e.addresses(name), own: true})
		}
	}
	return out
}

// addresses are those that a zone has for a name.
func (e *ZoneEdit) addresses(name dnsname.Name) (out []netip.Addr) {
	for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
		for _, r := range e.file.Records(name, t) {
			if a, ok := netip.AddrFromSlice(r.Data); ok {
				out = append(out, a)
			}
		}
	}
	return out
}

// addServers writes the NS records of a delegation.
func (e *ZoneEdit) addServers(child dnsname.Name, servers []starterServer) error {
	if ns := e.file.Records(child, rr.TypeNS); len(ns) > 0 {
		return fmt.Errorf("%s is delegated already, at %s; use add, change and remove for its NS records", child, e.src.Position(ns[0].Span.Start))
	}
	for _, sv := range servers {
		if err := e.addWire(child, rr.TypeNS, []byte(sv.name.Wire())); err != nil {
			return err
		}
	}
	return nil
}

// sameFamily are the addresses of one IP version.
func sameFamily(all []netip.Addr, like netip.Addr) []netip.Addr {
	return slices.DeleteFunc(slices.Clone(all), func(a netip.Addr) bool { return a.Is4() != like.Is4() })
}

// otherAddress refuses an address for a server that has others in the zone.
func (e *ZoneEdit) otherAddress(child dnsname.Name, sv *starterServer, have []netip.Addr, ip netip.Addr) error {
	words := make([]string, len(have))
	for i, a := range have {
		words[i] = a.String()
	}
	t, _ := AddressData(ip)
	err := fmt.Errorf("%s has the address %s here, not %s; if it moved: fencepost change %s %s %s %s", sv.name, strings.Join(words, ", "), ip,
		e.file.Apex.Plain(), sv.name.Relative(e.file.Apex), t, ip)
	if inside, fail := child.Child(sv.name.Label()); fail == nil && !sv.name.AtOrBelow(child) {
		err = fmt.Errorf("%w; if a server inside %s is meant: --ns %s=%s", err, child, inside.Relative(e.file.Apex), ip)
	}
	return err
}

// addGlue writes the addresses that a delegation needs, and no others: those of servers
// in the child, and those of servers in the zone that have none here yet.
func (e *ZoneEdit) addGlue(child dnsname.Name, servers []starterServer) error {
	for _, sv := range servers {
		switch {
		case !sv.name.AtOrBelow(e.file.Apex):
			if len(sv.addrs) > 0 {
				e.b.note("%s lies outside %s, so its address is not needed here", sv.name, e.file.Apex)
			}
			continue
		case len(sv.addrs) == 0 && sv.name.AtOrBelow(child):
			return Usage("the server %s lies in the delegated zone, so its address is needed here: --ns %s=ADDRESS", sv.name, sv.name)
		}
		have := e.addresses(sv.name)
		for _, ip := range sv.addrs {
			t, data := AddressData(ip)
			if slices.Contains(have, ip) {
				continue
			}
			if same := sameFamily(have, ip); len(same) > 0 && !sv.own {
				return e.otherAddress(child, &sv, same, ip)
			}
			if err := e.add(&RecordSpec{owner: sv.name, t: t, text: ip.String(), wire: data, beside: child}); err != nil {
				return err
			}
		}
	}
	return nil
}

// addWire adds a record whose data are known as octets; names in it are written
// as short as the zone permits.
func (e *ZoneEdit) addWire(owner dnsname.Name, t rr.Type, data []byte) error {
	text := rr.DataText(t, data)
	if name, err := dnsname.FromWire(data); err == nil && (t == rr.TypeNS || t == rr.TypePTR || t == rr.TypeCNAME) {
		text = name.Relative(e.origin())
	}
	return e.add(&RecordSpec{owner: owner, t: t, text: text, wire: data})
}

// origin is the zone's name where the file is read with it throughout; names are
// then written relative to it. Where $ORIGIN changes, they are written whole.
func (e *ZoneEdit) origin() dnsname.Name {
	for _, r := range e.file.All {
		if r.Kind == zonefile.Record && !dnsname.EqualWire(r.Origin, e.file.Apex.Wire()) {
			return dnsname.Root
		}
	}
	return e.file.Apex
}

// addDS writes the DS records of a child that is signed: of its keys in the
// workspace, or of the DNSKEY records in its file.
func (e *ZoneEdit) addDS(child dnsname.Name, own *ZoneEdit) error {
	var keys [][]byte
	if c, err := e.b.a.Config(); err == nil {
		keys = WantedByParent(c, child)
	}
	if len(keys) == 0 && own != nil {
		for _, r := range own.file.Records(child, rr.TypeDNSKEY) {
			keys = append(keys, r.Data)
		}
		keys = entryPoints(keys)
	}
	for _, k := range keys {
		if err := e.addWire(child, rr.TypeDS, dnssec.DS(child, k, dnssec.DigestSHA256)); err != nil {
			return err
		}
	}
	return nil
}

// entryPoints are the keys that a parent's DS should name: those with the SEP
// flag, or all if none has it.
func entryPoints(keys [][]byte) (out [][]byte) {
	for _, k := range keys {
		if len(k) > 4 && k[1]&1 != 0 {
			out = append(out, k)
		}
	}
	if len(out) == 0 {
		return keys
	}
	return out
}

// createChild makes the child's zone, with the same servers.
func (b *Transaction) createChild(child dnsname.Name, servers []starterServer, contact string) error {
	s := Starter{Zone: child.String(), Contact: contact}
	for _, sv := range servers {
		text := sv.name.String()
		if sv.name.AtOrBelow(child) {
			var addrs []string
			for _, a := range sv.addrs {
				addrs = append(addrs, a.String())
			}
			text += "=" + strings.Join(addrs, ",")
		}
		s.Servers = append(s.Servers, text)
	}
	c, err := b.a.Config()
	if err != nil {
		return fmt.Errorf("--create makes a zone in the workspace, and %w", err)
	}
	_, text, err := b.a.zoneText(s)
	if err != nil {
		return err
	}
	if err := b.create(c.File(child), child, text); err != nil {
		return err
	}
	return b.list(child)
}

// noteHidden says which records of the zone nobody will see any more.
func (e *ZoneEdit) noteHidden(child dnsname.Name) {
	n, first := 0, ""
	for _, r := range e.file.All {
		if r.Kind != zonefile.Record {
			continue
		}
		owner, _ := dnsname.FromWire(r.Owner)
		glue := r.Type == rr.TypeA || r.Type == rr.TypeAAAA
		if !owner.AtOrBelow(child) || owner.Equal(child) && (r.Type == rr.TypeNS || r.Type == rr.TypeDS) || glue && e.serves(child, owner) {
			continue
		}
		if n++; n == 1 {
			first = e.src.Position(r.Span.Start).String()
		}
	}
	if n > 0 {
		what := "A record of the zone is now hidden by the delegation, at %s: move it to the zone %s"
		if n > 1 {
			what = fmt.Sprintf("%d records", n) + " of the zone are now hidden by the delegation, the first at %s: move them to the zone %s"
		}
		e.b.note(what, first, child)
	}
}

// serves reports whether the edit makes a name a server of the child.
func (e *ZoneEdit) serves(child, name dnsname.Name) bool {
	return e.expected[key([]byte(child.Wire()), rr.TypeNS, 0, []byte(name.Wire()))] > 0
}
