package netio

import (
	"context"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"fencepost/netio/datagram"
)

// Memory is a network without sockets: hosts by their addresses, with datagrams and
// streams. Nothing takes time on it. A datagram is answered before the call that sends it
// returns, and a read for which nothing can come any more times out at once, whatever its
// deadline: a day of servers that talk to each other passes in moments. A host can be taken
// away, as by an outage: what is sent to it or by it is lost, and nobody is told.
type Memory struct {
	clock Clock

	mu    sync.Mutex
	moved *sync.Cond // streams: something came, or somebody closed, waits or is late
	busy  int        // streams whose serving end is at work
	down  map[netip.Addr]bool
	bound map[netip.AddrPort]*memoryEndpoint
	next  map[netip.Addr]uint16 // ports for those who dial
	ns    map[string][]string   // what resolvers know: servers by zone
	addrs map[string][]netip.Addr
}

// NewMemory makes a network without hosts. Deadlines on it go by the clock.
func NewMemory(clock Clock) *Memory {
	m := &Memory{clock: clock, down: map[netip.Addr]bool{}, bound: map[netip.AddrPort]*memoryEndpoint{}, next: map[netip.Addr]uint16{}, ns: map[string][]string{}, addrs: map[string][]netip.Addr{}}
	m.moved = sync.NewCond(&m.mu)
	return m
}

// SetNS is what the resolvers of all hosts say of a zone's servers from now on.
func (m *Memory) SetNS(zone string, servers ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ns[strings.ToLower(zone)] = servers
}

// SetAddr is what they say of the addresses of a host.
func (m *Memory) SetAddr(host string, addrs ...netip.Addr) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.addrs[strings.ToLower(host)] = addrs
}

// SetDown takes a host away, or brings it back.
func (m *Memory) SetDown(host netip.Addr, down bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.down[host] = down
	m.moved.Broadcast()
}

// Settle waits until nobody who serves a stream is at work: each waits for what comes next,
// or is done.
func (m *Memory) Settle() {
	m.mu.Lock()
	defer m.mu.Unlock()
	for m.busy > 0 {
		m.moved.Wait()
	}
}

// Host is the network as a host sees it: what it sends comes from its address.
func (m *Memory) Host(at netip.Addr) Network { return &memoryHost{m, at} }

type memoryHost struct {
	m  *Memory
	at netip.Addr
}

// memoryEndpoint is somebody who listens.
type memoryEndpoint struct {
	streams chan *memoryStream
	closed  chan struct{}
	once    sync.Once

	serving chan struct{} // closed when handler is there
	mu      sync.Mutex    // one datagram at a time
	handler datagram.Handler
}

func (e *memoryEndpoint) close() { e.once.Do(func() { close(e.closed) }) }

// between is who listens there; lost tells that nothing gets through. The lock is held.
func (m *Memory) between(from netip.Addr, to netip.AddrPort) (e *memoryEndpoint, lost bool) {
	if m.down[from] || m.down[to.Addr()] {
		return nil, true
	}
	return m.bound[to], false
}

// port is a port of a host that nothing else has. The lock is held.
func (m *Memory) port(host netip.Addr) uint16 {
	const first = 49152 // RFC 6335 §6
	for {
		if m.next[host]++; m.next[host] < first {
			m.next[host] = first
		}
		p := m.next[host]
		if m.bound[netip.AddrPortFrom(host, p)] == nil {
			return p
		}
	}
}

// Clock implements Network.
func (h *memoryHost) Clock() Clock { return h.m.clock }

func (h *memoryHost) LookupNS(_ context.Context, zone string) ([]string, error) {
	h.m.mu.Lock()
	defer h.m.mu.Unlock()
	return known(h.m.ns, zone)
}

func (h *memoryHost) LookupAddr(_ context.Context, host string) ([]netip.Addr, error) {
	h.m.mu.Lock()
	defer h.m.mu.Unlock()
	return known(h.m.addrs, host)
}

// known is what resolvers say of a name, in any case (RFC 4343); a name that is not there
// does not exist.
func known[T any](all map[string][]T, name string) ([]T, error) {
	if found := all[strings.ToLower(name)]; len(found) > 0 {
		return slices.Clone(found), nil
	}
	return nil, &net.DNSError{Err: "no such name", Name: name, IsNotFound: true}
}

