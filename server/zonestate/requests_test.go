package zonestate

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/server/request"
	"fencepost/tsig"
	"fencepost/zone"
)

// respond gives a message to a handler as it came over UDP.
func respond(t *testing.T, s *Zones, msg []byte, from string) *message.Message {
	t.Helper()
	out := s.handlerOf().Datagram(nil, msg, netip.MustParseAddrPort(from))
	if len(out) == 0 {
		return nil
	}
	m, err := message.Decode(out)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestRequests(t *testing.T) {
	key := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}
	s := New(Options{})
	src := &source{snap: zoneVersion("a.", 1, 1)}
	s.Apply(context.Background(), &Config{Zones: []Zone{
		{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, SendTo: []Peer{{Name: "p", Address: netip.MustParseAddrPort("192.0.2.1:53")}, {Name: "k", Address: netip.MustParseAddrPort("192.0.2.2:53"), Key: key}}},
		{Name: dnsname.MustParse("s."), Origin: &Primaries{Servers: []Peer{{Name: "p", Address: netip.MustParseAddrPort("192.0.2.1:53")}}}},
	}}, "")
	ask := func(name string, typ rr.Type, op message.Opcode) []byte {
		return message.AppendQuery(nil, dnsname.MustParse(name), typ, message.QueryOptions{ID: 9, Opcode: op})
	}
	signed := func(k *tsig.Key) []byte { return tsig.NewStream(k).Sign(ask("a.", rr.TypeSOA, 0), time.Now()) }
	other := *key
	other.Secret = []byte("another")
	for _, c := range []struct {
		what, from string
		msg        []byte
		want       message.Rcode
	}{
		{"a question", "203.0.113.1:5", ask("a.", rr.TypeA, 0), message.NoError},
		{"AXFR over UDP", "192.0.2.1:5", ask("a.", rr.TypeAXFR, 0), message.FormErr},
		{"IXFR over UDP from a peer", "192.0.2.1:5", ixfr("a.", 0), message.NoError},
		{"IXFR over UDP from a stranger", "203.0.113.1:5", ixfr("a.", 0), message.Refused},
		{"NOTIFY from the primary", "192.0.2.1:5", ask("s.", rr.TypeSOA, message.OpNotify), message.NoError},
		{"NOTIFY from a stranger", "203.0.113.1:5", ask("s.", rr.TypeSOA, message.OpNotify), message.Refused},
		{"NOTIFY for a zone we are primary for", "192.0.2.1:5", ask("a.", rr.TypeSOA, message.OpNotify), message.NotAuth},
		{"NOTIFY for a zone not served", "192.0.2.1:5", ask("x.", rr.TypeSOA, message.OpNotify), message.NotAuth},
		{"an update that is not signed", "192.0.2.1:5", ask("a.", rr.TypeSOA, message.OpUpdate), message.Refused},
		{"an update of a zone not served", "192.0.2.1:5", ask("x.", rr.TypeSOA, message.OpUpdate), message.NotAuth},
		{"an opcode that is not done", "192.0.2.1:5", ask("a.", rr.TypeSOA, 6), message.NotImp},
		{"a good signature", "203.0.113.1:5", signed(key), message.NoError},
		{"a wrong signature", "203.0.113.1:5", signed(&other), message.NotAuth},
		{"an unknown key", "203.0.113.1:5", signed(&tsig.Key{Name: dnsname.MustParse("u."), Algorithm: "hmac-sha256", Secret: []byte("x")}), message.NotAuth},
		{"garbage behind a header", "203.0.113.1:5", append(ask("a.", rr.TypeA, 0)[:12], 0xff), message.FormErr},
	} {
		m := respond(t, s, c.msg, c.from)
		if m == nil || m.Rcode() != c.want || m.ID != 9 || m.Flags&message.FlagQR == 0 {
			t.Errorf("%s: %+v, want %s", c.what, m, c.want)
		}
	}
	if m := respond(t, s, signed(key), "203.0.113.1:5"); len(m.Additional) != 1 || m.Additional[0].Type != rr.TypeTSIG {
		t.Error("a signed question gets an unsigned answer")
	}
	for what, msg := range map[string][]byte{"an answer": {0, 9, 0x80, 0, 0, 1, 0, 0, 0, 0, 0, 0}, "five octets": {1, 2, 3, 4, 5}} {
		if respond(t, s, msg, "203.0.113.1:5") != nil {
			t.Errorf("%s is answered", what)
		}
	}
	if respond(t, s, ask("a.", rr.TypeA, 0), "203.0.113.1:0") != nil {
		t.Error("port 0 is answered")
	}
	// A peer with a key is known by the key, wherever it asks from.
	h := s.handlerOf()
	transfer := tsig.NewStream(key).Sign(ask("a.", rr.TypeAXFR, 0), time.Now())
	if _, job := h.Stream(nil, transfer, netip.MustParseAddrPort("203.0.113.9:5")); job == nil {
		t.Error("a peer with its key gets no transfer")
	}
	if _, job := h.Stream(nil, ask("a.", rr.TypeAXFR, 0), netip.MustParseAddrPort("192.0.2.2:5")); job != nil {
		t.Error("a peer that has a key gets a transfer without it")
	}
}

