package ops

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fencepost/answer"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/netio"
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
	if ip, err := netip.ParseAddr(q.Name); err == nil && ip.Zone() == "" { // what its name is
		out.Name = dnsname.Reverse(ip.Unmap())
		out.Type = rr.TypePTR
	} else {
		text, err := edit.ALabels(q.Name)
		if err != nil {
			return out, err
		}
		if out.Name, err = dnsname.Parse(text, dnsname.Root); err != nil {
			return out, edit.Usage("the name %q: %v", q.Name, err)
		}
		if out.Name == dnsname.Root { // it has no address
			out.Type = rr.TypeNS
		}
	}
	if q.Type != "" {
		t, ok := rr.ParseType(q.Type)
		if !ok {
			if meant := diag.Closest(q.Type, rr.Mnemonics()); meant != "" {
				return out, edit.Usage("%q is no record type; did you mean %s?", q.Type, meant)
			}
			return out, edit.Usage("%q is no record type", q.Type)
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
	if !slices.Contains([]string{"", "udp", "tcp"}, q.Transport) {
		return nil, edit.Usage("--transport %s: write udp or tcp", q.Transport)
	}
	resp, err := resolve.Ask(ctx, servers[0], resolve.Request{Net: a.Net, Name: mq.Name, Type: mq.Type, DO: q.DNSSEC, TCP: q.Transport == "tcp", UDPOnly: q.Transport == "udp", Timeout: q.Timeout})
	if err != nil {
		return nil, fmt.Errorf("%s does not answer: %w", servers[0], err)
	}
	return &Asked{Question: mq, Message: resp.Message, Raw: resp.Raw, Server: resp.Server.String(), Transport: resp.Transport, Elapsed: resp.Elapsed, Cut: resp.Truncated}, nil
}

// servers turns --at into addresses. Without it, the server of the workspace is
// asked.
func (a *App) servers(ctx context.Context, at string) ([]netip.AddrPort, error) {
	if at == "" {
		c, err := a.Config()
		if err != nil {
			return nil, edit.Usage("say which server to ask with --at HOST, or a zone file with --zone FILE")
		}
		return []netip.AddrPort{listening(ctx, c)}, nil
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
		return nil, edit.Usage("--at %s: %q is no port", at, port)
	}
	ips, err := netio.Or(a.Net).LookupAddr(ctx, host)
	if err != nil || len(ips) == 0 {
		return nil, fmt.Errorf("the address of %s is not known: %w", host, err)
	}
	var out []netip.AddrPort
	for _, ip := range ips {
		out = append(out, netip.AddrPortFrom(ip, uint16(n)))
	}
	return out, nil
}

// listening is an address of the workspace's server: one that it says itself, as it may
// have been started on others than the configured ones, else a configured one.
func listening(ctx context.Context, c *workspace.Config) netip.AddrPort {
	at := c.Listen[0]
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	var st control.Status
	if err := Client(c).Call(ctx, control.Request{Command: "status"}, &st); err == nil && len(st.Listen) > 0 {
		if ap, err := netip.ParseAddrPort(st.Listen[0]); err == nil {
			at = ap
		}
	}
	if at.Addr().IsUnspecified() { // it listens on all; here is the nearest
		loopback := netip.AddrFrom4([4]byte{127, 0, 0, 1})
		if at.Addr().Is6() {
			loopback = netip.IPv6Loopback()
		}
		at = netip.AddrPortFrom(loopback, at.Port())
	}
	return at
}

// askFile answers from a zone file, with the function that the server uses.
func (a *App) askFile(q Question, mq message.Question) (*Asked, error) {
	src, diags := &source.Set{}, &diag.List{}
	in, err := a.input(q.ZoneFile, q.Origin, src, diags)
	if err != nil {
		return nil, err
	}
	diags.Sort()
	if in.Zone == nil || in.Zone.SOASpan.IsZero() {
		return nil, &edit.RejectedError{Source: src, Diags: diags}
	}
	raw, reasons := answerFrom(in.Zone.Snapshot, mq, q.DNSSEC, q.Transport != "udp")
	m, err := message.Decode(raw)
	if err != nil {
		return nil, err
	}
	return &Asked{Question: mq, Message: m, Raw: raw, Server: in.File.Name, Transport: "file", Reasons: reasons,
		Serial: in.Zone.Serial(), Diags: diags, Source: src}, nil
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

// Outcome says what an answer amounts to where that is not seen at once: a referral, no
// data, an alias that leads nowhere here. Empty for a plain answer or an error.
func (r *Asked) Outcome() string {
	m := r.Message
	name := r.Question.Name.Plain()
	if m.ExtendedRcode != message.NoError || r.Question.Type == rr.TypeANY {
		return ""
	}
	for _, a := range m.Answer {
		if a.Type == r.Question.Type {
			return ""
		}
	}
	if len(m.Answer) > 0 {
		last := m.Answer[len(m.Answer)-1]
		return fmt.Sprintf("an alias: the server has no %s at the name that it leads to, %s", r.Question.Type, rr.DataText(last.Type, last.Data))
	}
	for _, a := range m.Authority {
		if a.Type == rr.TypeNS && m.Flags&message.FlagAA == 0 {
			return fmt.Sprintf("a referral: %s is delegated, ask the servers named under Authority", a.Name.Plain())
		}
	}
	return fmt.Sprintf("no data: %s exists and has no %s records", name, r.Question.Type)
}

// Failed reports whether the server would not or could not answer.
func (r *Asked) Failed() bool {
	return r.Message.ExtendedRcode != message.NoError && r.Message.ExtendedRcode != message.NXDomain
}

// ServerSerial is what one server of a zone says.
type ServerSerial struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Serial  uint32 `json:"serial,omitempty"`
	State   string `json:"state"` // in step, behind, silent, wrong, or source
	Problem string `json:"problem,omitempty"`
	Millis  int64  `json:"milliseconds"`
}

// feeds is the state of a primary whose zone is signed here: it serves the unsigned zone
// with a serial of its own, which is compared with none.
const feeds = "source"

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
		return nil, edit.Usage("the zone %q: %v", zoneName, err)
	}
	type target struct {
		name  string
		addr  netip.AddrPort
		feeds bool // we sign what comes from it: its serial is its own
	}
	var targets []target
	if c, err := a.Config(); err == nil {
		if z := c.Find(name); z != nil {
			targets = append(targets, target{"here", listening(ctx, c), false})
			for _, p := range z.SendTo {
				targets = append(targets, target{p.Name, p.Address, false})
			}
			for _, p := range z.FetchFrom {
				targets = append(targets, target{p.Name, p.Address, z.Sign != nil})
			}
		}
	}
	for _, s := range extra {
		addrs, err := a.servers(ctx, s)
		if err != nil {
			return nil, err
		}
		targets = append(targets, target{s, addrs[0], false})
	}
	if len(targets) == 0 {
		return nil, edit.Usage("the zone %s is not in this workspace: say which servers to ask with --at HOST", name)
	}
	res := &InStep{Zone: name, Servers: make([]ServerSerial, len(targets))}
	var wg sync.WaitGroup
	for i, t := range targets {
		wg.Go(func() {
			s := a.serialAt(ctx, name, t.name, t.addr, timeout)
			if t.feeds && s.State == "" {
				s.State = feeds
			}
			res.Servers[i] = s
		})
	}
	wg.Wait()
	return res, res.judge()
}

func (a *App) serialAt(ctx context.Context, zoneName dnsname.Name, name string, addr netip.AddrPort, timeout time.Duration) ServerSerial {
	s := ServerSerial{Name: name, Address: addr.String()}
	resp, err := resolve.Ask(ctx, addr, resolve.Request{Net: a.Net, Name: zoneName, Type: rr.TypeSOA, Timeout: timeout})
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
	s.State, s.Problem = "wrong", "it does not answer for the zone: "+resp.Rcode().Description()
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
		case s.State == feeds:
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
		return fmt.Errorf("%s: %w: %w", strings.TrimSuffix(r.Zone.String(), "."), ErrBehind, edit.ErrFindings)
	}
	return nil
}
