package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// Finder finds records as a resolver does: along the delegations, one server of each zone
// after another, and along aliases. It keeps the servers of zones that it met. It is safe for
// concurrent use.
type Finder struct{ r *tracing }

// Finder makes one that puts at most so many questions.
func (t *Tracer) Finder(ctx context.Context, most int) *Finder {
	r := t.begin(ctx, &Trace{})
	r.most, r.deep = most, true
	return &Finder{r}
}

// Asked is how many questions were put so far.
func (f *Finder) Asked() int {
	f.r.mu.Lock()
	defer f.r.mu.Unlock()
	return f.r.out.Asked
}

// Found is what there is of a name and type.
type Found struct {
	Name    dnsname.Name // where aliases led to; the name itself where there were none
	Aliases int
	Data    [][]byte
	TTL     uint32
	NoName  bool // there is no such name
}

// maxFound bounds the aliases on the way to one set.
const maxFound = 12

// Find finds a set; an error says why nobody can tell.
func (f *Finder) Find(name dnsname.Name, t rr.Type) (Found, error) {
	out := Found{Name: name}
	if name.IsZero() {
		return out, errors.New("no name is given")
	}
	for out.Aliases <= maxFound {
		resp, zone, err := f.r.walkTo(out.Name, t, nil)
		if err != nil {
			return out, err
		}
		for out.Aliases <= maxFound {
			if out.Data, out.TTL = resp.Set(out.Name, t); len(out.Data) > 0 {
				return out, nil
			}
			alias, _ := resp.Set(out.Name, rr.TypeCNAME)
			if t == rr.TypeCNAME || len(alias) == 0 {
				out.NoName = resp.Rcode() == message.NXDomain
				return out, nil
			}
			next, err := dnsname.FromWire(alias[0])
			if err != nil {
				return out, err
			}
			if out.Name, out.Aliases = next, out.Aliases+1; !next.AtOrBelow(zone) {
				break
			}
		}
	}
	return out, fmt.Errorf("more than %d aliases lead from %s", maxFound, name.Plain())
}

// Addresses finds where a host is reached: an error where it is nowhere.
func (f *Finder) Addresses(host dnsname.Name) ([]netip.AddrPort, error) {
	h := f.r.addresses(host, nil)
	return h.Addrs, h.Why
}

// GlueAddrs are the addresses in the data of glue records, with the port of the DNS; data of
// other lengths are passed over.
func GlueAddrs(glue [][]byte) (out []netip.AddrPort) {
	for _, g := range glue {
		if a, ok := netip.AddrFromSlice(g); ok {
			out = append(out, netip.AddrPortFrom(a, Port))
		}
	}
	return out
}

// Reach is where a host is reached: as Override says, by its glue, or where its addresses are
// found.
func (t *Tracer) Reach(ctx context.Context, host dnsname.Name, glue [][]byte) ([]netip.AddrPort, error) {
	if t.Override != nil {
		if at := t.Override(host); len(at) > 0 {
			return at, nil
		}
	}
	if at := GlueAddrs(glue); len(at) > 0 {
		return at, nil
	}
	return t.Addresses(ctx, host)
}

// Addresses finds where a host is reached.
func (t *Tracer) Addresses(ctx context.Context, host dnsname.Name) ([]netip.AddrPort, error) {
	h := t.begin(ctx, &Trace{}).addresses(host, nil)
	return h.Addrs, h.Why
}

// lookup is the data of a set, by way of the first server of each zone that answers.
func (r *tracing) lookup(name dnsname.Name, t rr.Type, way []dnsname.Name) ([][]byte, error) {
	resp, zone, err := r.walkTo(name, t, way)
	if err != nil {
		return nil, err
	}
	if resp.Rcode() == message.NXDomain {
		return nil, fmt.Errorf("%s says that there is no %s", zone.Plain(), name.Plain())
	}
	data, _ := resp.Set(name, t)
	return data, nil
}

// keep notes the servers of a zone.
func (r *tracing) keep(zone dnsname.Name, hosts []Host) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.first[zone.Key()] = hosts
}

// met is the servers of a zone, if it was met and they have addresses.
func (r *tracing) met(zone dnsname.Name) []Host {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.first[zone.Key()]
}

// from is the zone that the way to a set begins at.
func (r *tracing) from(name dnsname.Name, t rr.Type) (dnsname.Name, []Host) {
	if r.deep {
		if t == rr.TypeDS && name != dnsname.Root { // which is the zone above's (RFC 4035 §3.1.4.1)
			name = name.Parent()
		}
		for ; name != dnsname.Root; name = name.Parent() {
			if hosts := r.met(name); len(hosts) > 0 {
				return name, hosts
			}
		}
	}
	return dnsname.Root, r.Roots
}

// walkTo is the answer of the zone that a name lies in, and that zone.
func (r *tracing) walkTo(name dnsname.Name, t rr.Type, way []dnsname.Name) (*Response, dnsname.Name, error) {
	zone, hosts := r.from(name, t)
	for range maxSteps {
		resp, err := r.any(zone, hosts, name, t)
		if err != nil {
			return nil, zone, err
		}
		cut, named, glue := delegation(resp, zone, name)
		if cut.IsZero() {
			return resp, zone, nil
		}
		if known := r.met(cut); len(known) > 0 {
			zone, hosts = cut, known
			continue
		}
		next, err := r.hosts(cut, named, glue, way)
		if err != nil {
			return nil, zone, err
		}
		if r.deep {
			r.keep(cut, next)
		}
		zone, hosts = cut, next
	}
	return nil, zone, fmt.Errorf("%w: more than %d delegations", ErrWalk, maxSteps)
}

// hosts are the servers that a delegation names, with their addresses.
func (r *tracing) hosts(cut dnsname.Name, named []dnsname.Name, glue map[string][][]byte, way []dnsname.Name) (next []Host, err error) {
	var last error
	for _, n := range named {
		h := Host{Name: n}
		for _, g := range glue[n.Key()] {
			if a, ok := netip.AddrFromSlice(g); ok {
				h.Addrs = append(h.Addrs, netip.AddrPortFrom(a, Port))
			}
		}
		if len(h.Addrs) == 0 && !n.AtOrBelow(cut) {
			h = r.addresses(n, way)
			last = h.Why
		}
		next = append(next, h)
	}
	if slices.ContainsFunc(next, func(h Host) bool { return len(h.Addrs) > 0 }) {
		return next, nil
	}
	var loop *loopError
	if errors.As(last, &loop) {
		return nil, last
	}
	return nil, fmt.Errorf("no server of %s has an address", cut.Plain())
}

// any is the answer of the first server of a zone that has one.
func (r *tracing) any(zone dnsname.Name, hosts []Host, name dnsname.Name, t rr.Type) (*Response, error) {
	for _, h := range hosts {
		for _, at := range h.Addrs {
			resp, err := r.put(at, Request{Name: name, Type: t})
			if err == nil && (resp.Rcode() == message.NoError || resp.Rcode() == message.NXDomain) {
				return resp, nil
			}
			if r.ctx.Err() != nil {
				return nil, r.ctx.Err()
			}
		}
	}
	return nil, fmt.Errorf("no server of %s answers", zone.Plain())
}

// Know tells the servers of a zone, whatever the delegations say.
func (f *Finder) Know(zone dnsname.Name, hosts []Host) { f.r.keep(zone, hosts) }
