//go:build linux && (amd64 || arm64)

package datagram

import (
	"net/netip"
	"testing"

	"golang.org/x/sys/unix"
)

// D-40: no path MTU that somebody tells makes a response leave in fragments.
func TestD40(t *testing.T) {
	for _, c := range []struct {
		addr              string
		level, name, want int
	}{
		{"127.0.0.1", unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_OMIT},
		{"0.0.0.0", unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_OMIT},
		{"::1", unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_OMIT},
	} {
		u, err := openFast(port(t, netip.MustParseAddr(c.addr)))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := unix.GetsockoptInt(u.fd, c.level, c.name); err != nil || got != c.want {
			t.Errorf("%s: %d, %v; want %d", c.addr, got, err, c.want)
		}
		unix.Close(u.fd)
	}
}
