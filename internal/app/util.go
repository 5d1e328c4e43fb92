package app

import (
	"net/netip"
	"sync/atomic"

	"fencepost/dnsname"
	"fencepost/rr"
)

// counter is a running total for several goroutines.
type counter struct{ n atomic.Int64 }

func (c *counter) add(n int) int { return int(c.n.Add(int64(n))) }

// givenOrigin is the name given with --origin, or no name if none was given.
func givenOrigin(text string) (dnsname.Name, error) {
	if text == "" {
		return dnsname.Name{}, nil
	}
	name, err := dnsname.Parse(text, dnsname.Root)
	if err != nil {
		return name, usage("--origin %s: %v", text, err)
	}
	return name, nil
}

// addressData is the record type and data for an address.
func addressData(a netip.Addr) (rr.Type, []byte) {
	if a.Is4() {
		return rr.TypeA, a.AsSlice()
	}
	return rr.TypeAAAA, a.AsSlice()
}

// addressOf is the address a record of the type holds, the other way round.
func addressOf(t rr.Type, data []byte) (netip.Addr, bool) {
	if t != rr.TypeA && t != rr.TypeAAAA {
		return netip.Addr{}, false
	}
	return netip.AddrFromSlice(data)
}
