//go:build !linux || !(amd64 || arm64)

package datagram

import (
	"fmt"
	"net/netip"
)

// Listen opens the portable kind of socket. It cannot tell which of several
// local addresses a packet was sent to, so it refuses to listen on all of them:
// the answer must leave from the address that was asked (RFC 2181 §4).
func Listen(addr netip.AddrPort, _ int) ([]Listener, error) {
	if addr.Addr().IsUnspecified() {
		return nil, fmt.Errorf("list each address instead of %s on this system", addr.Addr())
	}
	u, err := listenPlain(addr)
	if err != nil {
		return nil, err
	}
	return []Listener{u}, nil
}
