package dnssec

import (
	"bytes"
	"crypto"
	"encoding/asn1"
	"encoding/binary"
	"math/big"
	"slices"
	"testing"
)

// Signatures are written in ASN.1 as the library reads it, and back, whatever their numbers are; what is
// malformed is refused.
func TestWidths(t *testing.T) {
	const size = 4
	numbers := []uint32{0, 1, 0x7f, 0x80, 0xff, 0x100, 0x7fff, 0x8000, 0x80ffff, 0x7fffffff, 0x80000000, 0xffffffff}
	for _, r := range numbers {
		for _, s := range numbers {
			sig := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, r), s)
			want, err := asn1.Marshal(struct{ R, S *big.Int }{big.NewInt(int64(r)), big.NewInt(int64(s))})
			if err != nil {
				t.Fatal(err)
			}
			got := appendASN1([]byte("x"), sig)
			if !bytes.Equal(got[1:], want) {
				t.Fatalf("%x is written as %x, want %x", sig, got[1:], want)
			}
			if back, err := fixedWidth(want, size); err != nil || !bytes.Equal(back, sig) {
				t.Fatalf("%x comes back as %x, %v", sig, back, err)
			}
			for cut := range want {
				if _, err := fixedWidth(want[:cut], size); err == nil {
					t.Fatalf("%d octets of %x are taken", cut, want)
				}
			}
			for _, at := range []int{0, 1, 2, 3, 4 + int(want[3])} { // tags and lengths
				bad := slices.Clone(want)
				bad[at] += 100
				if _, err := fixedWidth(bad, size); err == nil {
					t.Fatalf("%x is taken", bad)
				}
			}
			if _, err := fixedWidth(want, size-1); err == nil && max(r, s) > 0xffffff {
				t.Fatalf("%x fits into %d octets", want, size-1)
			}
		}
	}
}

// number is an odd modulus of so many bits.
func number(bits int) []byte {
	n := new(big.Int).Lsh(big.NewInt(1), uint(bits-1))
	return n.Add(n, big.NewInt(1)).Bytes()
}

func rsaData(exponent, modulus []byte) []byte {
	return append(append([]byte{byte(len(exponent))}, exponent...), modulus...)
}

// RSA keys may have 512 to 4096 bits, and an exponent of any size (RFC 3110 §2, RFC 5702 §2).
func TestRSALimits(t *testing.T) {
	f4 := []byte{1, 0, 1}
	for bits, fine := range map[int]bool{511: false, 512: true, 1023: true, 1024: true, 2048: true, 4096: true, 4097: false} {
		for _, exponent := range [][]byte{{3}, f4, {0x7f, 0xff, 0xff, 0xff}, {0x80, 0, 0, 1}, number(600)[:75]} {
			if _, err := parseRSA(crypto.SHA256)(rsaData(exponent, number(bits))); (err == nil) != fine {
				t.Errorf("a modulus of %d bits with the exponent %x: %v", bits, exponent, err)
			}
		}
	}
	even := number(1024)
	even[len(even)-1] = 2
	if _, err := parseRSA(crypto.SHA256)(rsaData(f4, even)); err == nil {
		t.Error("an even modulus is taken")
	}
	for _, c := range []struct {
		key  []byte
		e, n string
		ok   bool
	}{
		{nil, "", "", false}, {[]byte{1}, "", "", false}, {[]byte{1, 3}, "", "", false}, {[]byte{1, 3, 9}, "\x03", "\x09", true}, {[]byte{2, 3, 9}, "", "", false},
		{[]byte{0, 0, 1, 3, 9}, "\x03", "\x09", true}, {[]byte{0, 0, 0, 3, 9}, "", "", false}, {[]byte{0, 0, 2, 3, 9}, "", "", false}, {[]byte{0, 1, 0, 3, 9}, "", "", false},
	} {
		e, n, ok := splitRSA(c.key)
		if ok != c.ok || string(e) != c.e || string(n) != c.n {
			t.Errorf("%x: %x and %x, %v", c.key, e, n, ok)
		}
	}
	for bits, concern := range map[int]bool{1024: true, 2047: true, 2048: false, 4096: false} {
		k, err := ParseDNSKEY(append([]byte{1, 0, 3, 8}, rsaData(f4, number(bits))...))
		if err != nil || (k.KeyConcern() != "") != concern {
			t.Errorf("a key of %d bits: %v, %q", bits, err, k.KeyConcern())
		}
	}
}

// Each kind of data has its least length.
func TestLeastLengths(t *testing.T) {
	if _, err := ParseDNSKEY([]byte{1, 0, 3, 200}); err == nil {
		t.Error("a key without a key is taken")
	}
	if k, err := ParseDNSKEY([]byte{1, 0, 3, 200, 7}); err != nil || k.Algorithm != 200 {
		t.Errorf("a key of one octet: %v", err)
	}
	if _, err := ParseRRSIG(make([]byte, sigHead)); err == nil {
		t.Error("a signature without a signer is taken")
	}
	if s, err := ParseRRSIG(make([]byte, sigHead+1)); err != nil || len(s.Signature) != 0 || string(s.Signer) != "\x00" {
		t.Errorf("a signature by the root: %v", err)
	}
	for _, c := range []struct {
		data []byte
		fine bool
	}{{[]byte{1, 0, 0, 0}, false}, {[]byte{1, 0, 0, 0, 0}, true}, {[]byte{1, 0, 0, 0, 1}, false}, {[]byte{1, 0, 0, 0, 1, 9}, true}, {[]byte{2, 0, 0, 0, 0}, false}} {
		if _, _, _, err := ParseParams(c.data); (err == nil) != c.fine {
			t.Errorf("parameters %x: %v", c.data, err)
		}
	}
	var h Hash
	whole := (&NSEC3Params{}).AppendNSEC3(nil, 0, &h, nil)
	if n, err := ParseNSEC3(whole); err != nil || len(n.Bitmap) != 0 {
		t.Errorf("NSEC3 without types: %v", err)
	}
	if _, err := ParseNSEC3(whole[:len(whole)-1]); err == nil {
		t.Error("NSEC3 with half a hash is taken")
	}
	a := NSEC3Params{Iterations: 1, Salt: []byte{7}}
	for want, list := range map[bool][]NSEC3Params{true: {{1, []byte{7}}}, false: {{2, []byte{7}}, {1, []byte{8}}, {1, nil}, {2, nil}}} {
		for _, b := range list {
			if a.Equal(&b) != want {
				t.Errorf("%+v and %+v: equal is %v", a, b, !want)
			}
		}
	}
	// The tag of RSAMD5 is two octets of the modulus (RFC 4034 App. B.1).
	if got := KeyTag([]byte{1, 0, 3, 1, 0x12, 0x34, 0x56}); got != 0x1234 {
		t.Errorf("the tag is %x", got)
	}
	if got, want := KeyTag([]byte{1, 0, 3, 1, 0x12, 0x34}), uint16(0x0100+0x0301+0x1234); got != want {
		t.Errorf("the tag of a short one is %x, want %x", got, want)
	}
	for flags, want := range map[uint16]bool{0: false, FlagZone: true, FlagZone | FlagSEP: true, FlagRevoked: false, FlagZone | FlagRevoked: false, FlagSEP: false} {
		if got := (&PublicKey{Flags: flags}).IsZoneKey(); got != want {
			t.Errorf("flags %x: %v", flags, got)
		}
	}
}
