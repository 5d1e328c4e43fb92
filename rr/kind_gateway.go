package rr

import (
	"net/netip"
	"strconv"

	"fencepost/dnsname"
)

// Kinds of several fields at once, because the first say how the others are to
// be read: gateways (RFC 4025, RFC 8777), host identities (RFC 8005), address
// prefixes (RFC 3123, RFC 2874) and lists of ports (RFC 1035).
var (
	Gateway  = &Kind{Description: "gateway type, algorithm, and the gateway: . or IPv4 or IPv6 address or name", parse: parseGateway, size: sizeGateway(2), print: printGateway}
	Relay    = &Kind{Description: "0 or 1, relay type, and the relay: . or IPv4 or IPv6 address or name", parse: parseRelay, size: sizeGateway(1), print: printRelay}
	HostID   = &Kind{Description: "algorithm, identity tag in hexadecimal, public key in base64 without blanks", parse: parseHostID, size: sizeHostID, print: printHostID}
	Prefixes = &Kind{Description: "prefixes such as 1:192.0.2.0/24 or !2:2001:db8::/32", parse: parsePrefixes, size: sizePrefixes, print: printPrefixes, optional: true, rest: true}
	A6Prefix = &Kind{Description: "prefix length, and the rest of the IPv6 address", parse: parseA6, size: sizeA6, print: printA6}
	Ports    = &Kind{Description: "ports, as numbers or names", parse: parsePorts, size: sizePorts, print: printPorts, optional: true, rest: true}
)

// Types of gateways and relays (RFC 4025 §2.3, RFC 8777 §4.2.3).
const (
	gatewayNone = iota
	gatewayIPv4
	gatewayIPv6
	gatewayName
)

// sizeGateway is for an octet or two in front, the first with the type in its
// low seven bits, and the gateway after them.
func sizeGateway(head int) func([]byte) int {
	return func(b []byte) int {
		if len(b) < head {
			return -1
		}
		kind := b[0]
		if head == 1 {
			kind &= 0x7f // the high bit says that discovery is optional
		}
		n := -1
		switch kind {
		case gatewayNone:
			n = 0
		case gatewayIPv4:
			n = 4
		case gatewayIPv6:
			n = 16
		case gatewayName:
			n = sizeName(b[head:])
		}
		if n < 0 || head+n > len(b) {
			return -1
		}
		return head + n
	}
}

// need makes sure that n more words follow.
func (p *Parser) need(n int, what string) *FieldError {
	if p.i+n > len(p.tokens) {
		e := p.fail(RuleMissingField, "the record ends before its %s", what)
		e.Token = len(p.tokens)
		return e
	}
	return nil
}

// small reads a number up to most.
func (p *Parser) small(most uint64) (byte, *FieldError) {
	tok := p.next()
	n, ok := parseUint(tok, most)
	if !ok {
		return 0, p.failLast(RuleBadNumber, "%q is not a number from 0 to %d", clip(tok), most)
	}
	return byte(n), nil
}

func parseGateway(p *Parser) *FieldError {
	if err := p.need(3, "gateway"); err != nil {
		return err
	}
	kind, err := p.small(gatewayName)
	if err != nil {
		return err
	}
	algorithm, err := p.small(255)
	if err != nil {
		return err
	}
	p.out = append(p.out, kind, algorithm)
	return p.gateway(kind)
}

func parseRelay(p *Parser) *FieldError {
	if err := p.need(3, "relay"); err != nil {
		return err
	}
	optional, err := p.small(1)
	if err != nil {
		return err
	}
	kind, err := p.small(gatewayName)
	if err != nil {
		return err
	}
	p.out = append(p.out, optional<<7|kind)
	return p.gateway(kind)
}

func (p *Parser) gateway(kind byte) *FieldError {
	switch kind {
	case gatewayIPv4:
		return parseIPv4(p)
	case gatewayIPv6:
		return parseIPv6(p)
	case gatewayName:
		return parseName(p)
	}
	if tok := p.next(); string(tok) != "." {
		return p.failLast(RuleBadAddress, "the type says that there is none, and %q stands here", clip(tok)).
			suggest("write a single dot, or the type that fits: 1 IPv4, 2 IPv6, 3 a name")
	}
	return nil
}

