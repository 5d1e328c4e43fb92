package rr_test

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
)

// aim is a number between two, often one of them.
func aim(r *rand.Rand, least, most int) int {
	switch r.IntN(4) {
	case 0:
		return least
	case 1:
		return most
	}
	return least + r.IntN(most-least+1)
}

// octets are random, or all the least or all the greatest.
func octets(r *rand.Rand, least, most int) []byte {
	b := make([]byte, aim(r, least, most))
	how := r.IntN(6)
	for i := range b {
		switch how {
		case 0: // zeros
		case 1:
			b[i] = 255
		default:
			b[i] = byte(r.IntN(256))
		}
	}
	return b
}

// large is some, and now and then as much as a record can hold beside other fields.
func large(least, most int) func(*rand.Rand) []byte {
	return func(r *rand.Rand) []byte {
		if r.IntN(50) == 0 {
			return octets(r, least, rr.MaxData-1000)
		}
		return octets(r, least, most)
	}
}

func some(least, most int) func(*rand.Rand) []byte {
	return func(r *rand.Rand) []byte { return octets(r, least, most) }
}

func exactly(n int) func(*rand.Rand) []byte { return some(n, n) }

// counted is a length octet and so many octets.
func counted(least int) func(*rand.Rand) []byte {
	return func(r *rand.Rand) []byte {
		b := octets(r, least, 255)
		return append([]byte{byte(len(b))}, b...)
	}
}

func randomName(r *rand.Rand) []byte {
	n := dnsname.Root
	if r.IntN(8) == 0 { // as long as names can be: few labels or many
		size := []int{63, 1}[r.IntN(2)]
		for {
			longer, err := n.Child(string(octets(r, size, size)))
			if err != nil {
				return n.AppendWire(nil)
			}
			n = longer
		}
	}
	for range r.IntN(4) {
		n, _ = n.Child(string(octets(r, 1, 8)))
	}
	return n.AppendWire(nil)
}

func repeat(least, most int, one func(*rand.Rand) []byte) func(*rand.Rand) []byte {
	return func(r *rand.Rand) (out []byte) {
		for range aim(r, least, most) {
			out = append(out, one(r)...)
		}
		return out
	}
}

func randomGateway(r *rand.Rand) (kind byte, b []byte) {
	switch kind = byte(r.IntN(4)); kind {
	case 1:
		b = octets(r, 4, 4)
	case 2:
		b = octets(r, 16, 16)
	case 3:
		b = randomName(r)
	}
	return kind, b
}

func randomPrefix(r *rand.Rand) []byte {
	most := []int{4, 16}[r.IntN(2)]
	addr := bytes.TrimRight(octets(r, 0, most), "\x00")
	return append([]byte{0, byte(1 + most/16), byte(r.IntN(8*most + 1)), byte(r.IntN(2)<<7 | len(addr))}, addr...)
}

func randomLocation(r *rand.Rand) []byte {
	b := []byte{0}
	for range 3 {
		digit := r.IntN(10)
		b = append(b, byte(digit<<4|min(digit, 1)*r.IntN(10)))
	}
	b = binary.BigEndian.AppendUint32(b, uint32(1<<31-324000000+r.IntN(648000001)))
	b = binary.BigEndian.AppendUint32(b, uint32(1<<31-648000000+r.IntN(1296000001)))
	return binary.BigEndian.AppendUint32(b, r.Uint32())
}

// randomParams makes a list of service parameters, keys ascending.
func randomParams(r *rand.Rand) (out []byte) {
	values := []func(*rand.Rand) []byte{rr.ParamALPN: repeat(1, 3, counted(1)), rr.ParamPort: exactly(2), rr.ParamIPv4Hint: repeat(1, 3, exactly(4)),
		rr.ParamECH: some(1, 40), rr.ParamIPv6Hint: repeat(1, 3, exactly(16)), rr.ParamDoHPath: some(1, 40), 9: some(0, 40), 667: some(0, 300)}
	if r.IntN(2) == 0 {
		out = append(out, 0, 0, 0, 4, 0, 1, 0, 3) // mandatory: alpn and port, which then are there
	}
	must := len(out) > 0
	for key, value := range values {
		if value == nil || !(must && key <= rr.ParamPort) && r.IntN(2) == 0 {
			continue
		}
		v := value(r)
		out = append(out, byte(key>>8), byte(key), byte(len(v)>>8), byte(len(v)))
		out = append(out, v...)
		if key == rr.ParamALPN && r.IntN(2) == 0 {
			out = append(out, 0, rr.ParamNoDefaultALPN, 0, 0)
		}
	}
	return out
}

