package dnssec

import (
	"crypto"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"fmt"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Flags of a DNSKEY (RFC 4034 §2.1.1, RFC 5011 §3).
const (
	FlagZone    uint16 = 0x0100
	FlagRevoked uint16 = 0x0080
	FlagSEP     uint16 = 0x0001
)

// PublicKey is a DNSKEY that signatures can be checked with.
type PublicKey struct {
	Flags     uint16
	Algorithm rr.AlgorithmNumber
	Tag       uint16
	Data      []byte // the DNSKEY's data

	alg    *algorithm
	verify verifyFunc
}

// Key is a key that can sign.
type Key struct {
	*PublicKey
	signer crypto.Signer
}

// ParseDNSKEY reads the data of a DNSKEY record. A key of an unknown algorithm
// is no error; its signatures cannot be checked.
func ParseDNSKEY(data []byte) (*PublicKey, error) {
	if len(data) < 5 {
		return nil, ErrKey
	}
	k := &PublicKey{Flags: binary.BigEndian.Uint16(data), Algorithm: rr.AlgorithmNumber(data[3]), Tag: KeyTag(data), Data: data}
	if data[2] != 3 { // RFC 4034 §2.1.2
		return nil, fmt.Errorf("%w: protocol %d, not 3", ErrKey, data[2])
	}
	if k.alg = algorithms[k.Algorithm]; k.alg == nil {
		return k, nil
	}
	var err error
	if k.verify, err = k.alg.parse(data[4:]); err != nil {
		return nil, err
	}
	return k, nil
}

// Revoked is the tag that the key has once it is revoked: the flag is part of
// what the tag is made of (RFC 5011 §2.1, RFC 4034 App. B).
func (k *PublicKey) Revoked() uint16 { return k.Revoke().Tag }

// Revoke is the key as it is published once it is revoked.
func (k *PublicKey) Revoke() *PublicKey {
	out := *k
	out.Data = append([]byte(nil), k.Data...)
	out.Data[1] |= byte(FlagRevoked)
	out.Flags |= FlagRevoked
	out.Tag = KeyTag(out.Data)
	return &out
}

// Revoke is the key that signs as what it is published as once it is revoked.
func (k *Key) Revoke() *Key { return &Key{PublicKey: k.PublicKey.Revoke(), signer: k.signer} }

// Bits is the size of an RSA key's modulus, or of a point's coordinate.
func (k *PublicKey) Bits() int { return keyBits(k.Algorithm, k.Data[4:]) }

// IsZoneKey reports whether the key may sign data of a zone (RFC 4034 §2.1.1).
func (k *PublicKey) IsZoneKey() bool { return k.Flags&FlagZone != 0 && k.Flags&FlagRevoked == 0 }

// Verify checks a signature over data: nil, ErrSignature or ErrUnsupported.
func (k *PublicKey) Verify(data, sig []byte) error {
	if k.alg == nil {
		return ErrUnsupported
	}
	var buf [64]byte
	return k.verify(k.alg.digest(buf[:0], data), sig)
}

// KeyTag is the tag of DNSKEY data (RFC 4034 App. B).
func KeyTag(data []byte) uint16 {
	if len(data) > 4 && data[3] == 1 && len(data) >= 7 { // RSAMD5, App. B.1
		return binary.BigEndian.Uint16(data[len(data)-3:])
	}
	var sum uint32
	for i, c := range data {
		if i&1 == 0 {
			sum += uint32(c) << 8
		} else {
			sum += uint32(c)
		}
	}
	return uint16(sum + sum>>16)
}

// Digest types of DS records (RFC 4034 App. A.2, RFC 4509, RFC 6605).
const (
	DigestSHA1   uint8 = 1
	DigestSHA256 uint8 = 2
	DigestSHA384 uint8 = 4
)

// DS is the data of the DS record for a DNSKEY (RFC 4034 §5.1.4); nil for a
// digest type that is not known.
func DS(owner dnsname.Name, dnskey []byte, digestType uint8) []byte {
	in := append([]byte(owner.Key()), dnskey...)
	out := binary.BigEndian.AppendUint16(nil, KeyTag(dnskey))
	out = append(out, dnskey[3], digestType)
	switch digestType {
	case DigestSHA1:
		sum := sha1.Sum(in)
		return append(out, sum[:]...)
	case DigestSHA256:
		sum := sha256.Sum256(in)
		return append(out, sum[:]...)
	case DigestSHA384:
		sum := sha512.Sum384(in)
		return append(out, sum[:]...)
	}
	return nil
}

// Generate makes a new key. flags are FlagZone, with FlagSEP for an entry point;
// bits is the size of an RSA key, 0 for the usual one. An algorithm that is not to
// be used for new keys is refused with ErrWeak.
func Generate(a rr.AlgorithmNumber, flags uint16, bits int) (*Key, error) {
	if l := LevelOf(a); l.Signing < Discouraged {
		return nil, fmt.Errorf("%w: %s", ErrWeak, l.Reason)
	}
	alg := algorithms[a]
	signer, err := alg.generate(bits)
	if err != nil {
		return nil, err
	}
	return NewKey(signer, a, flags)
}

// NewKey makes a Key of a private key.
func NewKey(signer crypto.Signer, a rr.AlgorithmNumber, flags uint16) (*Key, error) {
	alg := algorithms[a]
	if alg == nil {
		return nil, fmt.Errorf("%s: %w", a, ErrUnsupported)
	}
	pub, err := alg.public(signer.Public())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a, err)
	}
	data := append(binary.BigEndian.AppendUint16(nil, flags), 3, byte(a))
	p, err := ParseDNSKEY(append(data, pub...))
	if err != nil {
		return nil, err
	}
	return &Key{PublicKey: p, signer: signer}, nil
}

// Private is the private key, for storing it.
func (k *Key) Private() crypto.Signer { return k.signer }

// Sign signs data. The result is in wire form and depends on key and data only:
// ECDSA uses the nonces of RFC 6979.
func (k *Key) Sign(data []byte) ([]byte, error) {
	var buf [64]byte
	sig, err := k.signer.Sign(nil, k.alg.digest(buf[:0], data), k.alg.hash)
	if err != nil || k.alg.fixed == nil {
		return sig, err
	}
	return k.alg.fixed(sig)
}
