package app

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"fencepost/answer"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zone"
)

// Question is what `ask` asks.
type Question struct {
	Name      string
	Type      string // empty: A
	At        string // server
	ZoneFile  string // or a zone file
	Origin    string
	Transport string // udp or tcp; empty: udp, and tcp where it does not fit
	DNSSEC    bool
	Timeout   time.Duration
}

// Asked is the answer.
type Asked struct {
	Question  message.Question
	Message   *message.Message
	Raw       []byte
	Server    string
	Transport string
	Elapsed   time.Duration
	Cut       bool
	Reasons   []string // why the answer is so; from a zone file only
	Serial    uint32   // of the zone file
	Diags     *diag.List
	Source    *source.Set
}

func (q *Question) parse() (message.Question, error) {
	out := message.Question{Type: rr.TypeA, Class: rr.ClassIN}
	var err error
	if out.Name, err = dnsname.Parse(q.Name, dnsname.Root); err != nil {
		return out, usage("the name %q: %v", q.Name, err)
	}
	if q.Type != "" {
		t, ok := rr.ParseType(q.Type)
		if !ok {
			if meant := diag.Closest(q.Type, rr.Mnemonics()); meant != "" {
				return out, usage("%q is no record type; did you mean %s?", q.Type, meant)
			}
			return out, usage("%q is no record type", q.Type)
		}
		out.Type = t
	}
	return out, nil
}

// Ask asks a server, or a zone file what a server would answer from it.
func (a *App) Ask(ctx context.Context, q Question) (*Asked, error) {
	mq, err := q.parse()
	if err != nil {
		return nil, err
	}
	if q.ZoneFile != "" {
		return a.askFile(q, mq)
	}
	servers, err := a.servers(ctx, q.At)
	if err != nil {
		return nil, err
	}
	var tcp bool
	switch q.Transport {
	case "", "udp":
	case "tcp":
		tcp = true
	default:
		return nil, usage("--transport %s: write udp or tcp", q.Transport)
	}
	resp, err := resolve.Ask(ctx, servers[0], resolve.Request{Name: mq.Name, Type: mq.Type, DO: q.DNSSEC, TCP: tcp, Timeout: q.Timeout, Now: a.Now})
	if err != nil {
		return nil, fmt.Errorf("%s does not answer: %w", servers[0], err)
	}
	return &Asked{Question: mq, Message: resp.Message, Raw: resp.Raw, Server: resp.Server.String(), Transport: resp.Transport, Elapsed: resp.Elapsed, Cut: resp.Cut}, nil
}

// servers turns --at into addresses. Without it, the server of the workspace is
// asked.
func (a *App) servers(ctx context.Context, at string) ([]netip.AddrPort, error) {
	if at == "" {
		c, err := a.Config()
		if err != nil {
			return nil, usage("say which server to ask with --at HOST, or a zone file with --zone FILE")
		}
		return c.Listen[:1], nil
	}
	if ap, err := workspace.ParseAddress(at); err == nil {
		return []netip.AddrPort{ap}, nil
	}
	if c, err := a.Config(); err == nil && c.Peers[at] != nil {
		return []netip.AddrPort{c.Peers[at].Address}, nil
	}
	host, port := at, strconv.Itoa(workspace.DefaultPort)
	if h, p, err := net.SplitHostPort(at); err == nil {
		host, port = h, p
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, usage("--at %s: %q is no port", at, port)
	}
	ips, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil || len(ips) == 0 {
		return nil, fmt.Errorf("the address of %s is not known: %w", host, err)
	}
	var out []netip.AddrPort
	for _, ip := range ips {
		out = append(out, netip.AddrPortFrom(ip.Unmap(), uint16(n)))
	}
	return out, nil
}

// askFile answers from a zone file, with the function that the server uses.
func (a *App) askFile(q Question, mq message.Question) (*Asked, error) {
	src, diags := &source.Set{}, &diag.List{}
	in, err := a.input(q.ZoneFile, q.Origin, src, diags)
	if err != nil {
		return nil, err
	}
	diags.Sort()
	if in.zone == nil || in.zone.SOASpan.IsZero() {
		return nil, &RejectedError{src, diags}
	}
	raw, reasons := answerFrom(in.zone.Snapshot, mq, q.DNSSEC, q.Transport == "tcp")
	m, err := message.Decode(raw)
	if err != nil {
		return nil, err
	}
	return &Asked{Question: mq, Message: m, Raw: raw, Server: in.file.Name, Transport: "file", Reasons: reasons,
		Serial: in.zone.Serial(), Diags: diags, Source: src}, nil
}

