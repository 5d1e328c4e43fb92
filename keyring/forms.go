package keyring

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"github.com/cloudflare/circl/sign/ed448"

	"fencepost/dnssec"
	"fencepost/rr"
)

// Form is a form in which a private key is written.
type Form string

// The forms.
const (
	PEM  Form = "pem"  // PKCS#8 in PEM (RFC 5958, RFC 7468)
	DER  Form = "der"  // PKCS#8
	JWK  Form = "jwk"  // RFC 7517, RFC 7518 §6, RFC 8037
	Text Form = "text" // lines of name and value, as RFC 5702 §6, 6605 §6 and 8080 §6 print them
)

// ErrForm means that something is no private key in a form that is known.
var ErrForm = errors.New("this is not a private key: PKCS#8 (PEM or DER), JWK and the text form of RFC 5702 are known")

// Imported is a private key that was read, with the algorithm if its form says it.
type Imported struct {
	Key       crypto.Signer
	Algorithm rr.AlgorithmNumber // 0: the form does not say, as with RSA in PKCS#8
	Form      Form
}

// Import reads a private key in any of the forms.
func Import(content, passphrase []byte) (*Imported, error) {
	if len(content) > maxKeyFile {
		return nil, errors.New("the file is too large to be a key")
	}
	trimmed := bytes.TrimSpace(content)
	var in *Imported
	var err error
	switch {
	case bytes.Contains(content, []byte("-----BEGIN")):
		in, err = fromSigner(PEM)(parsePEM(content, passphrase))
	case bytes.HasPrefix(trimmed, []byte("{")):
		in, err = parseJWK(trimmed)
	case bytes.HasPrefix(trimmed, []byte("Private-key-format:")):
		in, err = parseText(string(trimmed))
	case len(content) > 0 && content[0] == 0x30:
		in, err = fromSigner(DER)(ParseDER(content, passphrase))
	default:
		return nil, ErrForm
	}
	if err != nil {
		return nil, err
	}
	if in.Algorithm == 0 {
		in.Algorithm = algorithmOf(in.Key)
	}
	return in, nil
}

func fromSigner(f Form) func(crypto.Signer, error) (*Imported, error) {
	return func(k crypto.Signer, err error) (*Imported, error) { return &Imported{Key: k, Form: f}, err }
}

// algorithmOf is the algorithm that a key can only be of; 0 for RSA, which can be
// of several.
func algorithmOf(k crypto.Signer) rr.AlgorithmNumber {
	switch k := k.(type) {
	case *ecdsa.PrivateKey:
		switch k.Curve {
		case elliptic.P256():
			return rr.ECDSAP256SHA256
		case elliptic.P384():
			return rr.ECDSAP384SHA384
		}
	case ed25519.PrivateKey:
		return rr.ED25519
	case ed448.PrivateKey:
		return rr.ED448
	}
	return 0
}

// Export writes a private key in a form. Only PEM and DER can be protected.
func Export(k *dnssec.Key, f Form, passphrase []byte) ([]byte, error) {
	switch f {
	case PEM:
		return EncodePEM(k.Private(), passphrase)
	case DER:
		der, err := EncodeDER(k.Private())
		if err != nil || len(passphrase) == 0 {
			return der, err
		}
		return encrypt(der, passphrase)
	}
	if len(passphrase) > 0 {
		return nil, fmt.Errorf("a key in the form %s cannot be protected by a passphrase; use pem", f)
	}
	switch f {
	case JWK:
		return encodeJWK(k)
	case Text:
		return encodeText(k)
	}
	return nil, fmt.Errorf("%q is not a form of a key: pem, der, jwk or text", f)
}

