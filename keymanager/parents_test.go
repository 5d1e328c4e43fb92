package keymanager

import (
	"context"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/netio"
)

// countingNet counts what its resolver is asked.
type countingNet struct {
	netio.Network
	asked atomic.Int32
}

func (n *countingNet) LookupNS(ctx context.Context, zone string) ([]string, error) {
	n.asked.Add(1)
	return n.Network.LookupNS(ctx, zone)
}

// However many zones ask for their parent at once, the resolver is asked once for it,
// also when it knows nothing; and again when that is old or the clock was set back.
func TestParentsAskedOnce(t *testing.T) {
	world := netio.NewMemory(netio.Real)
	world.SetNS("example.", "ns.nic.example.")
	world.SetAddr("ns.nic.example.", netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1"))
	net := &countingNet{Network: world.Host(netip.MustParseAddr("192.0.2.9"))}
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	parents, want := NewParents(net, func() time.Time { return now }), 2
	all := func(questions int32) {
		t.Helper()
		net.asked.Store(0)
		var wg sync.WaitGroup
		for _, zone := range []string{"a.example", "b.example", "A.EXAMPLE", "c.b.example"} {
			wg.Go(func() {
				got, err := parents.Above(t.Context(), dnsname.MustParse(zone))
				if len(got) != want || (err == nil) != (want > 0) {
					t.Errorf("the parent of %s has %v, %v", zone, got, err)
				}
			})
		}
		wg.Wait()
		if got := net.asked.Load(); got != questions {
			t.Errorf("the resolver was asked %d times, not %d", got, questions)
		}
	}
	all(2) // example and b.example
	all(0)
	now = now.Add(noParentsKept)
	all(1) // b.example again
	now = now.Add(parentsKept)
	world.SetNS("example.")
	want = 0
	all(2)
	all(0)
	now = now.Add(-time.Hour)
	all(2)
}