// ixfr is a request for what changed since a serial.
func ixfr(name string, serial uint32) []byte {
	msg := message.AppendQuery(nil, dnsname.MustParse(name), rr.TypeIXFR, message.QueryOptions{ID: 9})
	msg[9] = 1 // the authority section
	data := soa(serial)
	msg = append(msg, 0xc0, message.HeaderLen, 0, byte(rr.TypeSOA), 0, 1, 0, 0, 0, 0, byte(len(data)>>8), byte(len(data)))
	return append(msg, data...)
}

// A key opens what it was given for and nothing else; a signed request gets a signed
// response, whatever that says, within the client's limit.
func TestRights(t *testing.T) {
	keys := map[string]*tsig.Key{}
	for _, n := range []string{"one.", "two."} {
		keys[n] = &tsig.Key{Name: dnsname.MustParse(n), Algorithm: "hmac-sha256", Secret: []byte("secret of " + n + "0123456789abcdef")}
	}
	peer := func(n string) Peer {
		return Peer{Name: n, Address: netip.MustParseAddrPort("192.0.2.1:53"), Key: keys[n]}
	}
	s := New(Options{})
	a, b := &source{snap: zoneVersion("a.", 7, 1)}, &source{snap: zoneVersion("b.", 7, 1)}
	s.Apply(context.Background(), &Config{Zones: []Zone{
		{Name: dnsname.MustParse("a."), Origin: &Files{Load: a.load}, SendTo: []Peer{peer("one.")}},
		{Name: dnsname.MustParse("b."), Origin: &Files{Load: b.load}, SendTo: []Peer{peer("two.")}},
		{Name: dnsname.MustParse("s."), Origin: &Primaries{Servers: []Peer{peer("one.")}}},
	}}, "")
	from := netip.MustParseAddrPort("192.0.2.1:5")
	ask := func(zone string, typ rr.Type, op message.Opcode) []byte {
		return message.AppendQuery(nil, dnsname.MustParse(zone), typ, message.QueryOptions{ID: 9, Opcode: op})
	}
	for _, c := range []struct {
		what, key string
		msg       []byte
		want      message.Rcode
		job       bool
	}{
		{"its own zone", "one.", ask("a.", rr.TypeAXFR, 0), 0, true},
		{"the zone of another key", "two.", ask("a.", rr.TypeAXFR, 0), message.Refused, false},
		{"the other way round", "one.", ask("b.", rr.TypeAXFR, 0), message.Refused, false},
		{"changes of the zone of another key", "two.", ixfr("a.", 1), message.Refused, false},
		{"an older version", "one.", ixfr("a.", 6), 0, true},
		{"the same version", "one.", ixfr("a.", 7), 0, false},
		{"a newer version", "one.", ixfr("a.", 8), 0, false},
		{"changes since nothing", "one.", ask("a.", rr.TypeIXFR, 0), message.FormErr, false},
		{"NOTIFY by the primary", "one.", ask("s.", rr.TypeSOA, message.OpNotify), 0, false},
		{"NOTIFY by another key", "two.", ask("s.", rr.TypeSOA, message.OpNotify), message.Refused, false},
	} {
		stream := tsig.NewStream(keys[c.key])
		out, job := s.handlerOf().Stream(nil, stream.Sign(c.msg, time.Now()), from)
		if (job != nil) != c.job {
			t.Errorf("%s: a transfer: %v", c.what, job != nil)
		}
		if job != nil {
			continue
		}
		m, err := message.Decode(out)
		off, _ := message.FindTSIG(out)
		if err != nil || m.Rcode() != c.want || off == 0 {
			t.Errorf("%s: %+v, %v", c.what, m, err)
			continue
		}
		if _, err := stream.Verify(out, off, time.Now()); err != nil {
			t.Errorf("%s: the response: %v", c.what, err)
		}
		if c.want == 0 && len(c.msg) > 40 && len(m.Answer) != 1 {
			t.Errorf("%s: %d records", c.what, len(m.Answer))
		}
	}
	if m := respond(t, s, ixfr("a.", 7), "192.0.2.1:5"); m.Rcode() != message.Refused {
		t.Errorf("without any key: %s", m.Rcode())
	}
	for what, msg := range map[string][]byte{"another version of EDNS": version9(ask("a.", rr.TypeA, 0)), "another opcode": ask("a.", rr.TypeSOA, 4)} {
		stream := tsig.NewStream(keys["one."])
		out := s.handlerOf().Datagram(nil, stream.Sign(msg, time.Now()), from)
		off, err := message.FindTSIG(out)
		if err != nil || off == 0 {
			t.Errorf("%s: the response is not signed", what)
			continue
		}
		if _, err := stream.Verify(out, off, time.Now()); err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// version9 adds OPT with a version that does not exist.
func version9(msg []byte) []byte {
	msg[11] = 1
	return append(msg, 0, 0, byte(rr.TypeOPT), 4, 0xd0, 0, 9, 0, 0, 0, 0)
}

// An option that runs over its end is an error, and the answer has OPT all the same
// (RFC 6891 §7).
func TestBadOption(t *testing.T) {
	s := New(Options{})
	msg := message.AppendQuery(nil, dnsname.MustParse("a."), rr.TypeA, message.QueryOptions{ID: 9})
	msg[11] = 1
	msg = append(msg, 0, 0, byte(rr.TypeOPT), 4, 0xd0, 0, 0, 0, 0, 0, 5, 0, 3, 0, 9, 1)
	if m := respond(t, s, msg, "192.0.2.1:5"); m.Rcode() != message.FormErr || m.EDNS == nil {
		t.Errorf("%+v", m)
	}
}

// What is sent over UDP fits the client and us, the signature included.
func TestSizes(t *testing.T) {
	key := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha512", Secret: []byte("0123456789abcdef0123456789abcdef")}
	z := zoneVersion("a.", 1, 1)
	c := zone.Content{Owner: dnsname.MustParse("big.a.")}
	for i := range 60 {
		c.Records = append(c.Records, rr.Record{Type: rr.TypeA, TTL: 60, Data: []byte{192, 0, 2, byte(i)}})
	}
	half := zone.Content{Owner: dnsname.MustParse("half.a."), Records: c.Records[:28]}
	z, _ = z.Replace([]zone.Content{c, half})
	s := New(Options{})
	s.Apply(context.Background(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: z}).load}, SendTo: []Peer{{Name: "k", Key: key}}}}}, "")
	for _, size := range []uint16{0, 100, 512, 600, 1000, 1100, 1200, 1232, 1233, 4096, 65535} {
		for _, name := range []string{"a.", "half.a.", "big.a."} {
			for _, signed := range []bool{false, true} {
				msg := message.AppendQuery(nil, dnsname.MustParse(name), rr.TypeA, message.QueryOptions{ID: 9, EDNS: size > 0, UDPSize: size})
				if signed {
					msg = tsig.NewStream(key).Sign(msg, time.Now())
				}
				out := s.handlerOf().Datagram(nil, msg, netip.MustParseAddrPort("192.0.2.1:5"))
				limit := min(max(int(size), message.MinUDP), 1232)
				m, err := message.Decode(out)
				if err != nil || len(out) > limit {
					t.Errorf("%s, client takes %d, signed %v: %d octets, %v", name, size, signed, len(out), err)
					continue
				}
				need := map[string]int{"a.": 100, "half.a.": 600, "big.a.": 1100}[name]
				if signed {
					need += key.Size()
				}
				if m.Flags&message.FlagTC == 0 != (len(m.Answer) > 0) || need <= limit && m.Flags&message.FlagTC != 0 {
					t.Errorf("%s, client takes %d, signed %v: %d records, flags %x", name, size, signed, len(m.Answer), m.Flags)
				}
			}
		}
	}
}

