package ops

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

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
	Type      string   // empty: A
	At        []string // servers; "all": every address of the name's zone
	ZoneFile  string   // or a zone file
	Origin    string
	Transport string // udp or tcp; empty: udp, and tcp where it does not fit
	DNSSEC    bool
	Timeout   time.Duration
	AsFrom    string // as somebody at this address would be answered: from a zone, or by the running server
	Wire
}

// Wire says how a question is put.
type Wire struct {
	Recurse   bool // ask for the work of a resolver
	Unchecked bool // and for what it would hold back as bogus
	NoEDNS    bool
	Size      int      // what we say we take over UDP
	Tries     int      // over UDP; 0 is as usual
	NSID      bool     // ask which server it is
	Version   bool     // ask which version of which zone it answers from
	Class     string   // empty: IN
	Cookie    bool     // send a cookie
	Subnet    string   // ask for the answer for this network
	Pad       int      // fill up to a multiple of so many octets
	Options   []string // CODE or CODE=HEX
}

// Asked is the answer.
type Asked struct {
	Question  message.Question
	Message   *message.Message
	Raw       []byte
	Host      string // name of the server, where it is known
	Server    string
	Transport string
	Elapsed   time.Duration
	Cut       bool
	Err       error      // no answer; where several are asked
	Remarks   []string   // what is odd about the answer
	Reasons   []string   // why the answer is so; from a zone file only
	Serial    uint32     // of the zone file
	AskedFrom netip.Addr // by whom it is answered so; not valid: by us
	Audience  string     // whose version of the zone it is from, where that is known; empty: everyone's
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
		if out.Name, err = edit.WholeName(text); err != nil {
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
				return out, edit.Usage("%q is not a record type; did you mean %s?", q.Type, meant)
			}
			return out, edit.Usage("%q is not a record type", q.Type)
		}
		out.Type = t
	}
	if q.Class != "" {
		c, ok := rr.ParseClass([]byte(q.Class))
		if !ok {
			return out, edit.Usage("--class %q: write IN, or CH for what a server says of itself", q.Class)
		}
		out.Class = c
	}
	return out, nil
}

// Ask asks servers, or a zone file what a server would answer from it. Several servers are
// asked at once, and one that does not answer is no error then.
func (a *App) Ask(ctx context.Context, q Question) ([]*Asked, error) {
	mq, err := q.parse()
	if err != nil {
		return nil, err
	}
	from, as, err := q.asFrom()
	if err != nil {
		return nil, err
	}
	if as && q.ZoneFile == "" {
		if len(q.At) > 0 {
			return nil, edit.Usage("--as-from is answered by the running server of the workspace, or from a zone with --zone: leave --at out")
		}
		one, err := a.askAs(ctx, q, mq, from)
		return []*Asked{one}, err
	}
	if q.ZoneFile != "" {
		if mq.Class != rr.ClassIN {
			return nil, edit.Usage("--class %s asks a server: records in zone files are of class IN", mq.Class)
		}
		audience := ""
		if as {
			if q.ZoneFile, audience, err = a.versionFor(q.ZoneFile, from); err != nil {
				return nil, err
			}
		}
		one, err := a.askFile(q, mq)
		if err == nil {
			one.AskedFrom, one.Audience = from, audience
		}
		return []*Asked{one}, err
	}
	if !slices.Contains([]string{"", "udp", "tcp"}, q.Transport) {
		return nil, edit.Usage("--transport %s: write udp or tcp", q.Transport)
	}
	req, err := q.request(mq)
	if err != nil {
		return nil, err
	}
	req.Net = a.Net
	targets, err := a.targets(ctx, &q, mq)
	if err != nil {
		return nil, err
	}
	out := make([]*Asked, len(targets))
	var g errgroup.Group
	const atOnce = 32
	g.SetLimit(atOnce)
	for i, t := range targets {
		g.Go(func() error {
			out[i] = a.askOne(ctx, t, req, mq)
			return nil
		})
	}
	_ = g.Wait() // errors stand in the results
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if len(out) == 1 && out[0].Err != nil {
		return nil, fmt.Errorf("%s does not answer: %w", out[0].Server, out[0].Err)
	}
	return out, nil
}

