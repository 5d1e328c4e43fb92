// Package datagram serves UDP sockets as fast as the system allows: on Linux a
// locked thread a core on a socket of its own with recvmmsg and sendmmsg, a
// portable way elsewhere. It knows nothing of DNS.
package datagram

import (
	"net"
	"net/netip"
	"sync/atomic"
)

// Handler answers datagrams for one goroutine.
type Handler interface {
	// Datagram appends the response to msg to dst; nothing is appended where none
	// is due. msg and dst are only valid during the call.
	Datagram(dst, msg []byte, from netip.AddrPort) []byte
	// Flush is called now and then, after some datagrams.
	Flush()
}

// Later is a handler that answers some datagrams after Datagram has returned.
type Later interface {
	Handler
	// AnswersLater is called before the first datagram. While Datagram works, wayBack gives the way
	// to whoever sent it, from the address that was asked: a function for any goroutine, which does
	// nothing once the socket is closed.
	AnswersLater(wayBack func() (send func(msg []byte)))
}

// Listener is a socket. Serve reads it, with a handler of its own, and returns
// after Close. Responses leave from the address that was asked (RFC 2181 §4).
type Listener interface {
	Serve(newHandler func() Handler)
	Close()
}

// requestSize is the most octets of a request that are read over UDP.
const requestSize = 4096

// plainUDP is the portable way to serve UDP: one packet at a time. It also
// serves where the faster way is not to be had.
type plainUDP struct {
	conn   *net.UDPConn
	closed atomic.Bool
}

func listenPlain(addr netip.AddrPort) (*plainUDP, error) {
	c, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(addr))
	if err != nil {
		return nil, err
	}
	return &plainUDP{conn: c}, nil
}

// Close implements Listener.
func (u *plainUDP) Close() {
	u.closed.Store(true)
	u.conn.Close()
}

// Serve implements Listener.
func (u *plainUDP) Serve(newHandler func() Handler) {
	h := newHandler()
	var from netip.AddrPort
	if l, ok := h.(Later); ok {
		l.AnswersLater(func() func([]byte) {
			to := from
			return func(msg []byte) { _, _ = u.conn.WriteToUDPAddrPort(msg, to) }
		})
	}
	in, out := make([]byte, requestSize), make([]byte, 0, requestSize)
	for {
		var n int
		var err error
		if n, from, err = u.conn.ReadFromUDPAddrPort(in); err != nil {
			if u.closed.Load() {
				return
			}
			continue // such as "port unreachable" for an answer sent before
		}
		if out = h.Datagram(out[:0], in[:n], from); len(out) > 0 {
			_, _ = u.conn.WriteToUDPAddrPort(out, from)
		}
		h.Flush()
	}
}
