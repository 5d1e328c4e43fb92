package transfer_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/zone"
)

var apex = dnsname.MustParse("Example.")

const soaData = "\x02ns\x07example\x00\x01h\x07example\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c"

// sample is a zone of n hosts, some of them occluded or in mixed case.
func sample(n int) *zone.Snapshot {
	b := zone.NewBuilder(apex, false)
	add := func(owner string, t rr.Type, data string) {
		name := dnsname.MustParse(owner)
		if err := b.Add([]byte(name.Wire()), t, 300, []byte(data), 0); err != nil {
			panic(err)
		}
	}
	add("Example.", rr.TypeSOA, soaData)
	add("Example.", rr.TypeNS, "\x02NS\x07Example\x00")
	add("sub.Example.", rr.TypeNS, "\x02ns\x03sub\x07Example\x00")
	add("ns.sub.Example.", rr.TypeA, "\x0a\x00\x00\x01")
	add("hidden.sub.Example.", rr.TypeTXT, "\x05never")
	for i := range n {
		add(fmt.Sprintf("HosT%d.Example.", i), rr.TypeMX, "\x00\x0a\x04mail\x07Example\x00")
		add(fmt.Sprintf("HosT%d.Example.", i), rr.TypeTXT, "\xc8"+strings.Repeat("x", 200))
	}
	return b.Build().Snapshot
}

var key = &tsig.Key{Name: dnsname.MustParse("k.example."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}

// serve answers one transfer on loopback with what respond writes.
func serve(t *testing.T, respond func(w net.Conn, query []byte)) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if q, err := resolve.ReadTCP(c, nil); err == nil {
				respond(c, q)
			}
			c.Close()
		}
	}()
	return l.Addr().(*net.TCPAddr).AddrPort()
}

// sender sends a zone through wrap, signed if the query is.
func sender(z *zone.Snapshot, wrap func(io.Writer) io.Writer) func(net.Conn, []byte) {
	return func(w net.Conn, query []byte) {
		var q message.Query
		message.ParseQuery(query, &q)
		var s *tsig.Stream
		if q.TSIG != 0 {
			s = tsig.NewStream(key)
			if _, err := s.Verify(query, q.TSIG, time.Now()); err != nil {
				return
			}
		}
		_ = transfer.Send(wrap(w), transfer.Whole(z), &q, s, -1, time.Now)
	}
}

func whole(w io.Writer) io.Writer { return w }

func receive(at netip.AddrPort, k *tsig.Key) (*zone.Snapshot, error) {
	got, err := transfer.Receive(context.Background(), transfer.Fetch{Zone: apex, Server: at, Key: k, Timeout: 5 * time.Second})
	return got.Zone, err
}

// A transferred zone is the zone, case and occluded names included (RFC 5936 §3).
func TestTransfer(t *testing.T) {
	z := sample(3000)
	at := serve(t, sender(z, whole))
	for _, k := range []*tsig.Key{nil, key} {
		got, err := receive(at, k)
		if err != nil || !zone.Equal(z, got) {
			t.Fatalf("signed %v: %v", k != nil, err)
		}
	}
	var n zone.Node
	got, _ := receive(at, nil)
	got.GetName(dnsname.MustParse("host7.example."), &n)
	if got.Owner(&n).String() != "HosT7.Example." {
		t.Errorf("the case of an owner was lost: %s", got.Owner(&n))
	}
}

// cutter ends a transfer after some octets.
type cutter struct {
	w    io.Writer
	left int
}

func (c *cutter) Write(b []byte) (int, error) {
	if c.left < len(b) {
		_, _ = c.w.Write(b[:c.left])
		c.left = 0
		return 0, io.ErrClosedPipe
	}
	c.left -= len(b)
	return c.w.Write(b)
}

// flipper changes one octet on the way.
type flipper struct {
	w  io.Writer
	at int
}

func (f *flipper) Write(b []byte) (int, error) {
	b = bytes.Clone(b)
	if f.at >= 0 && f.at < len(b) {
		b[f.at] ^= 1
	}
	f.at -= len(b)
	return f.w.Write(b)
}

