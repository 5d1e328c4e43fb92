package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/rr"
)

// Walker goes from known servers down the delegations to a name and collects the
// records that a validator needs on the way. It believes nothing: what it brings is
// for package validate to judge.
type Walker struct {
	Asker
	// Roots are servers of the zone that the walk begins at, Start.
	Roots []netip.AddrPort
	Start dnsname.Name
	// Reach finds the addresses of a name server; glue are those that came with the
	// delegation.
	Reach func(ctx context.Context, host dnsname.Name, glue [][]byte) ([]netip.AddrPort, error)
}

// maxQuestions bounds what one walk asks.
const maxQuestions = 60

// ErrWalk means that a walk did not come to an end.
var ErrWalk = errors.New("the delegations end without an answer")

// walk is one run.
type walk struct {
	*Walker
	ctx     context.Context
	servers []netip.AddrPort
	zone    dnsname.Name
	asked   int
	records []rr.Record
	known   map[string]bool // zones whose DS and DNSKEY were asked for
}

// Walked is what a walk brings.
type Walked struct {
	Records []rr.Record // of all that was answered on the way
	Zone    dnsname.Name
	Last    *Response // the answer of that zone
}

// Next is where the aliases of an answer lead out of its zone; the zero name: nowhere.
func (w *Walked) Next(name dnsname.Name, t rr.Type) dnsname.Name {
	const aliases = 16
	for range aliases {
		next := dnsname.Name{}
		for _, rec := range w.Last.Answer {
			switch {
			case rec.Name.Equal(name) && rec.Type == t:
				return dnsname.Name{}
			case rec.Name.Equal(name) && rec.Type == rr.TypeCNAME:
				next, _ = dnsname.FromWire(rec.Data)
			}
		}
		if next.IsZero() || !next.AtOrBelow(w.Zone) {
			return next
		}
		name = next
	}
	return dnsname.Name{}
}

// CollectAll is Collect for a name and all that aliases lead to.
func (w *Walker) CollectAll(ctx context.Context, name dnsname.Name, t rr.Type) (out []rr.Record, err error) {
	const aliases = 12
	for range aliases {
		walked, err := w.Walk(ctx, name, t)
		out = append(out, walked.Records...)
		if err != nil {
			return out, err
		}
		if name = walked.Next(name, t); name.IsZero() {
			return out, nil
		}
	}
	return out, fmt.Errorf("%w: more than %d aliases", ErrWalk, aliases)
}

// Collect asks for a name and type, and for the DS and DNSKEY sets of all zones on
// the way.
func (w *Walker) Collect(ctx context.Context, name dnsname.Name, t rr.Type) ([]rr.Record, error) {
	out, err := w.Walk(ctx, name, t)
	return out.Records, err
}

// Walk is Collect, with where it ended. With an error it brings what came before that; the last answer
// is nil then.
func (w *Walker) Walk(ctx context.Context, name dnsname.Name, t rr.Type) (*Walked, error) {
	r := &walk{Walker: w, ctx: ctx, servers: w.Roots, zone: w.Start, known: map[string]bool{w.Start.Key(): true}}
	last, err := r.down(name, t)
	return &Walked{r.records, r.zone, last}, err
}

// down goes to the zone that answers, and returns its answer; nil with an error where it did not get
// there.
func (r *walk) down(name dnsname.Name, t rr.Type) (*Response, error) {
	if _, err := r.ask(r.zone, rr.TypeDNSKEY); err != nil {
		return nil, err
	}
	for {
		resp, err := r.ask(name, t)
		if err != nil {
			return nil, err
		}
		cut, hosts, glue := delegation(resp, r.zone, name)
		if cut.IsZero() {
			return resp, r.signers(resp)
		}
		if err := r.signers(resp); err != nil { // zones passed over, whose servers have the next one too
			return nil, err
		}
		if err := r.enter(cut, hosts, glue); err != nil {
			return nil, err
		}
	}
}

// UnreachedError says that no server of a zone answered a question.
type UnreachedError struct {
	Zone dnsname.Name // whose servers were asked
	Name dnsname.Name // and for what
	Type rr.Type
	Why  []string // each server, with what came of it
}

func (e *UnreachedError) Error() string {
	zone := e.Zone.Plain()
	if e.Zone == dnsname.Root {
		zone = "the root"
	}
	if len(e.Why) == 0 {
		return fmt.Sprintf("no server of %s is known", zone)
	}
	return fmt.Sprintf("no server of %s answers for %s %s: %s", zone, e.Name.Plain(), e.Type, strings.Join(e.Why, "; "))
}

