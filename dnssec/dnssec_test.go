package dnssec_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"math/big"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/vectors"
	"fencepost/rr"
	"fencepost/zone"
)

func TestKeyTagsAndDS(t *testing.T) {
	var v struct {
		Cases []struct {
			Source, Owner string
			Data          string `json:"rdata_hex"`
			Tag           uint16 `json:"key_tag"`
			DS            []struct {
				Type   uint8 `json:"digest_type"`
				Digest string
			}
		}
	}
	vectors.Read(t, "dnskey_tag_ds.json", &v)
	for _, c := range v.Cases {
		data := vectors.Hex(t, c.Data)
		if got := dnssec.KeyTag(data); got != c.Tag {
			t.Errorf("%s: tag %d, want %d", c.Source, got, c.Tag)
		}
		for _, ds := range c.DS {
			got := dnssec.DS(dnsname.MustParse(c.Owner), data, ds.Type)
			if len(got) < 4 || binary.BigEndian.Uint16(got) != c.Tag || got[2] != data[3] || got[3] != ds.Type || !bytes.Equal(got[4:], vectors.Hex(t, ds.Digest)) {
				t.Errorf("%s: DS %x", c.Source, got)
			}
		}
	}
	if dnssec.DS(dnsname.Root, []byte{1, 1, 3, 13, 0}, 3) != nil {
		t.Error("a digest type that is not known makes a DS")
	}
}

type signatureCase struct {
	Source string
	DNSKEY struct {
		Owner     string
		Flags     uint16
		Algorithm uint8
		Key       string `json:"public_key_base64"`
		Tag       uint16 `json:"key_tag"`
	}
	RRset struct {
		Owner, Type string
		TTL         uint32
		Rdata       []string
	}
	RRSIG struct {
		Algorithm             uint8
		Labels                uint8
		OriginalTTL           uint32 `json:"original_ttl"`
		Expiration, Inception uint32
		Tag                   uint16 `json:"key_tag"`
		Signer                string
		Signature             string `json:"signature_base64"`
	}
	SignedData string `json:"signed_data_hex"`
	Verifies   bool   `json:"crypto_verifies"`
}