// handlerOf is a handler of requests, as sockets have them.
func (s *Zones) handlerOf() *request.Handler { return request.New(s.Requests(), netip.AddrPort{}) }

func (s *Zones) find(name []byte, above bool) (*zone.Snapshot, answer.State) {
	return (*requests)(s).Find(name, above)
}

// A key that nothing names is verified all the same; what is signed with it may what strangers may.
func TestKeyWithoutUse(t *testing.T) {
	spare := &tsig.Key{Name: dnsname.MustParse("spare."), Algorithm: "hmac-sha256", Secret: []byte("s")}
	s := New(Options{})
	s.Apply(t.Context(), &Config{Keys: []*tsig.Key{spare}, Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: zoneVersion("a.", 1, 1)}).load}}}}, "")
	for typ, want := range map[rr.Type]message.Rcode{rr.TypeSOA: message.NoError, rr.TypeAXFR: message.Refused} {
		stream := tsig.NewStream(spare)
		out, _ := s.handlerOf().Stream(nil, stream.Sign(message.AppendQuery(nil, dnsname.MustParse("a."), typ, message.QueryOptions{ID: 9}), time.Now()), netip.MustParseAddrPort("192.0.2.7:5353"))
		off, err := message.FindTSIG(out)
		if err != nil || off == 0 {
			t.Fatalf("%s: the response is not signed (%v)", typ, err)
		}
		if _, err := stream.Verify(out, off, time.Now()); err != nil {
			t.Errorf("%s: %v", typ, err)
		}
		if code := message.ParseHeader(out).Rcode(); code != want {
			t.Errorf("%s: %s, want %s", typ, code, want)
		}
	}
}