func (h *memoryHost) Listen(at netip.AddrPort, _ int) (Endpoint, error) {
	const backlog = 256
	e := &memoryEndpoint{streams: make(chan *memoryStream, backlog), closed: make(chan struct{}), serving: make(chan struct{})}
	m := h.m
	m.mu.Lock()
	defer m.mu.Unlock()
	if at.Port() == 0 {
		at = netip.AddrPortFrom(at.Addr(), m.port(at.Addr()))
	}
	if m.bound[at] != nil {
		return Endpoint{}, &net.OpError{Op: "listen", Net: "memory", Err: syscall.EADDRINUSE}
	}
	m.bound[at] = e
	end := func() {
		e.close()
		m.mu.Lock()
		if m.bound[at] == e {
			delete(m.bound, at)
		}
		m.mu.Unlock()
		for {
			select {
			case s := <-e.streams: // nobody will take it
				s.Close()
			default:
				return
			}
		}
	}
	return Endpoint{Addr: at, TCP: &memoryListener{e, at, end}, UDP: []datagram.Listener{&memoryReader{e, end}}}, nil
}

func (h *memoryHost) Dial(_ context.Context, network string, local netip.Addr, to netip.AddrPort, _ time.Duration) (net.Conn, error) {
	if !local.IsValid() {
		local = h.at
	}
	h.m.mu.Lock()
	defer h.m.mu.Unlock()
	from := netip.AddrPortFrom(local, h.m.port(local))
	if network == "udp" {
		return &memoryUDP{m: h.m, from: from, to: to}, nil
	}
	fail := func(err error) (net.Conn, error) { return nil, &net.OpError{Op: "dial", Net: "memory", Err: err} }
	e, lost := h.m.between(local, to)
	if lost {
		return fail(os.ErrDeadlineExceeded)
	}
	if e == nil {
		return fail(syscall.ECONNREFUSED)
	}
	ours, theirs := h.m.newStream(from, to)
	select {
	case <-e.closed:
	case e.streams <- theirs:
		h.m.busy++ // until it waits for what comes
		theirs.working = true
		return ours, nil
	default:
	}
	return fail(syscall.ECONNREFUSED)
}

type memoryListener struct {
	e   *memoryEndpoint
	at  netip.AddrPort
	end func()
}

func (l *memoryListener) Accept() (net.Conn, error) {
	select {
	case c := <-l.e.streams:
		return c, nil
	case <-l.e.closed:
		return nil, net.ErrClosed
	}
}

func (l *memoryListener) Close() error   { l.end(); return nil }
func (l *memoryListener) Addr() net.Addr { return net.TCPAddrFromAddrPort(l.at) }

// memoryReader answers datagrams.
type memoryReader struct {
	e   *memoryEndpoint
	end func()
}

func (r *memoryReader) Close() { r.end() }

// Serve implements datagram.Listener; those who send run the handler.
func (r *memoryReader) Serve(newHandler func() datagram.Handler) {
	r.e.handler = newHandler()
	close(r.e.serving)
	<-r.e.closed
}

// answer is what the endpoint says to a datagram; none: nothing, or it is closed.
func (e *memoryEndpoint) answer(msg []byte, from netip.AddrPort) []byte {
	select {
	case <-e.closed:
		return nil
	case <-e.serving:
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	defer e.handler.Flush()
	return e.handler.Datagram(nil, msg, from)
}

// memoryUDP is a connected datagram socket.
type memoryUDP struct {
	m        *Memory
	from, to netip.AddrPort

	mu      sync.Mutex
	in      [][]byte
	refused bool // nobody listens there
	closed  bool
}

func (c *memoryUDP) Write(b []byte) (int, error) {
	c.m.mu.Lock()
	e, lost := c.m.between(c.from.Addr(), c.to)
	c.m.mu.Unlock()
	var out []byte
	if e != nil {
		out = e.answer(slices.Clone(b), c.from)
	}
	c.m.mu.Lock()
	_, lostBack := c.m.between(c.to.Addr(), c.from)
	c.m.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.refused = e == nil && !lost
	if len(out) > 0 && !lostBack {
		c.in = append(c.in, out)
	}
	return len(b), nil
}

func (c *memoryUDP) Read(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	fail := func(err error) (int, error) { return 0, &net.OpError{Op: "read", Net: "memory", Err: err} }
	switch {
	case c.closed:
		return 0, net.ErrClosed
	case c.refused:
		c.refused = false
		return fail(syscall.ECONNREFUSED)
	case len(c.in) == 0:
		return fail(os.ErrDeadlineExceeded)
	}
	msg := c.in[0]
	c.in = c.in[1:]
	return copy(b, msg), nil
}

func (c *memoryUDP) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	return nil
}

func (c *memoryUDP) LocalAddr() net.Addr              { return net.UDPAddrFromAddrPort(c.from) }
func (c *memoryUDP) RemoteAddr() net.Addr             { return net.UDPAddrFromAddrPort(c.to) }
func (c *memoryUDP) SetDeadline(time.Time) error      { return nil }
func (c *memoryUDP) SetReadDeadline(time.Time) error  { return nil }
func (c *memoryUDP) SetWriteDeadline(time.Time) error { return nil }
