package request

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/cookie"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// optioned asks with options, over UDP or TCP, and gives the answer.
func optioned(t *testing.T, w *world, tcp bool, edit func([]byte) []byte, typ rr.Type, options ...message.Option) *message.Message {
	t.Helper()
	msg := message.AppendQuery(nil, apex, typ, message.QueryOptions{ID: 7, EDNS: true, UDPSize: 1232, Options: options})
	if edit != nil {
		msg = edit(msg)
	}
	h := New(w.env(), friend)
	var out []byte
	if tcp {
		out, _ = h.Stream(nil, msg, other)
	} else {
		out = h.Datagram(nil, msg, other)
	}
	m, err := message.Decode(out)
	if err != nil {
		t.Fatalf("%v: %x", err, out)
	}
	return m
}

func option(m *message.Message, code uint16) []byte {
	if m.EDNS == nil {
		return nil
	}
	if i := slices.IndexFunc(m.EDNS.Options, func(o message.Option) bool { return o.Code == code }); i >= 0 {
		return m.EDNS.Options[i].Data
	}
	return nil
}

// D-41, D-48: a server that has a name tells it to whoever asks, whatever the option holds, and how
// long it keeps a connection over TCP alone; nobody is told what was not asked for.
func TestD41_D48(t *testing.T) {
	w := newWorld(t)
	w.identity = &Identity{NSID: []byte("ns1"), Idle: 10 * time.Second}
	nsid, keep := message.Option{Code: message.OptionNSID, Data: []byte("junk")}, message.Option{Code: message.OptionKeepalive}
	for _, tcp := range []bool{false, true} {
		m := optioned(t, w, tcp, nil, rr.TypeSOA, nsid, keep)
		if string(option(m, message.OptionNSID)) != "ns1" || (string(option(m, message.OptionKeepalive)) == "\x00\x64") != tcp || len(m.Answer) != 1 {
			t.Errorf("over TCP %v: %+v", tcp, m.EDNS)
		}
		if m := optioned(t, w, tcp, nil, rr.TypeSOA); len(m.EDNS.Options) != 0 {
			t.Errorf("not asked: %+v", m.EDNS)
		}
	}
	w.identity.NSID = bytes.Repeat([]byte{'n'}, MaxNSID)
	w.identity.Cookies = cookie.Secrets{{1}}
	if m := optioned(t, w, true, nil, rr.TypeSOA, nsid, keep, message.Option{Code: message.OptionCookie, Data: []byte("fencepos")}); len(m.EDNS.Options) != 3 {
		t.Errorf("all at once: %+v", m.EDNS)
	}
	w.identity = nil
	if m := optioned(t, w, true, nil, rr.TypeSOA, nsid, keep); len(m.EDNS.Options) != 0 {
		t.Errorf("of a server without a name: %+v", m.EDNS)
	}
}

// D-42, D-43: cookies of lengths that there are get one back, also in errors; others are malformed,
// and the first of several counts.
func TestD42_D43(t *testing.T) {
	w := newWorld(t)
	secrets := cookie.Secrets{{1, 2, 3}}
	w.identity = &Identity{Cookies: secrets}
	for n := range 44 {
		data := bytes.Repeat([]byte{'c'}, n)
		legal := n == 8 || n >= 16 && n <= 40
		m := optioned(t, w, false, nil, rr.TypeSOA, message.Option{Code: message.OptionCookie, Data: data})
		got := option(m, message.OptionCookie)
		if legal != (m.Rcode() == message.NoError) || legal != (len(got) == 24) || legal && (!bytes.Equal(got[:8], data[:8]) || !secrets.Valid(got, other.Addr(), at)) {
			t.Errorf("%d octets: %s, %x", n, m.Rcode(), got)
		}
	}
	made := secrets.Append(nil, []byte("fencepos"), other.Addr(), at.Add(-time.Minute))
	m := optioned(t, w, false, nil, rr.TypeSOA, message.Option{Code: message.OptionCookie, Data: made}, message.Option{Code: message.OptionCookie, Data: []byte("another1")})
	if !bytes.Equal(option(m, message.OptionCookie), made) {
		t.Errorf("what counts is not given back: %x for %x", option(m, message.OptionCookie), made)
	}
	version := func(q []byte) []byte { q[len(q)-4-8-5] = 1; return q }
	if m := optioned(t, w, false, version, rr.TypeSOA, message.Option{Code: message.OptionCookie, Data: []byte("fencepos")}); m.ExtendedRcode != message.BadVers || len(option(m, message.OptionCookie)) != 24 {
		t.Errorf("with a version of EDNS that there is not: %s, %+v", m.ExtendedRcode, m.EDNS)
	}
}

