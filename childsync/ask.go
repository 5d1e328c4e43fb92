package childsync

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

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

// What a child's servers are asked for: what the DS is decided by, and what CSYNC is.
var (
	keyTypes  = []rr.Type{rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY}
	syncTypes = []rr.Type{rr.TypeCSYNC, rr.TypeNS}
)

// Wants is what a delegation is to be, as its child asks for it.
type Wants struct {
	DS            [][]byte // the data of the DS records
	ChangeDS      bool
	Servers       *Child // the name servers and their glue
	ChangeServers bool
	// Refused are the requests that are not followed. One on the DS does not stop one on the
	// servers, nor the other way round: RFC 7344 and RFC 7477 are followed each by itself.
	Refused []error
}

// Want asks the servers of a child what it wants its parent to have. New name servers are asked
// before they are taken over. The error is for what could not be looked at.
func (a *Asker) Want(ctx context.Context, c *Child, first First, approved bool, now time.Time) (w Wants, err error) {
	seen, err := a.Ask(ctx, c)
	if err != nil {
		return w, err
	}
	var refused error
	if w.DS, w.ChangeDS, refused = c.WantedDS(seen, first, now); refused != nil {
		w.Refused = append(w.Refused, refused)
	}
	w.Servers, w.ChangeServers, refused = c.WantedServers(seen, approved, now)
	if refused == nil && w.ChangeServers {
		refused = a.serve(ctx, w.Servers, now)
	}
	if refused != nil {
		w.Servers, w.ChangeServers = nil, false
		if len(w.Refused) == 0 || w.Refused[0].Error() != refused.Error() { // what stops both is said once
			w.Refused = append(w.Refused, refused)
		}
	}
	return w, nil
}

// serve tells why the name servers that a child asks for cannot be taken over: each of them has to
// answer for the zone, with keys that the DS leads to.
func (a *Asker) serve(ctx context.Context, want *Child, now time.Time) error {
	seen, err := a.Ask(ctx, want)
	if err != nil {
		return refuse("it cannot be asked whether the name servers that its CSYNC record asks for serve %s: %v", want.Name.Plain(), err)
	}
	for i := range seen {
		s := &seen[i]
		if s.Err != nil {
			return refuse("%s, which its CSYNC record asks for, does not serve %s: %v", s.Server, want.Name.Plain(), s.Err)
		}
		if keys, v := validate.NewRRsets(s.Records).TrustKeys(want.Name, records(want.Name, rr.TypeDS, want.DS), now); keys == nil {
			return refuse("%s, which its CSYNC record asks for, has keys of %s that match no DS: %s", s.Server, want.Name.Plain(), v.Reason)
		}
	}
	return nil
}

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
	for _, t := range keyTypes {
		if _, err := ask(c.Name, t); err != nil {
			return err
		}
	}
	s.SyncErr = askDelegation(c, ask)
	s.After, err = serial()
	return err
}

// askDelegation collects what one server of a child shows of the delegation.
func askDelegation(c *Child, ask func(dnsname.Name, rr.Type) (*resolve.Response, error)) error {
	var hosts []dnsname.Name
	for _, t := range syncTypes {
		resp, err := ask(c.Name, t)
		if err != nil {
			return fmt.Errorf("%s: %w", t, err)
		}
		if data, _ := resp.Set(c.Name, rr.TypeNS); t == rr.TypeNS {
			for _, n := range names(data) {
				if n.AtOrBelow(c.Name) {
					hosts = append(hosts, n)
				}
			}
		}
	}
	for _, host := range hosts {
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			if _, err := ask(host, t); err != nil {
				return fmt.Errorf("%s %s: %w", host.Plain(), t, err)
			}
		}
	}
	return nil
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
