// Package cookie makes and checks DNS server cookies (RFC 7873) of version 1 (RFC 9018 §4),
// which servers with the same secret take from each other: the version, three reserved octets,
// the time, and SipHash-2-4 of all that with the client's cookie and address.
package cookie

import (
	"encoding/binary"
	"net/netip"
	"time"

	"github.com/dchest/siphash"
)

// Sizes in octets.
const (
	ClientSize = 8
	ServerSize = 16
	SecretSize = 16
)

// version is the first octet of a server cookie (RFC 9018 §4.1).
const version = 1

// How long a server cookie counts, and from when on another is given (RFC 9018 §4.3).
const (
	oldest = time.Hour
	ahead  = 5 * time.Minute
	renew  = 30 * time.Minute
)

// Secret is what servers share (RFC 9018 §5).
type Secret [SecretSize]byte

// Secrets are those that count: cookies are made with the first; while one is changed for
// another, those of the former count as well.
type Secrets []Secret

// Append appends the COOKIE option's data for an answer: the client's cookie, and a server
// cookie for its address. That which came is given back while it counts and is not old. came is
// the data of the request's option, of 8 or 16 to 40 octets.
func (s Secrets) Append(dst, came []byte, from netip.Addr, now time.Time) []byte {
	dst = append(dst, came[:ClientSize]...)
	if valid, young := s.check(came, from, now); valid && young {
		return append(dst, came[ClientSize:]...)
	}
	head := [8]byte{version}
	binary.BigEndian.PutUint32(head[4:], uint32(now.Unix()))
	dst = append(dst, head[:]...)
	return binary.LittleEndian.AppendUint64(dst, s[0].hash(came[:ClientSize], head[:], from))
}

// Valid reports whether a request brought a server cookie that counts: that it comes from where
// it says.
func (s Secrets) Valid(came []byte, from netip.Addr, now time.Time) bool {
	valid, _ := s.check(came, from, now)
	return valid
}

// check judges a server cookie. young tells that it is not to be renewed yet: it was made half an
// hour ago at most, with the present secret.
func (s Secrets) check(came []byte, from netip.Addr, now time.Time) (valid, young bool) {
	if len(came) != ClientSize+ServerSize || came[ClientSize] != version {
		return false, false
	}
	server := came[ClientSize:]
	// The time is a serial number (RFC 9018 §4.3, RFC 1982).
	age := time.Duration(int32(uint32(now.Unix())-binary.BigEndian.Uint32(server[4:]))) * time.Second
	if age > oldest || age < -ahead {
		return false, false
	}
	for i := range s {
		if s[i].hash(came[:ClientSize], server[:8], from) == binary.LittleEndian.Uint64(server[8:]) {
			return true, i == 0 && age <= renew
		}
	}
	return false, false
}

// hash is over the client's cookie, the first half of the server's, and the client's address
// (RFC 9018 §4.4).
func (s *Secret) hash(client, head []byte, from netip.Addr) uint64 {
	var buf [ClientSize + 8 + 16]byte
	b := append(append(buf[:0], client...), head...)
	if from = from.Unmap(); from.Is4() {
		a := from.As4()
		b = append(b, a[:]...)
	} else {
		a := from.As16()
		b = append(b, a[:]...)
	}
	return siphash.Hash(binary.LittleEndian.Uint64(s[:]), binary.LittleEndian.Uint64(s[8:]), b)
}