// B-07: without a question there is a cookie for whoever brings one, and nothing for others.
func TestB07(t *testing.T) {
	w := newWorld(t)
	w.identity = &Identity{Cookies: cookie.Secrets{{1}}}
	without := func(q []byte) []byte {
		end := message.HeaderLen + len(apex.Wire()) + 4
		q[5] = 0
		return append(q[:message.HeaderLen:message.HeaderLen], q[end:]...)
	}
	if m := optioned(t, w, false, without, rr.TypeSOA, message.Option{Code: message.OptionCookie, Data: []byte("fencepos")}); m.Rcode() != message.NoError || len(option(m, message.OptionCookie)) != 24 || len(m.Question) != 0 {
		t.Errorf("with a cookie: %s, %+v", m.Rcode(), m.EDNS)
	}
	if m := optioned(t, w, false, without, rr.TypeSOA); m.Rcode() != message.FormErr {
		t.Errorf("without one: %s", m.Rcode())
	}
}

var chaos = map[string]string{dnsname.MustParse("id.server.").Wire(): "ns1", dnsname.MustParse("version.server.").Wire(): strings.Repeat("v", 255)}

// D-31: in class CH there is what was configured, and nothing else; D-49: why something is refused
// is told to whoever has EDNS.
func TestD31_D49(t *testing.T) {
	w := newWorld(t)
	ch := message.QueryOptions{Class: rr.ClassCH}
	for _, c := range []struct {
		name string
		typ  rr.Type
		o    message.QueryOptions
		tcp  bool
		id   *Identity
		want string // code, extended error, texts
	}{
		{"id.server.", rr.TypeTXT, ch, false, &Identity{Chaos: chaos}, "NOERROR [] 1 ns1"},
		{"ID.Server.", rr.TypeTXT, ch, true, &Identity{Chaos: chaos}, "NOERROR [] 1 ns1"},
		{"version.server.", rr.TypeTXT, ch, false, &Identity{Chaos: chaos}, "NOERROR [] 1 " + strings.Repeat("v", 255)},
		{"id.server.", rr.TypeTXT, ch, false, &Identity{}, "REFUSED [Not Supported] 0 "},
		{"id.server.", rr.TypeTXT, ch, false, nil, "REFUSED [Not Supported] 0 "},
		{"id.server.", rr.TypeA, ch, false, &Identity{Chaos: chaos}, "REFUSED [Not Supported] 0 "},
		{"id.server.", rr.TypeAXFR, ch, true, &Identity{Chaos: chaos}, "FORMERR [] 0 "},
		{"server.", rr.TypeTXT, ch, false, &Identity{Chaos: chaos}, "REFUSED [Not Supported] 0 "},
		{"tides.example.", rr.TypeSOA, ch, false, &Identity{Chaos: chaos}, "REFUSED [Not Supported] 0 "},
		{"id.server.", rr.TypeTXT, message.QueryOptions{}, false, &Identity{Chaos: chaos}, "REFUSED [Not Authoritative] 0 "},
		{"id.server.", rr.TypeTXT, message.QueryOptions{Class: 4}, false, &Identity{Chaos: chaos}, "REFUSED [Not Supported] 0 "},
		{"tides.example.", rr.TypeSOA, message.QueryOptions{Class: rr.ClassAny}, false, nil, "REFUSED [Not Supported] 0 "},
		{"tides.example.", 128, message.QueryOptions{}, false, nil, "FORMERR [Invalid Query Type] 0 "},
		{"tides.example.", rr.TypeOPT, message.QueryOptions{}, false, nil, "FORMERR [Invalid Query Type] 0 "},
		{"tides.example.", 253, message.QueryOptions{}, false, nil, "NOTIMP [Not Supported] 0 "},
		{"tides.example.", rr.TypeAXFR, message.QueryOptions{}, true, nil, "REFUSED [Prohibited] 0 "},
		{"x.tides.example.", rr.TypeAXFR, message.QueryOptions{}, true, nil, "NOTAUTH [Not Authoritative] 0 "},
		{"tides.example.", rr.TypeSOA, message.QueryOptions{Opcode: message.OpNotify}, false, nil, "NOTAUTH [Not Authoritative] 0 "},
		{"x.tides.example.", rr.TypeA, message.QueryOptions{}, false, nil, "NXDOMAIN [] 0 "},
	} {
		for _, edns := range []bool{true, false} {
			c.o.EDNS, c.o.UDPSize, w.identity = edns, 1232, c.id
			h := New(w.env(), friend)
			var out []byte
			if c.tcp {
				out, _ = h.Stream(nil, query(c.name, c.typ, c.o), other)
			} else {
				out = h.Datagram(nil, query(c.name, c.typ, c.o), other)
			}
			m, err := message.Decode(out)
			if err != nil {
				t.Fatal(err)
			}
			said, texts := []message.ExtendedError{}, ""
			for _, e := range m.EDNS.Errors() {
				said = append(said, e.Code)
			}
			for _, r := range m.Answer {
				texts += string(r.Data[1:])
				if r.Class != rr.ClassCH || r.TTL != 0 || int(r.Data[0]) != len(r.Data)-1 {
					t.Errorf("%s: %+v", c.name, r)
				}
			}
			want := c.want
			if !edns {
				want = want[:strings.Index(want, "[")+1] + want[strings.Index(want, "]"):]
			}
			if got := fmt.Sprintf("%s %v %d %s", m.Rcode(), said, len(m.Answer), texts); got != want || m.Question[0].Class != cmp.Or(c.o.Class, rr.ClassIN) {
				t.Errorf("%s %s, EDNS %v: %s, want %s", c.name, c.typ, edns, got, want)
			}
		}
	}
}

