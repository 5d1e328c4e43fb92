package keyring_test

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"strings"
	"testing"

	"fencepost/dnssec"
	"fencepost/internal/vectors"
	"fencepost/keyring"
	"fencepost/rr"
)

type printedKey struct {
	Source  string
	Private map[string]string `json:"private_key"`
	DNSKEY  struct {
		Flags     uint16
		Algorithm uint8
		Key       string `json:"public_key_base64"`
		Tag       uint16 `json:"key_tag"`
	}
}

// text writes a key as the RFCs print it.
func (p *printedKey) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Private-key-format: v1.2\nAlgorithm: %d (%s)\n", p.DNSKEY.Algorithm, rr.AlgorithmNumber(p.DNSKEY.Algorithm))
	for name, value := range p.Private {
		fmt.Fprintf(&b, "%s: %s\n", name, value)
	}
	return b.String()
}

// The keys printed in RFC 5702, 6605 and 8080 are read, have the public halves
// printed beside them, and come back unchanged from every form.
func TestForms(t *testing.T) {
	var v struct{ Cases []printedKey }
	vectors.Read(t, "signatures.json", &v)
	read := 0
	for _, c := range v.Cases {
		in, err := keyring.Import([]byte(c.text()), nil)
		if err != nil {
			t.Errorf("%s: %v", c.Source, err)
			continue
		}
		want := binary.BigEndian.AppendUint16(nil, c.DNSKEY.Flags)
		public, _ := base64.StdEncoding.DecodeString(c.DNSKEY.Key)
		want = append(append(want, 3, c.DNSKEY.Algorithm), public...)
		key, err := dnssec.NewKey(in.Key, in.Algorithm, c.DNSKEY.Flags)
		if err != nil || !bytes.Equal(key.Data, want) || key.Tag != c.DNSKEY.Tag {
			t.Errorf("%s: the public half is another: %v", c.Source, err)
			continue
		}
		read++
		for _, form := range []keyring.Form{keyring.PEM, keyring.DER, keyring.JWK, keyring.Text} {
			text, err := keyring.Export(key, form, nil)
			if err != nil {
				t.Errorf("%s as %s: %v", c.Source, form, err)
				continue
			}
			back, err := keyring.Import(text, nil)
			if err != nil || back.Form != form {
				t.Errorf("%s from %s: %v", c.Source, form, err)
				continue
			}
			same, err := dnssec.NewKey(back.Key, key.Algorithm, key.Flags)
			if err != nil || !bytes.Equal(same.Data, key.Data) || back.Algorithm != 0 && back.Algorithm != key.Algorithm {
				t.Errorf("%s from %s: another key, algorithm %s: %v", c.Source, form, back.Algorithm, err)
			}
		}
	}
	if read != len(v.Cases) || read < 10 {
		t.Errorf("%d of %d keys were read", read, len(v.Cases))
	}
}

// An EC key as RFC 7517 App. A.2 prints it, and an Ed25519 one from RFC 8037 App. A.1.
func TestPrintedJWK(t *testing.T) {
	for _, c := range []struct {
		text string
		alg  rr.AlgorithmNumber
	}{
		{`{"kty":"EC","crv":"P-256","x":"MKBCTNIcKUSDii11ySs3526iDZ8AiTo7Tu6KPAqv7D4","y":"4Etl6SRW2YiLUrN5vfvVHuhp7x8PxltmWWlbbM4IFyM","d":"870MB6gfuTJ4HtUnUvYMyJpr5eUZNP4Bk43bVdj3eAE","use":"enc","kid":"1"}`, rr.ECDSAP256SHA256},
		{`{"kty":"OKP","crv":"Ed25519","d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}`, rr.ED25519},
	} {
		in, err := keyring.Import([]byte(c.text), nil)
		if err != nil || in.Algorithm != c.alg {
			t.Fatalf("%v, %v", in, err)
		}
		key, err := dnssec.NewKey(in.Key, in.Algorithm, 256)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := keyring.Export(key, keyring.JWK, nil)
		for _, part := range []string{"x", "y", "d"} {
			_, value, found := strings.Cut(c.text, `"`+part+`":"`)
			if value, _, _ = strings.Cut(value, `"`); found && !strings.Contains(string(text), value) {
				t.Errorf("%s: the part %s comes out differently: %s", c.alg, part, text)
			}
		}
	}
}

func TestMalformedKeys(t *testing.T) {
	for _, text := range []string{"", "hello", "{", `{"kty":"EC","crv":"P-256","x":"AA","y":"AA"}`, `{"kty":"oct","k":"AA"}`, "Private-key-format: v9\n", "Private-key-format: v1.2\nAlgorithm: 13\nPrivateKey: AAAA\n",
		"Private-key-format: v1.2\nAlgorithm: 8\nModulus: AAAA\n", "-----BEGIN CERTIFICATE-----\nAA==\n-----END CERTIFICATE-----\n", "0\x03\x02\x01\x00"} {
		if in, err := keyring.Import([]byte(text), nil); err == nil {
			t.Errorf("%q is read as %+v", text, in)
		}
	}
	for _, text := range []string{"", "257 3 13", "x 3 13 AA==", "257 3 13 ?", "257 3 NOSUCH AA=="} {
		if _, err := keyring.ParsePublicText(text); err == nil {
			t.Errorf("%q is read as a DNSKEY", text)
		}
	}
}

func FuzzImport(f *testing.F) {
	f.Add([]byte("Private-key-format: v1.2\nAlgorithm: 15 (ED25519)\nPrivateKey: ODIyNjAzODQ2MjgwODAxMjI2NDUxOTAyMDQxNDIyNjI=\n"))
	f.Add([]byte(`{"kty":"OKP","crv":"Ed25519","d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A","x":""}`))
	f.Add([]byte("0\x03\x02\x01\x00"))
	f.Fuzz(func(t *testing.T, text []byte) {
		in, err := keyring.Import(text, nil)
		if err == nil && in.Key == nil {
			t.Error("neither a key nor an error")
		}
	})
}

// The PEM forms that keys had before PKCS#8 are read, with what stands in front of them.
func TestOlderPEM(t *testing.T) {
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	sec1, err := x509.MarshalECPrivateKey(ec)
	if err != nil {
		t.Fatal(err)
	}
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	params := pem.EncodeToMemory(&pem.Block{Type: "EC PARAMETERS", Bytes: []byte{6, 8, 42, 134, 72, 206, 61, 3, 1, 7}})
	for _, c := range []struct {
		text []byte
		is   crypto.Signer
		alg  rr.AlgorithmNumber
	}{
		{append(params, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: sec1})...), ec, rr.ECDSAP256SHA256},
		{pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(rsaKey)}), rsaKey, 0},
	} {
		in, err := keyring.Import(c.text, nil)
		if err != nil || in.Algorithm != c.alg || !in.Key.Public().(interface{ Equal(crypto.PublicKey) bool }).Equal(c.is.Public()) {
			t.Errorf("%s: %v, %v", c.text[:40], in, err)
		}
	}
	locked := &pem.Block{Type: "EC PRIVATE KEY", Headers: map[string]string{"Proc-Type": "4,ENCRYPTED", "DEK-Info": "AES-128-CBC,00"}, Bytes: sec1}
	if _, err := keyring.Import(pem.EncodeToMemory(locked), nil); err == nil || !strings.Contains(err.Error(), "PKCS#8") {
		t.Errorf("a key protected in the old way: %v", err)
	}
	if _, err := keyring.Import(params, nil); err == nil {
		t.Error("parameters are taken for a key")
	}
}
