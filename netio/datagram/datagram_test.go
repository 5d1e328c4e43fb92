package datagram

import (
	"bytes"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// upper answers with the request in upper case, and nothing to "quiet"; what begins with "late" is
// answered by another goroutine.
type upper struct {
	seen *atomic.Int64
	back func() func([]byte)
}

func (u *upper) AnswersLater(back func() func([]byte)) { u.back = back }

func (u *upper) Datagram(dst, msg []byte, from netip.AddrPort) []byte {
	u.seen.Add(1)
	out := bytes.ToUpper(msg)
	switch {
	case string(msg) == "quiet" || from.Port() == 0:
		return dst
	case bytes.HasPrefix(msg, []byte("late")):
		send := u.back()
		go send(out)
		return dst
	}
	return append(dst, out...)
}

func (*upper) Flush() {}

// start serves an address and returns how many requests were seen.
func start(t *testing.T, ls []Listener) *atomic.Int64 {
	t.Helper()
	seen := &atomic.Int64{}
	var wg sync.WaitGroup
	for _, l := range ls {
		wg.Go(func() { l.Serve(func() Handler { return &upper{seen: seen} }) })
	}
	t.Cleanup(func() {
		for _, l := range ls {
			l.Close()
		}
		wg.Wait() // Serve returns after Close
	})
	return seen
}

// port is a port of the address that is free.
func port(t *testing.T, a netip.Addr) netip.AddrPort {
	t.Helper()
	c, err := net.ListenPacket("udp", netip.AddrPortFrom(a, 0).String())
	if err != nil {
		t.Skip("no such address here")
	}
	defer c.Close()
	return netip.AddrPortFrom(a, c.LocalAddr().(*net.UDPAddr).AddrPort().Port())
}

func exchange(t *testing.T, to string, texts ...string) {
	t.Helper()
	c, err := net.Dial("udp", to)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	buf := make([]byte, 8192)
	for _, text := range texts {
		_, _ = c.Write([]byte("quiet"))
		if _, err := c.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		_ = c.SetReadDeadline(time.Now().Add(10 * time.Second))
		n, err := c.Read(buf)
		if err != nil || string(buf[:n]) != string(bytes.ToUpper([]byte(text))) {
			t.Fatalf("%.20q to %s gives %.20q, %v", text, to, buf[:n], err)
		}
	}
}

// Both ways to serve answer, in order, also with what is longer than a response
// usually is.
func TestServe(t *testing.T) {
	long := string(bytes.Repeat([]byte("x"), 4000))
	for _, a := range []string{"127.0.0.1", "::1"} {
		at := port(t, netip.MustParseAddr(a))
		fast, err := Listen(at, 2)
		if err != nil {
			t.Fatal(err)
		}
		seen := start(t, fast)
		exchange(t, at.String(), "hello", "a", long, "late", "again", "late"+long[:4000-10])
		if seen.Load() != 12 {
			t.Errorf("%d requests were seen", seen.Load())
		}
		plain, err := listenPlain(port(t, netip.MustParseAddr(a)))
		if err != nil {
			t.Fatal(err)
		}
		start(t, []Listener{plain})
		exchange(t, plain.conn.LocalAddr().String(), "hello", "late", long, "late"+long[:10])
	}
}

// Many at once all get their answers.
func TestMany(t *testing.T) {
	at := port(t, netip.MustParseAddr("127.0.0.1"))
	ls, err := Listen(at, 2)
	if err != nil {
		t.Fatal(err)
	}
	start(t, ls)
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			for range 20 {
				exchange(t, at.String(), "ping", "later")
			}
		})
	}
	wg.Wait()
}

// Listening on all addresses, the answer leaves from the one that was asked: a
// connected socket takes it from there only.
func TestWildcard(t *testing.T) {
	for _, c := range []struct {
		listen string
		ask    []string
	}{{"0.0.0.0", []string{"127.0.0.1", "127.0.0.5"}}, {"::", []string{"::1"}}} {
		at := port(t, netip.MustParseAddr(c.listen))
		ls, err := Listen(at, 1)
		if err != nil {
			t.Skip(err)
		}
		start(t, ls)
		for _, a := range c.ask {
			exchange(t, netip.AddrPortFrom(netip.MustParseAddr(a), at.Port()).String(), "hello", "late", "again")
		}
	}
}

func TestTaken(t *testing.T) {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if ls, err := Listen(c.LocalAddr().(*net.UDPAddr).AddrPort(), 1); err == nil {
		ls[0].Close()
		t.Error("a port that is taken was taken")
	}
}

// What is sent after the end goes nowhere, and to nobody who has the descriptor by then.
func TestLateAfterClose(t *testing.T) {
	at := port(t, netip.MustParseAddr("127.0.0.1"))
	ls, err := Listen(at, 1)
	if err != nil {
		t.Fatal(err)
	}
	sends := make(chan func([]byte), 1)
	done := make(chan struct{})
	go func() {
		ls[0].Serve(func() Handler { return &keeper{sends: sends} })
		close(done)
	}()
	c, err := net.Dial("udp", at.String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.Write([]byte("x")); err != nil {
		t.Fatal(err)
	}
	send := <-sends
	ls[0].Close()
	<-done
	others := make([]net.PacketConn, 20) // one of them has the descriptor
	for i := range others {
		if others[i], err = net.ListenPacket("udp", "127.0.0.1:0"); err != nil {
			t.Fatal(err)
		}
		defer others[i].Close()
	}
	send([]byte("too late"))
	_ = c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
	if n, err := c.Read(make([]byte, 100)); err == nil {
		t.Errorf("%d octets came after the end", n)
	}
}

// keeper hands the ways back to somebody else.
type keeper struct {
	sends chan func([]byte)
	back  func() func([]byte)
}

func (k *keeper) AnswersLater(back func() func([]byte)) { k.back = back }
func (k *keeper) Flush()                                {}
func (k *keeper) Datagram(dst, _ []byte, _ netip.AddrPort) []byte {
	k.sends <- k.back()
	return dst
}