// Anything but a clean end gives no zone (RFC 5936 §2.2).
func TestBrokenTransfers(t *testing.T) {
	z := sample(1000)
	for _, left := range []int{0, 1, 100, 70000, 200000} {
		at := serve(t, sender(z, func(w io.Writer) io.Writer { return &cutter{w, left} }))
		if got, err := receive(at, nil); err == nil || got != nil {
			t.Errorf("cut after %d octets: %v", left, err)
		}
	}
	for _, i := range []int{40, 5000, 130000} {
		at := serve(t, sender(z, func(w io.Writer) io.Writer { return &flipper{w, i} }))
		if got, err := receive(at, key); err == nil || got != nil {
			t.Errorf("octet %d changed under TSIG: %v", i, err)
		}
	}
	reply := func(f func(b *message.Builder)) func(net.Conn, []byte) {
		return func(w net.Conn, query []byte) {
			var q message.Query
			message.ParseQuery(query, &q)
			var b message.Builder
			b.Begin(nil, &q, message.MaxLen, 1232)
			f(&b)
			_ = resolve.WriteTCP(w, b.Finish())
		}
	}
	soa := func(b *message.Builder, serial uint32) {
		b.Record(message.AnswerSection, message.QName, rr.TypeSOA, 300, rr.SetSerial([]byte(soaData), serial))
	}
	for what, respond := range map[string]func(net.Conn, []byte){
		"refused":                reply(func(b *message.Builder) { b.SetRcode(message.Refused) }),
		"no SOA in front":        reply(func(b *message.Builder) { b.Record(message.AnswerSection, message.QName, rr.TypeNS, 1, []byte{0}) }),
		"another SOA at the end": reply(func(b *message.Builder) { soa(b, 1); soa(b, 2) }),
		"data of another zone": reply(func(b *message.Builder) {
			soa(b, 1)
			b.Record(message.AnswerSection, []byte("\x03org\x00"), rr.TypeA, 1, []byte{1, 2, 3, 4})
			soa(b, 1)
		}),
		"a question type as data": reply(func(b *message.Builder) {
			soa(b, 1)
			b.Record(message.AnswerSection, message.QName, rr.TypeANY, 1, nil)
			soa(b, 1)
		}),
		"records after the end": reply(func(b *message.Builder) { soa(b, 1); soa(b, 1); soa(b, 1) }),
		"not signed":            reply(func(b *message.Builder) { soa(b, 1); soa(b, 1) }),
	} {
		k := (*tsig.Key)(nil)
		if what == "not signed" {
			k = key
		}
		got, err := receive(serve(t, respond), k)
		if err == nil || got != nil {
			t.Errorf("%s: taken", what)
		}
		var refused *transfer.RefusedError
		if (what == "refused") != errors.As(err, &refused) {
			t.Errorf("%s: %v", what, err)
		}
	}
	big := serve(t, sender(z, whole))
	if _, err := transfer.Receive(context.Background(), transfer.Fetch{Zone: apex, Server: big, Max: 1000}); err == nil {
		t.Error("a transfer larger than allowed was taken")
	}
}

// A transfer whose last message is not signed ends in nothing (RFC 8945 §5.3.1),
// though all before it are.
func TestUnsignedEnd(t *testing.T) {
	z := sample(1500)
	strip := false
	at := serve(t, func(w net.Conn, query []byte) {
		var all messages
		sender(z, func(io.Writer) io.Writer { return &all })(w, query)
		if strip {
			last := all[len(all)-1][2:]
			off, _ := message.FindTSIG(last)
			last[11]--
			all[len(all)-1] = append([]byte{byte(off >> 8), byte(off)}, last[:off]...)
		}
		for _, m := range all {
			_, _ = w.Write(m)
		}
	})
	if got, err := receive(at, key); err != nil || !zone.Equal(z, got) {
		t.Fatalf("signed to its end: %v", err)
	}
	strip = true
	if got, err := receive(at, key); err == nil || got != nil || !strings.Contains(err.Error(), "last message is not signed") {
		t.Errorf("with an unsigned end: %v", err)
	}
}

// messages keeps what is written, each write by itself.
type messages [][]byte

func (m *messages) Write(b []byte) (int, error) {
	*m = append(*m, bytes.Clone(b))
	return len(b), nil
}

// Records as large as a message can hold are transferred, signed or not.
func TestHugeRecords(t *testing.T) {
	for _, k := range []*tsig.Key{nil, key} {
		room := message.MaxLen - message.HeaderLen - len(apex.Wire()) - 4 - 2 - 10
		if k != nil {
			room -= k.Size()
		}
		for _, size := range []int{60000, 65000, room - 1, room, room + 1, 65535} {
			b := zone.NewBuilder(apex, false)
			_ = b.AddRecord(rr.Record{Name: apex, Type: rr.TypeSOA, TTL: 300, Data: []byte(soaData)})
			_ = b.AddRecord(rr.Record{Name: apex, Type: 700, TTL: 300, Data: bytes.Repeat([]byte{7}, size)})
			z := b.Build().Snapshot
			got, err := receive(serve(t, sender(z, whole)), k)
			if fits := size <= room; (err == nil) != fits || fits && !zone.Equal(z, got) {
				t.Errorf("a record of %d octets, signed %v: %v", size, k != nil, err)
			}
		}
	}
}

