package app

import (
	"net/netip"
	"sync/atomic"

	"fencepost/rr"
)

// counter is a running total for several goroutines.
type counter struct{ n atomic.Int64 }

func (c *counter) add(n int) int { return int(c.n.Add(int64(n))) }

// addressData is the record type and data for an address in text form.
func addressData(text string) (rr.Type, []byte) {
	a, err := netip.ParseAddr(text)
	if err != nil {
		return 0, nil
	}
	if a.Is4() {
		return rr.TypeA, a.AsSlice()
	}
	return rr.TypeAAAA, a.AsSlice()
}
