package rr

import (
	"net/netip"
	"time"
	"unsafe"
)

// Reading times and addresses.

func parseSeconds(p *Parser) *FieldError {
	tok := p.next()
	n, units, ok := ParseTTL(tok)
	if !ok { // unlike a TTL, a time of the SOA has all 32 bits (RFC 1035 §3.3.13)
		if m, plain := parseUint(tok, 0xffffffff); plain {
			n, ok = uint32(m), true
		}
	}
	if !ok {
		return p.failLast(RuleBadNumber, "%q is not a time in seconds from 0 to 4294967295", clip(tok))
	}
	p.Units = p.Units || units
	p.out = append(p.out, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	return nil
}

// ParseTTL reads a time in seconds: plain decimal digits (RFC 2181 §8: up to
// 2147483647), or numbers with the letters w d h m s, as in 1h30m, which many
// existing files have; units tells that letters were used.
func ParseTTL(b []byte) (seconds uint32, units, ok bool) {
	const max = 1<<31 - 1
	var total, n uint64
	digits := 0
	for _, c := range b {
		if c >= '0' && c <= '9' {
			n = n*10 + uint64(c-'0')
			digits++
			if n > max {
				return 0, units, false
			}
			continue
		}
		scale := uint64(0)
		switch c | 0x20 {
		case 'w':
			scale = 7 * 86400
		case 'd':
			scale = 86400
		case 'h':
			scale = 3600
		case 'm':
			scale = 60
		case 's':
			scale = 1
		}
		if scale == 0 || digits == 0 {
			return 0, units, false
		}
		total += n * scale
		n, digits, units = 0, 0, true
	}
	if digits > 0 && units || len(b) == 0 { // 1h30: 30 of what?
		return 0, units, false
	}
	total += n
	return uint32(total), units, total <= max
}

func parseTime(p *Parser) *FieldError {
	tok := p.next()
	n, ok := parseUint(tok, 0xffffffff)
	if len(tok) == 14 {
		t, err := time.Parse("20060102150405", string(tok))
		n, ok = uint64(t.Unix()), err == nil && t.Unix() >= 0 && t.Unix() <= 0xffffffff
	}
	if !ok {
		return p.failLast(RuleBadTime, "%q is not a time of the form YYYYMMDDHHmmSS", clip(tok))
	}
	p.out = append(p.out, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	return nil
}

func parseIPv4(p *Parser) *FieldError {
	tok := p.next()
	parts, digits, n := 0, 0, 0
	var octets [4]byte
	zero := false
	for i := 0; i <= len(tok); i++ {
		if i < len(tok) && tok[i] >= '0' && tok[i] <= '9' {
			if digits == 1 && n == 0 {
				zero = true
			}
			n = min(n*10+int(tok[i]-'0'), 1000)
			digits++
			continue
		}
		if digits == 0 || parts == 4 || i < len(tok) && tok[i] != '.' {
			return p.badIPv4(tok)
		}
		if n > 255 {
			e := p.failLast(RuleAddressRange, "%s is over 255: not a part of an IPv4 address", tok[i-digits:i])
			e.Offset, e.Len = i-digits, digits
			return e
		}
		octets[parts] = byte(n)
		parts++
		digits, n = 0, 0
	}
	if parts != 4 {
		return p.badIPv4(tok)
	}
	if zero {
		return p.failLast(RuleAddressZero, "%s has a part with a leading zero, which some programs read as octal", tok).
			suggest("write %s", netip.AddrFrom4(octets))
	}
	p.out = append(p.out, octets[:]...)
	return nil
}

func (p *Parser) badIPv4(tok []byte) *FieldError {
	e := p.failLast(RuleBadAddress, "%q is not an IPv4 address", clip(tok))
	if a, err := netip.ParseAddr(string(tok)); err == nil && a.Is6() {
		return e.suggest("an IPv6 address goes into an AAAA record")
	}
	return e.suggest("write four numbers from 0 to 255 joined by dots, such as 192.0.2.1")
}

func parseIPv6(p *Parser) *FieldError {
	tok := p.next()
	var a netip.Addr
	err := error(nil)
	if len(tok) > 0 {
		// The string is not kept when there is no error.
		a, err = netip.ParseAddr(unsafe.String(&tok[0], len(tok)))
	}
	if len(tok) == 0 || err != nil || !a.Is6() || a.Zone() != "" {
		e := p.failLast(RuleBadAddress, "%q is not an IPv6 address", clip(tok))
		if err == nil && a.Is4() {
			return e.suggest("an IPv4 address goes into an A record")
		}
		return e.suggest("write groups of hexadecimal digits joined by colons, such as 2001:db8::1")
	}
	b := a.As16()
	p.out = append(p.out, b[:]...)
	return nil
}
