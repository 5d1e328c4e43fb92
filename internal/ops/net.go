package ops

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"time"

	"fencepost/netio"
)

// reachingNet is a network on which addresses are reached where the workspace says
// ([address-override]). The workspace is read when somebody is first asked, for most
// commands ask nobody.
type reachingNet struct {
	netio.Network
	as func() netio.Network
}

// UseOverrides has everything that the App asks asked where its workspace says.
func (a *App) UseOverrides() {
	plain := netio.Or(a.Net)
	if n, ok := plain.(*reachingNet); ok {
		plain = n.Network
	}
	a.Net = &reachingNet{plain, sync.OnceValue(func() netio.Network {
		c, err := a.Config()
		if err != nil {
			return plain
		}
		n := plain
		if c.Closed {
			n = netio.Loopback(n)
		}
		if len(c.Redirect) > 0 {
			n = netio.Redirect(n, c.Redirect)
		}
		return n
	})}
}

func (n *reachingNet) Dial(ctx context.Context, network string, local netip.Addr, to netip.AddrPort, timeout time.Duration) (net.Conn, error) {
	return n.as().Dial(ctx, network, local, to, timeout)
}

func (n *reachingNet) LookupNS(ctx context.Context, zone string) ([]string, error) {
	return n.as().LookupNS(ctx, zone)
}

func (n *reachingNet) LookupAddr(ctx context.Context, host string) ([]netip.Addr, error) {
	return n.as().LookupAddr(ctx, host)
}