// askOne puts a question to one server.
func (a *App) askOne(ctx context.Context, t target, req resolve.Request, mq message.Question) *Asked {
	out := &Asked{Question: mq, Host: t.host, Server: t.at.String()}
	resp, err := resolve.Ask(ctx, t.at, req)
	if err != nil {
		out.Err = err
		return out
	}
	out.Message, out.Raw, out.Server, out.Transport, out.Elapsed, out.Cut = resp.Message, resp.Raw, resp.Server.String(), resp.Transport, resp.Elapsed, resp.Truncated
	out.Remarks = a.remarks(resp, req)
	return out
}

// request is how a question is put.
func (q *Question) request(mq message.Question) (resolve.Request, error) {
	req := resolve.Request{Name: mq.Name, Type: mq.Type, DO: q.DNSSEC, TCP: q.Transport == "tcp", UDPOnly: q.Transport == "udp", Timeout: q.Timeout,
		Class: mq.Class, RD: q.Recurse, CD: q.Unchecked, NoEDNS: q.NoEDNS, Size: q.Size, Tries: q.Tries, Pad: q.Pad}
	if q.NSID {
		req.Options = append(req.Options, message.Option{Code: message.OptionNSID})
	}
	if q.Version {
		req.Options = append(req.Options, message.Option{Code: message.OptionVersion})
	}
	if q.Cookie {
		cookie := make([]byte, 8) // of the client alone (RFC 7873 §4.1)
		_, _ = rand.Read(cookie)  // never fails (crypto/rand)
		req.Options = append(req.Options, message.Option{Code: message.OptionCookie, Data: cookie})
	}
	if q.Subnet != "" {
		p, err := netip.ParsePrefix(q.Subnet)
		if err != nil {
			return req, edit.Usage("--client-subnet %q is not a network; write 198.51.100.0/24", q.Subnet)
		}
		req.Options = append(req.Options, message.Subnet(p))
	}
	for _, text := range q.Options {
		o, err := message.ParseOption(text)
		if err != nil {
			return req, edit.Usage("--option: %v", err)
		}
		req.Options = append(req.Options, o)
	}
	if q.NoEDNS && (len(req.Options) > 0 || q.DNSSEC || q.Size != 0 || q.Pad != 0) {
		return req, edit.Usage("--without-edns leaves no place for options, a size, padding or --dnssec")
	}
	if q.Size != 0 && (q.Size < message.MinUDP || q.Size > message.MaxLen) {
		return req, edit.Usage("--size %d: write %d to %d", q.Size, message.MinUDP, message.MaxLen)
	}
	return req, nil
}

// target is a server to be asked.
type target struct {
	host string
	at   netip.AddrPort
}

// allServers is the word for every address of every server of a zone.
const allServers = "all"

// targets are the servers to ask: of one the first address, of all every one.
func (a *App) targets(ctx context.Context, q *Question, mq message.Question) (out []target, err error) {
	at := q.At
	if len(at) == 0 {
		at = []string{""}
	}
	for _, s := range at {
		if s == allServers {
			all, err := a.serversOfName(ctx, mq.Name, mq.Type, q.Timeout)
			if err != nil {
				return nil, err
			}
			out = append(out, all...)
			continue
		}
		addrs, err := a.servers(ctx, s)
		if err != nil {
			return nil, err
		}
		t := target{at: addrs[0]}
		if s != addrs[0].String() && s != addrs[0].Addr().String() {
			t.host = s
		}
		out = append(out, t)
	}
	return out, nil
}

// serversOfName are all addresses of the servers of the zone that a name lies in, by its
// delegation.
func (a *App) serversOfName(ctx context.Context, name dnsname.Name, t rr.Type, timeout time.Duration) (out []target, err error) {
	tr, err := a.tracer(timeout).Trace(ctx, name, t)
	if err != nil {
		return nil, err
	}
	first := tr.Legs[0] // of the name itself, not of what aliases lead to
	step := first.Steps[len(first.Steps)-1]
	for _, s := range step.Said {
		out = append(out, target{s.Host.Plain(), s.At})
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("the servers of %s are not found; see: fencepost trace %s", name.Plain(), name.Plain())
	}
	return out, nil
}

