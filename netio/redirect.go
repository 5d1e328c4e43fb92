package netio

import (
	"context"
	"net"
	"net/netip"
	"time"
)

// Redirect is a network on which some addresses are reached elsewhere: as
// where servers of the world are played on loopback. Whatever port of an address is meant,
// it is that of the other.
func Redirect(n Network, addrs map[netip.Addr]netip.AddrPort) Network {
	return &redirected{n, addrs}
}

type redirected struct {
	Network
	addrs map[netip.Addr]netip.AddrPort
}

func (r *redirected) Dial(ctx context.Context, network string, local netip.Addr, to netip.AddrPort, timeout time.Duration) (net.Conn, error) {
	if at, ok := r.addrs[to.Addr().Unmap()]; ok {
		to, local = at, netip.Addr{}
	}
	return r.Network.Dial(ctx, network, local, to, timeout)
}
