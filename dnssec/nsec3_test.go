package dnssec_test

import (
	"errors"
	"testing"

	"fencepost/dnssec"
	"fencepost/rr"
)

// Only SHA-1 is known as a hash of names; records with another one prove nothing (RFC 5155 §8.1), and
// neither do those that are cut off.
func TestUnknownHash(t *testing.T) {
	p := dnssec.NSEC3Params{Iterations: 3, Salt: []byte{1, 2}}
	hash := p.Hash([]byte("\x05tides\x07example\x00"))
	whole := p.AppendNSEC3(nil, 0, &hash, []rr.Type{rr.TypeA})
	if n, err := dnssec.ParseNSEC3(whole); err != nil || !n.Params.Equal(&p) {
		t.Fatalf("%+v, %v", n, err)
	}
	for algorithm := range 256 {
		other := append([]byte{byte(algorithm)}, whole[1:]...)
		if _, err := dnssec.ParseNSEC3(other); (err == nil) != (algorithm == 1) || err != nil && !errors.Is(err, dnssec.ErrNSEC3) {
			t.Errorf("hash algorithm %d: %v", algorithm, err)
		}
		if _, _, _, err := dnssec.ParseParams(other); (err == nil) != (algorithm == 1) {
			t.Errorf("parameters with hash algorithm %d: %v", algorithm, err)
		}
	}
	for n := range 5 + 2 + 1 + 20 { // all but the bitmap
		if _, err := dnssec.ParseNSEC3(whole[:n]); err == nil {
			t.Errorf("%d of %d octets are taken", n, len(whole))
		}
	}
}
