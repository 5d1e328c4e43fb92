package netio_test

import (
	"context"
	"errors"
	"net/netip"
	"syscall"
	"testing"
	"time"

	"fencepost/netio"
)

// From a network that is loopback alone nothing leaves: addresses elsewhere cannot be
// reached, unless they are played here, and no resolver is asked.
func TestLoopbackAlone(t *testing.T) {
	e, err := netio.System.Listen(netip.MustParseAddrPort("127.0.0.1:0"), 1)
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	played, other := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")
	n := netio.Redirect(netio.Loopback(netio.System), map[netip.Addr]netip.AddrPort{played: e.Addr})
	ctx := context.Background()
	for _, network := range []string{"udp", "tcp"} {
		for _, at := range []netip.AddrPort{netip.AddrPortFrom(played, 53), e.Addr, netip.AddrPortFrom(netip.AddrFrom16(e.Addr.Addr().As16()), e.Addr.Port())} {
			c, err := n.Dial(ctx, network, netip.Addr{}, at, time.Minute)
			if err != nil {
				t.Errorf("%s to %s: %v", network, at, err)
				continue
			}
			c.Close()
		}
		if c, err := n.Dial(ctx, network, netip.Addr{}, netip.AddrPortFrom(other, 53), time.Minute); !errors.Is(err, syscall.ENETUNREACH) {
			t.Errorf("%s to %s: %v, %v", network, other, c, err)
		}
	}
	if _, err := n.LookupNS(ctx, "example."); err == nil {
		t.Error("a resolver was asked for servers")
	}
	if _, err := n.LookupAddr(ctx, "localhost"); err == nil {
		t.Error("a resolver was asked for addresses")
	}
}
