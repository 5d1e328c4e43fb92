package rr

import (
	"encoding/base64"
	"encoding/hex"
	"net/netip"
	"strconv"
	"time"

	"fencepost/dnsname"
)

// Kind is a kind of field: how it is read from text, measured on the wire and
// printed. The kinds carry the rules once for all types that use them.
type Kind struct {
	Description string // what to write, for help and errors
	parse       func(p *Parser) *FieldError
	// size is the number of octets that the field takes at the head of b, or -1
	// if b does not begin with such a field.
	size  func(b []byte) int
	print func(dst, b []byte) []byte
	names nameRule
	rest  bool // takes all that is left
	host  bool // the name of a host: it ought to have an address

	own bool // a name of the zone's own machinery, or a mailbox: not something that ought to exist elsewhere

	optional bool // may be left out at the end of the record
	quotable bool // may be written in quotes
}

// nameRule says what may be done to a name field; zero means it is no name.
type nameRule uint8

const (
	isName       nameRule = 1 << iota
	namesPacked           // compressed when sent (RFC 1035 types only, RFC 3597 §4)
	namesUnpack           // accepted compressed (RFC 3597 §4)
	namesLower            // lower case in canonical form (RFC 4034 §6.2, RFC 6840 §5.1)
	oldNameRule  = isName | namesUnpack | namesLower
	packNameRule = oldNameRule | namesPacked
)

// The kinds. A host name is a name that is meant to have addresses.
var (
	U8             = &Kind{Description: "number from 0 to 255", parse: parseNumber(1, 0xff), size: fixed(1), print: printU8}
	U16            = &Kind{Description: "number from 0 to 65535", parse: parseNumber(2, 0xffff), size: fixed(2), print: printU16}
	U32            = &Kind{Description: "number from 0 to 4294967295", parse: parseNumber(4, 0xffffffff), size: fixed(4), print: printU32}
	Seconds        = &Kind{Description: "time in seconds", parse: parseSeconds, size: fixed(4), print: printU32}
	Algorithm      = &Kind{Description: "algorithm number or mnemonic", parse: parseAlgorithm, size: fixed(1), print: printU8}
	TypeCode       = &Kind{Description: "record type", parse: parseTypeCode, size: fixed(2), print: printTypeCode}
	Time           = &Kind{Description: "time as YYYYMMDDHHmmSS", parse: parseTime, size: fixed(4), print: printTime}
	IPv4           = &Kind{Description: "IPv4 address", parse: parseIPv4, size: fixed(4), print: printIPv4}
	IPv6           = &Kind{Description: "IPv6 address", parse: parseIPv6, size: fixed(16), print: printIPv6}
	CompressedName = &Kind{Description: "name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: packNameRule}
	HostName       = &Kind{Description: "host name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: packNameRule, host: true}
	OldHostName    = &Kind{Description: "host name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: oldNameRule, host: true}
	LowerName      = &Kind{Description: "name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: isName | namesLower}
	Mailbox        = &Kind{Description: "mailbox as a name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: packNameRule, own: true}
	SignerName     = &Kind{Description: "name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: isName | namesLower, own: true}
	NextName       = &Kind{Description: "name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: isName, own: true}
	PlainName      = &Kind{Description: "name", parse: parseName, size: sizeName, print: dnsname.AppendText, names: isName}
	Strings        = &Kind{Description: "text", parse: parseStrings, size: sizeStrings, print: printStrings, rest: true, quotable: true}
	Tag            = &Kind{Description: "word of letters and digits", parse: parseTag, size: sizeTag, print: printTag, quotable: true}
	Text           = &Kind{Description: "text", parse: parseText, size: sizeAll, print: printText, rest: true, quotable: true}
	Base64         = &Kind{Description: "base64", parse: parseBase64, size: sizeAll, print: printBase64, rest: true}
	Hex            = &Kind{Description: "hexadecimal digits", parse: parseHex, size: sizeAll, print: printHex, rest: true}
	Bitmap         = &Kind{Description: "types", parse: parseBitmap, size: sizeBitmap, print: printBitmap, rest: true, optional: true}
)

// ---- size ----

func fixed(n int) func([]byte) int {
	return func(b []byte) int {
		if len(b) < n {
			return -1
		}
		return n
	}
}

func sizeAll(b []byte) int { return len(b) }

func sizeName(b []byte) int {
	n, err := dnsname.WireLen(b)
	if err != nil {
		return -1
	}
	return n
}

func sizeStrings(b []byte) int {
	i := 0
	for i < len(b) {
		i += 1 + int(b[i])
	}
	if i != len(b) || i == 0 {
		return -1
	}
	return i
}

func sizeTag(b []byte) int {
	if len(b) < 2 || b[0] == 0 || 1+int(b[0]) > len(b) {
		return -1
	}
	return 1 + int(b[0])
}

// ---- print ----

func printU8(dst, b []byte) []byte  { return strconv.AppendUint(dst, uint64(b[0]), 10) }
func printU16(dst, b []byte) []byte { return strconv.AppendUint(dst, uint64(be16(b)), 10) }
func printU32(dst, b []byte) []byte { return strconv.AppendUint(dst, uint64(be32(b)), 10) }

func printTypeCode(dst, b []byte) []byte { return append(dst, Type(be16(b)).String()...) }

func printTime(dst, b []byte) []byte {
	return time.Unix(int64(be32(b)), 0).UTC().AppendFormat(dst, "20060102150405")
}

func printIPv4(dst, b []byte) []byte { return netip.AddrFrom4([4]byte(b)).AppendTo(dst) }
func printIPv6(dst, b []byte) []byte { return netip.AddrFrom16([16]byte(b)).AppendTo(dst) }

func printStrings(dst, b []byte) []byte {
	for i := 0; i < len(b); i += 1 + int(b[i]) {
		if i > 0 {
			dst = append(dst, ' ')
		}
		dst = AppendQuoted(dst, b[i+1:i+1+int(b[i])])
	}
	return dst
}

func printText(dst, b []byte) []byte   { return AppendQuoted(dst, b) }
func printTag(dst, b []byte) []byte    { return append(dst, b[1:]...) }
func printBase64(dst, b []byte) []byte { return base64.StdEncoding.AppendEncode(dst, b) }
func printHex(dst, b []byte) []byte    { return hex.AppendEncode(dst, b) }

// AppendQuoted appends b as a quoted string with the escapes of RFC 1035 §5.1.
func AppendQuoted(dst, b []byte) []byte {
	dst = append(dst, '"')
	for _, c := range b {
		switch {
		case c == '"' || c == '\\':
			dst = append(dst, '\\', c)
		case c < ' ' || c >= 0x7f:
			dst = append(dst, '\\', '0'+c/100, '0'+c/10%10, '0'+c%10)
		default:
			dst = append(dst, c)
		}
	}
	return append(dst, '"')
}

func be16(b []byte) uint16 { return uint16(b[0])<<8 | uint16(b[1]) }
func be32(b []byte) uint32 {
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}
