// Package dnssec holds the parts of DNSSEC that concern one key or one RRset:
// algorithms, key tags, DS digests, what exactly is signed, signing and
// verifying (RFC 4034, 5702, 6605, 8080). Whole zones are the business of
// package signer.
package dnssec

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"math/big"

	"fencepost/rr"
)

// Errors of verification. ErrSignature means that a check was made and failed;
// ErrUnsupported that none could be made, which says nothing about the data.
var (
	ErrSignature   = errors.New("the signature does not fit the data")
	ErrUnsupported = errors.New("the algorithm is not supported")
	ErrKey         = errors.New("the public key is malformed")
)

// algorithm is one DNSSEC signature algorithm.
type algorithm struct {
	hash     crypto.Hash // 0: the algorithm hashes itself
	generate func() (crypto.Signer, error)
	// public is the key field of a DNSKEY for a public key.
	public func(crypto.PublicKey) ([]byte, error)
	// parse makes a function that verifies a signature over the digest, or over
	// the data itself where hash is 0.
	parse func(key []byte) (verifyFunc, error)
	// fixed turns a signature as the library returns it into the wire form.
	fixed func(sig []byte) ([]byte, error)
}

type verifyFunc func(digest, sig []byte) error

var algorithms = map[rr.AlgorithmNumber]*algorithm{
	rr.RSASHA256:       {hash: crypto.SHA256, generate: generateRSA, public: rsaPublic, parse: parseRSA(crypto.SHA256)},
	rr.RSASHA512:       {hash: crypto.SHA512, generate: generateRSA, public: rsaPublic, parse: parseRSA(crypto.SHA512)},
	rr.ECDSAP256SHA256: ecdsaAlgorithm(elliptic.P256(), crypto.SHA256),
	rr.ECDSAP384SHA384: ecdsaAlgorithm(elliptic.P384(), crypto.SHA384),
	rr.ED25519:         {generate: generateEd25519, public: ed25519Public, parse: parseEd25519},
}

// Supported tells whether signatures of the algorithm can be made and checked.
func Supported(a rr.AlgorithmNumber) bool { return algorithms[a] != nil }

// digest hashes data the way the algorithm wants it.
func (a *algorithm) digest(dst, data []byte) []byte {
	switch a.hash {
	case crypto.SHA256:
		sum := sha256.Sum256(data)
		return append(dst, sum[:]...)
	case crypto.SHA384:
		sum := sha512.Sum384(data)
		return append(dst, sum[:]...)
	case crypto.SHA512:
		sum := sha512.Sum512(data)
		return append(dst, sum[:]...)
	}
	return data
}

// ---- ECDSA (RFC 6605) ----

func ecdsaAlgorithm(curve elliptic.Curve, hash crypto.Hash) *algorithm {
	size := (curve.Params().BitSize + 7) / 8
	return &algorithm{
		hash:     hash,
		generate: func() (crypto.Signer, error) { return ecdsa.GenerateKey(curve, rand.Reader) },
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

// ---- Ed25519 (RFC 8080) ----

func generateEd25519() (crypto.Signer, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	return key, err
}

func ed25519Public(k crypto.PublicKey) ([]byte, error) {
	pub, ok := k.(ed25519.PublicKey)
	if !ok {
		return nil, ErrKey
	}
	return pub, nil
}

func parseEd25519(key []byte) (verifyFunc, error) {
	if len(key) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("%w: %d octets, not 32", ErrKey, len(key))
	}
	pub := ed25519.PublicKey(key)
	return func(data, sig []byte) error {
		if !ed25519.Verify(pub, data, sig) {
			return ErrSignature
		}
		return nil
	}, nil
}

// ---- RSA (RFC 3110, RFC 5702) ----

func generateRSA() (crypto.Signer, error) { return rsa.GenerateKey(rand.Reader, 2048) }

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
		if len(key) < 3 {
			return nil, ErrKey
		}
		n, rest := int(key[0]), key[1:]
		if n == 0 {
			n, rest = int(key[1])<<8|int(key[2]), key[3:]
		}
		if n == 0 || n >= len(rest) {
			return nil, ErrKey
		}
		e, m := new(big.Int).SetBytes(rest[:n]), new(big.Int).SetBytes(rest[n:])
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
