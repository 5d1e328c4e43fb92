package dnssec

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"fmt"
	"math/big"
	"slices"
	"testing"
)

// A signature is one number below the modulus, of its length, over the digest with its padding (RFC 8017
// §8.2.2): what only equals it in arithmetic is none.
func TestVerifyPKCS1(t *testing.T) {
	var key *rsa.PrivateKey
	for key == nil || key.N.Bytes()[0] > 0xe0 { // one signature in eight has room for the modulus
		var err error
		if key, err = rsa.GenerateKey(rand.Reader, 1024); err != nil {
			t.Fatal(err)
		}
	}
	e, size, beyond := big.NewInt(int64(key.E)), key.Size(), 0
	for i := 0; i < 40 || beyond == 0 && i < 2000; i++ {
		digest := sha256.Sum256(fmt.Appendf(nil, "tide %d", i))
		sig, err := rsa.SignPKCS1v15(nil, key, crypto.SHA256, digest[:])
		if err != nil {
			t.Fatal(err)
		}
		check := func(what string, sig []byte, want bool) {
			t.Helper()
			if got := verifyPKCS1(key.N, e, crypto.SHA256, digest[:], sig) == nil; got != want {
				t.Fatalf("%s is taken: %v", what, got)
			}
		}
		check("the signature", sig, true)
		check("one with a zero before it", slices.Concat([]byte{0}, sig), false)
		check("one that was cut off", sig[1:], false)
		check("none", nil, false)
		if more := new(big.Int).Add(new(big.Int).SetBytes(sig), key.N); more.BitLen() <= 8*size {
			beyond++
			check("one beyond the modulus", more.FillBytes(make([]byte, size)), false)
		}
		sig[size-1] ^= 1
		check("another", sig, false)
	}
	if beyond == 0 {
		t.Error("no signature was short enough to go beyond the modulus")
	}
}
