package app

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"fencepost/adopt"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/validate"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Follow is what to take over from a child.
type Follow struct {
	Zone, Child string
	First       bool // keys of a child that has no DS yet, unproved
	Approved    bool // also what is not to be followed at once
	Dry         bool
}

// ErrNothingAsked means that a child asks for nothing that the parent does not have.
var ErrNothingAsked = errors.New("the child asks for nothing that is not there already")

// Follow asks the servers of a child what they want the parent to have, by CDS,
// CDNSKEY and CSYNC, and writes it into the parent's zone if the rules permit.
func (a *App) Follow(ctx context.Context, o Follow) (*Edited, error) {
	b, e, err := a.edit(o.Zone)
	if err != nil {
		return nil, err
	}
	defer b.close()
	name, err := e.childName(o.Child)
	if err != nil {
		return nil, err
	}
	child := e.delegation(name)
	if len(child.Servers) == 0 {
		return nil, fmt.Errorf("%s is not delegated in %s", name, plainName(e.file.Apex))
	}
	seen, err := a.askChild(ctx, child)
	if err != nil {
		return nil, err
	}
	first := adopt.First{Trusted: o.First}
	if len(child.DS) == 0 && !o.First {
		if first.Signals, err = a.signals(ctx, child); err != nil {
			return nil, err
		}
	}
	ds, changeDS, err := child.WantedDS(seen, first, a.Now())
	if err != nil {
		return nil, err
	}
	next, changeNS, err := child.WantedServers(seen, o.Approved, a.Now())
	if err != nil {
		return nil, err
	}
	if !changeDS && !changeNS {
		return nil, fmt.Errorf("%s: %w", plainName(name), ErrNothingAsked)
	}
	if changeDS {
		if err := e.replace(name, rr.TypeDS, ds); err != nil {
			return nil, err
		}
		if len(ds) == 0 {
			b.note("%s asked to have no DS any more: it is on its way to being unsigned", plainName(name))
		}
	}
	if changeNS {
		if err := e.takeServers(child, next); err != nil {
			return nil, err
		}
	}
	return b.finish(o.Dry)
}

// signals looks at the signalling names of the name servers outside a child; nil if
// the workspace has no trust anchors to prove them by.
func (a *App) signals(ctx context.Context, child *adopt.Child) (out []adopt.Signal, err error) {
	c, err := a.Config()
	if err != nil || c.AnchorFile == "" {
		return nil, nil
	}
	anchors, err := a.anchors(c.AnchorFile, &Verified{Source: &source.Set{}})
	if err != nil {
		return nil, err
	}
	out = []adopt.Signal{}
	for _, server := range child.Servers {
		if server.AtOrBelow(child.Name) {
			continue
		}
		s := adopt.Signal{Server: server, Anchors: anchors}
		var records []rr.Record
		if records, s.Err = a.collectSignal(ctx, c, child.Name, server, anchors); s.Err == nil {
			s.Pool = validate.NewPool(records)
		}
		out = append(out, s)
	}
	return out, nil
}

// collectSignal walks to the signalling name of a server, from the anchor down.
func (a *App) collectSignal(ctx context.Context, c *workspace.Config, child, server dnsname.Name, anchors []rr.Record) (out []rr.Record, err error) {
	name, err := adopt.SignalName(child, server)
	if err != nil {
		return nil, err
	}
	w := &resolve.Walker{Roots: c.Roots, Start: anchors[0].Name, Reach: a.reach, Timeout: lookTimeout, Now: a.Now}
	for _, t := range []rr.Type{rr.TypeCDS, rr.TypeCDNSKEY} {
		records, err := w.Collect(ctx, name, t)
		if err != nil {
			return nil, err
		}
		out = append(out, records...)
	}
	return out, nil
}

// delegation is a child as the zone's file has it.
func (e *editing) delegation(name dnsname.Name) *adopt.Child {
	c := &adopt.Child{Name: name, Glue: map[string][][]byte{}}
	for _, r := range e.file.Records(name, rr.TypeDS) {
		c.DS = append(c.DS, r.Data)
	}
	for _, r := range e.file.Records(name, rr.TypeNS) {
		host, err := dnsname.FromWire(r.Data)
		if err != nil {
			continue
		}
		c.Servers = append(c.Servers, host)
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			for _, a := range e.file.Records(host, t) {
				c.Glue[host.Key()] = append(c.Glue[host.Key()], a.Data)
			}
		}
	}
	return c
}

// replace puts records in place of all of their type at a name; those that stay are
// not touched.
func (e *editing) replace(owner dnsname.Name, t rr.Type, want [][]byte) error {
	var have [][]byte
	var gone []*zonefile.Entry
	for _, r := range e.file.Records(owner, t) {
		if slices.ContainsFunc(want, func(d []byte) bool { return string(d) == string(r.Data) }) {
			have = append(have, r.Data)
			continue
		}
		gone = append(gone, r)
	}
	for _, d := range want {
		if slices.ContainsFunc(have, func(h []byte) bool { return string(h) == string(d) }) {
			continue
		}
		if err := e.addWire(owner, t, d); err != nil {
			return err
		}
	}
	for _, r := range gone {
		e.ed.Remove(r)
		e.expect(owner, t, r.Data, -1)
	}
	return nil
}

