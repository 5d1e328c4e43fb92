package dnssec_test

import (
	"bytes"
	"fmt"
	"testing"

	"fencepost/dnsname"
	"fencepost/dnssec"
)

// Each field of a DS that was typed wrong is named, and nothing near is nothing.
func TestDSMatch(t *testing.T) {
	zone := dnsname.MustParse("saltmarsh.example.")
	key := append([]byte{1, 1, 3, 13}, bytes.Repeat([]byte{7}, 64)...)
	other := append([]byte{1, 0, 3, 15}, bytes.Repeat([]byte{9}, 32)...)
	keys := [][]byte{{1, 2, 3}, other, key} // what is malformed is passed over
	tag := dnssec.KeyTag(key)
	for _, digest := range []uint8{dnssec.DigestSHA256, dnssec.DigestSHA384} {
		right := dnssec.DS(zone, key, digest)
		with := func(change func(ds []byte)) []byte {
			ds := bytes.Clone(right)
			change(ds)
			return ds
		}
		for _, c := range []struct {
			what  string
			ds    []byte
			leads bool
			near  string
		}{
			{"right", right, true, ""},
			{"digest", with(func(ds []byte) { ds[len(ds)-1] ^= 1 }), false, fmt.Sprintf("tag and algorithm fit key %d, the digest does not", tag)},
			{"cut digest", right[:len(right)-1], false, fmt.Sprintf("tag and algorithm fit key %d, the digest does not", tag)},
			{"tag", with(func(ds []byte) { ds[1] ^= 1 }), false, fmt.Sprintf("algorithm and digest fit key %d, the tag does not", tag)},
			{"algorithm", with(func(ds []byte) { ds[2] = 8 }), false, fmt.Sprintf("tag and digest fit key %d, the algorithm does not", tag)},
			{"tag and algorithm", with(func(ds []byte) { ds[0] ^= 1; ds[2] = 8 }), false, fmt.Sprintf("the digest fits key %d, tag and algorithm do not", tag)},
			{"another's", with(func(ds []byte) { ds[0] ^= 1; ds[9] ^= 1 }), false, ""},
			{"an unknown digest", with(func(ds []byte) { ds[3] = 77 }), false, ""},
			{"none", right[:4], false, ""},
		} {
			if leads, near := dnssec.DSMatch(zone, c.ds, keys); leads != c.leads || near != c.near {
				t.Errorf("%s: %v, %q; want %v, %q", c.what, leads, near, c.leads, c.near)
			}
		}
	}
	if leads, near := dnssec.DSMatch(zone, dnssec.DS(zone, key, dnssec.DigestSHA256), nil); leads || near != "" {
		t.Error("without keys")
	}
}
