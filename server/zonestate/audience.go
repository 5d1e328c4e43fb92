package zonestate

import (
	"net/netip"
	"slices"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/server/request"
	"fencepost/store"
	"fencepost/zone"
)

// Audience is a group of askers who see versions of zones of their own.
type Audience struct {
	Name     string
	Networks []netip.Prefix // where they ask from; of several that fit the longest counts
}

// idOf tells versions of zones apart.
func idOf(name dnsname.Name, audience string) string {
	if audience == "" {
		return name.Key()
	}
	return name.Key() + "@" + audience
}

func (z *zoneState) id() string { return idOf(z.name, z.audience) }

// String is the zone with its audience, for logs.
func (z *zoneState) String() string {
	if z.audience == "" {
		return z.name.String()
	}
	return z.name.String() + "@" + z.audience
}

// storeOf is where the versions of a zone are kept; nil: nowhere.
func (s *Zones) storeOf(z *zoneState) *store.Store { return s.Store.For(z.audience) }

// audiences are the versions of zones that some askers see in the place of those for everyone, and who
// they are. The zero value has none.
type audiences struct {
	views []*view // those of which there is any version
	// nets are the networks: for each length that there is, the longest first, the views by address.
	nets  []netsOf
	keys  map[string]*view     // by the names of the keys that audiences have with us
	peers map[netip.Addr]*view // by the addresses of peers of audiences without keys
}

type netsOf struct {
	four  bool
	bits  int
	views map[netip.Addr]*view
}

// view is the zones as an audience sees them. It belongs to one table.
type view struct {
	s        *Zones
	t        *table
	audience string
	instead  map[*zoneState]*zoneState // of those for everyone
}

// audiencesOf finds out who sees what.
func (s *Zones) audiencesOf(cfg *Config, t *table) (out audiences) {
	byName := map[string]*view{}
	for i := range cfg.Zones {
		zc := &cfg.Zones[i]
		everyone := t.zones[zc.Name.Key()]
		if zc.Audience == "" || everyone == nil {
			continue
		}
		v := byName[zc.Audience]
		if v == nil {
			v = &view{s: s, t: t, audience: zc.Audience, instead: map[*zoneState]*zoneState{}}
			byName[zc.Audience], out.views = v, append(out.views, v)
		}
		z := t.zones[idOf(zc.Name, zc.Audience)]
		z.everyone.Store(everyone)
		v.instead[everyone] = z
		for _, p := range slices.Concat(zc.SendTo, zc.fetchFrom()) {
			out.addPeer(p, v)
		}
	}
	for _, a := range cfg.Audiences {
		if v := byName[a.Name]; v != nil {
			for _, n := range a.Networks {
				out.addNet(n, v)
			}
		}
	}
	out.longestFirst()
	return out
}

func (a *audiences) longestFirst() {
	slices.SortFunc(a.nets, func(a, b netsOf) int { return b.bits - a.bits })
}

// addPeer lets a peer of an audience see what that sees: known by its key or, without one, by its
// address.
func (a *audiences) addPeer(p Peer, v *view) {
	if a.keys == nil {
		a.keys, a.peers = map[string]*view{}, map[netip.Addr]*view{}
	}
	if p.Key == nil {
		a.peers[p.Address.Addr().Unmap()] = v
		return
	}
	a.keys[p.Key.Name.Key()] = v
	for _, k := range p.Also {
		a.keys[k.Name.Key()] = v
	}
}

func (a *audiences) addNet(n netip.Prefix, v *view) {
	n = n.Masked()
	four := n.Addr().Is4()
	i := slices.IndexFunc(a.nets, func(o netsOf) bool { return o.four == four && o.bits == n.Bits() })
	if i < 0 {
		i = len(a.nets)
		a.nets = append(a.nets, netsOf{four, n.Bits(), map[netip.Addr]*view{}})
	}
	a.nets[i].views[n.Addr()] = v
}

