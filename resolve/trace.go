package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// Tracer follows delegations as a resolver would, but asks every address of every server on
// the way, and compares what they say.
type Tracer struct {
	Asker
	Roots []Host // the servers of the root
	// Override is where a host is reached, if it is known better than by the DNS; nil:
	// nothing is.
	Override func(host dnsname.Name) []netip.AddrPort
	// Known is a zone at or above a name, and below another, that somebody has at hand,
	// though nothing may be delegated to it; nil: nothing is known.
	Known func(name, below dnsname.Name) *KnownZone
}

// Host is a name server with its addresses.
type Host struct {
	Name  dnsname.Name
	Addrs []netip.AddrPort
	Glue  bool // the addresses came with the delegation
	// Why says what came of looking for addresses where there are none.
	Why error
}

// KnownZone is a zone that is at hand: what the zone above should say of it.
type KnownZone struct {
	Name    dnsname.Name
	Records []rr.Record // NS, the glue that is needed, and DS if it is signed
}

// Trace is the way to a name, in legs: one to the name, and one for each alias that leads on.
type Trace struct {
	Name  dnsname.Name
	Type  rr.Type
	Legs  []*Leg
	Asked int // queries
}

// Leg is the way from the root to one name.
type Leg struct {
	Name  dnsname.Name
	Steps []*Step
	End   End
}

// End says what a leg led to.
type End uint8

// The ends.
const (
	Stopped  End = iota // it cannot go on
	Answered            // there are such records
	NoData              // the name exists, and has none of the type
	NoName              // the name does not exist
	AliasOn             // it is an alias: another leg follows
)

var endWords = [...]string{"stopped", "answer", "no data", "no such name", "alias"}

func (e End) String() string { return endWords[e] }

// Step is what one zone says on the way.
type Step struct {
	Zone   dnsname.Name
	Hosts  []Host
	Said   []*Said
	Glue   []Host // what the zone above says of addresses of servers in the zone
	Answer []rr.Record
	// Troubles are what is wrong here, the gravest first.
	Troubles []Trouble
}

// Said is what one address says.
type Said struct {
	Host    dnsname.Name
	At      netip.AddrPort
	Kind    SaidKind
	Cut     dnsname.Name // of a referral
	Code    message.Rcode
	Err     error // no answer over UDP
	TCP     error // none over TCP
	Elapsed time.Duration
	NS      []dnsname.Name // what it says of the zone's servers; none: it was not told
	Plain   bool           // it answers only what has no EDNS
	resp    *Response
	zone    dnsname.Name // that it was asked as a server of
}

// Response is the answer; nil: there is none.
func (s *Said) Response() *Response { return s.resp }

// Referral is what a server says of the servers of the zone below, with the addresses that
// came along by host; ok is false where it does not refer there.
func (s *Said) Referral(to dnsname.Name) (hosts []dnsname.Name, glue map[string][]netip.Addr, ok bool) {
	if s.Kind != Refers || !s.Cut.Equal(to) {
		return nil, nil, false
	}
	_, hosts, octets := delegation(s.resp, s.zone, to)
	glue = map[string][]netip.Addr{}
	for host, list := range octets {
		for _, o := range list {
			if a, is := netip.AddrFromSlice(o); is {
				glue[host] = append(glue[host], a)
			}
		}
	}
	return hosts, glue, true
}

// SaidKind is what an answer amounts to.
type SaidKind uint8

// The kinds of answers.
const (
	Silent  SaidKind = iota // nothing came
	Lame                    // it does not answer for the zone
	Refers                  // to servers of a zone below
	HasData                 // it has such records
	HasAlias
	HasNone // it has the name, and nothing of the type
	HasNoName
)

var saidWords = [...]string{"silent", "lame", "referral", "answer", "alias", "no data", "no such name"}

func (k SaidKind) String() string { return saidWords[k] }

// Trouble is something wrong on the way.
type Trouble struct {
	*diag.Rule
	Grave   bool // here the way ends, or may end for some
	Message string
	Advice  string
	// Records are what is missing, and In the zone that they are missing in.
	Records []rr.Record
	In      dnsname.Name
}

// Limits of one trace.
const (
	maxTraced   = 600 // queries
	maxLegs     = 12
	maxSteps    = 40
	maxHosts    = 26 // servers of a zone that are asked; the root has 13
	maxNested   = 8  // servers whose address takes servers whose address takes ...
	askedAtOnce = 24
)

