package netio

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"
)

// Loopback is a network of which nothing is reached but loopback, and that has no resolver: what
// plays a world on this machine never speaks to the real one.
func Loopback(n Network) Network { return loopback{n} }

type loopback struct{ Network }

func (l loopback) Dial(ctx context.Context, network string, local netip.Addr, to netip.AddrPort, timeout time.Duration) (net.Conn, error) {
	if !to.Addr().Unmap().IsLoopback() {
		return nil, &net.OpError{Op: "dial", Net: network, Err: fmt.Errorf("%s is not reached from here: %w", to.Addr(), syscall.ENETUNREACH)}
	}
	return l.Network.Dial(ctx, network, local, to, timeout)
}

func (loopback) LookupNS(_ context.Context, zone string) ([]string, error) {
	return nil, &net.DNSError{Err: "there is no resolver here", Name: zone, IsNotFound: true}
}

func (loopback) LookupAddr(_ context.Context, host string) ([]netip.Addr, error) {
	return nil, &net.DNSError{Err: "there is no resolver here", Name: host, IsNotFound: true}
}
