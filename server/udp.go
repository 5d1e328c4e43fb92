package server

import (
	"net"
	"net/netip"
	"sync/atomic"
)

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

func (u *plainUDP) close() {
	u.closed.Store(true)
	u.conn.Close()
}

func (u *plainUDP) serve(newHandler func() *handler) {
	h := newHandler()
	in, out := make([]byte, requestSize), make([]byte, 0, requestSize)
	for {
		n, from, err := u.conn.ReadFromUDPAddrPort(in)
		if err != nil {
			if u.closed.Load() {
				return
			}
			continue // such as "port unreachable" for an answer sent before
		}
		if out = h.datagram(out[:0], in[:n], from); len(out) > 0 {
			_, _ = u.conn.WriteToUDPAddrPort(out, from)
		}
		h.flush()
	}
}
