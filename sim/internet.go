package sim

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/server/frontend"
	"fencepost/server/request"
	"fencepost/zone"
)

// Internet is a world that runs.
type Internet struct {
	world *World
	clock netio.Clock
	began time.Time
	zones map[string]*Zone

	mu    sync.Mutex
	made  map[string]*zone.Snapshot // by content.key
	keys  map[string]*dnssec.Key
	extra []*Fault // that were ordered meanwhile
	// entered is what registries were told of delegations, by the key of the child; generation
	// counts them.
	entered    map[string][]rr.Record
	generation int
}

// New makes a world, which begins now. Every zone is made once, with all the faults that are
// ordered of it one after another, so that what is wrong with a world is told here.
func New(w *World, clock netio.Clock) (*Internet, error) {
	if err := w.Check(); err != nil {
		return nil, err
	}
	n := &Internet{world: w, clock: clock, began: clock.Now(), zones: map[string]*Zone{}, made: map[string]*zone.Snapshot{}, keys: map[string]*dnssec.Key{}, entered: map[string][]rr.Record{}}
	for i := range w.Zones {
		n.zones[w.Zones[i].Name.Key()] = &w.Zones[i]
	}
	for i := range w.Zones {
		z := &w.Zones[i]
		if _, err := n.version(&content{zone: z}); err != nil {
			return nil, err
		}
		for j := range w.Faults {
			if f := &w.Faults[j]; n.concerns(f, z) {
				if _, err := n.version(&content{zone: z, faults: []*Fault{f}}); err != nil {
					return nil, err
				}
			}
		}
	}
	return n, nil
}

// Order adds a fault; what it returns takes it away again.
func (n *Internet) Order(f Fault) (mend func()) {
	n.mu.Lock()
	defer n.mu.Unlock()
	p := &f
	n.extra = append(n.extra, p)
	return func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		for i, o := range n.extra {
			if o == p {
				n.extra = append(n.extra[:i:i], n.extra[i+1:]...)
				return
			}
		}
	}
}

// concerns reports whether a fault is about what a zone says: its own content, or a
// delegation from it.
func (n *Internet) concerns(f *Fault, z *Zone) bool {
	switch kinds[f.Kind] {
	case ofContent:
		return f.Zone.IsZero() || f.Zone.Equal(z.Name)
	case ofParent:
		child := n.zones[f.Zone.Key()]
		return child != nil && child != z && n.parentOf(child) == z
	}
	return false
}