func answerFrom(z *zone.Snapshot, q message.Question, do, tcp bool) (raw []byte, reasons []string) {
	query := message.AppendQuery(nil, q.Name, q.Type, message.QueryOptions{EDNS: true, UDPSize: resolve.OurUDPSize, DO: do})
	var pq message.Query
	message.ParseQuery(query, &pq)
	r := answer.Responder{Trace: &answer.Trace{}}
	limit := resolve.OurUDPSize
	if tcp {
		limit = message.MaxLen
	}
	raw = r.Respond(nil, &pq, answer.Single{Snapshot: z}, answer.Options{TCP: tcp, Limit: limit, UDPSize: resolve.OurUDPSize})
	return raw, r.Trace.Reasons
}

// ServerSerial is what one server of a zone says.
type ServerSerial struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Serial  uint32 `json:"serial,omitempty"`
	State   string `json:"state"` // in step, behind, ahead, silent or wrong
	Problem string `json:"problem,omitempty"`
	Millis  int64  `json:"milliseconds"`
}

// InStep is the result of Secondaries.
type InStep struct {
	Zone    dnsname.Name
	Serial  uint32 // the newest that was seen, or that of the reference
	Servers []ServerSerial
}

// ErrBehind says that not all servers have the newest version.
var ErrBehind = errors.New("not all servers are in step")

// Secondaries compares the serials at all servers of a zone: the one of this
// workspace, the peers it is sent to or fetched from, and those given.
func (a *App) Secondaries(ctx context.Context, zoneName string, extra []string, timeout time.Duration) (*InStep, error) {
	name, err := dnsname.Parse(zoneName, dnsname.Root)
	if err != nil {
		return nil, usage("the zone %q: %v", zoneName, err)
	}
	type target struct {
		name string
		addr netip.AddrPort
		peer *workspace.Peer
	}
	var targets []target
	if c, err := a.Config(); err == nil {
		if z := c.Find(name); z != nil {
			targets = append(targets, target{"here", c.Listen[0], nil})
			for _, p := range append(append([]*workspace.Peer{}, z.SendTo...), z.FetchFrom...) {
				targets = append(targets, target{p.Name, p.Address, p})
			}
		}
	}
	for _, s := range extra {
		addrs, err := a.servers(ctx, s)
		if err != nil {
			return nil, err
		}
		targets = append(targets, target{s, addrs[0], nil})
	}
	if len(targets) == 0 {
		return nil, usage("the zone %s is not in this workspace: say which servers to ask with --at HOST", name)
	}
	res := &InStep{Zone: name, Servers: make([]ServerSerial, len(targets))}
	var wg sync.WaitGroup
	for i, t := range targets {
		wg.Go(func() { res.Servers[i] = a.serialAt(ctx, name, t.name, t.addr, timeout) })
	}
	wg.Wait()
	return res, res.judge()
}

func (a *App) serialAt(ctx context.Context, zoneName dnsname.Name, name string, addr netip.AddrPort, timeout time.Duration) ServerSerial {
	s := ServerSerial{Name: name, Address: addr.String()}
	resp, err := resolve.Ask(ctx, addr, resolve.Request{Name: zoneName, Type: rr.TypeSOA, Timeout: timeout, Now: a.Now})
	if err != nil {
		s.State, s.Problem = "silent", err.Error()
		return s
	}
	s.Millis = resp.Elapsed.Milliseconds()
	for _, r := range resp.Answer {
		if soa, err := rr.ParseSOA(r.Data); r.Type == rr.TypeSOA && err == nil && resp.Flags&message.FlagAA != 0 {
			s.Serial = soa.Serial
			return s
		}
	}
	s.State, s.Problem = "wrong", "it does not answer for the zone: "+resp.Rcode().Words()
	if resp.Rcode() == message.NoError {
		s.Problem = "its answer is not authoritative"
	}
	return s
}

// judge compares the serials.
func (r *InStep) judge() error {
	first := true
	for _, s := range r.Servers {
		if s.State == "" && (first || rr.NewerSerial(s.Serial, r.Serial)) {
			r.Serial, first = s.Serial, false
		}
	}
	behind := false
	for i := range r.Servers {
		s := &r.Servers[i]
		switch {
		case s.State != "":
			behind = true
		case s.Serial == r.Serial:
			s.State = "in step"
		default:
			s.State = "behind"
			behind = true
		}
	}
	if behind {
		return fmt.Errorf("%s: %w: %w", strings.TrimSuffix(r.Zone.String(), "."), ErrBehind, ErrFindings)
	}
	return nil
}
