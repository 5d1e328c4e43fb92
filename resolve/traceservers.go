package resolve

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
)

// enter is the step into the zone that a referral names: its servers with their addresses.
// Nil: none has one.
func (r *tracing) enter(from *Step, s *Said) *Step {
	cut, hosts, glue := delegation(s.resp, from.Zone, s.Cut)
	step := &Step{Zone: cut}
	var missing []dnsname.Name
	for _, name := range hosts[:min(len(hosts), maxHosts)] {
		h := Host{Name: name}
		for _, g := range glue[name.Key()] {
			if a, ok := netip.AddrFromSlice(g); ok {
				h.Addrs, h.Glue = append(h.Addrs, netip.AddrPortFrom(a, Port)), true
			}
		}
		switch {
		case h.Glue:
			if name.AtOrBelow(cut) {
				step.Glue = append(step.Glue, h)
			}
		case name.AtOrBelow(cut):
			h.Why = errors.New("it lies in the zone itself, and the delegation has no glue for it")
			missing = append(missing, name)
		default:
			h = r.addresses(name, nil)
		}
		if own := r.override(name); len(own) > 0 {
			h.Addrs, h.Why = own, nil
		}
		step.Hosts = append(step.Hosts, h)
	}
	r.keep(cut, step.Hosts)
	alive := slices.ContainsFunc(step.Hosts, func(h Host) bool { return len(h.Addrs) > 0 })
	for _, name := range missing {
		t := from.trouble(GlueMissing, !alive, "the server %s of %s lies in that zone, and %s does not say its address", name.Plain(), cut.Plain(), from.Zone.Plain())
		t.In, t.Advice = from.Zone, fmt.Sprintf("add the glue of %s: its A and AAAA records", name.Plain())
		t.Records = r.missing(cut, from.Zone, func(rec rr.Record) bool { return rec.Name.Equal(name) && rec.Type != rr.TypeNS })
	}
	for _, h := range step.Hosts {
		if len(h.Addrs) > 0 || slices.ContainsFunc(missing, h.Name.Equal) {
			continue
		}
		var loop *loopError
		if errors.As(h.Why, &loop) {
			from.trouble(DelegationLoop, !alive, "the server %s of %s cannot be found: %s", h.Name.Plain(), cut.Plain(), loop).
				Advice = "give one of these zones a server whose name lies elsewhere, or addresses with the delegation"
			continue
		}
		t := from.trouble(ServerNoAddress, !alive, "the server %s of %s has no address: %v", h.Name.Plain(), cut.Plain(), h.Why)
		t.Advice = fmt.Sprintf("give %s an address, or name another server", h.Name.Plain())
	}
	if !alive {
		return nil
	}
	return step
}

func (r *tracing) override(host dnsname.Name) []netip.AddrPort {
	if r.Override == nil {
		return nil
	}
	return r.Override(host)
}

// missing are records that the zone above should have, from a zone that is at hand.
func (r *tracing) missing(name, below dnsname.Name, which func(rr.Record) bool) (out []rr.Record) {
	if r.Known == nil {
		return nil
	}
	if z := r.Known(name, below); z != nil && z.Name.Equal(name) {
		for _, rec := range z.Records {
			if which(rec) {
				out = append(out, rec)
			}
		}
	}
	return out
}

// loopError says that to find a server takes the server.
type loopError struct{ way []dnsname.Name }

func (e *loopError) Error() string {
	var parts []string
	for _, n := range e.way {
		parts = append(parts, n.Plain())
	}
	return "to find it takes the address of " + strings.Join(parts, ", and for that the address of ")
}

// addresses finds the addresses of a host in the plain way: one server of each zone after
// another. way are the hosts that are being looked for.
func (r *tracing) addresses(name dnsname.Name, way []dnsname.Name) Host {
	r.mu.Lock()
	h, ok := r.known[name.Key()]
	r.mu.Unlock()
	if ok {
		return h
	}
	if own := r.override(name); len(own) > 0 {
		return Host{Name: name, Addrs: own}
	}
	if slices.ContainsFunc(way, name.Equal) {
		return Host{Name: name, Why: &loopError{append(slices.Clone(way[1:]), name)}}
	}
	h = Host{Name: name}
	if len(way) >= maxNested {
		h.Why = fmt.Errorf("more than %d servers had to be found for it", maxNested)
		return h
	}
	for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
		data, err := r.lookup(name, t, append(slices.Clone(way), name))
		for _, d := range data {
			if a, ok := netip.AddrFromSlice(d); ok {
				h.Addrs = append(h.Addrs, netip.AddrPortFrom(a, Port))
			}
		}
		if err != nil {
			h.Why = err
		}
	}
	if len(h.Addrs) > 0 {
		h.Why = nil
	} else if h.Why == nil {
		h.Why = fmt.Errorf("%s has neither A nor AAAA records", name.Plain())
	}
	var loop *loopError
	if !errors.As(h.Why, &loop) { // which depends on where one came from
		r.mu.Lock()
		r.known[name.Key()] = h
		r.mu.Unlock()
	}
	return h
}