// ask asks the servers of the present zone one after another.
func (r *walk) ask(name dnsname.Name, t rr.Type) (*Response, error) {
	out := &UnreachedError{Zone: r.zone, Name: name, Type: t}
	for _, s := range r.servers {
		if r.asked++; r.asked > maxQuestions {
			return nil, fmt.Errorf("%w: more than %d queries", ErrWalk, maxQuestions)
		}
		resp, err := Ask(r.ctx, s, Request{Net: r.Net, Name: name, Type: t, DO: true, Timeout: r.Timeout, Silent: r.Silent})
		if err == nil && (resp.Rcode() == message.NoError || resp.Rcode() == message.NXDomain) {
			r.records = append(append(r.records, resp.Answer...), resp.Authority...)
			return resp, nil
		}
		if err := r.ctx.Err(); err != nil {
			return nil, err
		}
		switch {
		case err == nil:
			out.Why = append(out.Why, fmt.Sprintf("%s says %s", s.Addr(), resp.Rcode()))
		case strings.Contains(err.Error(), s.Addr().String()):
			out.Why = append(out.Why, err.Error())
		default:
			out.Why = append(out.Why, fmt.Sprintf("%s: %v", s.Addr(), err))
		}
	}
	return nil, out
}

// delegation reads a referral: the zero name if there is none.
func delegation(resp *Response, zone, name dnsname.Name) (cut dnsname.Name, hosts []dnsname.Name, glue map[string][][]byte) {
	if resp.Flags&message.FlagAA != 0 || len(resp.Answer) > 0 {
		return cut, nil, nil
	}
	glue = map[string][][]byte{}
	for _, a := range resp.Authority {
		if a.Type == rr.TypeNS && a.Name.Below(zone) && name.AtOrBelow(a.Name) {
			if host, err := dnsname.FromWire(a.Data); err == nil {
				cut, hosts = a.Name, append(hosts, host)
			}
		}
	}
	for _, a := range resp.Additional {
		if a.Type == rr.TypeA || a.Type == rr.TypeAAAA {
			glue[a.Name.Key()] = append(glue[a.Name.Key()], a.Data)
		}
	}
	return cut, hosts, glue
}

// enter goes on at the servers of a zone.
func (r *walk) enter(cut dnsname.Name, hosts []dnsname.Name, glue map[string][][]byte) error {
	var servers []netip.AddrPort
	last := errors.New("none is known")
	for _, host := range hosts {
		at, err := r.Reach(r.ctx, host, glue[host.Key()])
		if err != nil {
			last = err
		}
		servers = append(servers, at...)
	}
	if len(servers) == 0 {
		return fmt.Errorf("%w: no server of %s has an address: %w", ErrWalk, cut, last)
	}
	r.servers, r.zone = servers, cut
	r.known[cut.Key()] = true
	_, err := r.ask(cut, rr.TypeDNSKEY)
	return err
}

// signers asks for the DS and DNSKEY of zones that signed the answer and were not
// met as a delegation: one server may answer for parent and child.
func (r *walk) signers(resp *Response) error {
	var zones []dnsname.Name
	for _, a := range slices.Concat(resp.Answer, resp.Authority) {
		sig, err := dnssec.ParseRRSIG(a.Data)
		if a.Type != rr.TypeRRSIG || err != nil {
			continue
		}
		z, err := dnsname.FromWire(sig.Signer)
		for ; err == nil && z.Below(r.zone); z = z.Parent() {
			if !r.known[z.Key()] {
				r.known[z.Key()] = true
				zones = append(zones, z)
			}
		}
	}
	slices.SortFunc(zones, func(a, b dnsname.Name) int { return a.Labels() - b.Labels() }) // from the top down
	for _, z := range zones {
		for _, t := range []rr.Type{rr.TypeDS, rr.TypeDNSKEY} {
			if err := r.askBelow(z, t); err != nil {
				return err
			}
		}
	}
	return nil
}

// askBelow asks for a set of a zone between, going on where the present servers do not have it
// themselves.
func (r *walk) askBelow(z dnsname.Name, t rr.Type) error {
	for {
		resp, err := r.ask(z, t)
		if err != nil {
			return err
		}
		cut, hosts, glue := delegation(resp, r.zone, z)
		if cut.IsZero() {
			return nil
		}
		if err := r.enter(cut, hosts, glue); err != nil {
			return err
		}
	}
}