// rsaFields are the parts of an RSA key, by their names in JWK and in the text
// form, in its order.
var rsaFields = []struct {
	jwk, text string
	get       func(*rsa.PrivateKey) *big.Int
}{
	{"n", "Modulus", func(k *rsa.PrivateKey) *big.Int { return k.N }},
	{"e", "PublicExponent", func(k *rsa.PrivateKey) *big.Int { return big.NewInt(int64(k.E)) }},
	{"d", "PrivateExponent", func(k *rsa.PrivateKey) *big.Int { return k.D }},
	{"p", "Prime1", func(k *rsa.PrivateKey) *big.Int { return k.Primes[0] }},
	{"q", "Prime2", func(k *rsa.PrivateKey) *big.Int { return k.Primes[1] }},
	{"dp", "Exponent1", func(k *rsa.PrivateKey) *big.Int { return k.Precomputed.Dp }},
	{"dq", "Exponent2", func(k *rsa.PrivateKey) *big.Int { return k.Precomputed.Dq }},
	{"qi", "Coefficient", func(k *rsa.PrivateKey) *big.Int { return k.Precomputed.Qinv }},
}

// makeRSA puts an RSA key together and checks it.
func makeRSA(get func(jwk, text string) []byte) (crypto.Signer, error) {
	var v [5]*big.Int
	for i := range v {
		b := get(rsaFields[i].jwk, rsaFields[i].text)
		if len(b) == 0 {
			return nil, fmt.Errorf("%w: the part %s is missing", ErrForm, rsaFields[i].text)
		}
		v[i] = new(big.Int).SetBytes(b)
	}
	if !v[1].IsInt64() || v[1].Int64() > 1<<31-1 {
		return nil, errors.New("the public exponent of this RSA key is larger than can be signed with here")
	}
	k := &rsa.PrivateKey{PublicKey: rsa.PublicKey{N: v[0], E: int(v[1].Int64())}, D: v[2], Primes: []*big.Int{v[3], v[4]}}
	if err := k.Validate(); err != nil {
		return nil, err
	}
	k.Precompute()
	return k, nil
}

// scalar makes a key of its secret number or seed.
func scalar(a rr.AlgorithmNumber, secret []byte) (crypto.Signer, error) {
	bad := fmt.Errorf("a private key of %s has another length than %d octets", a, len(secret))
	switch a {
	case rr.ECDSAP256SHA256, rr.ECDSAP384SHA384:
		curve, size := elliptic.P256(), 32
		if a == rr.ECDSAP384SHA384 {
			curve, size = elliptic.P384(), 48
		}
		if len(secret) > size {
			return nil, bad
		}
		return ecdsa.ParseRawPrivateKey(curve, append(make([]byte, size-len(secret)), secret...))
	case rr.ED25519:
		if len(secret) != ed25519.SeedSize {
			return nil, bad
		}
		return ed25519.NewKeyFromSeed(secret), nil
	case rr.ED448:
		if len(secret) != ed448.SeedSize {
			return nil, bad
		}
		return ed448.NewKeyFromSeed(secret), nil
	}
	return nil, fmt.Errorf("keys of algorithm %s are not known here", a)
}

// secretOf is what scalar makes a key of.
func secretOf(k crypto.Signer) ([]byte, error) {
	switch k := k.(type) {
	case *ecdsa.PrivateKey:
		return k.Bytes()
	case ed25519.PrivateKey:
		return k.Seed(), nil
	case ed448.PrivateKey:
		return k.Seed(), nil
	}
	return nil, errors.New("the key has no single secret number")
}

// ---- the text form ----

func parseText(text string) (*Imported, error) {
	fields := map[string]string{}
	for line := range strings.Lines(text) {
		if name, value, ok := strings.Cut(line, ":"); ok {
			fields[strings.TrimSpace(name)] = strings.TrimSpace(value)
		}
	}
	if v := fields["Private-key-format"]; !strings.HasPrefix(v, "v1.") {
		return nil, fmt.Errorf("the text form %q is not known: v1.2 and v1.3 are", v)
	}
	number, _, _ := strings.Cut(fields["Algorithm"], " ")
	n, err := strconv.ParseUint(number, 10, 8)
	if err != nil {
		return nil, fmt.Errorf("%w: its algorithm is missing", ErrForm)
	}
	a := rr.AlgorithmNumber(n)
	decode := func(name string) []byte {
		b, _ := base64.StdEncoding.DecodeString(fields[name])
		return b
	}
	var key crypto.Signer
	switch a {
	case rr.RSASHA1, rr.RSASHA1NSEC3, rr.RSASHA256, rr.RSASHA512:
		key, err = makeRSA(func(_, name string) []byte { return decode(name) })
	default:
		key, err = scalar(a, decode("PrivateKey"))
	}
	return &Imported{Key: key, Algorithm: a, Form: Text}, err
}

