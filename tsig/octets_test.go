package tsig_test

import (
	"testing"

	"fencepost/tsig"
)

// How long hashes are, and so secrets should be (RFC 8945 §6, §8); what is not supported has none.
func TestOctets(t *testing.T) {
	want := map[string]int{"hmac-sha1": 20, "hmac-sha224": 28, "hmac-sha256": 32, "hmac-sha384": 48, "hmac-sha512": 64, "hmac-md5": 0, "": 0}
	for algorithm, n := range want {
		if got := tsig.Octets(algorithm); got != n || tsig.Supported(algorithm) != (n > 0) {
			t.Errorf("%q: %d octets, supported: %v", algorithm, got, tsig.Supported(algorithm))
		}
	}
	for _, a := range tsig.Algorithms() {
		if want[a] == 0 {
			t.Errorf("%s is listed and not supported", a)
		}
	}
}
