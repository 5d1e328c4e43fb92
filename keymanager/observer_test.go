package keymanager

import (
	"net/netip"
	"testing"

	"fencepost/dnsname"
	"fencepost/netio"
	"fencepost/resolve"
)

// Each server has its own observation, those of the zone first, then those of the parent, however many
// there are of either.
func TestLooksOfAll(t *testing.T) {
	world := netio.NewMemory(netio.Real)
	net := world.Host(netip.MustParseAddr("192.0.2.9"))
	list := func(n int, at byte) (out []resolve.Server) {
		for i := range n {
			out = append(out, resolve.Server{Name: "s", Address: netip.AddrPortFrom(netip.AddrFrom4([4]byte{192, 0, 2, at + byte(i)}), 53)})
		}
		return out
	}
	for _, n := range [][2]int{{0, 0}, {1, 0}, {0, 1}, {1, 2}, {3, 2}, {2, 3}} {
		servers, parents := list(n[0], 10), list(n[1], 100)
		out, _ := NewObserver(net, dnsname.MustParse("a.example."), nil).looks(t.Context(), servers, parents)
		if len(out) != n[0]+n[1] {
			t.Fatalf("%v: %d observations", n, len(out))
		}
		for i, s := range append(servers, parents...) {
			if out[i].Server != s.String() || out[i].Err == nil {
				t.Errorf("%v: observation %d is of %s (%v), want %s", n, i, out[i].Server, out[i].Err, s)
			}
		}
	}
}