// D-49: a zone that there is nothing of yet cannot be transferred, and why is told.
func TestD49(t *testing.T) {
	w := newWorld(t)
	w.snap = nil
	out, _ := New(w.env(), friend).Stream(nil, query("tides.example.", rr.TypeAXFR, message.QueryOptions{EDNS: true, UDPSize: 1232}), friend)
	m, err := message.Decode(out)
	if err != nil || m.Rcode() != message.ServFail || len(m.EDNS.Errors()) != 1 || m.EDNS.Errors()[0].Code != message.NotReady {
		t.Errorf("%+v, %v", m, err)
	}
}

// D-52: whoever asks is told the version of the zone that the answer comes from, whatever the answer.
func TestD52(t *testing.T) {
	w := newWorld(t)
	empty, full := message.Option{Code: message.OptionVersion}, message.Option{Code: message.OptionVersion, Data: []byte("\x02\x00\x00\x00\x00\x07")}
	for _, c := range []struct {
		name string
		o    []message.Option
		want string
	}{
		{"tides.example.", []message.Option{empty}, "\x02\x00\x00\x00\x00\x07"},
		{"a.b.tides.example.", []message.Option{empty}, "\x02\x00\x00\x00\x00\x07"},
		{"tides.example.", nil, ""},
		{"tides.example.", []message.Option{full}, ""},
		{"other.example.", []message.Option{empty}, ""},
	} {
		h := New(w.env(), friend)
		m, err := message.Decode(h.Datagram(nil, query(c.name, rr.TypeA, message.QueryOptions{EDNS: true, UDPSize: 1232, Options: c.o}), other))
		if err != nil || string(option(m, message.OptionVersion)) != c.want {
			t.Errorf("%s, %v: %+v %v", c.name, c.o, m.EDNS, err)
		}
	}
}

