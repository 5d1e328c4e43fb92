// Package tsig signs and checks messages with shared secrets (RFC 8945).
//
// Where the RFC leaves room: MACs are sent in full; truncated ones are accepted
// down to the least the RFC allows; hmac-md5 is not supported.
package tsig

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Key is a shared secret with its name.
type Key struct {
	Name      dnsname.Name
	Algorithm string // such as "hmac-sha256"
	Secret    []byte
}

// DefaultAlgorithm is used where none is named (RFC 8945 §6).
const DefaultAlgorithm = "hmac-sha256"

// Fudge is how far clocks may be apart, in seconds (RFC 8945 §10).
const Fudge = 300

var hashes = map[string]func() hash.Hash{
	"hmac-sha1": sha1.New, "hmac-sha224": sha256.New224, "hmac-sha256": sha256.New,
	"hmac-sha384": sha512.New384, "hmac-sha512": sha512.New,
}

// Supported reports whether there is such an algorithm here.
func Supported(algorithm string) bool { return hashes[algorithm] != nil }

// Octets is how long the hash of an algorithm is, and secrets for it at the least should
// be (RFC 8945 §8); 0 where the algorithm is not supported.
func Octets(algorithm string) int {
	if h := hashes[algorithm]; h != nil {
		return h().Size()
	}
	return 0
}

// Algorithms lists the supported algorithms.
func Algorithms() []string {
	return []string{"hmac-sha256", "hmac-sha384", "hmac-sha512", "hmac-sha224", "hmac-sha1"}
}

// Error codes of TSIG (RFC 8945 §3). Each goes with the response code NOTAUTH.
const (
	BadSig   uint16 = 16
	BadKey   uint16 = 17
	BadTime  uint16 = 18
	BadTrunc uint16 = 22
)

// Error is a message that failed the check with a TSIG error code. Code 0 means
// that the TSIG record is malformed (FORMERR).
type Error struct {
	Code uint16
	Why  string
}

func (e *Error) Error() string { return e.Why }

// ErrPeer is wrapped when the other side reports a TSIG error.
var ErrPeer = errors.New("the other side rejects our signature")

// record is a TSIG record taken apart.
type record struct {
	name      dnsname.Name
	algorithm dnsname.Name
	time      uint64 // 48 bits
	fudge     uint16
	mac       []byte
	id        uint16
	err       uint16
	other     []byte
	start     int
}

var errForm = &Error{0, "the TSIG record is malformed"}

// parse reads the TSIG record at off, which is the last of msg.
func parse(msg []byte, off int) (*record, *Error) {
	r := &record{start: off}
	var buf [dnsname.MaxWire]byte
	w, off, err := dnsname.AppendUnpack(buf[:0], msg, off)
	if err != nil || off+10 > len(msg) {
		return nil, errForm
	}
	r.name, _ = dnsname.FromWire(w)
	if binary.BigEndian.Uint16(msg[off+2:]) != uint16(rr.ClassAny) || binary.BigEndian.Uint32(msg[off+4:]) != 0 {
		return nil, errForm
	}
	off += 10
	n, err := dnsname.WireLen(msg[off:])
	if err != nil {
		return nil, errForm
	}
	r.algorithm, _ = dnsname.FromWire(msg[off : off+n])
	b := msg[off+n:]
	if len(b) < 10 {
		return nil, errForm
	}
	r.time = uint64(binary.BigEndian.Uint16(b))<<32 | uint64(binary.BigEndian.Uint32(b[2:]))
	r.fudge = binary.BigEndian.Uint16(b[6:])
	size := int(binary.BigEndian.Uint16(b[8:]))
	b = b[10:]
	if len(b) < size+6 {
		return nil, errForm
	}
	r.mac, b = b[:size], b[size:]
	r.id, r.err = binary.BigEndian.Uint16(b), binary.BigEndian.Uint16(b[2:])
	if size = int(binary.BigEndian.Uint16(b[4:])); len(b) != 6+size {
		return nil, errForm
	}
	r.other = b[6:]
	return r, nil
}

