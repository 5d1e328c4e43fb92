package sim

import (
	"encoding/binary"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/netio/datagram"
	"fencepost/resolve"
	"fencepost/server/request"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/zone"
)

// host is one address of a server, or of a resolver. It implements request.Zones: what it
// answers from depends on the faults that are there at that moment.
type host struct {
	n        *Internet
	at       netip.Addr
	server   *Server   // of a server
	resolver *resolver // of a resolver

	mu       sync.Mutex
	visitors map[netip.Addr]int // those who are connected
}

// name is the server's name; the zero name for a resolver.
func (h *host) name() dnsname.Name {
	if h.server == nil {
		return dnsname.Name{}
	}
	return h.server.Name
}

// faults are those of the host now, by kind.
func (h *host) faults() map[Kind]*Fault {
	out := map[Kind]*Fault{}
	for _, f := range h.n.active(h.name(), h.at) {
		if kinds[f.Kind] == ofServer && h.concerned(f) {
			out[f.Kind] = f
		}
	}
	return out
}

// concerned reports whether an active fault of servers is one of the host: it names it, or its
// address, or a zone that it serves; if it names nothing, all servers have it. Resolvers are
// named by their address.
func (h *host) concerned(f *Fault) bool {
	switch {
	case f.Addr.IsValid() || !f.Server.IsZero():
		return true // of which there is just this one, see active
	case h.server == nil:
		return false
	case f.Zone.IsZero():
		return true
	}
	return slices.ContainsFunc(h.n.zones[f.Zone.Key()].Servers, h.name().Equal)
}

// serves is a zone with what the host has of it; nil if it has nothing to do with it.
func (h *host) serves(name []byte) *served {
	if h.server == nil {
		return nil
	}
	z := h.n.zones[string(dnsname.AppendLower(nil, name))]
	if z == nil {
		return nil
	}
	for _, s := range z.Servers {
		if !s.Equal(h.server.Name) {
			continue
		}
		v := &served{h: h, zone: z, content: content{zone: z}}
		for _, f := range h.n.active(h.server.Name, h.at) {
			if h.n.concerns(f, z) {
				v.content.faults = append(v.content.faults, f)
			}
		}
		if z.Signed {
			v.content.epoch = int64(h.n.clock.Now().Sub(h.n.began) / signedFor)
		}
		if v.content.has(Refuses, z.Name) != nil {
			return nil
		}
		return v
	}
	return nil
}

// Find implements answer.Source.
func (h *host) Find(name []byte, above bool) (*zone.Snapshot, answer.State) {
	if above && len(name) > 1 {
		name = name[1+int(name[0]):]
	} else if above {
		return nil, answer.NotServed
	}
	for {
		if v := h.serves(name); v != nil {
			if z := v.Snapshot(); z != nil {
				return z, answer.Served
			}
			return nil, answer.Unavailable
		}
		if len(name) <= 1 {
			return nil, answer.NotServed
		}
		name = name[1+int(name[0]):]
	}
}

// Exact implements request.Zones.
func (h *host) Exact(name []byte) request.Zone {
	if v := h.serves(name); v != nil {
		return v
	}
	return nil
}

// Key implements request.Zones: nobody signs messages here.
func (h *host) Key(dnsname.Name) *tsig.Key { return nil }

// SourceFor and ViewFor implement request.Zones: all see the same.
func (h *host) SourceFor(netip.Addr) answer.Source             { return h }
func (h *host) ViewFor(netip.Addr, *dnsname.Name) request.View { return h }

// Identity implements request.Zones: it says nothing of itself.
func (h *host) Identity() *request.Identity { return nil }

// Heard implements request.Zones.
func (h *host) Heard(netip.AddrPort) {}

// served is what a host has of a zone at a moment. It implements request.Zone.
type served struct {
	h       *host
	zone    *Zone
	content content
}

func (v *served) Name() dnsname.Name { return v.zone.Name }

func (v *served) Snapshot() *zone.Snapshot {
	if v.content.has(Empty, v.zone.Name) != nil {
		return nil
	}
	z, err := v.h.n.version(&v.content)
	if err != nil {
		return nil // two faults that do not go together; each alone was tried
	}
	return z
}

func (v *served) Expire() int64                              { return -1 }
func (v *served) Primaries() []resolve.Server                { return nil }
func (v *served) Steps(*zone.Snapshot, uint32) transfer.Body { return nil }
func (v *served) Fetched(string, uint32)                     {}
func (v *served) Changed()                                   {}

// Update implements request.Zone: nobody may change a zone here.
func (v *served) Update(_ request.Update, done func(*update.Refusal)) {
	done(&update.Refusal{Code: message.Refused, Why: "zones are not changed here"})
}

// Receivers are those of the world that may transfer; on loopback, where all have one
// address, whoever asks.
func (v *served) Receivers() (out []resolve.Server) {
	add := func(a netip.Addr) { out = append(out, resolve.Server{Address: netip.AddrPortFrom(a, 0)}) }
	all := v.h.faults()[Gives] != nil
	for _, a := range v.h.server.GivesTo {
		add(a)
	}
	v.h.mu.Lock()
	defer v.h.mu.Unlock()
	for a := range v.h.visitors {
		if all || a.IsLoopback() && len(v.h.server.GivesTo) > 0 {
			add(a)
		}
	}
	return out
}

