package edit

import (
	"net/netip"

	"fencepost/dnsname"
	"fencepost/rr"
)

// GivenOrigin is the name given with --origin, or no name if none was given.
func GivenOrigin(text string) (dnsname.Name, error) {
	if text == "" {
		return dnsname.Name{}, nil
	}
	name, err := dnsname.Parse(text, dnsname.Root)
	if err != nil {
		return name, Usage("--origin %s: %v", text, err)
	}
	return name, nil
}

// AddressData is the record type and data for an address.
func AddressData(a netip.Addr) (rr.Type, []byte) {
	if a.Is4() {
		return rr.TypeA, a.AsSlice()
	}
	return rr.TypeAAAA, a.AsSlice()
}

// AddressOf is the address a record of the type holds, the other way round.
func AddressOf(t rr.Type, data []byte) (netip.Addr, bool) {
	if t != rr.TypeA && t != rr.TypeAAAA {
		return netip.Addr{}, false
	}
	return netip.AddrFromSlice(data)
}
