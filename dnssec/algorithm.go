// Package dnssec holds the parts of DNSSEC that concern one key or one RRset:
// algorithms, key tags, DS digests, what exactly is signed, signing and
// verifying (RFC 4034, 5702, 6605, 8080). Whole zones are the business of
// package signer.
package dnssec

import (
	"crypto"
	"crypto/elliptic"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"errors"

	"fencepost/rr"
)

// Errors of verification. ErrSignature means that a check was made and failed;
// ErrUnsupported that none could be made, which says nothing about the data.
var (
	ErrSignature   = errors.New("the signature does not match the data")
	ErrUnsupported = errors.New("the algorithm is not supported")
	ErrKey         = errors.New("the public key is malformed")
)

// algorithm is one DNSSEC signature algorithm.
type algorithm struct {
	hash crypto.Hash // 0: the algorithm hashes itself
	// generate makes a private key; bits is its size where that can be chosen.
	generate func(bits int) (crypto.Signer, error)
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
	rr.RSASHA1:         {hash: crypto.SHA1, generate: generateRSA, public: rsaPublic, parse: parseRSA(crypto.SHA1)},
	rr.RSASHA1NSEC3:    {hash: crypto.SHA1, generate: generateRSA, public: rsaPublic, parse: parseRSA(crypto.SHA1)},
	rr.RSASHA256:       {hash: crypto.SHA256, generate: generateRSA, public: rsaPublic, parse: parseRSA(crypto.SHA256)},
	rr.RSASHA512:       {hash: crypto.SHA512, generate: generateRSA, public: rsaPublic, parse: parseRSA(crypto.SHA512)},
	rr.ECDSAP256SHA256: ecdsaAlgorithm(elliptic.P256(), crypto.SHA256),
	rr.ECDSAP384SHA384: ecdsaAlgorithm(elliptic.P384(), crypto.SHA384),
	rr.ED25519:         {generate: generateEd25519, public: ed25519Public, parse: parseEd25519},
	rr.ED448:           {generate: generateEd448, public: ed448Public, parse: parseEd448},
}

// digest hashes data the way the algorithm wants it.
func (a *algorithm) digest(dst, data []byte) []byte {
	switch a.hash {
	case crypto.SHA1:
		sum := sha1.Sum(data)
		return append(dst, sum[:]...)
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