func b64(t *testing.T, s string) []byte {
	t.Helper()
	b, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestSignatureVectors checks what is signed, octet for octet, and the
// signatures printed in RFC 5702, 6605 and 8080; a flipped bit is noticed.
func TestSignatureVectors(t *testing.T) {
	var v struct{ Cases []signatureCase }
	vectors.Read(t, "signatures.json", &v)
	checked := 0
	for _, c := range v.Cases {
		typ, _ := rr.ParseType(c.RRset.Type)
		var data [][]byte
		for _, text := range c.RRset.Rdata {
			p := rr.Parser{}
			var tokens []rr.Token
			for _, w := range bytes.Fields([]byte(text)) {
				tokens = append(tokens, rr.Token{Text: w})
			}
			d, err := p.Data(nil, typ, tokens)
			if err != nil {
				t.Fatalf("%s: %v", c.Source, err)
			}
			data = append(data, d)
		}
		set := zone.NewRRset(typ, c.RRset.TTL, data)
		sig := dnssec.RRSIG{Covered: typ, Algorithm: rr.AlgorithmNumber(c.RRSIG.Algorithm), Labels: c.RRSIG.Labels, OriginalTTL: c.RRSIG.OriginalTTL,
			Expiration: c.RRSIG.Expiration, Inception: c.RRSIG.Inception, KeyTag: c.RRSIG.Tag, Signer: []byte(dnsname.MustParse(c.RRSIG.Signer).Wire())}
		owner := []byte(dnsname.MustParse(c.RRset.Owner).Wire())
		signed := dnssec.AppendSigned(nil, &sig, owner, set)
		if want := vectors.Hex(t, c.SignedData); !bytes.Equal(signed, want) && int(c.RRSIG.Labels) <= dnsname.LabelsWire(owner) {
			t.Errorf("%s: the signed octets are\n%x\nwant\n%x", c.Source, signed, want)
		}
		dnskey := append(binary.BigEndian.AppendUint16(nil, c.DNSKEY.Flags), 3, c.DNSKEY.Algorithm)
		key, err := dnssec.ParseDNSKEY(append(dnskey, b64(t, c.DNSKEY.Key)...))
		if err != nil {
			t.Errorf("%s: %v", c.Source, err)
			continue
		}
		if key.Tag != c.DNSKEY.Tag {
			t.Errorf("%s: tag %d", c.Source, key.Tag)
		}
		checked++
		octets, good := vectors.Hex(t, c.SignedData), b64(t, c.RRSIG.Signature)
		if err := key.Verify(octets, good); (err == nil) != c.Verifies {
			t.Errorf("%s: %v", c.Source, err)
		}
		for i := 0; i < len(good)*8; i += 37 {
			bad := bytes.Clone(good)
			bad[i/8] ^= 1 << (i % 8)
			if err := key.Verify(octets, bad); !errors.Is(err, dnssec.ErrSignature) {
				t.Fatalf("%s: with bit %d of the signature flipped: %v", c.Source, i, err)
			}
		}
		for i := 0; i < len(octets)*8; i += 101 {
			bad := bytes.Clone(octets)
			bad[i/8] ^= 1 << (i % 8)
			if err := key.Verify(bad, good); !errors.Is(err, dnssec.ErrSignature) {
				t.Fatalf("%s: with bit %d of the data flipped: %v", c.Source, i, err)
			}
		}
	}
	if checked != len(v.Cases) {
		t.Errorf("only %d signatures were checked", checked)
	}
}

// Signatures are those of RFC 6979: the same every time.
func TestDeterministicECDSA(t *testing.T) {
	var v struct {
		Cases []struct {
			Curve, Hash, R, S string
			Private           string `json:"private_key"`
			Message           string `json:"message_ascii"`
		}
	}
	vectors.Read(t, "ecdsa_deterministic.json", &v)
	for _, c := range v.Cases {
		curve, alg := elliptic.P256(), rr.ECDSAP256SHA256
		if c.Curve == "P-384" {
			curve, alg = elliptic.P384(), rr.ECDSAP384SHA384
		}
		private, err := ecdsa.ParseRawPrivateKey(curve, vectors.Hex(t, c.Private))
		if err != nil {
			t.Fatal(err)
		}
		key, err := dnssec.NewKey(private, alg, dnssec.FlagZone)
		if err != nil {
			t.Fatal(err)
		}
		sig, err := key.Sign([]byte(c.Message))
		r, _ := new(big.Int).SetString(c.R, 16)
		s, _ := new(big.Int).SetString(c.S, 16)
		n := (curve.Params().BitSize + 7) / 8
		want := append(r.FillBytes(make([]byte, n)), s.FillBytes(make([]byte, n))...)
		if err != nil || !bytes.Equal(sig, want) {
			t.Errorf("%s %q: %x, %v", c.Curve, c.Message, sig, err)
		}
		if err := key.Verify([]byte(c.Message), sig); err != nil {
			t.Errorf("%s: %v", c.Curve, err)
		}
	}
}

func TestAllAlgorithms(t *testing.T) {
	for _, a := range []rr.AlgorithmNumber{rr.ECDSAP256SHA256, rr.ECDSAP384SHA384, rr.ED25519, rr.ED448, rr.RSASHA256, rr.RSASHA512} {
		k, err := dnssec.Generate(a, dnssec.FlagZone, 0)
		if err != nil {
			t.Fatalf("%s: %v", a, err)
		}
		sig, err := k.Sign([]byte("tide"))
		if err != nil || k.Verify([]byte("tide"), sig) != nil || k.Verify([]byte("tidf"), sig) == nil {
			t.Errorf("%s: %v", a, err)
		}
	}
	if _, err := dnssec.Generate(5, dnssec.FlagZone, 0); !errors.Is(err, dnssec.ErrWeak) {
		t.Errorf("RSASHA1: %v", err)
	}
}

func TestMalformedKeys(t *testing.T) {
	for what, data := range map[string][]byte{
		"empty": {}, "short": {1, 0, 3}, "protocol 4": append([]byte{1, 0, 4, 13}, make([]byte, 64)...),
		"P-256 of 63 octets": append([]byte{1, 0, 3, 13}, make([]byte, 63)...), "P-256 off the curve": append([]byte{1, 0, 3, 13}, bytes.Repeat([]byte{7}, 64)...),
		"Ed25519 of 31 octets": append([]byte{1, 0, 3, 15}, make([]byte, 31)...), "RSA without modulus": {1, 0, 3, 8, 3, 1, 0, 1}, "RSA, even modulus": append([]byte{1, 0, 3, 8, 1, 3}, append([]byte{0x80}, make([]byte, 127)...)...),
	} {
		if k, err := dnssec.ParseDNSKEY(data); err == nil {
			t.Errorf("%s was read as %+v", what, k)
		}
	}
	if k, err := dnssec.ParseDNSKEY([]byte{1, 0, 3, 200, 1, 2}); err != nil || !errors.Is(k.Verify(nil, nil), dnssec.ErrUnsupported) {
		t.Errorf("an unknown algorithm: %v", err)
	}
}

// TestVerifySet breaks each condition of RFC 4035 §5.3.1 on its own.
func TestVerifySet(t *testing.T) {
	apex, owner := []byte(dnsname.MustParse("example.").Wire()), []byte(dnsname.MustParse("a.w.example.").Wire())
	key, err := dnssec.Generate(rr.ED25519, dnssec.FlagZone, 0)
	if err != nil {
		t.Fatal(err)
	}
	set := zone.NewRRset(rr.TypeMX, 300, [][]byte{[]byte("\x00\x0a\x04MAIL\x00"), []byte("\x00\x05\x01b\x00")})
	at := time.Unix(1700000000, 0)
	times := dnssec.Times{Inception: at, Expiration: at.Add(time.Hour)}
	sig, _, err := key.SignSet(nil, apex, owner, set, times)
	if err != nil {
		t.Fatal(err)
	}
	check := func(what string, owner []byte, set zone.RRset, sig []byte, now time.Time, keys []*dnssec.PublicKey, want error) {
		t.Helper()
		if _, err := dnssec.VerifySet(nil, keys, apex, owner, set, sig, now); !errors.Is(err, want) || (err == nil) != (want == nil) {
			t.Errorf("%s: %v, want %v", what, err, want)
		}
	}
	ours := []*dnssec.PublicKey{key.PublicKey}
	check("as signed", owner, set, sig, at, ours, nil)
	check("at its last second", owner, set, sig, at.Add(time.Hour), ours, nil)
	check("a second later", owner, set, sig, at.Add(time.Hour+time.Second), ours, dnssec.ErrExpired)
	check("a second early", owner, set, sig, at.Add(-time.Second), ours, dnssec.ErrEarly)
	lower := zone.NewRRset(rr.TypeMX, 300, [][]byte{[]byte("\x00\x0a\x04mail\x00"), []byte("\x00\x05\x01B\x00")})
	check("names in another case", []byte("\x01A\x01W\x07EXAMPLE\x00"), lower, sig, at, ours, nil)
	check("another TTL: the original counts", owner, zone.NewRRset(rr.TypeMX, 7, [][]byte{[]byte("\x00\x0a\x04MAIL\x00"), []byte("\x00\x05\x01b\x00")}), sig, at, ours, nil)
	check("a record less", owner, zone.NewRRset(rr.TypeMX, 300, [][]byte{[]byte("\x00\x0a\x04MAIL\x00")}), sig, at, ours, dnssec.ErrSignature)
	check("another owner", []byte("\x01b\x01w\x07example\x00"), set, sig, at, ours, dnssec.ErrSignature)
	check("another type", owner, zone.NewRRset(rr.TypeTXT, 300, [][]byte{[]byte("\x01x")}), sig, at, ours, dnssec.ErrMismatch)
	check("no key", owner, set, sig, at, nil, dnssec.ErrNoKey)
	more := bytes.Clone(sig)
	more[3] = 9
	check("more labels than the owner", owner, set, more, at, ours, dnssec.ErrMismatch)
	check("cut off", owner, set, sig[:10], at, ours, dnssec.ErrRRSIG)
	other := *key.PublicKey // nothing but the flag differs, not even the tag
	other.Flags &^= dnssec.FlagZone
	check("a key that is no zone key", owner, set, sig, at, []*dnssec.PublicKey{&other}, dnssec.ErrNoKey)

	// A wildcard's signature covers the names made from it (RFC 4035 §5.3.2).
	star := []byte(dnsname.MustParse("*.w.example.").Wire())
	wild, _, _ := key.SignSet(nil, apex, star, set, times)
	check("made from a wildcard", owner, set, wild, at, ours, nil)
	check("the wildcard itself", star, set, wild, at, ours, nil)
	check("a name elsewhere", []byte("\x01a\x01v\x07example\x00"), set, wild, at, ours, dnssec.ErrSignature)
}

func BenchmarkSign(b *testing.B) {
	key, _ := dnssec.Generate(rr.ECDSAP256SHA256, dnssec.FlagZone, 0)
	owner := []byte(dnsname.MustParse("a.example.").Wire())
	set := zone.NewRRset(rr.TypeA, 300, [][]byte{{192, 0, 2, 1}})
	var scratch []byte
	for b.Loop() {
		_, scratch, _ = key.SignSet(scratch, []byte("\x07example\x00"), owner, set, dnssec.Times{Inception: time.Unix(1, 0), Expiration: time.Unix(9, 0)})
	}
}

// MatchSet says whether a signature could be one of a key, without the cryptography.
func TestMatchSet(t *testing.T) {
	apex, owner := []byte(dnsname.MustParse("example.").Wire()), []byte(dnsname.MustParse("a.example.").Wire())
	key, err := dnssec.Generate(rr.ED25519, dnssec.FlagZone, 0)
	if err != nil {
		t.Fatal(err)
	}
	set, at := zone.NewRRset(rr.TypeA, 300, [][]byte{{192, 0, 2, 1}}), time.Unix(1700000000, 0)
	sig, _, err := key.SignSet(nil, apex, owner, set, dnssec.Times{Inception: at, Expiration: at.Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	tag, algorithm := *key.PublicKey, *key.PublicKey
	tag.Tag++
	algorithm.Algorithm = rr.ED448
	for what, c := range map[string]struct {
		key  *dnssec.PublicKey
		sig  []byte
		now  time.Time
		want error
	}{"its own": {key.PublicKey, sig, at, nil}, "another tag": {&tag, sig, at, dnssec.ErrNoKey}, "another algorithm": {&algorithm, sig, at, dnssec.ErrNoKey},
		"expired": {key.PublicKey, sig, at.Add(2 * time.Hour), dnssec.ErrExpired}, "cut off": {key.PublicKey, sig[:9], at, dnssec.ErrRRSIG}} {
		if err := dnssec.MatchSet(c.key, apex, owner, set, c.sig, c.now); !errors.Is(err, c.want) || (err == nil) != (c.want == nil) {
			t.Errorf("%s: %v, want %v", what, err, c.want)
		}
	}
	for _, c := range []struct {
		curve elliptic.Curve
		a     rr.AlgorithmNumber
		fits  bool
	}{{elliptic.P256(), rr.ECDSAP256SHA256, true}, {elliptic.P384(), rr.ECDSAP384SHA384, true}, {elliptic.P384(), rr.ECDSAP256SHA256, false}, {elliptic.P256(), rr.ECDSAP384SHA384, false},
		{elliptic.P256(), rr.ED25519, false}, {elliptic.P256(), rr.RSASHA256, false}} {
		private, err := ecdsa.GenerateKey(c.curve, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := dnssec.NewKey(private, c.a, dnssec.FlagZone); (err == nil) != c.fits {
			t.Errorf("a key on %s for %s: %v", c.curve.Params().Name, c.a, err)
		}
	}
}
