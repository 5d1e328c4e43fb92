package netio_test

import (
	"cmp"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"fencepost/netio"
	"fencepost/netio/datagram"
)

type echo struct{}

func (echo) Datagram(dst, msg []byte, _ netip.AddrPort) []byte { return append(dst, msg...) }
func (echo) Flush()                                            {}

var here, there = netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")

// Both networks carry datagrams and streams, on a port that was free for both, and give it
// back.
func TestCarries(t *testing.T) {
	memory := netio.NewMemory(netio.Real)
	for what, n := range map[string][2]netio.Network{"memory": {memory.Host(here), memory.Host(there)}, "system": {netio.System, netio.System}} {
		at := netip.AddrPortFrom(there, 0)
		if what == "system" {
			at = netip.MustParseAddrPort("127.0.0.1:0")
		}
		e, err := n[1].Listen(at, 2)
		if err != nil {
			t.Fatal(err)
		}
		if again, err := n[1].Listen(e.Addr, 2); err == nil {
			again.Close()
			t.Errorf("%s: a port was taken twice", what)
		}
		var wg sync.WaitGroup
		for _, u := range e.UDP {
			wg.Go(func() { u.Serve(func() datagram.Handler { return echo{} }) })
		}
		wg.Go(func() {
			for {
				c, err := e.TCP.Accept()
				if err != nil {
					return
				}
				_, _ = io.Copy(c, io.LimitReader(c, 5))
				c.Close()
			}
		})
		for _, network := range []string{"udp", "tcp"} {
			c, err := n[0].Dial(context.Background(), network, netip.Addr{}, e.Addr, time.Second)
			if err != nil {
				t.Fatal(what, network, err)
			}
			_ = c.SetDeadline(time.Now().Add(10 * time.Second))
			if _, err := c.Write([]byte("hello")); err != nil {
				t.Fatal(what, network, err)
			}
			buf := make([]byte, 5)
			if _, err := io.ReadFull(c, buf); err != nil || string(buf) != "hello" {
				t.Errorf("%s, %s: %q, %v", what, network, buf, err)
			}
			c.Close()
		}
		e.Close()
		wg.Wait()
	}
}

// On a host that is away everything is lost, and a read for which nothing can come is over at
// once, however long it would wait; where nobody listens that is told.
func TestOutage(t *testing.T) {
	m := netio.NewMemory(netio.NewVirtual(time.Unix(0, 0)))
	e, err := m.Host(there).Listen(netip.AddrPortFrom(there, 53), 1)
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	wg.Go(func() { e.UDP[0].Serve(func() datagram.Handler { return echo{} }) })
	ask := func(to netip.AddrPort) error {
		c, err := m.Host(here).Dial(t.Context(), "udp", netip.Addr{}, to, time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		_, _ = c.Write([]byte("x"))
		_, err = c.Read(make([]byte, 9))
		return err
	}
	if err := ask(e.Addr); err != nil {
		t.Errorf("an answer: %v", err)
	}
	if err := ask(netip.AddrPortFrom(there, 54)); !errors.Is(err, syscall.ECONNREFUSED) {
		t.Errorf("nobody there: %v", err)
	}
	for _, host := range []netip.Addr{here, there} {
		m.SetDown(host, true)
		if err := ask(e.Addr); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("in an outage: %v", err)
		}
		if _, err := m.Host(here).Dial(t.Context(), "tcp", netip.Addr{}, e.Addr, time.Hour); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("a stream in an outage: %v", err)
		}
		m.SetDown(host, false)
	}
	e.Close()
	wg.Wait()
	if err := ask(e.Addr); !errors.Is(err, syscall.ECONNREFUSED) {
		t.Errorf("after the end: %v", err)
	}
}

