// Package netio is where the program meets the network: who listens and who dials does it
// through a Network, so that all of it can live on one in memory as well.
package netio

import (
	"context"
	"net"
	"net/netip"
	"time"

	"fencepost/netio/datagram"
)

// Network connects and listens. It is safe for concurrent use.
type Network interface {
	// Clock is the one that deadlines go by, and that other machines share.
	Clock() Clock
	// Dial connects to a server over "udp" or "tcp", from the address local if that is
	// valid, within timeout. The errors are those of package net.
	Dial(ctx context.Context, network string, local netip.Addr, to netip.AddrPort, timeout time.Duration) (net.Conn, error)
	// Listen opens UDP and TCP on one address. Port 0 is any that is free for both. readers
	// is about how many goroutines are to read UDP.
	Listen(at netip.AddrPort, readers int) (Endpoint, error)
	// LookupNS is the names of a zone's servers, as the system's resolver knows them.
	LookupNS(ctx context.Context, zone string) ([]string, error)
	// LookupAddr is the addresses of a host, likewise.
	LookupAddr(ctx context.Context, host string) ([]netip.Addr, error)
}

// Endpoint is an address that is listened on.
type Endpoint struct {
	Addr netip.AddrPort // with the port that was taken
	TCP  net.Listener
	UDP  []datagram.Listener
}

// Close closes both.
func (e Endpoint) Close() {
	e.TCP.Close()
	for _, u := range e.UDP {
		u.Close()
	}
}

// Or is n, or the system's network for nil.
func Or(n Network) Network {
	if n == nil {
		return System
	}
	return n
}

// System is the network of this machine.
var System Network = system{}

type system struct{}

func (system) Dial(ctx context.Context, network string, local netip.Addr, to netip.AddrPort, timeout time.Duration) (net.Conn, error) {
	d := &net.Dialer{Timeout: timeout}
	switch {
	case !local.IsValid():
	case network == "udp":
		d.LocalAddr = &net.UDPAddr{IP: local.AsSlice()}
	default:
		d.LocalAddr = &net.TCPAddr{IP: local.AsSlice()}
	}
	return d.DialContext(ctx, network, to.String())
}

func (system) Clock() Clock { return Real }

func (system) LookupNS(ctx context.Context, zone string) (out []string, err error) {
	servers, err := net.DefaultResolver.LookupNS(ctx, zone)
	for _, s := range servers {
		out = append(out, s.Host)
	}
	return out, err
}

func (system) LookupAddr(ctx context.Context, host string) (out []netip.Addr, err error) {
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	for _, ip := range found {
		out = append(out, ip.Unmap())
	}
	return out, err
}

func (system) Listen(want netip.AddrPort, readers int) (Endpoint, error) {
	const attempts = 20 // a port that is free for TCP may be taken for UDP
	var err error
	for range attempts {
		var e Endpoint
		if e, err = listen(want, readers); err == nil {
			return e, nil
		}
		if want.Port() != 0 {
			break
		}
	}
	return Endpoint{}, err
}

func listen(want netip.AddrPort, readers int) (Endpoint, error) {
	// One socket, one family: [::] is IPv6 alone, so that 0.0.0.0 can stand beside it.
	network := "tcp4"
	if want.Addr().Is6() && !want.Addr().Is4In6() {
		network = "tcp6"
	}
	l, err := net.Listen(network, want.String())
	if err != nil {
		return Endpoint{}, err
	}
	got := netip.AddrPortFrom(want.Addr(), uint16(l.Addr().(*net.TCPAddr).Port))
	us, err := datagram.Listen(got, readers)
	if err != nil {
		l.Close()
		return Endpoint{}, err
	}
	return Endpoint{Addr: got, TCP: l, UDP: us}, nil
}
