package dnssec

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"math/big"

	"fencepost/rr"
)

// RSA (RFC 3110, RFC 5702).

// RSA key sizes in bits: what new keys have if nothing is said, and what they may
// have. RFC 3110 and 5702 let 512 to 4096 exist; those are still verified.
const (
	DefaultRSABits = 2048
	MinRSABits     = 2048
	MaxRSABits     = 4096
)

func generateRSA(bits int) (crypto.Signer, error) {
	switch {
	case bits == 0:
		bits = DefaultRSABits
	case bits < MinRSABits:
		return nil, fmt.Errorf("%w: %d bits can be broken; new RSA keys have at least %d (RFC 6781 §3.4.2)", ErrWeak, bits, MinRSABits)
	case bits > MaxRSABits:
		return nil, fmt.Errorf("%w: DNSSEC has no RSA keys of more than %d bits (RFC 3110 §2)", ErrWeak, MaxRSABits)
	}
	return rsa.GenerateKey(rand.Reader, bits)
}

func rsaPublic(k crypto.PublicKey) ([]byte, error) {
	pub, ok := k.(*rsa.PublicKey)
	if !ok {
		return nil, ErrKey
	}
	e := big.NewInt(int64(pub.E)).Bytes()
	return append(append([]byte{byte(len(e))}, e...), pub.N.Bytes()...), nil
}

func parseRSA(hash crypto.Hash) func([]byte) (verifyFunc, error) {
	return func(key []byte) (verifyFunc, error) {
		exponent, modulus, ok := splitRSA(key)
		if !ok {
			return nil, ErrKey
		}
		e, m := new(big.Int).SetBytes(exponent), new(big.Int).SetBytes(modulus)
		if m.BitLen() < 512 || m.BitLen() > 4096 || m.Bit(0) == 0 {
			return nil, fmt.Errorf("%w: modulus of %d bits", ErrKey, m.BitLen())
		}
		// The library refuses short keys and large exponents, which DNSSEC permits.
		if m.BitLen() < 1024 || e.BitLen() > 31 {
			return func(digest, sig []byte) error { return verifyPKCS1(m, e, hash, digest, sig) }, nil
		}
		pub := &rsa.PublicKey{N: m, E: int(e.Int64())}
		return func(digest, sig []byte) error {
			if rsa.VerifyPKCS1v15(pub, hash, digest, sig) != nil {
				return ErrSignature
			}
			return nil
		}, nil
	}
}

// digestInfo is the ASN.1 in front of a digest (RFC 8017 §9.2, note 1).
var digestInfo = map[crypto.Hash][]byte{
	crypto.SHA1:   {0x30, 0x21, 0x30, 0x09, 0x06, 0x05, 0x2b, 0x0e, 0x03, 0x02, 0x1a, 0x05, 0x00, 0x04, 0x14},
	crypto.SHA256: {0x30, 0x31, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20},
	crypto.SHA512: {0x30, 0x51, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x03, 0x05, 0x00, 0x04, 0x40},
}

// verifyPKCS1 is RSASSA-PKCS1-v1_5 verification (RFC 8017 §8.2.2) on public
// values only, so its running time gives nothing away.
func verifyPKCS1(n, e *big.Int, hash crypto.Hash, digest, sig []byte) error {
	size := (n.BitLen() + 7) / 8
	s := new(big.Int).SetBytes(sig)
	tail := append(append([]byte{0}, digestInfo[hash]...), digest...)
	pad := size - len(tail) - 2
	if len(sig) != size || s.Cmp(n) >= 0 || pad < 8 || e.BitLen() > 4096 {
		return ErrSignature
	}
	want := []byte{0, 1}
	for range pad {
		want = append(want, 0xff)
	}
	want = append(want, tail...)
	if new(big.Int).Exp(s, e, n).Cmp(new(big.Int).SetBytes(want)) != 0 {
		return ErrSignature
	}
	return nil
}

// splitRSA reads the exponent and the modulus of a public key (RFC 3110 §2).
func splitRSA(key []byte) (e, n []byte, ok bool) {
	if len(key) < 3 {
		return nil, nil, false
	}
	size, rest := int(key[0]), key[1:]
	if size == 0 {
		size, rest = int(key[1])<<8|int(key[2]), key[3:]
	}
	if size == 0 || size >= len(rest) {
		return nil, nil, false
	}
	return rest[:size], rest[size:], true
}

// keyBits is the size of a public key in bits, as people speak of it.
func keyBits(a rr.AlgorithmNumber, key []byte) int {
	switch a {
	case rr.ECDSAP256SHA256, rr.ED25519:
		return 256
	case rr.ECDSAP384SHA384:
		return 384
	case rr.ED448:
		return 456
	}
	_, n, ok := splitRSA(key)
	if !ok {
		return 0
	}
	return new(big.Int).SetBytes(n).BitLen()
}