// remarks are what is odd about an answer.
func (a *App) remarks(resp *resolve.Response, req resolve.Request) (out []string) {
	if resp.Passed > 0 {
		out = append(out, fmt.Sprintf("%d datagrams with another ID or question arrived before it: possibly spoofed", resp.Passed))
	}
	if resp.Try > 1 {
		out = append(out, fmt.Sprintf("it came at try %d; the ones before were not answered in time", resp.Try))
	}
	if resp.OtherClass > 0 {
		out = append(out, fmt.Sprintf("%d records of another class than asked for were left out", resp.OtherClass))
	}
	recursive := resp.Flags&message.FlagRA != 0
	if len(resp.Answer) > 0 && resp.Flags&message.FlagAA == 0 && !recursive {
		out = append(out, "data without authority from a server that is not a resolver: where does it have them from?")
	}
	if recursive && !req.RD && resp.Flags&message.FlagAA != 0 {
		out = append(out, "the server is authoritative and offers recursion: is it an open resolver?")
	}
	if resp.Trailing > 0 {
		out = append(out, fmt.Sprintf("%d octets stand after the message", resp.Trailing))
	}
	return append(out, a.longerTTL(resp)...)
}

// longerTTL says where an answer has a longer TTL than the zone of the workspace.
func (a *App) longerTTL(resp *resolve.Response) (out []string) {
	for _, rec := range resp.Answer {
		z := a.zoneAtHand(rec.Name)
		if z == nil {
			continue
		}
		if set, ok := z.Find(rec.Name, rec.Type, rec.Type); ok && rec.TTL > set.TTL {
			return []string{fmt.Sprintf("the TTL %d of %s %s is longer than the zone's, %d", rec.TTL, rec.Name.Plain(), rec.Type, set.TTL)}
		}
	}
	return nil
}

// zoneAtHand is the zone of the workspace that a name lies in, as its file has it; nil where
// there is none, or it is too large to be read for a remark. It is read once.
func (a *App) zoneAtHand(name dnsname.Name) *zone.Snapshot {
	c, err := a.Config()
	if err != nil {
		return nil
	}
	for up := name; ; up = up.Parent() {
		if z := c.Find(up); z != nil && z.HasFile() {
			read, _ := a.atHand.LoadOrStore(up.Key(), sync.OnceValue(func() *zone.Snapshot {
				return a.readSmall(c.File(up), up, &source.Set{})
			}))
			return read.(func() *zone.Snapshot)()
		}
		if up == dnsname.Root {
			return nil
		}
	}
}

// readSmall reads the file of a zone; nil where that cannot be done, or it is too large to be
// read by the way.
func (a *App) readSmall(path string, apex dnsname.Name, src *source.Set) *zone.Snapshot {
	const largest = 16 << 20 // octets, well under a second
	if info, err := os.Stat(path); err != nil || info.Size() > largest {
		return nil
	}
	r := a.Reader()
	t, err := r.Open(src, path, apex)
	if err != nil {
		return nil
	}
	loaded, err := r.Read(t, &diag.List{})
	if err != nil {
		return nil
	}
	return loaded.Snapshot
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
		return nil, edit.Usage("--at %s: %q is not a port", at, port)
	}
	ips, err := a.lookupHost(ctx, host)
	if err != nil || len(ips) == 0 {
		return nil, fmt.Errorf("the address of %s is not known: %w", host, err)
	}
	var out []netip.AddrPort
	for _, ip := range ips {
		out = append(out, netip.AddrPortFrom(ip, uint16(n)))
	}
	return out, nil
}

// lookupHost finds the addresses of a host: as the system's resolver says, or from the root of
// its own that the workspace goes by.
func (a *App) lookupHost(ctx context.Context, host string) (out []netip.Addr, err error) {
	c, cerr := a.Config()
	name, nerr := edit.WholeName(host)
	if cerr != nil || nerr != nil || len(c.Roots) == 0 {
		return netio.Or(a.Net).LookupAddr(ctx, host)
	}
	found, err := a.tracer(0).Addresses(ctx, name)
	for _, at := range found {
		out = append(out, at.Addr())
	}
	return out, err
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
		return fmt.Sprintf("an alias: the server has no %s at its target, %s", r.Question.Type, rr.DataText(last.Type, last.Data))
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
