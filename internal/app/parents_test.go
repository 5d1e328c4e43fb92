package app

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/workspace"
)

// However many zones ask for their parent at once, the resolver is asked once for it,
// also when it knows nothing; and again when that is old or the clock was set back.
func TestParentsAskedOnce(t *testing.T) {
	var asked atomic.Int32
	known := []*workspace.Peer{{Name: "ns"}}
	answer := known
	app := &App{}
	app.parents.lookup = func(_ context.Context, zone dnsname.Name) []*workspace.Peer {
		asked.Add(1)
		if zone.Labels() == 1 {
			return answer
		}
		return nil
	}
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	app.Now = func() time.Time { return now }
	all := func(want int32) {
		t.Helper()
		asked.Store(0)
		var wg sync.WaitGroup
		for _, zone := range []string{"a.example", "b.example", "A.EXAMPLE", "c.b.example"} {
			wg.Go(func() {
				got, err := app.resolvedParent(t.Context(), dnsname.MustParse(zone))
				if len(got) != len(answer) || (err == nil) != (len(answer) > 0) {
					t.Errorf("the parent of %s has %v, %v", zone, got, err)
				}
			})
		}
		wg.Wait()
		if got := asked.Load(); got != want {
			t.Errorf("the resolver was asked %d times, not %d", got, want)
		}
	}
	all(2) // example and b.example
	all(0)
	now = now.Add(noParentsKept)
	all(1) // b.example again
	now = now.Add(parentsKept)
	answer = nil
	all(2)
	all(0)
	now = now.Add(-time.Hour)
	all(2)
}