// KeyName is the name of the key that the TSIG record at off says it was made
// with.
func KeyName(msg []byte, off int) (dnsname.Name, *Error) {
	r, err := parse(msg, off)
	if err != nil {
		return dnsname.Name{}, err
	}
	return r.name, nil
}

// Stream signs or checks the messages of one exchange in their order: a request
// and its response, or the many responses of a transfer (RFC 8945 §5.3.1).
type Stream struct {
	key      *Key
	prior    []byte // MAC of the message before
	later    bool   // not the first response: times only are digested
	unsigned [][]byte
	Last     bool // the message checked last was signed
}

// NewStream begins an exchange with the key.
func NewStream(key *Key) *Stream { return &Stream{key: key} }

// Key is the key of the exchange.
func (s *Stream) Key() *Key { return s.key }

// digest is the MAC over the message without TSIG and the TSIG's own fields
// (RFC 8945 §4.3).
func (s *Stream) digest(msg []byte, id uint16, r *record) []byte {
	h := hmac.New(hashes[s.key.Algorithm], s.key.Secret)
	if s.prior != nil {
		h.Write(binary.BigEndian.AppendUint16(nil, uint16(len(s.prior))))
		h.Write(s.prior)
	}
	for _, m := range s.unsigned {
		h.Write(m)
	}
	head := bytes.Clone(msg[:12])
	binary.BigEndian.PutUint16(head, id)
	h.Write(head)
	h.Write(msg[12:])
	var v []byte
	if !s.later {
		v = append(v, s.key.Name.Key()...)
		v = append(v, 0, byte(rr.ClassAny), 0, 0, 0, 0)
		v = append(v, r.algorithm.Key()...)
	}
	v = appendTime(v, r.time)
	v = binary.BigEndian.AppendUint16(v, r.fudge)
	if !s.later {
		v = binary.BigEndian.AppendUint16(v, r.err)
		v = binary.BigEndian.AppendUint16(v, uint16(len(r.other)))
		v = append(v, r.other...)
	}
	h.Write(v)
	return h.Sum(nil)
}

func appendTime(b []byte, t uint64) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(t>>32))
	return binary.BigEndian.AppendUint32(b, uint32(t))
}

// Size is the most octets that Sign adds for the key.
func (k *Key) Size() int {
	return len(k.Name.Wire()) + 10 + len(k.Algorithm) + 2 + 16 + 64 + 6
}

// Sign appends a TSIG record to the message msg, which stands alone in its
// buffer.
func (s *Stream) Sign(msg []byte, now time.Time) []byte {
	return s.sign(msg, &record{time: uint64(now.Unix()), fudge: Fudge})
}

func (s *Stream) sign(msg []byte, r *record) []byte {
	r.algorithm = algorithmName(s.key.Algorithm)
	id := binary.BigEndian.Uint16(msg)
	mac := s.digest(msg, id, r)
	s.prior, s.later = mac, s.prior != nil
	return appendRecord(msg, s.key.Name, mac, id, r)
}

func algorithmName(a string) dnsname.Name {
	n, _ := dnsname.Parse(a, dnsname.Root)
	return n
}

func appendRecord(msg []byte, name dnsname.Name, mac []byte, id uint16, r *record) []byte {
	msg = name.AppendWire(msg)
	msg = append(msg, 0, byte(rr.TypeTSIG), 0, byte(rr.ClassAny), 0, 0, 0, 0, 0, 0)
	at := len(msg)
	msg = r.algorithm.AppendWire(msg)
	msg = appendTime(msg, r.time)
	msg = binary.BigEndian.AppendUint16(msg, r.fudge)
	msg = binary.BigEndian.AppendUint16(msg, uint16(len(mac)))
	msg = append(msg, mac...)
	msg = binary.BigEndian.AppendUint16(msg, id)
	msg = binary.BigEndian.AppendUint16(msg, r.err)
	msg = binary.BigEndian.AppendUint16(msg, uint16(len(r.other)))
	msg = append(msg, r.other...)
	binary.BigEndian.PutUint16(msg[at-2:], uint16(len(msg)-at))
	binary.BigEndian.PutUint16(msg[10:], binary.BigEndian.Uint16(msg[10:])+1)
	return msg
}