// at is what somebody in a network sees; nil: what everyone does.
func (a *audiences) at(from netip.Addr) *view {
	from = from.Unmap()
	for i := range a.nets {
		n := &a.nets[i]
		if n.four != from.Is4() {
			continue
		}
		if p, err := from.Prefix(n.bits); err == nil {
			if v := n.views[p.Addr()]; v != nil {
				return v
			}
		}
	}
	return nil
}

// version is what the view has of a zone for everyone.
func (v *view) version(z *zoneState) *zoneState {
	if own := v.instead[z]; own != nil {
		return own
	}
	return z
}

// Find implements answer.Source.
func (v *view) Find(name []byte, above bool) (*zone.Snapshot, answer.State) {
	z := v.t.find(name, above)
	if z == nil || z.cfg.Load().Lists {
		return nil, answer.NotServed
	}
	return v.version(z).found()
}

// Exact implements request.View.
func (v *view) Exact(name []byte) request.Zone {
	if z := v.t.exact(name); z != nil {
		return requested{v.s, v.version(z)}
	}
	return nil
}

// SourceFor implements request.Zones.
func (s *requests) SourceFor(from netip.Addr) answer.Source {
	t := s.table.Load()
	if len(t.views.views) > 0 {
		if v := t.viewOf(from.Unmap(), nil); v != nil {
			return v
		}
	}
	if t.hidden && !t.friends.at[from.Unmap()] {
		return t.public
	}
	return s
}

// viewOf is what somebody sees; nil: what everyone does. The key that a request was signed with
// decides, where it is a peer's; then whose address it is, of peers that have no key; then the
// network.
func (t *table) viewOf(from netip.Addr, key *dnsname.Name) *view {
	if key != nil {
		k := key.Key()
		if v := t.views.keys[k]; v != nil || t.friends.keys[k] {
			return v
		}
	}
	if v := t.views.peers[from]; v != nil || t.friends.at[from] {
		return v
	}
	return t.views.at(from)
}

// friends are the peers of a table, each by its keys or, without one, by its address.
type friends struct {
	at   map[netip.Addr]bool
	keys map[string]bool
}

func (f *friends) add(p Peer) {
	if f.at == nil {
		f.at, f.keys = map[netip.Addr]bool{}, map[string]bool{}
	}
	if p.Key == nil {
		f.at[p.Address.Addr().Unmap()] = true
		return
	}
	f.keys[p.Key.Name.Key()] = true
	for _, k := range p.Also {
		f.keys[k.Name.Key()] = true
	}
}

// hide has strangers be told nothing of zones that are for peers alone.
func (t *table) hide(s *Zones, cfg *Config) {
	for i := range cfg.Zones {
		z := &cfg.Zones[i]
		t.hidden = t.hidden || z.Lists
		for _, p := range slices.Concat(z.SendTo, z.fetchFrom()) {
			t.friends.add(p)
		}
	}
	t.public = &view{s: s, t: t}
}

// ViewFor implements request.Zones.
func (s *requests) ViewFor(from netip.Addr, key *dnsname.Name) request.View {
	t := s.table.Load()
	if len(t.views.views) > 0 {
		if v := t.viewOf(from.Unmap(), key); v != nil {
			return v
		}
	}
	if t.hidden && !t.friends.at[from.Unmap()] && !(key != nil && t.friends.keys[key.Key()]) {
		return t.public
	}
	return s
}

// versions are all versions of a zone, that for everyone first.
func (t *table) versions(name dnsname.Name) (out []*zoneState) {
	z := t.zones[name.Key()]
	if z == nil {
		return nil
	}
	out = append(out, z)
	for _, v := range t.views.views {
		if own := v.instead[z]; own != nil {
			out = append(out, own)
		}
	}
	return out
}

// AudienceOf is the audience whose version of a zone somebody at an address is answered from who asks
// for a name; empty: everyone's.
func (s *Zones) AudienceOf(from netip.Addr, name dnsname.Name) string {
	t := s.table.Load()
	v, z := t.viewOf(from.Unmap(), nil), t.find([]byte(name.Wire()), false)
	if v == nil || z == nil {
		return ""
	}
	return v.version(z).audience
}
