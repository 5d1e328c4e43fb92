package request

import (
	"bytes"
	"slices"
	"testing"
	"time"

	"fencepost/cookie"
	"fencepost/message"
	"fencepost/rr"
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
