package dnssec_test

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/cloudflare/circl/sign/ed448"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/vectors"
	"fencepost/rr"
)

// What RFC 8624 and its successors say, in one table.
func TestLevels(t *testing.T) {
	for a, want := range map[rr.AlgorithmNumber][2]dnssec.Use{
		1: {dnssec.Never, dnssec.Never}, 3: {dnssec.Never, dnssec.Never}, 5: {dnssec.Legacy, dnssec.Legacy}, 6: {dnssec.Never, dnssec.Never},
		7: {dnssec.Legacy, dnssec.Legacy}, 8: {dnssec.Recommended, dnssec.Recommended}, 10: {dnssec.Discouraged, dnssec.Recommended},
		12: {dnssec.Never, dnssec.Never}, 13: {dnssec.Recommended, dnssec.Recommended}, 14: {dnssec.Allowed, dnssec.Recommended},
		15: {dnssec.Recommended, dnssec.Recommended}, 16: {dnssec.Allowed, dnssec.Recommended}, 200: {dnssec.Never, dnssec.Never},
	} {
		l := dnssec.LevelOf(a)
		if l.Signing != want[0] || l.Validation != want[1] || (l.Reason == "") != (l.Signing >= dnssec.Allowed) {
			t.Errorf("algorithm %d: %+v", a, l)
		}
		if _, err := dnssec.Generate(a, dnssec.FlagZone, 0); (err == nil) != (want[0] >= dnssec.Discouraged) || err != nil && !errors.Is(err, dnssec.ErrWeak) {
			t.Errorf("a new key of algorithm %d: %v", a, err)
		}
	}
	for _, bits := range []int{512, 1024, 2047, 8192} {
		if _, err := dnssec.Generate(rr.RSASHA256, dnssec.FlagZone, bits); !errors.Is(err, dnssec.ErrWeak) {
			t.Errorf("a new key of %d bits: %v", bits, err)
		}
	}
	if dnssec.DigestLevel(2).Signing != dnssec.Recommended || dnssec.DigestLevel(1).Signing != dnssec.Never || dnssec.DigestLevel(9).Validation != dnssec.Never {
		t.Error("levels of digests")
	}
}

func TestNSEC3Hashes(t *testing.T) {
	var v struct {
		Cases []struct {
			Name, Salt, Hash string
			Iterations       uint16
		}
	}
	vectors.Read(t, "nsec3_hash.json", &v)
	for _, c := range v.Cases {
		p := dnssec.NSEC3Params{Iterations: c.Iterations, Salt: vectors.Hex(t, strings.TrimPrefix(c.Salt, "-"))}
		h := p.Hash([]byte(dnsname.MustParse(c.Name).Wire()))
		label := h.AppendLabel(nil)
		if string(label) != c.Hash {
			t.Errorf("%s: %s, want %s", c.Name, label, c.Hash)
		}
		for _, spelling := range [][]byte{label, bytes.ToUpper(label)} {
			if back, ok := dnssec.ParseHashLabel(spelling); !ok || back != h {
				t.Errorf("%s is not read back", spelling)
			}
		}
		n, err := dnssec.ParseNSEC3(p.AppendNSEC3(nil, dnssec.FlagOptOut, &h, []rr.Type{rr.TypeA}))
		if err != nil || n.Next != h || n.Flags != 1 || !n.Params.Equal(&p) || rr.BitmapTypes(n.Bitmap)[0] != rr.TypeA {
			t.Errorf("%s: %+v, %v", c.Name, n, err)
		}
	}
	if len(v.Cases) < 15 {
		t.Error("vectors are missing")
	}
	for _, bad := range []string{"", "0p9mhaveqvm6t7vbl5lop2u3t2rp3to", "wp9mhaveqvm6t7vbl5lop2u3t2rp3tom"} {
		if _, ok := dnssec.ParseHashLabel([]byte(bad)); ok {
			t.Errorf("%q is read as a hash", bad)
		}
	}
}

func TestEd448(t *testing.T) {
	var v struct {
		Cases []struct {
			Name, Message, Signature string
			Secret                   string `json:"secret_key"`
			Public                   string `json:"public_key"`
		}
	}
	vectors.Read(t, "ed448.json", &v)
	for _, c := range v.Cases {
		key, err := dnssec.NewKey(ed448.NewKeyFromSeed(vectors.Hex(t, c.Secret)), rr.ED448, dnssec.FlagZone)
		if err != nil || !bytes.Equal(key.Data[4:], vectors.Hex(t, c.Public)) {
			t.Fatalf("%s: %v", c.Name, err)
		}
		sig, err := key.Sign(vectors.Hex(t, c.Message))
		if err != nil || !bytes.Equal(sig, vectors.Hex(t, c.Signature)) || key.Verify(vectors.Hex(t, c.Message), sig) != nil {
			t.Errorf("%s: %x, %v", c.Name, sig, err)
		}
	}
}
