package request

import (
	"bytes"
	"io"
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/cookie"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/zone"
)

var (
	apex    = dnsname.MustParse("tides.example.")
	at      = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	peerKey = &tsig.Key{Name: dnsname.MustParse("harbour."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}
	friend  = netip.MustParseAddrPort("192.0.2.1:53")
	other   = netip.MustParseAddrPort("203.0.113.9:53")
)

// world is one zone, and notes what is said of it.
type world struct {
	snap    *zone.Snapshot
	inside  *world
	primary bool
	steps   transfer.Body

	update   func(Update, func(*update.Refusal))
	identity *Identity
	heard    []netip.AddrPort
	changed  int
	told     []string // of strangers
}

func newWorld(t testing.TB) *world {
	b := zone.NewBuilder(apex, false)
	for _, r := range []rr.Record{
		{Name: apex, Type: rr.TypeSOA, TTL: 60, Data: []byte("\x02ns\x00\x01h\x00\x00\x00\x00\x07\x00\x00\x1c\x20\x00\x00\x03\x84\x00\x12\x75\x00\x00\x00\x01\x2c")},
		{Name: apex, Type: rr.TypeNS, TTL: 60, Data: []byte("\x02ns\x05other\x00")},
	} {
		if err := b.AddRecord(r); err != nil {
			t.Fatal(err)
		}
	}
	return &world{snap: b.Build().Snapshot, primary: true}
}

func (w *world) env() *Env {
	return &Env{Zones: w, Clock: func() time.Time { return at }, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Counts: &Counts{},
		Stranger: func(kind string, _ ...any) { w.told = append(w.told, kind) }}
}

func (w *world) Find(name []byte, _ bool) (*zone.Snapshot, answer.State) {
	n, err := dnsname.FromWire(name)
	switch {
	case err != nil || !n.AtOrBelow(apex):
		return nil, answer.NotServed
	case w.snap == nil:
		return nil, answer.Unavailable
	}
	return w.snap, answer.Served
}

func (w *world) Identity() *Identity { return w.identity }

func (w *world) SourceFor(from netip.Addr) answer.Source { return w.ViewFor(from, nil) }

// ViewFor is another world for those inside: by a network, or by a key.
func (w *world) ViewFor(from netip.Addr, key *dnsname.Name) View {
	if w.inside != nil && (netip.MustParsePrefix("203.0.113.0/24").Contains(from) || key != nil && key.Equal(peerKey.Name)) {
		return w.inside
	}
	return w
}

func (w *world) Exact(name []byte) Zone {
	if n, err := dnsname.FromWire(name); err != nil || !n.Equal(apex) {
		return nil
	}
	return w
}

func (w *world) Key(name dnsname.Name) *tsig.Key {
	if name.Equal(peerKey.Name) {
		return peerKey
	}
	return nil
}
func (w *world) Heard(at netip.AddrPort)     { w.heard = append(w.heard, at) }
func (w *world) Name() dnsname.Name          { return apex }
func (w *world) Snapshot() *zone.Snapshot    { return w.snap }
func (w *world) Expire() int64               { return 1209600 }
func (w *world) Receivers() []resolve.Server { return peers() }
func (w *world) Primaries() []resolve.Server {
	if w.primary {
		return nil
	}
	return peers()
}
func (w *world) Steps(*zone.Snapshot, uint32) transfer.Body  { return w.steps }
func (w *world) Fetched(string, uint32)                      {}
func (w *world) Changed()                                    { w.changed++ }
func (w *world) Update(u Update, done func(*update.Refusal)) { w.update(u, done) }

func peers() []resolve.Server {
	return []resolve.Server{{Name: "by address", Address: friend}, {Name: "by key", Address: netip.MustParseAddrPort("192.0.2.2:53"), Key: peerKey}}
}

func query(name string, t rr.Type, o message.QueryOptions) []byte {
	o.ID = 77
	return message.AppendQuery(nil, dnsname.MustParse(name), t, o)
}

// Who may have what: by address, by key, by neither; over datagrams and connections; and what
// is planned for it.
func TestKinds(t *testing.T) {
	sign := func(msg []byte) []byte { return tsig.NewStream(peerKey).Sign(msg, at) }
	for _, c := range []struct {
		what      string
		msg       []byte
		from      netip.AddrPort
		over      Transport
		secondary bool
		code      message.Rcode // of a response
		job       bool          // or a transfer
		changed   int
		stranger  bool
	}{
		{what: "a question", msg: query("tides.example.", rr.TypeNS, message.QueryOptions{}), from: other},
		{what: "another zone", msg: query("reef.example.", rr.TypeNS, message.QueryOptions{}), from: other, code: message.Refused},
		{what: "an opcode that is not done", msg: query("tides.example.", rr.TypeSOA, message.QueryOptions{Opcode: 2}), from: friend, code: message.NotImp},
		{what: "AXFR by address", msg: query("tides.example.", rr.TypeAXFR, message.QueryOptions{}), from: friend, over: TCP, job: true},
		{what: "AXFR as a datagram", msg: query("tides.example.", rr.TypeAXFR, message.QueryOptions{}), from: friend, code: message.FormErr},
		{what: "AXFR by key", msg: sign(query("tides.example.", rr.TypeAXFR, message.QueryOptions{})), from: other, over: TCP, job: true},
		{what: "AXFR by neither", msg: query("tides.example.", rr.TypeAXFR, message.QueryOptions{}), from: other, over: TCP, code: message.Refused, stranger: true},
		{what: "AXFR from the place of a peer with a key", msg: query("tides.example.", rr.TypeAXFR, message.QueryOptions{}), from: peers()[1].Address, over: TCP, code: message.Refused, stranger: true},
		{what: "AXFR of what is not a zone", msg: query("www.tides.example.", rr.TypeAXFR, message.QueryOptions{}), from: friend, over: TCP, code: message.NotAuth},
		{what: "NOTIFY from a primary", msg: query("tides.example.", rr.TypeSOA, message.QueryOptions{Opcode: message.OpNotify}), from: friend, secondary: true, changed: 1},
		{what: "NOTIFY from a stranger", msg: query("tides.example.", rr.TypeSOA, message.QueryOptions{Opcode: message.OpNotify}), from: other, secondary: true, code: message.Refused, stranger: true},
		{what: "NOTIFY to a primary", msg: query("tides.example.", rr.TypeSOA, message.QueryOptions{Opcode: message.OpNotify}), from: friend, code: message.NotAuth},
	} {
		w := newWorld(t)
		w.primary = !c.secondary
		h := New(w.env(), netip.AddrPort{})
		var out []byte
		var job *Job
		if c.over == TCP {
			out, job = h.Stream(nil, c.msg, c.from)
		} else {
			out = h.Datagram(nil, c.msg, c.from)
		}
		switch {
		case (job != nil) != c.job:
			t.Errorf("%s: a transfer: %v", c.what, job != nil)
		case job == nil && message.ParseHeader(out).Rcode() != c.code:
			t.Errorf("%s: %s, not %s", c.what, message.ParseHeader(out).Rcode(), c.code)
		}
		if w.changed != c.changed || (len(w.told) > 0) != c.stranger || (len(w.heard) > 0) != (c.job || c.changed > 0) {
			t.Errorf("%s: %d changes, strangers %q, heard %v", c.what, w.changed, w.told, w.heard)
		}
	}
}

// A signature is right, or the response says what is wrong with it, signed where that can be
// believed (RFC 8945 §5.2, §5.3.2).
func TestIdentify(t *testing.T) {
	plain := query("tides.example.", rr.TypeNS, message.QueryOptions{})
	wrong := *peerKey
	wrong.Secret = []byte("another")
	unknown := *peerKey
	unknown.Name = dnsname.MustParse("nobody.")
	for _, c := range []struct {
		what string
		key  *tsig.Key
		at   time.Time
		code message.Rcode
		says uint16
	}{
		{"right", peerKey, at, message.NoError, 0},
		{"another secret", &wrong, at, message.NotAuth, tsig.BadSig},
		{"an unknown key", &unknown, at, message.NotAuth, tsig.BadKey},
		{"an hour late", peerKey, at.Add(-time.Hour), message.NotAuth, tsig.BadTime},
	} {
		w := newWorld(t)
		stream := tsig.NewStream(c.key)
		msg := stream.Sign(append([]byte(nil), plain...), c.at)
		out := New(w.env(), netip.AddrPort{}).Datagram(nil, msg, other)
		off, err := message.FindTSIG(out)
		if err != nil || off == 0 || message.ParseHeader(out).Rcode() != c.code {
			t.Errorf("%s: %s, TSIG at %d, %v", c.what, message.ParseHeader(out).Rcode(), off, err)
			continue
		}
		_, err = stream.Verify(out, off, c.at)
		if right := c.says == 0; right != (err == nil) || right != (len(w.told) == 0) {
			t.Errorf("%s: the response: %v; strangers %q", c.what, err, w.told)
		}
	}
}

// Whatever comes, nothing panics, no response is longer than the asker takes, and each goes
// with the request: its ID, and the bit that makes it a response. A plain question costs no
// allocation.
func FuzzRequest(f *testing.F) {
	sign := tsig.NewStream(peerKey)
	f.Add(query("tides.example.", rr.TypeNS, message.QueryOptions{EDNS: true, UDPSize: 1232, DO: true}), true)
	f.Add(query("tides.example.", rr.TypeIXFR, message.QueryOptions{SOA: []byte("\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00")}), false)
	f.Add(query("tides.example.", rr.TypeSOA, message.QueryOptions{Opcode: message.OpNotify}), true)
	f.Add(sign.Sign(query("tides.example.", rr.TypeAXFR, message.QueryOptions{}), at), false)
	f.Add(query("tides.example.", rr.TypeSOA, message.QueryOptions{Opcode: message.OpUpdate}), true)
	w := newWorld(f)
	w.primary = false
	w.identity = &Identity{NSID: bytes.Repeat([]byte{'n'}, MaxNSID), Cookies: cookie.Secrets{{1}}, Idle: time.Second, Chaos: chaos}
	f.Add(query("id.server.", rr.TypeTXT, message.QueryOptions{Class: rr.ClassCH, EDNS: true, Options: []message.Option{
		{Code: message.OptionNSID}, {Code: message.OptionVersion}, {Code: message.OptionCookie, Data: []byte("fencepos")}, {Code: message.OptionExpire}}}), true)
	h := New(w.env(), netip.AddrPort{})
	f.Fuzz(func(t *testing.T, msg []byte, datagram bool) {
		w.heard, w.told = nil, nil
		var out []byte
		if datagram {
			out = h.Datagram(nil, msg, friend)
		} else {
			out, _ = h.Stream(nil, msg, friend)
		}
		if len(out) == 0 {
			return
		}
		if out[0] != msg[0] || out[1] != msg[1] || out[2]&0x80 == 0 || msg[2]&0x80 != 0 {
			t.Fatalf("%x is answered by %x", msg, out)
		}
		if limit := limitOf(h.Query(), map[bool]Transport{true: UDP, false: TCP}[datagram]); len(out) > limit {
			t.Fatalf("%x is answered with %d octets; %d are taken", msg, len(out), limit)
		}
		if _, err := message.Decode(out); err != nil {
			t.Fatalf("%x is answered by %x: %v", msg, out, err)
		}
	})
}

func TestPlainQuestionsAllocateNothing(t *testing.T) {
	h, msg, buf := New(newWorld(t).env(), netip.AddrPort{}), query("tides.example.", rr.TypeNS, message.QueryOptions{EDNS: true, UDPSize: 1232}), make([]byte, 0, 4096)
	if n := testing.AllocsPerRun(100, func() { buf = h.Datagram(buf[:0], msg, other) }); n != 0 {
		t.Errorf("%v allocations a question", n)
	}
}
