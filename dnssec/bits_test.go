package dnssec_test

import (
	"bytes"
	"testing"

	"fencepost/dnssec"
	"fencepost/rr"
)

// The size of keys as people speak of it; of a key that is none it is 0.
func TestBits(t *testing.T) {
	rsa := func(bits int) []byte {
		n := bytes.Repeat([]byte{0xff}, bits/8)
		return append([]byte{1, 0, 3, byte(rr.RSASHA256), 3, 1, 0, 1}, n...)
	}
	for _, c := range []struct {
		a    rr.AlgorithmNumber
		data []byte
		want int
	}{
		{rr.RSASHA256, rsa(2048), 2048}, {rr.RSASHA256, rsa(1024), 1024}, {rr.RSASHA256, []byte{1, 0, 3, 8, 9, 1}, 0},
		{rr.ECDSAP256SHA256, make([]byte, 68), 256}, {rr.ECDSAP384SHA384, make([]byte, 100), 384}, {rr.ED25519, make([]byte, 36), 256}, {rr.ED448, make([]byte, 61), 456},
	} {
		if got := (&dnssec.PublicKey{Algorithm: c.a, Data: c.data}).Bits(); got != c.want {
			t.Errorf("algorithm %d: %d bits, want %d", c.a, got, c.want)
		}
	}
}
