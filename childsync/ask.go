package childsync

import (
	"context"
	"errors"
	"fmt"
	"net/netip"

	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

// Asker asks the servers of children what they want their parent to have.
type Asker struct {
	resolve.Asker
	// Reach finds the addresses of a name server; glue are those that the parent has of it.
	Reach func(ctx context.Context, host dnsname.Name, glue [][]byte) ([]netip.AddrPort, error)
}

// childTypes are what a child's servers are asked for.
var childTypes = []rr.Type{rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY, rr.TypeCSYNC, rr.TypeNS}

// Ask asks every address of every server of a child. The error says that a server has no
// address; what one of them would not say is in what was seen of it.
func (a *Asker) Ask(ctx context.Context, c *Child) ([]Seen, error) {
	var out []Seen
	for _, host := range c.Servers {
		addrs, err := a.Reach(ctx, host, c.Glue[host.Key()])
		if err != nil {
			return nil, fmt.Errorf("the address of %s, a server of %s: %w", host, c.Name, err)
		}
		for _, at := range addrs {
			s := Seen{Server: fmt.Sprintf("%s (%s)", host.Plain(), at)}
			s.Err = a.askServer(ctx, c, at, &s)
			out = append(out, s)
		}
	}
	return out, nil
}

// askServer collects what one server of a child shows.
func (a *Asker) askServer(ctx context.Context, c *Child, at netip.AddrPort, s *Seen) (err error) {
	ask := func(name dnsname.Name, t rr.Type) (*resolve.Response, error) {
		resp, err := a.Answered(ctx, at, name, t)
		if err == nil {
			s.Records = append(append(s.Records, resp.Answer...), resp.Authority...)
		}
		return resp, err
	}
	serial := func() (uint32, error) {
		resp, err := ask(c.Name, rr.TypeSOA)
		if err != nil {
			return 0, err
		}
		data, _ := resp.Set(c.Name, rr.TypeSOA)
		if len(data) != 1 {
			return 0, errors.New("it does not answer for the zone")
		}
		soa, err := rr.ParseSOA(data[0])
		return soa.Serial, err
	}
	if s.Before, err = serial(); err != nil {
		return err
	}
	var hosts []dnsname.Name
	for _, t := range childTypes {
		resp, err := ask(c.Name, t)
		if err != nil {
			return err
		}
		if t == rr.TypeNS {
			data, _ := resp.Set(c.Name, rr.TypeNS)
			for _, d := range data {
				if n, err := dnsname.FromWire(d); err == nil && n.AtOrBelow(c.Name) {
					hosts = append(hosts, n)
				}
			}
		}
	}
	for _, host := range hosts {
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			if _, err := ask(host, t); err != nil {
				return err
			}
		}
	}
	s.After, err = serial()
	return err
}

// Signals looks at the signalling names of the name servers outside a child (RFC 9615 §4.1),
// walking down from the zone of the anchors, whose servers are roots.
func (a *Asker) Signals(ctx context.Context, c *Child, roots []netip.AddrPort, anchors []rr.Record) []Signal {
	out := []Signal{}
	for _, server := range c.Servers {
		if server.AtOrBelow(c.Name) {
			continue
		}
		s := Signal{Server: server, Anchors: anchors}
		var records []rr.Record
		if records, s.Err = a.collectSignal(ctx, c.Name, server, roots, anchors); s.Err == nil {
			s.Sets = validate.NewRRsets(records)
		}
		out = append(out, s)
	}
	return out
}

// collectSignal walks to the signalling name of a server.
func (a *Asker) collectSignal(ctx context.Context, child, server dnsname.Name, roots []netip.AddrPort, anchors []rr.Record) (out []rr.Record, err error) {
	name, err := SignalName(child, server)
	if err != nil {
		return nil, err
	}
	w := &resolve.Walker{Asker: a.Asker, Roots: roots, Start: anchors[0].Name, Reach: a.Reach}
	for _, t := range []rr.Type{rr.TypeCDS, rr.TypeCDNSKEY} {
		records, err := w.Collect(ctx, name, t)
		if err != nil {
			return nil, err
		}
		out = append(out, records...)
	}
	return out, nil
}