// D-32, D-33, D-35, D-51, D-54: whatever can be read has an answer, over UDP and TCP: the questions of
// RFC 8906 §8.1 and §8.2. No flag, option or version that is not known comes back.
func TestD33(t *testing.T) {
	const ad, cd, z, aa, ra, tc = 0x20, 0x10, 0x40, message.FlagAA, 0x80, message.FlagTC
	opt := func(codes ...uint16) (out []message.Option) {
		for _, c := range codes {
			out = append(out, message.Option{Code: c, Data: []byte{0, 1, 16, 0, 192, 0}})
		}
		return out
	}
	cases := []struct {
		what  string
		typ   rr.Type
		o     message.QueryOptions
		flags uint16
		edit  func(q []byte)
		want  message.Rcode
	}{
		{what: "plain", typ: rr.TypeSOA},
		{what: "a type that nobody knows", typ: 1000},
		{what: "a type for private use", typ: 65500},
		{what: "EDNS", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true}},
		{what: "DO", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true, DO: true}},
		{what: "a size of 0", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true, UDPSize: 0}},
		{what: "an unknown option", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true, Options: opt(100)}},
		{what: "a subnet", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true, Options: opt(message.OptionSubnet)}},
		{what: "options for resolvers", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true, Options: opt(5, 6, 7, 13, 14, 18)}},
		{what: "the same option often", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true, Options: opt(65001, 65001, 65001, 65535)}},
		{what: "an EDNS flag", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true}, edit: func(q []byte) { q[len(q)-4] |= 0x40 }},
		{what: "EDNS version 1", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true}, edit: func(q []byte) { q[len(q)-5] = 1 }, want: message.BadVers},
		{what: "EDNS version 255 with a flag", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true}, edit: func(q []byte) { q[len(q)-5], q[len(q)-3] = 255, 1 }, want: message.BadVers},
		{what: "EDNS version 1 with an option", typ: rr.TypeSOA, o: message.QueryOptions{EDNS: true, Options: opt(100)}, edit: func(q []byte) { q[len(q)-15] = 1 }, want: message.BadVers},
	}
	for _, f := range []uint16{ad, cd, z, aa, ra, tc, message.FlagRD, ad | cd | z | aa | ra | tc | message.FlagRD} {
		for _, edns := range []bool{false, true} {
			cases = append(cases, cases[0])
			c := &cases[len(cases)-1]
			c.what, c.flags, c.o.EDNS = fmt.Sprintf("flags %04x, EDNS %v", f, edns), f, edns
		}
	}
	for _, op := range []message.Opcode{1, 2, 3, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15} {
		c := cases[0]
		c.what, c.o.Opcode, c.want = op.String(), op, message.NotImp
		cases = append(cases, c)
	}
	for _, c := range cases {
		q := query("tides.example.", c.typ, c.o)
		q[2], q[3] = q[2]|byte(c.flags>>8), q[3]|byte(c.flags)
		if c.edit != nil {
			c.edit(q)
		}
		for _, tcp := range []bool{false, true} {
			h := New(newWorld(t).env(), friend)
			var out []byte
			if tcp {
				out, _ = h.Stream(nil, q, other)
			} else {
				out = h.Datagram(nil, q, other)
			}
			m, err := message.Decode(out)
			if err != nil {
				t.Errorf("%s, TCP %v: %v", c.what, tcp, err)
				continue
			}
			rd := c.flags & message.FlagRD
			good := c.want == message.NoError
			if m.ExtendedRcode != c.want || m.ID != 77 || m.Opcode() != c.o.Opcode || m.Flags&(message.FlagRD|ad|cd|z|ra|tc) != rd || (m.Flags&aa != 0) != good ||
				(m.EDNS != nil) != c.o.EDNS || len(m.Answer) != map[bool]int{true: 1}[good && c.typ == rr.TypeSOA] {
				t.Errorf("%s, TCP %v: %s, flags %04x, %d records, %+v", c.what, tcp, m.ExtendedRcode, m.Flags, len(m.Answer), m.EDNS)
			}
			if m.EDNS != nil && (m.EDNS.Version != 0 || m.EDNS.DO != c.o.DO || len(m.EDNS.Options) > 0) {
				t.Errorf("%s, TCP %v: %+v", c.what, tcp, m.EDNS)
			}
		}
	}
}

// D-36, D-39: over UDP no response is longer than what the asker takes, 512 octets at least, nor than
// 1232; each set either fits or is left out with TC. Over TCP what was said does not matter.
func TestD36_D39(t *testing.T) {
	for size := range 40 { // 41 octets a record
		w := newWorld(t)
		records := make([]rr.Record, 0, size)
		for i := range size {
			records = append(records, rr.Record{Name: apex, Type: rr.TypeTXT, TTL: 60, Data: []byte("\x1c" + strings.Repeat(string(rune('A'+i)), 28))})
		}
		records = append(records, rr.Record{Name: apex, Type: rr.TypeSOA, TTL: 60, Data: []byte("\x02ns\x00\x01h\x00\x00\x00\x00\x07\x00\x00\x1c\x20\x00\x00\x03\x84\x00\x12\x75\x00\x00\x00\x01\x2c")})
		snap, err := w.snap.Replace([]zone.Content{{Owner: apex, Records: records}})
		if err != nil {
			t.Fatal(err)
		}
		w.snap = snap
		for _, c := range []struct {
			edns  bool
			says  uint16
			limit int
		}{{false, 0, 512}, {true, 0, 512}, {true, 511, 512}, {true, 700, 700}, {true, 1232, 1232}, {true, 1233, 1232}, {true, 65535, 1232}} {
			q := query("tides.example.", rr.TypeTXT, message.QueryOptions{EDNS: c.edns, UDPSize: c.says})
			h := New(w.env(), friend)
			whole, _ := h.Stream(nil, q, other)
			out := h.Datagram(nil, q, other)
			m, err := message.Decode(out)
			all, werr := message.Decode(whole)
			if err != nil || werr != nil {
				t.Fatal(err, werr)
			}
			fits := len(whole) <= c.limit
			if len(out) > c.limit || (m.Flags&message.FlagTC == 0) != fits || (len(m.Answer) == size) != (fits || size == 0) || len(all.Answer) != size || all.Flags&message.FlagTC != 0 || (m.EDNS != nil) != c.edns {
				t.Errorf("%d records, EDNS %v %d: %d octets of %d, %d records, flags %04x", size, c.edns, c.says, len(out), len(whole), len(m.Answer), m.Flags)
			}
		}
	}
}