// active are the faults that are there now at an address of a server.
func (n *Internet) active(server dnsname.Name, at netip.Addr) (out []*Fault) {
	age := n.clock.Now().Sub(n.began)
	take := func(f *Fault) {
		if f.during(age) && (f.Server.IsZero() || f.Server.Equal(server)) && (!f.Addr.IsValid() || f.Addr == at) {
			out = append(out, f)
		}
	}
	for i := range n.world.Faults {
		take(&n.world.Faults[i])
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, f := range n.extra {
		take(f)
	}
	return out
}

// version is a zone as it is with some faults.
func (n *Internet) version(c *content) (*zone.Snapshot, error) {
	k := c.key()
	n.mu.Lock()
	if n.registers(c.zone) {
		c.generation = n.generation
		k += fmt.Sprintf(" generation %d", c.generation)
	}
	z := n.made[k]
	n.mu.Unlock()
	if z != nil {
		return z, nil
	}
	z, err := n.make(c)
	if err != nil {
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.made[k] = z
	return z, nil
}

// registers reports whether a zone takes requests.
func (n *Internet) registers(z *Zone) bool {
	return slices.ContainsFunc(n.world.Registries, func(r Registry) bool { return r.Zone.Equal(z.Name) })
}

// Roots are the addresses of the root's servers.
func (n *Internet) Roots() (out []netip.Addr) {
	for _, s := range n.zones[dnsname.Root.Key()].Servers {
		out = append(out, n.addrsOf(s)...)
	}
	return out
}

// Hints are the names of the root's servers with their addresses.
func (n *Internet) Hints() (out []Server) {
	for _, s := range n.zones[dnsname.Root.Key()].Servers {
		out = append(out, Server{Name: s, Addrs: n.addrsOf(s)})
	}
	return out
}

// Anchor is the DNSKEY record of a signed zone, to be trusted; false: it is not signed.
func (n *Internet) Anchor(name dnsname.Name) (rr.Record, bool) {
	z := n.zones[name.Key()]
	if z == nil || !z.Signed {
		return rr.Record{}, false
	}
	return rr.Record{Name: name, Type: rr.TypeDNSKEY, Class: rr.ClassIN, TTL: 3600, Data: n.keyOf(z, present).Data}, true
}

// Addrs are all addresses that hosts of the world have.
func (n *Internet) Addrs() (out []netip.Addr) {
	for _, s := range n.world.Servers {
		out = append(out, s.Addrs...)
	}
	for _, r := range n.world.Resolvers {
		out = append(out, r.Addrs...)
	}
	return out
}

// Place is where an address of the world is listened on.
type Place struct {
	Net netio.Network
	At  netip.AddrPort
}

// Serve brings all hosts up: place says where each address is. It returns where each is then
// reached, and the hosts go on until ctx is done; wg is done when all have ended. reach is the
// network on which resolvers of the world find the others.
func (n *Internet) Serve(ctx context.Context, place func(netip.Addr) Place, reach func(host netip.Addr, places map[netip.Addr]netip.AddrPort) netio.Network, wg *sync.WaitGroup) (map[netip.Addr]netip.AddrPort, error) {
	places := map[netip.Addr]netip.AddrPort{}
	type open struct {
		end   netio.Endpoint
		host  *host
		clock netio.Clock // of its deadlines
	}
	var all []open
	fail := func(err error) (map[netip.Addr]netip.AddrPort, error) {
		for _, o := range all {
			o.end.Close()
		}
		return nil, err
	}
	listen := func(a netip.Addr, h *host) error {
		p := place(a)
		end, err := p.Net.Listen(p.At, 1)
		if err != nil {
			return err
		}
		places[a] = end.Addr
		all = append(all, open{end, h, p.Net.Clock()})
		return nil
	}
	for i := range n.world.Servers {
		s := &n.world.Servers[i]
		for _, a := range s.Addrs {
			if s.At.IsValid() {
				places[a] = s.At
				continue
			}
			if err := listen(a, &host{n: n, server: s, at: a}); err != nil {
				return fail(err)
			}
		}
	}
	for i := range n.world.Resolvers {
		r := &n.world.Resolvers[i]
		memory := newMemory()
		for _, a := range r.Addrs {
			h := &host{n: n, at: a, resolver: &resolver{n: n, of: r, memory: memory, net: func() netio.Network { return reach(a, places) }}}
			if err := listen(a, h); err != nil {
				return fail(err)
			}
		}
	}
	for _, o := range all {
		front := &frontend.Frontend{Env: o.host.env(), Clock: o.clock, IsPeer: func(netip.Addr) bool { return false }}
		front.Serve(ctx, o.host.wrap(o.end), wg)
	}
	for i := range n.world.Registries {
		if r := &n.world.Registries[i]; r.Every > 0 {
			from := n.addrsOf(n.zones[r.Zone.Key()].Servers[0])[0]
			wg.Go(func() { r.run(ctx, n, reach(from, places), n.world.Told) })
		}
	}
	wg.Go(func() {
		<-ctx.Done()
		for _, o := range all {
			o.end.Close()
		}
	})
	return places, nil
}

// quiet is the log of hosts of a world.
var quiet = slog.New(slog.DiscardHandler)

func (h *host) env() *request.Env {
	return &request.Env{Zones: h, Clock: h.n.clock.Now, Log: quiet, Counts: &request.Counts{}, Stranger: func(string, ...any) {}}
}

// InMemory brings all hosts up on a network in memory, at their own addresses.
func (n *Internet) InMemory(ctx context.Context, m *netio.Memory, wg *sync.WaitGroup) error {
	place := func(a netip.Addr) Place { return Place{m.Host(a), netip.AddrPortFrom(a, resolve.Port)} }
	reach := func(a netip.Addr, _ map[netip.Addr]netip.AddrPort) netio.Network { return m.Host(a) }
	_, err := n.Serve(ctx, place, reach, wg)
	return err
}

// Snapshot is a zone of the world as it is without faults; nil where there is no such zone.
func (n *Internet) Snapshot(name dnsname.Name) *zone.Snapshot {
	z := n.zones[name.Key()]
	if z == nil {
		return nil
	}
	s, err := n.version(&content{zone: z})
	if err != nil {
		return nil // which New told
	}
	return s
}