// tracing is one run.
type tracing struct {
	*Tracer
	ctx   context.Context
	out   *Trace
	most  int        // queries
	mu    sync.Mutex // guards out.Asked, known and first
	known map[string]Host
	first map[string][]Host // servers of zones that were met, by zone
	// deep begins at the deepest zone that was met, and notes those it meets.
	deep bool
}

func (t *Tracer) begin(ctx context.Context, out *Trace) *tracing {
	return &tracing{Tracer: t, ctx: ctx, out: out, most: maxTraced, known: map[string]Host{}, first: map[string][]Host{}}
}

// Trace follows the delegations to a name. It goes on as far as it can; the context ends it.
func (t *Tracer) Trace(ctx context.Context, name dnsname.Name, typ rr.Type) (*Trace, error) {
	r := t.begin(ctx, &Trace{Name: name, Type: typ})
	seen := map[string]bool{}
	for len(r.out.Legs) < maxLegs {
		seen[name.Key()] = true
		leg := &Leg{Name: name}
		r.out.Legs = append(r.out.Legs, leg)
		next := r.leg(leg)
		if err := ctx.Err(); err != nil {
			return r.out, err
		}
		if next.IsZero() {
			return r.out, nil
		}
		if name = next; seen[name.Key()] {
			last := leg.Steps[len(leg.Steps)-1]
			last.trouble(AliasLoop, true, "the aliases go round in a circle: %s was met before", name.Plain())
			leg.End = Stopped
			return r.out, nil
		}
	}
	last := r.out.Legs[len(r.out.Legs)-1]
	last.End = Stopped
	last.Steps[len(last.Steps)-1].trouble(AliasLoop, true, "there are more than %d aliases", maxLegs)
	return r.out, nil
}

// leg goes from the root to a name; next is where an alias leads.
func (r *tracing) leg(leg *Leg) (next dnsname.Name) {
	step := &Step{Zone: dnsname.Root, Hosts: r.Roots}
	for range maxSteps {
		leg.Steps = append(leg.Steps, step)
		r.ask(step, leg.Name)
		step.compare(r.out.Type)
		r.ownServers(step)
		r.glue(step)
		choice := step.choose()
		if choice == nil {
			r.stopped(leg, step)
			return next
		}
		switch choice.Kind {
		case Refers:
			below := r.enter(step, choice)
			if below == nil {
				leg.End = Stopped
				return next
			}
			step = below
		case HasAlias:
			step.Answer = choice.resp.Answer
			leg.End = AliasOn
			return target(choice.resp, leg.Name)
		default:
			step.Answer = choice.resp.Answer
			leg.End = map[SaidKind]End{HasData: Answered, HasNone: NoData, HasNoName: NoName}[choice.Kind]
			r.undelegated(leg, step)
			return next
		}
	}
	leg.End = Stopped
	step.trouble(DelegationLoop, true, "the delegations do not end: there are more than %d", maxSteps)
	return next
}

// ask asks all servers of a zone.
func (r *tracing) ask(step *Step, name dnsname.Name) {
	for _, h := range step.Hosts[:min(len(step.Hosts), maxHosts)] {
		for _, at := range h.Addrs {
			step.Said = append(step.Said, &Said{Host: h.Name, At: at, zone: step.Zone})
		}
	}
	places := make(chan struct{}, askedAtOnce)
	var wg sync.WaitGroup
	for _, s := range step.Said {
		wg.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			var stream sync.WaitGroup
			stream.Go(func() { _, s.TCP = r.put(s.At, Request{Name: step.Zone, Type: rr.TypeSOA, TCP: true}) })
			defer stream.Wait()
			resp, err := r.put(s.At, Request{Name: name, Type: r.out.Type})
			if err != nil && !errors.Is(err, ErrUnreachable) || err == nil && resp.Rcode() == message.FormErr { // RFC 6891 §6.2.2
				if plain, perr := r.put(s.At, Request{Name: name, Type: r.out.Type, NoEDNS: true}); perr == nil {
					s.Plain, resp, err = true, plain, nil
				}
			}
			if s.take(resp, err, name, r.out.Type); err != nil {
				return
			}
			if resp, err := r.put(s.At, Request{Name: step.Zone, Type: rr.TypeNS, NoEDNS: s.Plain}); err == nil && resp.Flags&message.FlagAA != 0 {
				data, _ := resp.Set(step.Zone, rr.TypeNS)
				s.NS = names(data)
			}
		})
	}
	wg.Wait()
}