// generators make random, well-formed octets for each kind of field.
var generators = map[*rr.Kind]func(*rand.Rand) []byte{
	rr.U8: exactly(1), rr.Algorithm: exactly(1), rr.Protocol: exactly(1), rr.Scheme: exactly(1),
	rr.TLSUsage: exactly(1), rr.TLSSelector: exactly(1), rr.TLSMatching: exactly(1),
	rr.U16: exactly(2), rr.TypeCode: exactly(2), rr.CertType: exactly(2), rr.U32: exactly(4), rr.IPv4: exactly(4), rr.Time: exactly(4),
	rr.U64: exactly(8), rr.NodeID: exactly(8), rr.EUI48: exactly(6), rr.EUI64: exactly(8), rr.IPv6: exactly(16),
	rr.Seconds: func(r *rand.Rand) []byte { return binary.BigEndian.AppendUint32(nil, uint32(aim(r, 0, 1<<31-1))) },
	rr.Tag:     func(*rand.Rand) []byte { return []byte("\x05issue") },
	rr.Strings: repeat(1, 3, counted(0)), rr.String: counted(0), rr.Salt: counted(0), rr.Hash32: counted(1),
	rr.OptionalString: repeat(0, 1, counted(0)),
	rr.Text:           large(0, 400), rr.NonEmptyText: large(1, 400), rr.Base64: large(1, 100), rr.Hex: large(1, 100),
	rr.OptionalBase64: large(0, 100), rr.Base64OrMinus: large(0, 100), rr.Digest12: some(12, 64), rr.DottedHex: some(1, 20),
	rr.Names:  repeat(0, 3, randomName),
	rr.Params: randomParams, rr.Location: randomLocation, rr.Prefixes: repeat(0, 4, randomPrefix),
	rr.Ports: func(r *rand.Rand) []byte { return bytes.TrimRight(octets(r, 0, 40), "\x00") },
	rr.OldBitmap: func(r *rand.Rand) []byte {
		return bytes.TrimRight(append([]byte{byte(r.IntN(128))}, octets(r, 0, 15)...), "\x00")
	},
	rr.Bitmap: func(r *rand.Rand) []byte {
		var types []rr.Type
		for range aim(r, 0, 40) {
			types = append(types, rr.Type(aim(r, 1, 65535)))
		}
		return rr.AppendBitmap(nil, types)
	},
	rr.Gateway: func(r *rand.Rand) []byte {
		kind, b := randomGateway(r)
		return append([]byte{kind, byte(r.IntN(256))}, b...)
	},
	rr.Relay: func(r *rand.Rand) []byte {
		kind, b := randomGateway(r)
		return append([]byte{kind | byte(r.IntN(2)<<7)}, b...)
	},
	rr.HostID: func(r *rand.Rand) []byte {
		hit, key := octets(r, 1, 40), octets(r, 1, 100)
		return append(append([]byte{byte(len(hit)), byte(r.IntN(256)), 0, byte(len(key))}, hit...), key...)
	},
}

func init() {
	for _, k := range []*rr.Kind{rr.CompressedName, rr.HostName, rr.OldHostName, rr.OldName, rr.LowerName, rr.LowerHostName, rr.PlainName, rr.PlainHostName,
		rr.Mailbox, rr.SignerName, rr.NextName, rr.OldOwnName} {
		generators[k] = randomName
	}
}

// generate makes random, well-formed data for a declared type by its kinds.
func generate(t *testing.T, r *rand.Rand, info *rr.Info) []byte {
	t.Helper()
	if info.Type == 38 { // A6: the prefix says whether a name follows
		bits := r.IntN(129)
		b := append([]byte{byte(bits)}, octets(r, 16-bits/8, 16-bits/8)...)
		if bits > 0 {
			b = append(b, randomName(r)...)
		}
		return b
	}
	var out []byte
	for _, f := range info.Fields {
		if generators[f.Kind] == nil {
			t.Fatalf("%s: nothing generates its %s", info.Mnemonic, f.Name)
		}
		out = append(out, generators[f.Kind](r)...)
	}
	return out
}

// endsAnywhere are kinds of which a part may be well-formed too.
var endsAnywhere = map[*rr.Kind]bool{rr.Text: true, rr.Base64: true, rr.Hex: true, rr.Bitmap: true, rr.Strings: true, rr.NonEmptyText: true,
	rr.OptionalBase64: true, rr.Base64OrMinus: true, rr.Digest12: true, rr.DottedHex: true, rr.Names: true, rr.Params: true, rr.Prefixes: true,
	rr.Ports: true, rr.OldBitmap: true, rr.OptionalString: true}

// TestRoundTrip tests every declared type by being declared: wire to text to
// wire, and the canonical form is stable and only differs in case.
func TestRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, info := range rr.Table() {
		if info.Use != rr.Data || info.Fields == nil {
			continue
		}
		for range 300 {
			data := generate(t, r, &info)
			if err := rr.Validate(info.Type, data); err != nil {
				t.Fatalf("%s %x: %v", info.Mnemonic, data, err)
			}
			text := rr.DataText(info.Type, data)
			back, ferr := parse(info.Type, text)
			if ferr != nil || !bytes.Equal(back, data) {
				t.Fatalf("%s %x prints as %s, which reads as %x, %v", info.Mnemonic, data, text, back, ferr)
			}
			generic := `\# ` + strings.TrimPrefix(rr.DataText(65280, data), `\# `)
			if back, ferr = parse(info.Type, generic); ferr != nil || !bytes.Equal(back, data) {
				t.Fatalf("%s in the generic form: %x, %v", info.Mnemonic, back, ferr)
			}
			canon := rr.AppendCanonical(nil, info.Type, data)
			if !bytes.Equal(rr.AppendCanonical(nil, info.Type, canon), canon) || !bytes.EqualFold(canon, data) && isASCII(data) {
				t.Fatalf("%s %x: canonical form %x", info.Mnemonic, data, canon)
			}
			if wire, err := rr.AppendUnpack(nil, data, 0, len(data), info.Type); err != nil || !bytes.Equal(wire, data) {
				t.Fatalf("%s %x unpacks as %x, %v", info.Mnemonic, data, wire, err)
			}
			if len(data) > 0 && rr.Validate(info.Type, data[:len(data)-1]) == nil && !endsAnywhere[info.Fields[len(info.Fields)-1].Kind] {
				t.Fatalf("%s without its last octet is accepted", info.Mnemonic)
			}
		}
	}
}

func isASCII(b []byte) bool {
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}
