package sim

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"fencepost/childsync"
	"fencepost/dnsname"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
)

// Registry runs a zone whose delegations change while the world goes on: by what is handed
// in (Enter), and by what the children's servers ask for (RFC 7344, RFC 7477).
type Registry struct {
	Zone dnsname.Name
	// Every is how often the children are asked; 0: never.
	Every time.Duration
	// First takes over the keys of a child that has no DS yet, when all its servers agree
	// (RFC 8078 §3.3); else the first DS has to be handed in.
	First bool
}

// ErrRefused is wrapped where what is handed in is not entered.
var ErrRefused = errors.New("it is not entered")

// Enter has the zone above a child say what the records do: the NS records of the child, the
// addresses of servers, and its DS. What it said before is gone.
func (n *Internet) Enter(child dnsname.Name, records []rr.Record) error {
	refuse := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrRefused, fmt.Sprintf(format, args...))
	}
	if child == dnsname.Root {
		return refuse("nothing is above the root")
	}
	parent := n.zoneOf(child.Parent())
	if !slices.ContainsFunc(n.world.Registries, func(r Registry) bool { return r.Zone.Equal(parent.Name) }) {
		return refuse("nobody takes requests for zones in %s", parent.Name.Plain())
	}
	servers := map[string]bool{}
	for _, r := range records {
		if host, err := dnsname.FromWire(r.Data); r.Type == rr.TypeNS && r.Name.Equal(child) && err == nil {
			servers[host.Key()] = true
		}
	}
	if len(servers) == 0 {
		return refuse("no server of %s is named", child.Plain())
	}
	for _, r := range records {
		switch r.Type {
		case rr.TypeNS, rr.TypeDS:
			if !r.Name.Equal(child) {
				return refuse("%s is not about %s", r, child.Plain())
			}
		case rr.TypeA, rr.TypeAAAA:
			if !servers[r.Name.Key()] {
				return refuse("%s is about no server of %s", r, child.Plain())
			}
		default:
			return refuse("a delegation has no %s records", r.Type)
		}
		if err := rr.Validate(r.Type, r.Data); err != nil {
			return refuse("%s: %v", r.Name.Plain(), err)
		}
	}
	n.mu.Lock()
	before := n.entered[child.Key()]
	n.entered[child.Key()] = slices.Clone(records)
	n.generation++
	n.mu.Unlock()
	if _, err := n.version(&content{zone: parent}); err != nil { // it does not fit into the zone
		n.mu.Lock()
		if n.entered[child.Key()] = before; before == nil {
			delete(n.entered, child.Key())
		}
		n.generation++
		n.mu.Unlock()
		return refuse("%v", err)
	}
	return nil
}

// delegation is what the zone above says of a child without faults.
func (n *Internet) delegation(child dnsname.Name) *childsync.Child {
	z := n.Snapshot(n.zoneOf(child.Parent()).Name)
	if z == nil {
		return nil
	}
	c := &childsync.Child{Name: child, Glue: map[string][][]byte{}}
	data := func(name dnsname.Name, t rr.Type) (out [][]byte) {
		set, _ := z.Find(name, t, t)
		for d := range set.Data {
			out = append(out, d)
		}
		return out
	}
	for _, d := range data(child, rr.TypeNS) {
		host, err := dnsname.FromWire(d)
		if err != nil {
			continue
		}
		c.Servers = append(c.Servers, host)
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			c.Glue[host.Key()] = append(c.Glue[host.Key()], data(host, t)...)
		}
	}
	c.DS = data(child, rr.TypeDS)
	return c
}

// records are those of a delegation.
func recordsOf(c *childsync.Child) (out []rr.Record) {
	add := func(name dnsname.Name, t rr.Type, data []byte) {
		out = append(out, rr.Record{Name: name, Type: t, Class: rr.ClassIN, TTL: 3600, Data: data})
	}
	for _, host := range c.Servers {
		add(c.Name, rr.TypeNS, []byte(host.Wire()))
		for _, a := range c.Glue[host.Key()] {
			if len(a) == 4 {
				add(host, rr.TypeA, a)
			} else {
				add(host, rr.TypeAAAA, a)
			}
		}
	}
	for _, d := range c.DS {
		add(c.Name, rr.TypeDS, d)
	}
	return out
}

// Follow asks the servers of a child once, on a network, what they want, and enters it. did says
// what was entered, empty where nothing is asked for.
func (n *Internet) Follow(ctx context.Context, net netio.Network, child dnsname.Name, first bool) (did string, err error) {
	c := n.delegation(child)
	if c == nil || len(c.Servers) == 0 {
		return "", fmt.Errorf("%s is not delegated", child.Plain())
	}
	tracer := &resolve.Tracer{Asker: resolve.Asker{Net: net}}
	for _, s := range n.Hints() {
		h := resolve.Host{Name: s.Name}
		for _, a := range s.Addrs {
			h.Addrs = append(h.Addrs, netip.AddrPortFrom(a, resolve.Port))
		}
		tracer.Roots = append(tracer.Roots, h)
	}
	asker := childsync.Asker{Asker: tracer.Asker, Reach: tracer.Reach}
	want, err := asker.Want(ctx, c, childsync.First{Trusted: first}, false, n.clock.Now())
	if err != nil {
		return "", err
	}
	var what []string
	if want.ChangeServers {
		c.Servers, c.Glue = want.Servers.Servers, want.Servers.Glue
		what = append(what, "the servers")
	}
	if want.ChangeDS {
		c.DS = want.DS
		what = append(what, "the DS")
	}
	if len(what) == 0 {
		return "", errors.Join(want.Refused...)
	}
	return strings.Join(what, " and "), n.Enter(child, recordsOf(c))
}

// children are the zones that a registry delegates.
func (n *Internet) children(zone dnsname.Name) (out []dnsname.Name) {
	for _, z := range n.world.Zones {
		if z.Name != dnsname.Root && n.parentOf(n.zones[z.Name.Key()]).Name.Equal(zone) {
			out = append(out, z.Name)
		}
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, k := range slices.Sorted(maps.Keys(n.entered)) {
		child, err := dnsname.FromWire([]byte(k))
		if err == nil && n.zones[k] == nil && n.zoneOf(child.Parent()).Name.Equal(zone) {
			out = append(out, child)
		}
	}
	return out
}

// run asks the children of a registry again and again until ctx is done. told hears what was
// entered.
func (r *Registry) run(ctx context.Context, n *Internet, net netio.Network, told func(string)) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-netio.After(n.clock, r.Every):
		}
		for _, child := range n.children(r.Zone) {
			did, err := n.Follow(ctx, net, child, r.First) // why it is not followed: mostly that nothing is asked for
			if err == nil && did != "" && told != nil {
				told(fmt.Sprintf("%s: %s of %s, as its servers ask for it", r.Zone.Plain(), did, child.Plain()))
			}
		}
	}
}