// put puts one question.
func (r *tracing) put(at netip.AddrPort, q Request) (*Response, error) {
	r.mu.Lock()
	r.out.Asked++
	over := r.out.Asked > r.most
	r.mu.Unlock()
	if over {
		return nil, fmt.Errorf("%w: more than %d queries", ErrWalk, r.most)
	}
	q.Net, q.DO, q.Timeout, q.Silent = r.Net, !q.NoEDNS, r.Timeout, r.Silent
	return Ask(r.ctx, at, q)
}

// take judges an answer of a server of a zone.
func (s *Said) take(resp *Response, err error, name dnsname.Name, t rr.Type) {
	if s.Err, s.resp = err, resp; err != nil {
		return
	}
	s.Elapsed, s.Code = resp.Elapsed, resp.ExtendedRcode
	authority := resp.Flags&message.FlagAA != 0
	has := func(t rr.Type) bool {
		return slices.ContainsFunc(resp.Answer, func(a rr.Record) bool { return a.Type == t })
	}
	cut, _, _ := delegation(resp, s.zone, name)
	switch {
	case resp.Rcode() != message.NoError && resp.Rcode() != message.NXDomain:
		s.Kind = Lame
	case !cut.IsZero():
		s.Kind, s.Cut = Refers, cut
	case !authority:
		s.Kind = Lame
	case t != rr.TypeCNAME && has(rr.TypeCNAME) && !has(t), resp.Rcode() == message.NXDomain && has(rr.TypeCNAME):
		s.Kind = HasAlias
	case resp.Rcode() == message.NXDomain:
		s.Kind = HasNoName
	case len(resp.Answer) == 0:
		s.Kind = HasNone
	case t != rr.TypeCNAME && has(rr.TypeCNAME) && !target(resp, name).AtOrBelow(s.zone):
		s.Kind = HasAlias // it follows into another zone, of which it may not be a server
	default:
		s.Kind = HasData
	}
}

// target is where the aliases of an answer lead.
func target(resp *Response, name dnsname.Name) dnsname.Name {
	for range resp.Answer {
		next := dnsname.Name{}
		for _, a := range resp.Answer {
			if a.Type == rr.TypeCNAME && a.Name.Equal(name) {
				next, _ = dnsname.FromWire(a.Data)
			}
		}
		if next.IsZero() {
			break
		}
		name = next
	}
	return name
}

// choose is the answer to go on with: a referral before data, for a server may have the zone
// below too; else what most say. Nil: none answers for the zone.
func (s *Step) choose() (best *Said) {
	votes := map[string]int{}
	for _, a := range s.Said {
		votes[a.vote()]++
	}
	for _, a := range s.Said {
		if a.Kind == Silent || a.Kind == Lame {
			continue
		}
		if best == nil || a.Kind == Refers && best.Kind != Refers || (a.Kind == Refers) == (best.Kind == Refers) && votes[a.vote()] > votes[best.vote()] {
			best = a
		}
	}
	return best
}

// vote is what two answers have in common that say the same.
func (s *Said) vote() string {
	out := s.Kind.String()
	switch s.Kind {
	case Lame:
		return out + s.Code.String()
	case Refers:
		_, hosts, _ := delegation(s.resp, s.Cut.Parent(), s.Cut)
		return out + s.Cut.Key() + namesText(hosts)
	case HasData, HasAlias:
		var data []string
		for _, a := range s.own() {
			data = append(data, a.Name.Key()+a.Type.String()+string(a.Data))
		}
		slices.Sort(data)
		return out + strings.Join(data, "\x00")
	}
	return out
}

// own is the part of an answer that the zone itself has, without signatures: a server that has
// other zones too may go on there along an alias.
func (s *Said) own() (out []rr.Record) {
	for _, a := range s.resp.Answer {
		if a.Type != rr.TypeRRSIG && a.Name.AtOrBelow(s.zone) {
			out = append(out, a)
		}
	}
	return out
}

func names(data [][]byte) (out []dnsname.Name) {
	for _, d := range data {
		if n, err := dnsname.FromWire(d); err == nil {
			out = append(out, n)
		}
	}
	return out
}

// namesText is names in order, to be compared and shown.
func namesText(list []dnsname.Name) string {
	var out []string
	for _, n := range list {
		out = append(out, n.Lower().Plain())
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), ", ")
}
