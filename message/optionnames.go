package message

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"fencepost/dnsname"
)

// EDNS options that are asked for and shown (IANA, DNS EDNS0 Option Codes).
const (
	OptionNSID      = 3  // which server it is (RFC 5001)
	OptionSubnet    = 8  // whom the answer is for (RFC 7871)
	OptionCookie    = 10 // RFC 7873
	OptionKeepalive = 11 // how long a connection is kept (RFC 7828)
	OptionPadding   = 12 // RFC 7830
	OptionReport    = 18 // whom to tell of what is wrong with answers (RFC 9567)
	OptionVersion   = 19 // which version of a zone it is (RFC 9660)
)

// optionForm says what an option is called, and its data in words; empty: nothing is to be
// said of them.
type optionForm struct {
	name  string
	words func(data []byte) string
}

var optionForms = map[uint16]optionForm{
	OptionNSID:      {"server", nsidWords},
	OptionSubnet:    {"client subnet", subnetWords},
	OptionExpire:    {"expires", secondsWords},
	OptionCookie:    {"cookie", hex.EncodeToString},
	OptionKeepalive: {"connection kept", keepaliveWords},
	OptionPadding:   {"padding", func(b []byte) string { return fmt.Sprintf("%d octets", len(b)) }},
	OptionReport:    {"reports go to", nameWords},
	OptionVersion:   {"zone version", versionWords},
}

// Words is an option as people read it: what it is, and what it says.
func (o Option) Words() (name, text string) {
	f, known := optionForms[o.Code]
	if !known {
		return fmt.Sprintf("option %d", o.Code), hex.EncodeToString(o.Data)
	}
	return f.name, f.words(o.Data)
}

// nsidWords is hexadecimal, with the text that it may be (RFC 5001 §2.4).
func nsidWords(b []byte) string {
	text := hex.EncodeToString(b)
	for _, c := range b {
		if c < ' ' || c > '~' {
			return text
		}
	}
	if len(b) == 0 {
		return "no name"
	}
	return fmt.Sprintf("%s (%s)", b, text)
}

func secondsWords(b []byte) string {
	if len(b) != 4 {
		return hex.EncodeToString(b)
	}
	return fmt.Sprintf("in %d s", binary.BigEndian.Uint32(b))
}

func keepaliveWords(b []byte) string {
	if len(b) != 2 {
		return hex.EncodeToString(b)
	}
	return fmt.Sprintf("%d ms", 100*int(binary.BigEndian.Uint16(b)))
}

// subnetWords is the network, and for which network the answer is (RFC 7871 §6).
func subnetWords(b []byte) string {
	sizes := map[uint16]int{1: 4, 2: 16}
	if len(b) < 4 || sizes[binary.BigEndian.Uint16(b)] < len(b)-4 {
		return hex.EncodeToString(b)
	}
	full := make([]byte, sizes[binary.BigEndian.Uint16(b)])
	copy(full, b[4:])
	a, ok := netip.AddrFromSlice(full)
	if !ok {
		return hex.EncodeToString(b)
	}
	return fmt.Sprintf("%s/%d, answer for /%d", a, b[2], b[3])
}

// versionWords is the zone's name, counted in labels of the question, and its serial.
func versionWords(b []byte) string {
	if len(b) != 6 || b[1] != 0 {
		return hex.EncodeToString(b)
	}
	return fmt.Sprintf("serial %d of the last %d labels", binary.BigEndian.Uint32(b[2:]), b[0])
}

func nameWords(b []byte) string {
	n, err := dnsname.FromWire(b)
	if err != nil {
		return hex.EncodeToString(b)
	}
	return n.String()
}

// Subnet is the option that asks for the answer that a network would be given (RFC 7871 §6).
func Subnet(p netip.Prefix) Option {
	family, raw := byte(1), p.Masked().Addr().AsSlice()
	if p.Addr().Is6() {
		family = 2
	}
	return Option{OptionSubnet, append([]byte{0, family, byte(p.Bits()), 0}, raw[:(p.Bits()+7)/8]...)}
}

// ParseOption reads CODE or CODE=HEX.
func ParseOption(text string) (o Option, err error) {
	code, data, _ := strings.Cut(text, "=")
	n, perr := strconv.ParseUint(code, 10, 16)
	if perr != nil {
		return o, fmt.Errorf("%q is not an option: write its number, and its data in hexadecimal: 65001=0a0b", text)
	}
	o.Code = uint16(n)
	if o.Data, err = hex.DecodeString(data); err != nil {
		return o, fmt.Errorf("the data of option %s are not a hexadecimal number: %q", code, data)
	}
	return o, nil
}