// A transfer that drips ends, however patient each single wait is; all transfers
// together stay within their budget.
func TestLimits(t *testing.T) {
	drip := serve(t, func(w net.Conn, query []byte) {
		for {
			if _, err := w.Write([]byte{0xff}); err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	_, err := transfer.Receive(context.Background(), transfer.Fetch{Zone: apex, Server: drip, Timeout: time.Hour, Patience: 100 * time.Millisecond})
	if !errors.Is(err, transfer.ErrSlow) {
		t.Errorf("a transfer that drips: %v", err)
	}
	z := sample(1000)
	at := serve(t, sender(z, whole))
	budget := &transfer.Budget{}
	budget.SetMost(100000)
	for range 2 { // what a transfer took is given back, also when it failed
		if _, err := transfer.Receive(context.Background(), transfer.Fetch{Zone: apex, Server: at, Budget: budget}); err == nil {
			t.Error("a transfer beyond the budget was taken")
		}
	}
	budget.SetMost(300000)
	for range 2 {
		if _, err := transfer.Receive(context.Background(), transfer.Fetch{Zone: apex, Server: at, Budget: budget}); err != nil {
			t.Errorf("a transfer within the budget: %v", err)
		}
	}
}

// The clock of a secondary (RFC 1034 §4.3.5), with the time driven by hand.
func TestClock(t *testing.T) {
	soa := rr.SOA{Refresh: 7200, Retry: 900, Expire: 1209600}
	now := time.Unix(1700000000, 0)
	var c transfer.Clock
	for i, want := range []time.Duration{1, 2, 4, 8, 16, 32, 60, 60} {
		c.Failed(now, 0)
		if got := c.Next.Sub(now); got != want*time.Second {
			t.Errorf("before any version, failure %d: again in %s", i+1, got)
		}
	}
	if c.Expired(now.Add(10000*time.Hour)) || !c.Expires().IsZero() {
		t.Error("what is not there expires")
	}
	c.Confirmed(now, soa, 0)
	if got := c.Next.Sub(now); got != 2*time.Hour || !c.Failing.IsZero() {
		t.Errorf("after a success: again in %s", got)
	}
	later := now.Add(2 * time.Hour)
	c.Failed(later, 0)
	if got := c.Next.Sub(later); got != 15*time.Minute || !c.Failing.Equal(later) {
		t.Errorf("after a failure: again in %s, failing since %s", got, c.Failing)
	}
	if end := now.Add(14 * 24 * time.Hour); !c.Expires().Equal(end) || c.Expired(end.Add(-time.Second)) || !c.Expired(end) {
		t.Errorf("expires %s", c.Expires())
	}
	c.Confirmed(later, soa, 1)
	if got := c.Next.Sub(later); got != 108*time.Minute {
		t.Errorf("spread: again in %s", got)
	}
	// Timers that would hammer or forget a primary are bounded.
	c.Confirmed(now, rr.SOA{}, 0)
	if got := c.Next.Sub(now); got < 10*time.Second || c.Expired(now.Add(time.Second)) {
		t.Errorf("zero timers: again in %s", got)
	}
	c.Confirmed(now, rr.SOA{Refresh: 1<<32 - 1}, 0)
	if got := c.Next.Sub(now); got > 28*24*time.Hour {
		t.Errorf("endless timers: again in %s", got)
	}
}

func BenchmarkSend(b *testing.B) {
	z := sample(20000)
	var q message.Query
	message.ParseQuery(message.AppendQuery(nil, apex, rr.TypeAXFR, message.QueryOptions{}), &q)
	n := &counter{}
	_ = transfer.Send(n, transfer.Whole(z), &q, nil, -1, time.Now)
	b.SetBytes(n.n)
	for b.Loop() {
		_ = transfer.Send(io.Discard, transfer.Whole(z), &q, nil, -1, time.Now)
	}
}

type counter struct{ n int64 }

func (c *counter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	return len(b), nil
}

// Messages without records, with padding or without, may stand between the others (RFC
// 9103 §7.9.1).
func TestEmptyMessages(t *testing.T) {
	z := sample(1500)
	at := serve(t, func(w net.Conn, query []byte) {
		var all messages
		sender(z, func(io.Writer) io.Writer { return &all })(w, query)
		for i, m := range all {
			if i == 1 {
				empty := append([]byte{query[0], query[1], 0x84, 0, 0, 0, 0, 0, 0, 0, 0, 0}, []byte(nil)...)
				_ = resolve.WriteTCP(w, empty)
				padded := append([]byte{query[0], query[1], 0x84, 0, 0, 0, 0, 0, 0, 0, 0, 1}, 0, 0, byte(rr.TypeOPT), 4, 0xd0, 0, 0, 0, 0, 0, 8, 0, 12, 0, 4, 0, 0, 0, 0)
				_ = resolve.WriteTCP(w, padded)
			}
			_, _ = w.Write(m)
		}
	})
	if got, err := receive(at, nil); err != nil || !zone.Equal(z, got) {
		t.Error(err)
	}
}
