package dnssec

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"

	"github.com/cloudflare/circl/sign/ed448"
)

// Ed25519 and Ed448 (RFC 8080).

func generateEd25519(int) (crypto.Signer, error) {
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

func generateEd448(int) (crypto.Signer, error) {
	_, key, err := ed448.GenerateKey(rand.Reader)
	return key, err
}

func ed448Public(k crypto.PublicKey) ([]byte, error) {
	pub, ok := k.(ed448.PublicKey)
	if !ok {
		return nil, ErrKey
	}
	return pub, nil
}

func parseEd448(key []byte) (verifyFunc, error) {
	if len(key) != ed448.PublicKeySize {
		return nil, fmt.Errorf("%w: %d octets, not %d", ErrKey, len(key), ed448.PublicKeySize)
	}
	pub := ed448.PublicKey(key)
	return func(data, sig []byte) error {
		if !ed448.Verify(pub, data, sig, "") {
			return ErrSignature
		}
		return nil
	}, nil
}
