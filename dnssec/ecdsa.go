package dnssec

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"errors"
	"fmt"
)

// ecdsaAlgorithm is ECDSA over one curve (RFC 6605).
func ecdsaAlgorithm(curve elliptic.Curve, hash crypto.Hash) *algorithm {
	size := (curve.Params().BitSize + 7) / 8
	return &algorithm{
		hash:     hash,
		generate: func(int) (crypto.Signer, error) { return ecdsa.GenerateKey(curve, rand.Reader) },
		public: func(k crypto.PublicKey) ([]byte, error) {
			pub, ok := k.(*ecdsa.PublicKey)
			if !ok || pub.Curve != curve {
				return nil, ErrKey
			}
			b, err := pub.Bytes()
			if err != nil {
				return nil, err
			}
			return b[1:], nil // without the octet that says "uncompressed"
		},
		parse: func(key []byte) (verifyFunc, error) {
			if len(key) != 2*size {
				return nil, fmt.Errorf("%w: %d octets, not %d", ErrKey, len(key), 2*size)
			}
			pub, err := ecdsa.ParseUncompressedPublicKey(curve, append([]byte{4}, key...))
			if err != nil {
				return nil, fmt.Errorf("%w: %w", ErrKey, err)
			}
			return func(digest, sig []byte) error {
				var buf [120]byte
				if len(sig) != 2*size || !ecdsa.VerifyASN1(pub, digest, appendASN1(buf[:0], sig)) {
					return ErrSignature
				}
				return nil
			}, nil
		},
		fixed: func(sig []byte) ([]byte, error) { return fixedWidth(sig, size) },
	}
}

// appendASN1 makes the ASN.1 form that the library wants of r|s.
func appendASN1(dst, sig []byte) []byte {
	n := len(sig) / 2
	at := len(dst)
	dst = append(dst, 0x30, 0)
	for _, v := range [2][]byte{sig[:n], sig[n:]} {
		for len(v) > 1 && v[0] == 0 {
			v = v[1:]
		}
		if v[0] >= 0x80 {
			dst = append(dst, 2, byte(len(v)+1), 0)
		} else {
			dst = append(dst, 2, byte(len(v)))
		}
		dst = append(dst, v...)
	}
	dst[at+1] = byte(len(dst) - at - 2)
	return dst
}

// fixedWidth turns an ASN.1 signature into r|s of size octets each (RFC 6605 §4).
func fixedWidth(sig []byte, size int) ([]byte, error) {
	bad := errors.New("unexpected form of ECDSA signature")
	if len(sig) < 2 || sig[0] != 0x30 || int(sig[1]) != len(sig)-2 {
		return nil, bad
	}
	out := make([]byte, 2*size)
	rest := sig[2:]
	for i := range 2 {
		if len(rest) < 2 || rest[0] != 2 || int(rest[1]) > len(rest)-2 {
			return nil, bad
		}
		v := rest[2 : 2+int(rest[1])]
		rest = rest[2+int(rest[1]):]
		for len(v) > 0 && v[0] == 0 {
			v = v[1:]
		}
		if len(v) > size {
			return nil, bad
		}
		copy(out[(i+1)*size-len(v):], v)
	}
	return out, nil
}
