package dnssec

import (
	"crypto/sha1"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"fmt"

	"fencepost/dnsname"
	"fencepost/rr"
)

// HashSize is the length of an NSEC3 hash in octets (SHA-1, the only one).
const HashSize = sha1.Size

// HashLabel is the length of a hash as a label: base32 without padding.
const HashLabel = 32

// Hash is an NSEC3 hash of a name.
type Hash [HashSize]byte

// NSEC3Params are the parameters of a chain of NSEC3 records (RFC 5155 §4).
type NSEC3Params struct {
	Iterations uint16
	Salt       []byte
}

// nsec3SHA1 is the number of the hash algorithm (RFC 5155 §11).
const nsec3SHA1 = 1

// FlagOptOut is the flag of NSEC3 records whose span may hold insecure
// delegations (RFC 5155 §3.1.2.1).
const FlagOptOut = 1

// Hash hashes a name in wire form (RFC 5155 §5).
func (p *NSEC3Params) Hash(name []byte) (h Hash) {
	var buf [dnsname.MaxWire + 255]byte
	h = sha1.Sum(append(dnsname.AppendLower(buf[:0], name), p.Salt...))
	for range p.Iterations {
		h = sha1.Sum(append(append(buf[:0], h[:]...), p.Salt...))
	}
	return h
}

var base32hex = base32.HexEncoding.WithPadding(base32.NoPadding)

// AppendLabel appends the hash as a label in lower case, without its length
// (RFC 5155 §3.3). Labels sort as hashes do.
func (h *Hash) AppendLabel(dst []byte) []byte {
	at := len(dst)
	dst = base32hex.AppendEncode(dst, h[:])
	for i := at; i < len(dst); i++ {
		if dst[i] >= 'A' && dst[i] <= 'V' {
			dst[i] += 'a' - 'A'
		}
	}
	return dst
}

// ParseHashLabel reads a label as AppendLabel writes it, in either case.
func ParseHashLabel(label []byte) (h Hash, ok bool) {
	if len(label) != HashLabel {
		return h, false
	}
	var upper [HashLabel]byte
	for i, c := range label {
		if c >= 'a' && c <= 'v' {
			c -= 'a' - 'A'
		}
		upper[i] = c
	}
	n, err := base32hex.Decode(h[:], upper[:])
	return h, err == nil && n == HashSize
}

// ParamData is the data of the NSEC3PARAM record (RFC 5155 §4.2); flags are 0.
func (p *NSEC3Params) ParamData() []byte { return p.appendParams(nil, 0) }

func (p *NSEC3Params) appendParams(dst []byte, flags byte) []byte {
	dst = append(dst, nsec3SHA1, flags)
	dst = binary.BigEndian.AppendUint16(dst, p.Iterations)
	return append(append(dst, byte(len(p.Salt))), p.Salt...)
}

// AppendNSEC3 appends the data of an NSEC3 record (RFC 5155 §3.2).
func (p *NSEC3Params) AppendNSEC3(dst []byte, flags byte, next *Hash, types []rr.Type) []byte {
	dst = append(p.appendParams(dst, flags), HashSize)
	dst = append(dst, next[:]...)
	return rr.AppendBitmap(dst, types)
}

// ErrNSEC3 is wrapped for NSEC3 data that cannot be used.
var ErrNSEC3 = errors.New("unusable NSEC3 parameters")

// ParseParams reads the parameters at the head of NSEC3 or NSEC3PARAM data and
// returns what follows them.
func ParseParams(data []byte) (p NSEC3Params, flags byte, rest []byte, err error) {
	if len(data) < 5 || len(data) < 5+int(data[4]) {
		return p, 0, nil, fmt.Errorf("%w: too short", ErrNSEC3)
	}
	if data[0] != nsec3SHA1 { // RFC 5155 §8.1
		return p, 0, nil, fmt.Errorf("%w: hash algorithm %d is not known", ErrNSEC3, data[0])
	}
	end := 5 + int(data[4])
	return NSEC3Params{binary.BigEndian.Uint16(data[2:]), data[5:end]}, data[1], data[end:], nil
}

// NSEC3 is the data of an NSEC3 record.
type NSEC3 struct {
	Params NSEC3Params
	Flags  byte
	Next   Hash
	Bitmap []byte
}

// ParseNSEC3 reads the data of an NSEC3 record; the slices point into data.
func ParseNSEC3(data []byte) (n NSEC3, err error) {
	var rest []byte
	if n.Params, n.Flags, rest, err = ParseParams(data); err != nil {
		return n, err
	}
	if len(rest) < 1+HashSize || rest[0] != HashSize {
		return n, fmt.Errorf("%w: the next hash has not %d octets", ErrNSEC3, HashSize)
	}
	copy(n.Next[:], rest[1:])
	n.Bitmap = rest[1+HashSize:]
	return n, nil
}

// Equal reports whether two chains have the same parameters.
func (p *NSEC3Params) Equal(o *NSEC3Params) bool {
	return p.Iterations == o.Iterations && string(p.Salt) == string(o.Salt)
}