func printGateway(dst, b []byte) []byte {
	dst = append(printU8(dst, b), ' ')
	dst = append(printU8(dst, b[1:]), ' ')
	return appendGateway(dst, b[0], b[2:])
}

func printRelay(dst, b []byte) []byte {
	dst = append(dst, '0'+b[0]>>7, ' ')
	dst = append(strconv.AppendUint(dst, uint64(b[0]&0x7f), 10), ' ')
	return appendGateway(dst, b[0]&0x7f, b[1:])
}

func appendGateway(dst []byte, kind byte, b []byte) []byte {
	switch kind {
	case gatewayIPv4:
		return printIPv4(dst, b)
	case gatewayIPv6:
		return printIPv6(dst, b)
	case gatewayName:
		return dnsname.AppendText(dst, b)
	}
	return append(dst, '.')
}

// ---- HIP ----

func sizeHostID(b []byte) int {
	if len(b) < 4 {
		return -1
	}
	n := 4 + int(b[0]) + int(be16(b[2:]))
	if b[0] == 0 || be16(b[2:]) == 0 || n > len(b) {
		return -1
	}
	return n
}

func parseHostID(p *Parser) *FieldError {
	if err := p.need(3, "key"); err != nil {
		return err
	}
	algorithm, err := p.small(255)
	if err != nil {
		return err
	}
	at := len(p.out)
	p.out = append(p.out, 0, algorithm, 0, 0)
	tok := p.next()
	out, bad := appendHex(p.out, tok)
	hit := len(out) - at - 4
	if bad >= 0 || hit == 0 || hit > 255 {
		return p.failLast(RuleBadHex, "%q is not an identity tag in hexadecimal", clip(tok))
	}
	p.out = out
	rest := p.tokens
	p.tokens = p.tokens[:p.i+1] // the key is one word
	err = parseBase64(p)
	p.tokens = rest
	if err != nil {
		return err
	}
	key := len(p.out) - at - 4 - hit
	if key == 0 || key > 65535 {
		return p.failLast(RuleBadBase64, "a public key has 1 to 65535 octets")
	}
	p.out[at], p.out[at+2], p.out[at+3] = byte(hit), byte(key>>8), byte(key)
	return nil
}

func printHostID(dst, b []byte) []byte {
	hit := 4 + int(b[0])
	dst = append(printU8(dst, b[1:]), ' ')
	dst = append(printHex(dst, b[4:hit]), ' ')
	return printBase64(dst, b[hit:])
}

// ---- APL ----

// apl takes the first item off b: its family, prefix length, whether it is
// negated, and the octets of its address. ok is false at anything else.
func apl(b []byte) (family, prefix int, not bool, addr, rest []byte, ok bool) {
	if len(b) < 4 {
		return
	}
	family, prefix, not = int(be16(b)), int(b[2]), b[3]&0x80 != 0
	n := int(b[3] & 0x7f)
	if 4+n > len(b) {
		return
	}
	most := 0
	switch family {
	case 1:
		most = 4
	case 2:
		most = 16
	default: // what another family has for an address is not known here (RFC 3123 §4.3)
		return family, prefix, not, b[4 : 4+n], b[4+n:], true
	}
	if n > most || prefix > 8*most || n > 0 && b[3+n] == 0 { // RFC 3123 §4: no trailing zeros
		return
	}
	return family, prefix, not, b[4 : 4+n], b[4+n:], true
}

func sizePrefixes(b []byte) int {
	all := len(b)
	for len(b) > 0 {
		var ok bool
		if _, _, _, _, b, ok = apl(b); !ok {
			return -1
		}
	}
	return all
}

func parsePrefixes(p *Parser) *FieldError {
	for p.i < len(p.tokens) {
		tok := p.next()
		text := string(tok)
		neg := byte(0)
		if len(text) > 0 && text[0] == '!' {
			neg, text = 0x80, text[1:]
		}
		bad := func() *FieldError {
			return p.failLast(RuleBadPrefix, "%q is not an address prefix", clip(tok)).suggest("write 1:192.0.2.0/24 or 2:2001:db8::/32, with ! in front for all but that")
		}
		if len(text) < 2 || text[1] != ':' || text[0] != '1' && text[0] != '2' {
			return bad()
		}
		pfx, err := netip.ParsePrefix(text[2:])
		if err != nil || pfx.Addr().Is4() != (text[0] == '1') {
			return bad()
		}
		addr := pfx.Addr().AsSlice()
		n := len(addr)
		for n > 0 && addr[n-1] == 0 {
			n--
		}
		p.out = append(p.out, 0, text[0]-'0', byte(pfx.Bits()), neg|byte(n))
		p.out = append(p.out, addr[:n]...)
	}
	return nil
}

