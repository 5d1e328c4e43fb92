package transfer_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/netip"
	"runtime"
	"slices"
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

// randomZone has owners and data of all lengths at which something is done otherwise, and
// names in the data that can be pointed to, nearly can, and cannot.
func randomZone(r *rand.Rand, names int) *zone.Snapshot {
	b := zone.NewBuilder(apex, false)
	pick := func(of ...int) int { return of[r.IntN(len(of))] }
	label := func() string {
		n := pick(1, 2, 3, 8, 14, 15, 16, 17, 62, 63)
		text := strings.Repeat(string(rune('a'+r.IntN(3))), n-1) + string("aA9\x00\x01*"[r.IntN(6)])
		return string(rune(n)) + text
	}
	name := func() (w string) {
		for range pick(0, 1, 1, 1, 2, 3) {
			w += label()
		}
		return w + []string{apex.Wire(), strings.ToLower(apex.Wire()), "\x01x" + apex.Wire(), "\x07sxample\x00", "\x00"}[r.IntN(5)]
	}
	data := map[rr.Type]func() string{
		rr.TypeA: func() string { return "\xc0\x00\x02" + string(rune(r.IntN(128))) }, rr.TypeAAAA: func() string { return strings.Repeat("a", 16) },
		rr.TypeNS: name, rr.TypePTR: name, rr.TypeMX: func() string { return "\x00\x0a" + name() }, 14: func() string { return name() + name() },
		17: func() string { return name() + name() }, rr.TypeSRV: func() string { return "\x00\x01\x00\x02\x00\x03" + name() },
		700: func() string {
			return strings.Repeat("z", pick(0, 1, 15, 16, 17, 127, 128, 300, 4090, 59000)*r.IntN(2))
		},
	}
	types := slices.Sorted(maps.Keys(data))
	add := func(owner string, t rr.Type, data string) {
		if err := b.Add([]byte(owner), t, r.Uint32()>>1, []byte(data), 0); err != nil {
			panic(err)
		}
	}
	add(apex.Wire(), rr.TypeSOA, soaData)
	for range names {
		owner := apex.Wire()
		for range pick(0, 1, 1, 1, 1, 1, 2, 3) {
			owner = label() + owner
		}
		for range pick(1, 1, 2, 5) {
			t := types[r.IntN(len(types))]
			add(owner, t, data[t]())
		}
	}
	return b.Build().Snapshot
}

// Zones of any shape and size arrive as they are, whoever makes the messages and whether they
// are signed.
func TestRandomTransfers(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(0))
	for seed := range uint64(24) {
		r := rand.New(rand.NewPCG(seed, 1))
		z := randomZone(r, []int{0, 1, 40, 400, 4000}[seed%5])
		k := []*tsig.Key{nil, key}[r.IntN(2)]
		runtime.GOMAXPROCS([]int{1, 2, 8}[seed%3])
		if got, err := receive(serve(t, sender(z, whole)), k); err != nil || !zone.Equal(z, got) {
			t.Errorf("seed %d, %d names, signed %v: %v", seed, z.Names(), k != nil, err)
		}
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

// Whoever sends to one that has gone says so, and nothing of it goes on.
func TestSentToNobody(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(8))
	z := sample(5000)
	var q message.Query
	message.ParseQuery(message.AppendQuery(nil, apex, rr.TypeAXFR, message.QueryOptions{}), &q)
	before := runtime.NumGoroutine()
	for _, left := range []int{0, 70000, 700000, 1100000} {
		if err := transfer.Send(&cutter{io.Discard, left}, transfer.Whole(z), &q, nil, -1, time.Now); !errors.Is(err, io.ErrClosedPipe) {
			t.Errorf("after %d octets: %v", left, err)
		}
	}
	// Helpers that have said that they are done may still have to go.
	for patience := time.Now().Add(time.Minute); runtime.NumGoroutine() > before; runtime.Gosched() {
		if time.Now().After(patience) {
			t.Fatalf("%d goroutines are left", runtime.NumGoroutine()-before)
		}
	}
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

// manyNames is a zone like those of hosting: small records, most names directly below the apex.
func manyNames(n int) *zone.Snapshot {
	b := zone.NewBuilder(apex, false)
	add := func(owner string, t rr.Type, data string) {
		if err := b.Add([]byte(owner+apex.Wire()), t, 3600, []byte(data), 0); err != nil {
			panic(err)
		}
	}
	add("", rr.TypeSOA, soaData)
	for i := range n {
		label := fmt.Sprintf("%x", i*0x9e3779b1&0xffffffff)
		owner := string(rune(len(label))) + label
		switch i % 20 {
		case 0:
			add(owner, rr.TypeNS, "\x02ns"+owner+apex.Wire())
			add("\x02ns"+owner, rr.TypeA, "\xc0\x00\x02\x01")
		case 1, 2:
			add(owner, rr.TypeCNAME, "\x04mail"+apex.Wire())
		case 3:
			add(owner, rr.TypeMX, "\x00\x0a\x04mail"+apex.Wire())
		default:
			add(owner, rr.TypeA, "\xc0\x00\x02\x01")
			add(owner, rr.TypeAAAA, "\x20\x01\x0d\xb8\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01")
		}
	}
	return b.Build().Snapshot
}

func BenchmarkSend(b *testing.B) {
	for name, z := range map[string]*zone.Snapshot{"small": manyNames(100000), "large": sample(20000)} {
		b.Run(name, func(b *testing.B) {
			var q message.Query
			message.ParseQuery(message.AppendQuery(nil, apex, rr.TypeAXFR, message.QueryOptions{}), &q)
			n := &counter{}
			_ = transfer.Send(n, transfer.Whole(z), &q, nil, -1, time.Now)
			b.SetBytes(n.n)
			for b.Loop() {
				_ = transfer.Send(io.Discard, transfer.Whole(z), &q, nil, -1, time.Now)
			}
		})
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

// What a primary says of the time that is left counts where it is not less than what was known, and
// never more than the SOA's expire (RFC 7314 §4).
func TestClockSaid(t *testing.T) {
	soa := rr.SOA{Refresh: 7200, Retry: 900, Expire: 1209600}
	now := time.Unix(1700000000, 0)
	for _, c := range []struct {
		said  uint32
		fresh bool
		had   time.Duration
		want  time.Duration
	}{
		{1000, true, 5000, 1000}, {1000, false, 5000, 5000}, {5000, false, 1000, 5000}, {5000, true, 0, 5000},
		{2000000, true, 0, 1209600}, {1000, false, 2000000, 1209600}, {0, true, 0, 0}, {0, false, 7, 7},
	} {
		var k transfer.Clock
		k.Confirmed(now, soa, 0)
		k.Said(now, c.said, c.fresh, now.Add(c.had*time.Second))
		if got := k.Expires().Sub(now); got != c.want*time.Second {
			t.Errorf("%+v: expires in %s", c, got)
		}
	}
}