// wrap puts the faults of a host between its sockets and what serves them.
func (h *host) wrap(end netio.Endpoint) netio.Endpoint {
	out := netio.Endpoint{Addr: end.Addr, TCP: &visits{end.TCP, h}}
	for _, u := range end.UDP {
		out.UDP = append(out.UDP, &faultyReader{u, h})
	}
	return out
}

type faultyReader struct {
	datagram.Listener
	h *host
}

func (r *faultyReader) Serve(handler func() datagram.Handler) {
	r.Listener.Serve(func() datagram.Handler { return &faultyHandler{handler(), r.h} })
}

type faultyHandler struct {
	inner datagram.Handler
	h     *host
}

func (f *faultyHandler) Flush() { f.inner.Flush() }

// Datagram answers as the host would with its faults.
func (f *faultyHandler) Datagram(dst, msg []byte, from netip.AddrPort) []byte {
	faults := f.h.faults()
	var q message.Query
	verdict, _ := message.ParseQuery(msg, &q)
	silent := faults[Away] != nil || faults[NoUDP] != nil || faults[DropsEDNS] != nil && q.HasEDNS
	if silent || verdict == message.Drop || !f.h.wait(faults[Slow]) {
		return dst
	}
	if faults[BadEDNS] != nil && q.HasEDNS {
		return append(dst, bare(msg, message.FormErr, 0)...)
	}
	msg, refused, heard := oddly(msg, &q, faults)
	if !heard || refused != nil {
		return append(dst, refused...)
	}
	var out []byte
	if f.h.resolver != nil {
		out = f.h.resolver.respond(msg, false)
	} else {
		out = f.inner.Datagram(nil, msg, from)
	}
	if len(out) >= message.HeaderLen {
		out = f.h.otherwise(oddAnswer(out, msg, &q, faults), faults)
	}
	switch size := sizeOf(faults[LosesLarge]); {
	case len(out) < message.HeaderLen, len(out) > size:
		return dst
	case faults[CutsShort] != nil:
		out = bare(msg, message.NoError, 0x02)
	}
	marks(out, faults)
	return append(dst, out...)
}

func sizeOf(f *Fault) int {
	switch {
	case f == nil:
		return message.MaxLen
	case f.Size == 0:
		return message.MinUDP
	}
	return f.Size
}

// bare is a response that has a header and nothing else; flags are those of its third octet.
func bare(query []byte, code message.Rcode, flags byte) []byte {
	out := make([]byte, message.HeaderLen)
	copy(out, query[:2])
	out[2] = 0x80 | query[2]&0x79 | flags
	out[3] = byte(code) & 0x0f
	return out
}

// marks sets and clears flags of a response.
func marks(msg []byte, faults map[Kind]*Fault) {
	const aa, ra = 0x04, 0x80
	if faults[NoAuthor] != nil {
		msg[2] &^= aa
	}
	if faults[Recurses] != nil {
		msg[3] |= ra
	}
}

// patience is how long those who ask a slow server on a clock that stands still are taken
// to wait: with it, slow is silent.
const patience = 2 * time.Second

// wait lets the time of a slow server pass; false: nobody waits so long.
func (h *host) wait(f *Fault) bool {
	if f == nil {
		return true
	}
	if _, still := h.n.clock.(*netio.Virtual); still {
		return f.Delay < patience
	}
	<-netio.After(h.n.clock, f.Delay)
	return true
}

// visits takes connections to a host, and notes from where.
type visits struct {
	net.Listener
	h *host
}

func (l *visits) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		faults := l.h.faults()
		if faults[Away] != nil || faults[NoTCP] != nil || faults[CutsShort] != nil {
			conn.Close()
			continue
		}
		if l.h.resolver != nil {
			go l.h.resolver.converse(conn)
			continue
		}
		return l.h.enter(conn), nil
	}
}

// visitor is a connection that is noted while it is open.
type visitor struct {
	net.Conn
	leave func()
	h     *host
}

func (h *host) enter(conn net.Conn) net.Conn {
	from, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return conn
	}
	a := from.Addr().Unmap()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.visitors == nil {
		h.visitors = map[netip.Addr]int{}
	}
	h.visitors[a]++
	return &visitor{conn, sync.OnceFunc(func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.visitors[a]--; h.visitors[a] <= 0 {
			delete(h.visitors, a)
		}
	}), h}
}

func (c *visitor) Close() error {
	c.leave()
	return c.Conn.Close()
}

// Write writes messages, each with its length, with the faults of the host.
func (c *visitor) Write(b []byte) (int, error) {
	if len(b) >= 2+message.HeaderLen && int(binary.BigEndian.Uint16(b)) == len(b)-2 {
		faults := c.h.faults()
		out := append([]byte(nil), b...)
		marks(out[2:], faults)
		if faults[OtherOverTCP] != nil {
			nextSerial(out[2:])
		}
		msg := c.h.otherwise(out[2:], faults)
		if msg == nil {
			return len(b), nil
		}
		if _, err := c.Conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(msg))), msg...)); err != nil {
			return 0, err
		}
		return len(b), nil
	}
	return c.Conn.Write(b)
}