// Streams between many hosts, with outages and deadlines at random: whoever serves is done
// with what came before Settle returns, whoever asks is answered or told in time, and nobody
// waits for ever.
func TestStreams(t *testing.T) {
	clock := netio.NewVirtual(time.Unix(0, 0))
	m := netio.NewMemory(clock)
	e, err := m.Host(there).Listen(netip.AddrPortFrom(there, 53), 1)
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	var served atomic.Int64
	wg.Go(func() {
		for {
			c, err := e.TCP.Accept()
			if err != nil {
				return
			}
			wg.Go(func() {
				defer c.Close()
				buf := make([]byte, 1)
				for {
					_ = c.SetReadDeadline(clock.Now().Add(10 * time.Second))
					if _, err := io.ReadFull(c, buf); err != nil {
						return
					}
					served.Add(1)
					switch buf[0] {
					case 'q': // says nothing
					case 'x':
						return
					default:
						_, _ = c.Write([]byte("answer"))
					}
				}
			})
		}
	})
	r := rand.New(rand.NewPCG(3, 2026))
	var open []net.Conn
	want := int64(0)
	for range 3000 {
		switch k := r.IntN(10); {
		case k == 0 || len(open) == 0:
			c, err := m.Host(here).Dial(t.Context(), "tcp", netip.Addr{}, e.Addr, time.Second)
			if err != nil {
				t.Fatal(err)
			}
			open = append(open, c)
		case k == 1:
			clock.Advance(clock.Now().Add(time.Duration(r.IntN(12)) * time.Second))
		case k == 2:
			i := r.IntN(len(open))
			open[i].Close()
			open = slices.Delete(open, i, i+1)
		default:
			c, what := open[r.IntN(len(open))], "aaaqx"[r.IntN(5)]
			down := r.IntN(8) == 0
			m.SetDown(there, down)
			if _, err := c.Write([]byte{what}); err == nil && !down {
				want++
			}
			n, err := c.Read(make([]byte, 9))
			if ok := n == len("answer"); ok != (err == nil) || ok && (what != 'a' || down) {
				t.Fatalf("%c, down %v: %d octets, %v", what, down, n, err)
			}
			m.SetDown(there, false)
			if err != nil { // what was lost stays lost
				i := slices.Index(open, c)
				c.Close()
				open = slices.Delete(open, i, i+1)
			}
		}
		if m.Settle(); served.Load() != want {
			t.Fatalf("%d requests were served, %d sent", served.Load(), want)
		}
	}
	for _, c := range open {
		c.Close()
	}
	e.Close()
	wg.Wait()
}

// Timers of a clock that is moved go off at their times, in their order, also those that
// others make; and what was taken back does not.
func TestVirtualClock(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2026))
	begin := time.Unix(1_000_000, 0)
	clock := netio.NewVirtual(begin)
	type due struct {
		at time.Time
		n  int
	}
	var waiting []due
	made := 0
	var plan func()
	plan = func() {
		made++
		d := due{clock.Now().Add(time.Duration(r.IntN(20)) * time.Second), made}
		var stop func() bool
		stop = clock.AfterFunc(d.at.Sub(clock.Now()), func() {
			first := slices.MinFunc(waiting, func(a, b due) int { return cmp.Or(a.at.Compare(b.at), a.n-b.n) })
			if first != d || !clock.Now().Equal(d.at) || stop() {
				t.Fatalf("%v goes off at %s; %v is first", d, clock.Now(), first)
			}
			waiting = slices.DeleteFunc(waiting, func(o due) bool { return o == d })
			if r.IntN(3) == 0 {
				plan()
			}
		})
		waiting = append(waiting, d)
		if r.IntN(5) == 0 && stop() {
			waiting = waiting[:len(waiting)-1]
		}
	}
	for range 500 {
		for range r.IntN(4) {
			plan()
		}
		to := clock.Now().Add(time.Duration(r.IntN(15)) * time.Second)
		clock.Advance(to)
		next, ok := clock.Next()
		if !clock.Now().Equal(to) || ok != (len(waiting) > 0) || ok && !next.After(to) {
			t.Fatalf("at %s, not %s; next %s", clock.Now(), to, next)
		}
	}
	ctx, cancel := netio.WithTimeout(t.Context(), clock, time.Minute)
	defer cancel()
	if clock.Advance(clock.Now().Add(59 * time.Second)); ctx.Err() != nil {
		t.Error("a context is over too soon")
	}
	if clock.Advance(clock.Now().Add(time.Second)); context.Cause(ctx) != context.DeadlineExceeded {
		t.Errorf("a context goes on: %v", context.Cause(ctx))
	}
}

// The resolver knows names in any case, as resolvers do.
func TestMemoryResolverCase(t *testing.T) {
	world := netio.NewMemory(netio.Real)
	world.SetNS("Example.", "ns.NIC.example.")
	world.SetAddr("ns.nic.EXAMPLE.", netip.MustParseAddr("192.0.2.1"))
	host := world.Host(netip.MustParseAddr("192.0.2.9"))
	servers, err := host.LookupNS(t.Context(), "eXAMPLE.")
	if err != nil || len(servers) != 1 {
		t.Fatalf("the zone has the servers %v, %v", servers, err)
	}
	if addrs, err := host.LookupAddr(t.Context(), servers[0]); err != nil || len(addrs) != 1 {
		t.Errorf("the server has the addresses %v, %v", addrs, err)
	}
}
