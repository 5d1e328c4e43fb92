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
		if err != nil || len(c.Redirect) == 0 {
			return plain
		}
		return netio.Redirect(plain, c.Redirect)
	})}
}

func (n *reachingNet) Dial(ctx context.Context, network string, local netip.Addr, to netip.AddrPort, timeout time.Duration) (net.Conn, error) {
	return n.as().Dial(ctx, network, local, to, timeout)
}