// wordless reports whether a list has a family whose addresses cannot be written in words.
func wordless(b []byte) bool {
	for len(b) > 0 {
		var family int
		var ok bool
		if family, _, _, _, b, ok = apl(b); !ok || family != 1 && family != 2 {
			return true
		}
	}
	return false
}

func printPrefixes(dst, b []byte) []byte {
	for first := true; len(b) > 0; first = false {
		if !first {
			dst = append(dst, ' ')
		}
		family, prefix, not, addr, rest, _ := apl(b)
		b = rest
		if not {
			dst = append(dst, '!')
		}
		var full [16]byte
		copy(full[:], addr)
		a := netip.AddrFrom16(full)
		if family == 1 {
			a = netip.AddrFrom4([4]byte(full[:4]))
		}
		dst = append(dst, byte('0'+family), ':')
		dst = append(a.AppendTo(dst), '/')
		dst = strconv.AppendInt(dst, int64(prefix), 10)
	}
	return dst
}

// ---- A6 ----

func sizeA6(b []byte) int {
	if len(b) == 0 || b[0] > 128 {
		return -1
	}
	n := 17 - int(b[0])/8
	if n > len(b) || (b[0] == 0) != (n == len(b)) {
		return -1 // a name follows unless the prefix is empty (RFC 2874 §3.1)
	}
	return n
}

func parseA6(p *Parser) *FieldError {
	bits, err := p.small(128)
	if err != nil {
		return err
	}
	at := len(p.out)
	p.out = append(p.out, bits)
	if bits < 128 {
		if err := p.need(1, "address"); err != nil {
			return err
		}
		if err := parseIPv6(p); err != nil {
			return err
		}
		p.out = append(p.out[:at+1], p.out[at+1+int(bits)/8:]...)
	}
	if bits == 0 {
		return nil
	}
	return p.need(1, "prefix name")
}

func printA6(dst, b []byte) []byte {
	dst = printU8(dst, b)
	if b[0] == 128 {
		return dst
	}
	var full [16]byte
	copy(full[int(b[0])/8:], b[1:])
	return printIPv6(append(dst, ' '), full[:])
}

// ---- WKS ----

// portNames are services that files of the time name (RFC 1035 §3.4.2).
var portNames = map[string]int{"echo": 7, "ftp-data": 20, "ftp": 21, "ssh": 22, "telnet": 23, "smtp": 25, "time": 37, "domain": 53, "tftp": 69,
	"finger": 79, "http": 80, "pop3": 110, "sunrpc": 111, "nntp": 119, "ntp": 123, "imap": 143, "snmp": 161, "https": 443}

func sizePorts(b []byte) int {
	if len(b) > 8192 || len(b) > 0 && b[len(b)-1] == 0 {
		return -1
	}
	return len(b)
}

func parsePorts(p *Parser) *FieldError {
	at := len(p.out)
	for p.i < len(p.tokens) {
		tok := p.next()
		n, ok := parseUint(tok, 65535)
		if !ok {
			named, known := portNames[string(tok)]
			if !known {
				return p.failLast(RuleBadNumber, "%q is not a port", clip(tok))
			}
			n = uint64(named)
		}
		for len(p.out)-at <= int(n/8) {
			p.out = append(p.out, 0)
		}
		p.out[at+int(n/8)] |= 0x80 >> (n % 8)
	}
	return nil
}

func printPorts(dst, b []byte) []byte {
	first := true
	for i := range 8 * len(b) {
		if b[i/8]&(0x80>>(i%8)) != 0 {
			if !first {
				dst = append(dst, ' ')
			}
			first = false
			dst = strconv.AppendInt(dst, int64(i), 10)
		}
	}
	return dst
}
