package resolve

import (
	"net/netip"

	"fencepost/dnsname"
)

// RootHints are the servers of the world's root zone and their addresses, as published by
// its operators; what a walk begins with where nothing else is said (RFC 8109 §2).
func RootHints() (out []Host) {
	for _, h := range []struct{ letter, v4, v6 string }{
		{"a", "198.41.0.4", "2001:503:ba3e::2:30"},
		{"b", "170.247.170.2", "2801:1b8:10::b"},
		{"c", "192.33.4.12", "2001:500:2::c"},
		{"d", "199.7.91.13", "2001:500:2d::d"},
		{"e", "192.203.230.10", "2001:500:a8::e"},
		{"f", "192.5.5.241", "2001:500:2f::f"},
		{"g", "192.112.36.4", "2001:500:12::d0d"},
		{"h", "198.97.190.53", "2001:500:1::53"},
		{"i", "192.36.148.17", "2001:7fe::53"},
		{"j", "192.58.128.30", "2001:503:c27::2:30"},
		{"k", "193.0.14.129", "2001:7fd::1"},
		{"l", "199.7.83.42", "2001:500:9f::42"},
		{"m", "202.12.27.33", "2001:dc3::35"},
	} {
		out = append(out, Host{Name: dnsname.MustParse(h.letter + ".root-servers.net."), Addrs: []netip.AddrPort{
			netip.AddrPortFrom(netip.MustParseAddr(h.v4), Port), netip.AddrPortFrom(netip.MustParseAddr(h.v6), Port)}})
	}
	return out
}

// HostAt is a server of which the address alone is known.
func HostAt(at netip.AddrPort) Host { return Host{Addrs: []netip.AddrPort{at}} }
