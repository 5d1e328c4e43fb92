package dnssec

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// RRSIG is the data of a signature record.
type RRSIG struct {
	Covered     rr.Type
	Algorithm   rr.AlgorithmNumber
	Labels      uint8
	OriginalTTL uint32
	Expiration  uint32 // seconds since 1970, modulo 2^32
	Inception   uint32
	KeyTag      uint16
	Signer      []byte // wire form
	Signature   []byte
}

// sigHead is the length of the fields of an RRSIG before the signer's name.
const sigHead = 18

// ErrRRSIG is returned for RRSIG data that cannot be read.
var ErrRRSIG = errors.New("malformed RRSIG")

// ParseRRSIG reads the data of an RRSIG record; the slices point into data.
func ParseRRSIG(data []byte) (s RRSIG, err error) {
	if len(data) < sigHead+1 {
		return s, ErrRRSIG
	}
	n, err := dnsname.WireLen(data[sigHead:])
	if err != nil {
		return s, ErrRRSIG
	}
	return RRSIG{
		Covered: rr.Type(binary.BigEndian.Uint16(data)), Algorithm: rr.AlgorithmNumber(data[2]), Labels: data[3],
		OriginalTTL: binary.BigEndian.Uint32(data[4:]), Expiration: binary.BigEndian.Uint32(data[8:]),
		Inception: binary.BigEndian.Uint32(data[12:]), KeyTag: binary.BigEndian.Uint16(data[16:]),
		Signer: data[sigHead : sigHead+n], Signature: data[sigHead+n:],
	}, nil
}

// appendHead appends the RRSIG's data without the signature, the signer's name
// in canonical form (RFC 4034 §3.1.8.1).
func (s *RRSIG) appendHead(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint16(dst, uint16(s.Covered))
	dst = append(dst, byte(s.Algorithm), s.Labels)
	dst = binary.BigEndian.AppendUint32(dst, s.OriginalTTL)
	dst = binary.BigEndian.AppendUint32(dst, s.Expiration)
	dst = binary.BigEndian.AppendUint32(dst, s.Inception)
	dst = binary.BigEndian.AppendUint16(dst, s.KeyTag)
	return dnsname.AppendLower(dst, s.Signer)
}

// AppendSigned appends the octets that are signed: the RRSIG's data without the
// signature, and the records in canonical form and order (RFC 4034 §3.1.8.1,
// §6). owner is the owner in wire form; where it has more labels than the RRSIG
// says, the records came from a wildcard, whose name is put back (§3.1.3).
func AppendSigned(dst []byte, s *RRSIG, owner []byte, set zone.RRset) []byte {
	dst = s.appendHead(dst)
	var buf [dnsname.MaxWire + 2]byte
	name := dnsname.AppendLower(buf[:0], owner)
	labels := dnsname.LabelsWire(name)
	wild := len(name) > 1 && name[0] == 1 && name[1] == '*'
	if wild {
		labels--
	}
	if !wild && labels > int(s.Labels) {
		for ; labels > int(s.Labels); labels-- {
			name = name[1+int(name[0]):]
		}
		var star [dnsname.MaxWire + 2]byte
		name = append(append(star[:0], 1, '*'), name...)
	}
	t := set.Type
	var data []byte
	for set.N > 0 {
		data, set = set.Next()
		dst = append(dst, name...)
		dst = append(dst, byte(t>>8), byte(t), 0, byte(rr.ClassIN))
		dst = binary.BigEndian.AppendUint32(dst, s.OriginalTTL)
		at := len(dst)
		dst = append(dst, 0, 0)
		dst = rr.AppendCanonical(dst, t, data)
		binary.BigEndian.PutUint16(dst[at:], uint16(len(dst)-at-2))
	}
	return dst
}

// Times are the validity of signatures.
type Times struct{ Inception, Expiration time.Time }

// SignSet makes the RRSIG data for a set. scratch may be nil; it is returned
// grown so that the next call need not allocate.
func (k *Key) SignSet(scratch []byte, zoneName, owner []byte, set zone.RRset, t Times) (data, grown []byte, err error) {
	labels := dnsname.LabelsWire(owner)
	if len(owner) > 1 && owner[0] == 1 && owner[1] == '*' {
		labels--
	}
	s := RRSIG{Covered: set.Type, Algorithm: k.Algorithm, Labels: uint8(labels), OriginalTTL: set.TTL,
		Expiration: uint32(t.Expiration.Unix()), Inception: uint32(t.Inception.Unix()), KeyTag: k.Tag, Signer: zoneName}
	scratch = AppendSigned(scratch[:0], &s, owner, set)
	sig, err := k.Sign(scratch)
	if err != nil {
		return nil, scratch, err
	}
	data = s.appendHead(make([]byte, 0, sigHead+len(zoneName)+len(sig)))
	return append(data, sig...), scratch, nil
}

// Errors about RRSIG records that are wrong before any cryptography.
var (
	ErrExpired  = errors.New("the signature has expired")
	ErrEarly    = errors.New("the signature is not valid yet")
	ErrMismatch = errors.New("the signature does not belong to these records")
	ErrNoKey    = errors.New("no key of the zone has the signature's tag and algorithm")
)

// VerifySet checks one RRSIG over a set with the keys of the zone, at a time
// (RFC 4035 §5.3). owner and zoneName are in wire form.
func VerifySet(scratch []byte, keys []*PublicKey, zoneName, owner []byte, set zone.RRset, sigData []byte, now time.Time) (grown []byte, err error) {
	s, err := matching(zoneName, owner, set, sigData, now)
	if err != nil {
		return scratch, err
	}
	scratch = AppendSigned(scratch[:0], &s, owner, set)
	err = ErrNoKey
	for _, k := range keys {
		if k.Tag != s.KeyTag || k.Algorithm != s.Algorithm || k.Flags&FlagZone == 0 {
			continue
		}
		if err = k.Verify(scratch, s.Signature); err == nil {
			return scratch, nil
		}
	}
	return scratch, err
}

// matching reads an RRSIG and checks all but the signature itself.
func matching(zoneName, owner []byte, set zone.RRset, sigData []byte, now time.Time) (s RRSIG, err error) {
	if s, err = ParseRRSIG(sigData); err != nil {
		return s, err
	}
	if s.Covered != set.Type || !dnsname.EqualWire(s.Signer, zoneName) || int(s.Labels) > dnsname.LabelsWire(owner) {
		return s, ErrMismatch
	}
	return s, checkTime(&s, now)
}

// MatchSet is VerifySet without the cryptography: whether the RRSIG could be one of
// the key over the set.
func MatchSet(k *PublicKey, zoneName, owner []byte, set zone.RRset, sigData []byte, now time.Time) error {
	s, err := matching(zoneName, owner, set, sigData, now)
	if err != nil {
		return err
	}
	if k.Tag != s.KeyTag || k.Algorithm != s.Algorithm {
		return ErrNoKey
	}
	return nil
}

// checkTime compares in serial arithmetic (RFC 4034 §3.1.5).
func checkTime(s *RRSIG, now time.Time) error {
	t := uint32(now.Unix())
	if int32(t-s.Expiration) > 0 {
		return fmt.Errorf("%w, on %s", ErrExpired, time.Unix(int64(s.Expiration), 0).UTC().Format(time.RFC3339))
	}
	if int32(s.Inception-t) > 0 {
		return fmt.Errorf("%w, only from %s", ErrEarly, time.Unix(int64(s.Inception), 0).UTC().Format(time.RFC3339))
	}
	return nil
}
