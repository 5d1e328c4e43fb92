package resolve_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/update"
)

var name = dnsname.MustParse("www.saltmarsh.example.")

// respond writes an answer to a query with one address.
func respond(query []byte, change func(b *message.Builder)) []byte {
	var q message.Query
	message.ParseQuery(query, &q)
	var b message.Builder
	b.Begin(nil, &q, message.MaxLen, 1232)
	b.Record(message.AnswerSection, message.QName, rr.TypeA, 60, []byte{192, 0, 2, 1})
	if change != nil {
		change(&b)
	}
	return b.Finish()
}

// server answers datagrams on loopback with what each calls send for.
func server(t *testing.T, handle func(query []byte, send func([]byte))) netip.AddrPort {
	t.Helper()
	c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := c.ReadFromUDP(buf)
			if err != nil {
				return
			}
			handle(append([]byte(nil), buf[:n]...), func(msg []byte) { _, _ = c.WriteToUDP(msg, from) })
		}
	}()
	return c.LocalAddr().(*net.UDPAddr).AddrPort()
}

func ask(at netip.AddrPort, change func(r *resolve.Request)) (*resolve.Response, error) {
	r := resolve.Request{Name: name, Type: rr.TypeA, Timeout: 300 * time.Millisecond}
	if change != nil {
		change(&r)
	}
	return resolve.Ask(context.Background(), at, r)
}

// Answers that belong to another question are passed over and the wait goes on
// (RFC 5452 §9.1).
func TestForgeries(t *testing.T) {
	at := server(t, func(q []byte, send func([]byte)) {
		good := respond(q, nil)
		wrongID := append([]byte(nil), good...)
		wrongID[0] ^= 1
		other := append([]byte(nil), good...)
		other[13] ^= 1 // a letter of the name
		typ, class := append([]byte(nil), good...), append([]byte(nil), good...)
		end := message.HeaderLen + len(name.Wire())
		typ[end+1] ^= 1
		class[end+3] ^= 2
		question := append([]byte(nil), q...)
		for _, forged := range [][]byte{wrongID, other, typ, class, question, {1, 2, 3}, nil} {
			send(forged)
		}
		send(good)
	})
	r, err := ask(at, nil)
	if err != nil || len(r.Answer) != 1 || r.Transport != "udp" || r.Server != at || r.Question[0] != (message.Question{Name: name, Type: rr.TypeA, Class: rr.ClassIN}) {
		t.Fatalf("%+v, %v", r, err)
	}
}

func TestTries(t *testing.T) {
	var got, silent atomic.Int32
	at := server(t, func(q []byte, send func([]byte)) {
		if got.Add(1) == resolve.Tries {
			send(respond(q, nil))
		}
	})
	if _, err := ask(at, nil); err != nil || got.Load() != resolve.Tries {
		t.Errorf("%d tries, %v", got.Load(), err)
	}
	at = server(t, func([]byte, func([]byte)) { silent.Add(1) })
	if _, err := ask(at, nil); !errors.Is(err, resolve.ErrNoAnswer) || silent.Load() != resolve.Tries {
		t.Errorf("a silent server: %d tries, %v", silent.Load(), err)
	}
	l, _ := net.Listen("tcp", "127.0.0.1:0")
	free := l.Addr().(*net.TCPAddr).AddrPort()
	l.Close()
	for _, tcp := range []bool{false, true} {
		if _, err := ask(free, func(r *resolve.Request) { r.TCP = tcp }); err == nil || !strings.Contains(err.Error(), "nothing listens on") {
			t.Errorf("nobody there, TCP %v: %v", tcp, err)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(20*time.Millisecond, cancel)
	if _, err := resolve.Ask(ctx, at, resolve.Request{Name: name, Type: rr.TypeA, Timeout: time.Minute}); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
}

// A cut answer is asked for again over TCP (RFC 7766 §5).
func TestTruncated(t *testing.T) {
	var l net.Listener
	at := server(t, func(q []byte, send func([]byte)) {
		send(respond(q, func(b *message.Builder) { b.SetFlag(message.FlagTC) }))
	})
	l, err := net.Listen("tcp", at.String())
	if err != nil {
		t.Skip("the port is taken for TCP")
	}
	defer l.Close()
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		if q, err := resolve.ReadTCP(c, nil); err == nil {
			_ = resolve.WriteTCP(c, respond(q, nil))
		}
	}()
	r, err := ask(at, nil)
	if err != nil || r.Transport != "tcp" || !r.Truncated || len(r.Answer) != 1 {
		t.Fatalf("%+v, %v", r, err)
	}
	r, err = ask(at, func(r *resolve.Request) { r.UDPOnly = true })
	if err != nil || r.Flags&message.FlagTC == 0 {
		t.Errorf("over UDP only: %+v, %v", r, err)
	}
}

func TestSigned(t *testing.T) {
	key := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}
	var sign atomic.Bool
	sign.Store(true)
	at := server(t, func(q []byte, send func([]byte)) {
		out := respond(q, nil)
		if sign.Load() {
			s := tsig.NewStream(key)
			off, _ := message.FindTSIG(q)
			if _, err := s.Verify(q, off, time.Now()); err == nil {
				out = s.Sign(out, time.Now())
			}
		}
		send(out)
	})
	withKey := func(r *resolve.Request) { r.TSIG = key }
	if r, err := ask(at, withKey); err != nil || len(r.Answer) != 1 || len(r.Additional) != 0 {
		t.Errorf("signed: %+v, %v", r, err)
	}
	sign.Store(false)
	if _, err := ask(at, withKey); err == nil || !strings.Contains(err.Error(), "not signed") {
		t.Errorf("an unsigned answer: %v", err)
	}
	refuses := server(t, func(q []byte, send func([]byte)) {
		send(respond(q, func(b *message.Builder) { b.SetRcode(message.Refused) }))
	})
	for at, want := range map[netip.AddrPort]string{at: "", refuses: "REFUSED"} {
		err := resolve.Notify(context.Background(), resolve.Notification{Server: at, Zone: name, Timeout: time.Second})
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("NOTIFY: %v", err)
		}
	}
}

func TestReadTCP(t *testing.T) {
	for _, in := range []string{"", "\x00", "\x00\x0c123", "\x00\x05hello"} {
		if m, err := resolve.ReadTCP(strings.NewReader(in), nil); err == nil {
			t.Errorf("%q was read as %q", in, m)
		}
	}
}

// A request that fits into no message is refused before it is sent, at the octet.
func TestRequestTooLarge(t *testing.T) {
	zone := dnsname.MustParse("example.")
	for _, c := range []struct {
		octets int
		key    *tsig.Key
		over   int
	}{{60000, nil, 0}, {65535, nil, 0}, {65536, nil, 1}, {70000, nil, 70000 - message.MaxLen}} {
		u := &update.Request{Zone: zone}
		base := len(u.Append(nil, 1)) + 11 // with OPT
		const header = 9 + 10
		for left := c.octets - base; left > 0; {
			n := min(left-header, 30000)
			u.Changes = append(u.Changes, rr.Record{Name: zone, Type: 65280, Class: rr.ClassIN, Data: make([]byte, n)})
			left -= n + header
		}
		_, err := resolve.Change(t.Context(), netip.MustParseAddrPort("127.0.0.1:1"), u, resolve.Request{TSIG: c.key, Timeout: time.Millisecond, Tries: 1, TCP: true})
		large, is := errors.AsType[*resolve.TooLargeError](err)
		if is != (c.over > 0) || is && (large.Octets != c.octets || large.Octets-large.Most != c.over) {
			t.Errorf("%d octets: %v", c.octets, err)
		}
	}
}