// takeServers takes over name servers and their glue; glue that nothing needs any
// more goes.
func (e *editing) takeServers(was, want *adopt.Child) error {
	var ns [][]byte
	for _, host := range want.Servers {
		ns = append(ns, []byte(host.Wire()))
	}
	if err := e.replace(want.Name, rr.TypeNS, ns); err != nil {
		return err
	}
	hosts := map[string]dnsname.Name{}
	for _, host := range slices.Concat(was.Servers, want.Servers) {
		if host.AtOrBelow(want.Name) {
			hosts[host.Key()] = host
		}
	}
	for key, host := range hosts {
		var v4, v6 [][]byte
		for _, addr := range want.Glue[key] {
			if len(addr) == 4 {
				v4 = append(v4, addr)
			} else {
				v6 = append(v6, addr)
			}
		}
		if err := errors.Join(e.replace(host, rr.TypeA, v4), e.replace(host, rr.TypeAAAA, v6)); err != nil {
			return err
		}
	}
	return nil
}

// childTypes are what a child's servers are asked for.
var childTypes = []rr.Type{rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY, rr.TypeCSYNC, rr.TypeNS}

// askChild asks every address of every server of a child.
func (a *App) askChild(ctx context.Context, c *adopt.Child) ([]adopt.Seen, error) {
	var out []adopt.Seen
	for _, host := range c.Servers {
		addrs, err := a.reach(ctx, host, c.Glue[host.Key()])
		if err != nil {
			return nil, fmt.Errorf("the address of %s, a server of %s: %w", host, c.Name, err)
		}
		for _, at := range addrs {
			s := adopt.Seen{Server: fmt.Sprintf("%s (%s)", plainName(host), at)}
			s.Err = a.askServer(ctx, c, at, &s)
			out = append(out, s)
		}
	}
	return out, nil
}

// reach is where a name server is reached: as the workspace says, by its glue, or as
// the system's resolver says.
func (a *App) reach(ctx context.Context, host dnsname.Name, glue [][]byte) (out []netip.AddrPort, err error) {
	if c, err := a.Config(); err == nil {
		if at, ok := c.Reach[host.Key()]; ok {
			return []netip.AddrPort{at}, nil
		}
	}
	for _, g := range glue {
		if ip, ok := netip.AddrFromSlice(g); ok {
			out = append(out, netip.AddrPortFrom(ip, workspace.DefaultPort))
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	ips, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host.String())
	for _, ip := range ips {
		out = append(out, netip.AddrPortFrom(ip.Unmap(), workspace.DefaultPort))
	}
	return out, err
}

// askServer collects what one server of a child shows.
func (a *App) askServer(ctx context.Context, c *adopt.Child, at netip.AddrPort, s *adopt.Seen) (err error) {
	ask := func(name dnsname.Name, t rr.Type) (*resolve.Response, error) {
		resp, err := resolve.Ask(ctx, at, resolve.Request{Name: name, Type: t, DO: true, Timeout: lookTimeout, Now: a.Now})
		if err != nil {
			return nil, err
		}
		if code := resp.Rcode(); code != message.NoError {
			return nil, fmt.Errorf("it answers: %s", code.Words())
		}
		s.Records = append(append(s.Records, resp.Answer...), resp.Authority...)
		return resp, nil
	}
	serial := func() (uint32, error) {
		resp, err := ask(c.Name, rr.TypeSOA)
		if err != nil {
			return 0, err
		}
		data, _, _ := answerSet(resp, c.Name, rr.TypeSOA)
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
			data, _, _ := answerSet(resp, c.Name, rr.TypeNS)
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

// followEvery is how often the children of a zone are asked what they want.
const followEvery = 10 * time.Minute

// followChildren takes over what the children of a zone ask for and tells whether
// anything was written.
func (sv *Service) followChildren(ctx context.Context, z *workspace.Zone) (wrote bool) {
	children, err := sv.running.Load().delegations(sv.Config().File(z.Name), z.Name)
	if err != nil {
		sv.log.Warn("the children could not be asked", "zone", z.Name.String(), "error", err)
		return false
	}
	for _, child := range children {
		done, err := sv.running.Load().Follow(ctx, Follow{Zone: sv.Config().File(z.Name), Child: child.String()})
		switch {
		case errors.Is(err, ErrNothingAsked):
		case err != nil:
			sv.log.Warn("a child's wish is not followed", "zone", z.Name.String(), "child", child.String(), "why", err)
		default:
			sv.log.Info("a child's wish was followed", "zone", z.Name.String(), "child", child.String(), "serial", done.Files[0].Serial)
			wrote = true
		}
	}
	return wrote
}

// delegations are the names that a zone delegates.
func (a *App) delegations(path string, name dnsname.Name) (out []dnsname.Name, err error) {
	z, err := a.loadClean(path, name, a.settings())
	if err != nil {
		return nil, err
	}
	for n := range z.Nodes {
		if n.IsCut() && !n.Occluded() {
			out = append(out, z.Owner(n))
		}
	}
	return out, nil
}