// Verify checks the message, whose TSIG record is at off, and returns the
// message without it. After it, Sign makes the response.
func (s *Stream) Verify(msg []byte, off int, now time.Time) ([]byte, error) {
	r, e := parse(msg, off)
	if e != nil {
		return nil, e
	}
	if !r.name.Equal(s.key.Name) || !r.algorithm.Equal(algorithmName(s.key.Algorithm)) {
		return nil, &Error{BadKey, fmt.Sprintf("the message is signed with the key %s (%s), not %s", r.name, r.algorithm, s.key.Name)}
	}
	plain := bytes.Clone(msg[:off])
	binary.BigEndian.PutUint16(plain[10:], binary.BigEndian.Uint16(plain[10:])-1)
	full := hashes[s.key.Algorithm]().Size()
	if len(r.mac) == 0 && r.err != 0 {
		return nil, fmt.Errorf("%w: %s", ErrPeer, errorWords(r.err))
	}
	if len(r.mac) > full || len(r.mac) < max(10, full/2) {
		return nil, errForm
	}
	want := s.digest(plain, r.id, r)
	if !hmac.Equal(want[:len(r.mac)], r.mac) {
		return nil, &Error{BadSig, "the signature of the message is wrong: the secrets differ, or the message was changed"}
	}
	s.prior, s.later, s.unsigned, s.Last = bytes.Clone(r.mac), s.prior != nil, nil, true
	if d := now.Unix() - int64(r.time); d > int64(r.fudge) || -d > int64(r.fudge) {
		return nil, &Error{BadTime, fmt.Sprintf("the clocks are %d seconds apart; at most %d are allowed", abs(d), r.fudge)}
	}
	if r.err != 0 {
		return nil, fmt.Errorf("%w: %s", ErrPeer, errorWords(r.err))
	}
	return plain, nil
}

// maxUnsigned is how many messages of a transfer may go unsigned in a row
// (RFC 8945 §5.3.1).
const maxUnsigned = 99

// Unsigned takes note of a message of a transfer without TSIG.
func (s *Stream) Unsigned(msg []byte) error {
	s.Last = false
	if !s.later || len(s.unsigned) >= maxUnsigned {
		return &Error{BadSig, "the transfer is not signed as it must be"}
	}
	s.unsigned = append(s.unsigned, bytes.Clone(msg))
	return nil
}

func abs(d int64) int64 {
	if d < 0 {
		return -d
	}
	return d
}

func errorWords(code uint16) string {
	switch code {
	case BadSig:
		return "it says the signature is wrong (BADSIG): the secrets differ"
	case BadKey:
		return "it does not know the key (BADKEY)"
	case BadTime:
		return "it says the clocks are too far apart (BADTIME)"
	case BadTrunc:
		return "it wants a longer signature (BADTRUNC)"
	}
	return fmt.Sprintf("TSIG error %d", code)
}

// Refuse appends to a response the TSIG record that tells the client what was
// wrong with the one at off of its request (RFC 8945 §5.3.2): unsigned for an
// unknown key or a wrong MAC, signed where the request's MAC was right.
func Refuse(response, request []byte, off int, code uint16, s *Stream, now time.Time) []byte {
	r, e := parse(request, off)
	if e != nil {
		return response
	}
	if code == BadTime && s != nil && s.prior != nil {
		return s.sign(response, &record{time: r.time, fudge: r.fudge, err: code, other: appendTime(nil, uint64(now.Unix()))})
	}
	out := &record{algorithm: r.algorithm, time: uint64(now.Unix()), fudge: r.fudge, err: code}
	return appendRecord(response, r.name, nil, binary.BigEndian.Uint16(response), out)
}
