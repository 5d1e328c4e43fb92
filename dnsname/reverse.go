package dnsname

import (
	"net/netip"
	"strconv"
	"strings"
)

// Reverse is the name under in-addr.arpa or ip6.arpa that belongs to an address
// (RFC 1035 §3.5, RFC 3596 §2.5).
func Reverse(a netip.Addr) Name {
	var b strings.Builder
	if a.Is4() {
		o := a.As4()
		for i := 3; i >= 0; i-- {
			b.WriteString(strconv.Itoa(int(o[i])) + ".")
		}
		return MustParse(b.String() + "in-addr.arpa.")
	}
	o := a.As16()
	const digits = "0123456789abcdef"
	for i := 15; i >= 0; i-- {
		b.WriteByte(digits[o[i]&15])
		b.WriteByte('.')
		b.WriteByte(digits[o[i]>>4])
		b.WriteByte('.')
	}
	return MustParse(b.String() + "ip6.arpa.")
}

// AddrOf is the address that a name under in-addr.arpa or ip6.arpa belongs
// to; ok is false for any other name.
func AddrOf(n Name) (a netip.Addr, ok bool) {
	labels := strings.Split(strings.TrimSuffix(n.Lower().String(), "."), ".")
	switch {
	case len(labels) == 6 && labels[4] == "in-addr" && labels[5] == "arpa":
		a, err := netip.ParseAddr(labels[3] + "." + labels[2] + "." + labels[1] + "." + labels[0])
		return a, err == nil
	case len(labels) == 34 && labels[32] == "ip6" && labels[33] == "arpa":
		var b strings.Builder
		for i := 31; i >= 0; i-- {
			if len(labels[i]) != 1 {
				return a, false
			}
			b.WriteString(labels[i])
			if i%4 == 0 && i > 0 {
				b.WriteByte(':')
			}
		}
		a, err := netip.ParseAddr(b.String())
		return a, err == nil
	}
	return a, false
}
