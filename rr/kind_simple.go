package rr

import (
	"encoding/base32"
	"encoding/hex"
	"strconv"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
)

// Kinds that only a few of the rarer types have, each one word of text.
var (
	String         = &Kind{Description: "text", parse: parseString, size: sizeString, print: printString, quotable: true}
	OptionalString = &Kind{Description: "text, may be left out", parse: parseString, size: orNothing(sizeString), print: printString, quotable: true, optional: true}
	OldName        = &Kind{Description: "name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: oldNameRule}
	OldOwnName     = &Kind{Description: "name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: oldNameRule, own: true}
	LowerHostName  = &Kind{Description: "host name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: isName | namesLower, host: true}
	PlainHostName  = &Kind{Description: "host name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: isName, host: true}
	OptionalName   = &Kind{Description: "name, may be left out", parse: parseName, size: orNothing(sizeName), print: printOptionalName, names: isName | namesLower, optional: true}
	Names          = &Kind{Description: "names, none or more", parse: parseNames, size: sizeNames, print: printNames, optional: true, rest: true}
	OptionalBase64 = &Kind{Description: "base64, may be left out", parse: parseBase64, size: sizeAll, print: printBase64, rest: true, optional: true}
	Base64OrMinus  = &Kind{Description: "base64, or - for none", parse: parseBase64OrMinus, size: sizeAll, print: printBase64OrMinus, rest: true}
	Digest12       = &Kind{Description: "hexadecimal digits of 12 octets or more", parse: parseDigest12, size: sizeAtLeast(12), print: printHex, rest: true}
	DottedHex      = &Kind{Description: "0x and hexadecimal digits, perhaps with dots", parse: parseDottedHex, size: sizeAtLeast(1), print: printDottedHex}
	Salt           = &Kind{Description: "hexadecimal digits, or - for none", parse: parseSalt, size: sizeString, print: printSalt}
	Hash32         = &Kind{Description: "hash in base32hex", parse: parseHash32, size: sizeHash, print: printHash32}
	OldBitmap      = &Kind{Description: "types below 128", parse: parseOldBitmap, size: sizeOldBitmap, print: printOldBitmap, rest: true, optional: true}
	NonEmptyText   = &Kind{Description: "text in quotes", parse: parseNonEmptyText, size: sizeAtLeast(1), print: printText, rest: true, quotable: true}
	EUI48          = &Kind{Description: "six pairs of hexadecimal digits joined by hyphens", parse: parseEUI(6), size: fixed(6), print: printEUI}
	EUI64          = &Kind{Description: "eight pairs of hexadecimal digits joined by hyphens", parse: parseEUI(8), size: fixed(8), print: printEUI}
	NodeID         = &Kind{Description: "four groups of hexadecimal digits joined by colons", parse: parseNodeID, size: fixed(8), print: printNodeID}
	U64            = &Kind{Description: "number from 0 to 18446744073709551615", parse: parseU64, size: fixed(8), print: printU64}

	CertType    = word(2, "certificate type", false, certTypes)
	Protocol    = word(1, "protocol", false, map[string]int{"TCP": 6, "UDP": 17, "ICMP": 1})
	Scheme      = word(1, "scheme", true, map[string]int{"NOTIFY": 1})
	TLSUsage    = word(1, "certificate usage", false, map[string]int{"PKIX-TA": 0, "PKIX-EE": 1, "DANE-TA": 2, "DANE-EE": 3, "PRIVCERT": 255})
	TLSSelector = word(1, "selector", false, map[string]int{"CERT": 0, "SPKI": 1, "PRIVSEL": 255})
	TLSMatching = word(1, "matching type", false, map[string]int{"FULL": 0, "SHA2-256": 1, "SHA2-512": 2, "PRIVMATCH": 255})
)

// certTypes are the mnemonics of RFC 4398 §2.1.
var certTypes = map[string]int{"PKIX": 1, "SPKI": 2, "PGP": 3, "IPKIX": 4, "ISPKI": 5, "IPGP": 6, "ACPKIX": 7, "IACPKIX": 8, "URI": 253, "OID": 254}

// word makes a kind that is a number on the wire and may be written as one of a
// few words. Words are printed only where the type's RFC does; elsewhere the
// number, which all software reads.
func word(octets int, what string, printed bool, words map[string]int) *Kind {
	most := 1<<(8*octets) - 1
	k := &Kind{Description: what + ", as a number or a word", size: fixed(octets)}
	k.parse = func(p *Parser) *FieldError {
		tok := p.next()
		n, ok := parseUint(tok, uint64(most))
		if !ok {
			v, known := words[strings.ToUpper(string(tok))]
			if !known {
				var have []string
				for w := range words {
					have = append(have, w)
				}
				e := p.failLast(RuleBadWord, "%q is not a %s", clip(tok), what)
				if meant := diag.Closest(string(tok), have); meant != "" {
					e = e.suggest("did you mean %s?", meant)
				}
				return e
			}
			n = uint64(v)
		}
		for i := octets - 1; i >= 0; i-- {
			p.out = append(p.out, byte(n>>(8*i)))
		}
		return nil
	}
	k.print = func(dst, b []byte) []byte {
		n := 0
		for _, c := range b {
			n = n<<8 | int(c)
		}
		if printed {
			for w, v := range words {
				if v == n {
					return append(dst, w...)
				}
			}
		}
		return strconv.AppendInt(dst, int64(n), 10)
	}
	return k
}

// ---- size ----

func orNothing(size func([]byte) int) func([]byte) int {
	return func(b []byte) int {
		if len(b) == 0 {
			return 0
		}
		return size(b)
	}
}

func sizeAtLeast(n int) func([]byte) int {
	return func(b []byte) int {
		if len(b) < n {
			return -1
		}
		return len(b)
	}
}

func sizeString(b []byte) int {
	if len(b) == 0 || 1+int(b[0]) > len(b) {
		return -1
	}
	return 1 + int(b[0])
}

func sizeHash(b []byte) int {
	if len(b) > 0 && b[0] == 0 { // RFC 5155 §3.1.6: 1 to 255
		return -1
	}
	return sizeString(b)
}

func sizeNames(b []byte) int {
	i := 0
	for i < len(b) {
		n := sizeName(b[i:])
		if n < 0 {
			return -1
		}
		i += n
	}
	return i
}

// sizeOldBitmap is for the bitmap of RFC 2535 §5.2: up to 16 octets, no
// trailing zero octet, the first bit unset.
func sizeOldBitmap(b []byte) int {
	if len(b) > 16 || len(b) > 0 && (b[len(b)-1] == 0 || b[0]&0x80 != 0) {
		return -1
	}
	return len(b)
}

// ---- read ----

func parseString(p *Parser) *FieldError {
	at := len(p.out)
	out, err := p.unescape(append(p.out, 0), p.next())
	if err != nil {
		return err
	}
	p.out = out
	n := len(out) - at - 1
	if n > 255 {
		return p.failLast(RuleTextTooLong, "this string has %d octets; it holds at most 255", n)
	}
	p.out[at] = byte(n)
	return nil
}

func parseNames(p *Parser) *FieldError {
	for p.i < len(p.tokens) {
		if err := parseName(p); err != nil {
			return err
		}
	}
	return nil
}

func parseBase64OrMinus(p *Parser) *FieldError {
	if string(p.tokens[p.i].Text) == "-" {
		p.i++
		return nil
	}
	return parseBase64(p)
}

func parseDigest12(p *Parser) *FieldError {
	at := len(p.out)
	if err := parseHex(p); err != nil {
		return err
	}
	if n := len(p.out) - at; n < 12 {
		return p.failLast(RuleBadHex, "the digest has %d octets; 12 are the least (RFC 8976 §2.2.4)", n)
	}
	return nil
}

func parseDottedHex(p *Parser) *FieldError {
	tok := p.next()
	digits, ok := strings.CutPrefix(strings.ToLower(string(tok)), "0x")
	digits = strings.ReplaceAll(digits, ".", "")
	out, bad := appendHex(p.out, []byte(digits))
	if !ok || bad >= 0 || digits == "" {
		return p.failLast(RuleBadHex, "%q is not an address of this kind", clip(tok)).suggest("write 0x and pairs of hexadecimal digits, such as 0x47.0005.80")
	}
	p.out = out
	return nil
}

func parseSalt(p *Parser) *FieldError {
	tok := p.next()
	at := len(p.out)
	p.out = append(p.out, 0)
	if string(tok) == "-" {
		return nil
	}
	out, bad := appendHex(p.out, tok)
	if bad >= 0 || len(tok) == 0 || len(out)-at-1 > 255 {
		return p.failLast(RuleBadHex, "%q is not a salt: %s", clip(tok), hexFault(tok, min(max(bad, 0), len(tok)))).suggest("write pairs of hexadecimal digits, or - for none")
	}
	out[at] = byte(len(out) - at - 1)
	p.out = out
	return nil
}

func parseHash32(p *Parser) *FieldError {
	tok := p.next()
	at := len(p.out)
	out, err := base32.HexEncoding.WithPadding(base32.NoPadding).AppendDecode(append(p.out, 0), []byte(strings.ToUpper(string(tok))))
	if n := len(out) - at - 1; err != nil || n < 1 || n > 255 {
		return p.failLast(RuleBadHash, "%q is not a hash in base32hex", clip(tok))
	}
	out[at] = byte(len(out) - at - 1)
	p.out = out
	return nil
}

func parseOldBitmap(p *Parser) *FieldError {
	var bits [16]byte
	last := -1
	for ; p.i < len(p.tokens); p.i++ {
		t, ok := ParseType(p.tokens[p.i].Text)
		if !ok || t == 0 || t > 127 {
			return p.fail(RuleBadTypeCode, "%q is not a record type below 128", clip(p.tokens[p.i].Text))
		}
		bits[t/8] |= 0x80 >> (t % 8)
		last = max(last, int(t/8))
	}
	p.out = append(p.out, bits[:last+1]...)
	return nil
}

func parseNonEmptyText(p *Parser) *FieldError {
	at := len(p.out)
	if err := parseText(p); err != nil {
		return err
	}
	if len(p.out) == at {
		return p.failLast(RuleMissingField, "this text is empty and must not be")
	}
	return nil
}

func parseEUI(n int) func(*Parser) *FieldError {
	return func(p *Parser) *FieldError {
		tok := p.next()
		ok := len(tok) == 3*n-1
		for i := 0; ok && i < len(tok); i++ {
			ok = (tok[i] == '-') == (i%3 == 2)
		}
		out, bad := appendHex(p.out, []byte(strings.ReplaceAll(string(tok), "-", "")))
		if !ok || bad >= 0 {
			return p.failLast(RuleBadHex, "%q is not %d pairs of hexadecimal digits joined by hyphens", clip(tok), n).
				suggest("write it as %s", "00-00-5e-00-53-2a-00-00"[:3*n-1])
		}
		p.out = out
		return nil
	}
}

func parseNodeID(p *Parser) *FieldError {
	tok := p.next()
	groups := strings.Split(string(tok), ":")
	ok := len(groups) == 4
	for _, g := range groups {
		n, err := strconv.ParseUint(g, 16, 16)
		ok = ok && err == nil && len(g) <= 4 && g[0] != '+'
		p.out = append(p.out, byte(n>>8), byte(n))
	}
	if !ok {
		return p.failLast(RuleBadHex, "%q is not four groups of hexadecimal digits joined by colons", clip(tok)).suggest("write all four, such as 2001:0db8:1140:1000")
	}
	return nil
}

func parseU64(p *Parser) *FieldError {
	tok := p.next()
	n, err := strconv.ParseUint(string(tok), 10, 64)
	if err != nil || tok[0] == '+' {
		return p.failLast(RuleBadNumber, "%q is not a number from 0 to 18446744073709551615", clip(tok))
	}
	for i := 56; i >= 0; i -= 8 {
		p.out = append(p.out, byte(n>>i))
	}
	return nil
}

// ---- print ----

func printString(dst, b []byte) []byte {
	if len(b) == 0 {
		return dst
	}
	return AppendQuoted(dst, b[1:])
}

func printOptionalName(dst, b []byte) []byte {
	if len(b) == 0 {
		return dst
	}
	return dnsname.AppendText(dst, b)
}

func printNames(dst, b []byte) []byte {
	for i := 0; i < len(b); {
		n := sizeName(b[i:])
		if i > 0 {
			dst = append(dst, ' ')
		}
		dst = dnsname.AppendText(dst, b[i:i+n])
		i += n
	}
	return dst
}

func printBase64OrMinus(dst, b []byte) []byte {
	if len(b) == 0 {
		return append(dst, '-')
	}
	return printBase64(dst, b)
}

func printDottedHex(dst, b []byte) []byte { return printHex(append(dst, "0x"...), b) }

func printSalt(dst, b []byte) []byte {
	if b[0] == 0 {
		return append(dst, '-')
	}
	return printHex(dst, b[1:])
}

func printHash32(dst, b []byte) []byte {
	at := len(dst)
	dst = base32.HexEncoding.WithPadding(base32.NoPadding).AppendEncode(dst, b[1:])
	for i := at; i < len(dst); i++ {
		if dst[i] >= 'A' && dst[i] <= 'Z' {
			dst[i] += 'a' - 'A'
		}
	}
	return dst
}

func printOldBitmap(dst, b []byte) []byte {
	first := true
	for i := range 8 * len(b) {
		if b[i/8]&(0x80>>(i%8)) != 0 {
			if !first {
				dst = append(dst, ' ')
			}
			first = false
			dst = append(dst, Type(i).String()...)
		}
	}
	return dst
}

func printEUI(dst, b []byte) []byte {
	for i := range b {
		if i > 0 {
			dst = append(dst, '-')
		}
		dst = hex.AppendEncode(dst, b[i:i+1])
	}
	return dst
}

func printNodeID(dst, b []byte) []byte {
	for i := 0; i < 8; i += 2 {
		if i > 0 {
			dst = append(dst, ':')
		}
		dst = hex.AppendEncode(dst, b[i:i+2])
	}
	return dst
}

func printU64(dst, b []byte) []byte {
	return strconv.AppendUint(dst, uint64(be32(b))<<32|uint64(be32(b[4:])), 10)
}