func encodeText(k *dnssec.Key) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "Private-key-format: v1.2\nAlgorithm: %d (%s)\n", k.Algorithm, k.Algorithm)
	if r, ok := k.Private().(*rsa.PrivateKey); ok {
		for _, f := range rsaFields {
			fmt.Fprintf(&b, "%s: %s\n", f.text, base64.StdEncoding.EncodeToString(f.get(r).Bytes()))
		}
		return b.Bytes(), nil
	}
	secret, err := secretOf(k.Private())
	fmt.Fprintf(&b, "PrivateKey: %s\n", base64.StdEncoding.EncodeToString(secret))
	return b.Bytes(), err
}

// ---- JWK ----

// curves are the names of curves and key types in JWK (RFC 7518 §6.2.1.1,
// RFC 8037 §2).
var curves = map[rr.AlgorithmNumber][2]string{rr.ECDSAP256SHA256: {"EC", "P-256"}, rr.ECDSAP384SHA384: {"EC", "P-384"}, rr.ED25519: {"OKP", "Ed25519"}, rr.ED448: {"OKP", "Ed448"}}

// rsaNames are the algorithms of RSA keys in JWK (RFC 7518 §3.1).
var rsaNames = map[rr.AlgorithmNumber]string{rr.RSASHA256: "RS256", rr.RSASHA512: "RS512"}

func parseJWK(text []byte) (*Imported, error) {
	fields := map[string]any{}
	if err := json.Unmarshal(text, &fields); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrForm, err)
	}
	word := func(name string) string { s, _ := fields[name].(string); return s }
	decode := func(name string) []byte {
		b, _ := base64.RawURLEncoding.DecodeString(word(name))
		return b
	}
	if word("kty") == "RSA" {
		in := &Imported{Form: JWK}
		for a, name := range rsaNames {
			if word("alg") == name {
				in.Algorithm = a
			}
		}
		var err error
		in.Key, err = makeRSA(func(name, _ string) []byte { return decode(name) })
		return in, err
	}
	for a, names := range curves {
		if word("kty") != names[0] || word("crv") != names[1] {
			continue
		}
		if len(decode("d")) == 0 {
			return nil, fmt.Errorf("%w: it is a public key, the part d is missing", ErrForm)
		}
		key, err := scalar(a, decode("d"))
		return &Imported{Key: key, Algorithm: a, Form: JWK}, err
	}
	return nil, fmt.Errorf("%w: the JWK has key type %q and curve %q", ErrForm, word("kty"), word("crv"))
}

func encodeJWK(k *dnssec.Key) ([]byte, error) {
	fields := map[string]string{}
	put := func(name string, b []byte) { fields[name] = base64.RawURLEncoding.EncodeToString(b) }
	if r, ok := k.Private().(*rsa.PrivateKey); ok {
		fields["kty"] = "RSA"
		if alg := rsaNames[k.Algorithm]; alg != "" {
			fields["alg"] = alg
		}
		for _, f := range rsaFields {
			put(f.jwk, f.get(r).Bytes())
		}
		return json.MarshalIndent(fields, "", "  ")
	}
	names, ok := curves[k.Algorithm]
	if !ok {
		return nil, fmt.Errorf("keys of algorithm %s have no JWK", k.Algorithm)
	}
	fields["kty"], fields["crv"] = names[0], names[1]
	public := k.Data[4:]
	if names[0] == "EC" {
		put("x", public[:len(public)/2])
		put("y", public[len(public)/2:])
	} else {
		put("x", public)
	}
	secret, err := secretOf(k.Private())
	put("d", secret)
	if err != nil {
		return nil, err
	}
	return json.MarshalIndent(fields, "", "  ")
}
