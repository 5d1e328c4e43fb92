package dnsname_test

import (
	"net/netip"
	"testing"

	"fencepost/dnsname"
)

func TestReverse(t *testing.T) {
	for addr, name := range map[string]string{
		"192.0.2.1":          "1.2.0.192.in-addr.arpa.",
		"0.0.0.0":            "0.0.0.0.in-addr.arpa.",
		"255.255.255.255":    "255.255.255.255.in-addr.arpa.",
		"2001:db8::567:89ab": "b.a.9.8.7.6.5.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa.", // RFC 3596 §2.5 has such a one
	} {
		a := netip.MustParseAddr(addr)
		n := dnsname.Reverse(a)
		if n.String() != name {
			t.Errorf("%s: %s, want %s", addr, n, name)
		}
		if back, ok := dnsname.AddrOf(n); !ok || back != a {
			t.Errorf("%s: back it is %s, %v", addr, back, ok)
		}
		upper := dnsname.MustParse("X." + name)
		if _, ok := dnsname.AddrOf(upper); ok {
			t.Errorf("%s is the name of an address", upper)
		}
	}
	for _, name := range []string{".", "in-addr.arpa.", "2.0.192.in-addr.arpa.", "256.2.0.192.in-addr.arpa.", "01.2.0.192.in-addr.arpa.", "a.2.0.192.in-addr.arpa.",
		"1.2.0.192.in-addr.example.", "ip6.arpa.", "64-79.100.51.198.in-addr.arpa.", "bb.a.9.8.7.6.5.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa."} {
		if a, ok := dnsname.AddrOf(dnsname.MustParse(name)); ok {
			t.Errorf("%s is that of %s", name, a)
		}
	}
	if a, ok := dnsname.AddrOf(dnsname.MustParse("1.2.0.192.IN-ADDR.ARPA.")); !ok || a.String() != "192.0.2.1" {
		t.Errorf("in capitals: %s, %v", a, ok)
	}
}
