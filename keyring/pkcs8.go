package keyring

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"strconv"

	"github.com/cloudflare/circl/sign/ed448"
)

// PKCS#8 (RFC 5958) in PEM (RFC 7468). The standard library knows all keys but
// Ed448 (RFC 8410), and does not know PBES2 (RFC 8018 §6.2).

const (
	pemPlain     = "PRIVATE KEY"
	pemProtected = "ENCRYPTED PRIVATE KEY"
)

var (
	oidEd448  = asn1.ObjectIdentifier{1, 3, 101, 113}
	oidPBES2  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBKDF2 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidAES256 = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}
	oidSHA256 = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}
)

// prfs are the hashes of PBKDF2 by the OID of their HMAC; the first is the default
// (RFC 8018 App. A.2).
var prfs = map[string]func() hash.Hash{
	"1.2.840.113549.2.7":  sha1.New,
	oidSHA256.String():    sha256.New,
	"1.2.840.113549.2.10": sha512.New384,
	"1.2.840.113549.2.11": sha512.New,
}

// ciphers are AES in CBC mode, by OID: octets of the key.
var ciphers = map[string]int{"2.16.840.1.101.3.4.1.2": 16, "2.16.840.1.101.3.4.1.22": 24, oidAES256.String(): 32}

type privateKeyInfo struct {
	Version    int
	Algorithm  pkix.AlgorithmIdentifier
	PrivateKey []byte
	Rest       asn1.RawValue `asn1:"optional"`
}

type encryptedInfo struct {
	Algorithm pkix.AlgorithmIdentifier
	Data      []byte
}

type pbes2Params struct{ KDF, Scheme pkix.AlgorithmIdentifier }

type pbkdf2Params struct {
	Salt       []byte
	Iterations int
	KeyLength  int                      `asn1:"optional"`
	PRF        pkix.AlgorithmIdentifier `asn1:"optional"`
}

// manyIterations are those of new protected keys; more than maxIterations are not tried when
// reading, for they could take for ever.
const (
	manyIterations = 600_000
	maxIterations  = 10_000_000
)

// fewer is how many iterations there are in tests. Only the linker sets it.
var fewer string

// iterations are those of new protected keys.
func iterations() int {
	if n, err := strconv.Atoi(fewer); err == nil {
		return n
	}
	return manyIterations
}

// EncodeDER writes a private key as PKCS#8.
func EncodeDER(key crypto.Signer) ([]byte, error) {
	k, ok := key.(ed448.PrivateKey)
	if !ok {
		return x509.MarshalPKCS8PrivateKey(key)
	}
	seed, err := asn1.Marshal(k.Seed())
	if err != nil {
		return nil, err
	}
	return asn1.Marshal(struct {
		Version    int
		Algorithm  pkix.AlgorithmIdentifier
		PrivateKey []byte
	}{0, pkix.AlgorithmIdentifier{Algorithm: oidEd448}, seed})
}

// ParseDER reads PKCS#8, protected or not.
func ParseDER(der, passphrase []byte) (crypto.Signer, error) {
	var enc encryptedInfo
	if rest, err := asn1.Unmarshal(der, &enc); err == nil && len(rest) == 0 && enc.Algorithm.Algorithm.Equal(oidPBES2) {
		if len(passphrase) == 0 {
			return nil, ErrLocked
		}
		if der, err = decrypt(&enc, passphrase); err != nil {
			return nil, err
		}
		key, err := ParseDER(der, nil)
		if err != nil { // what comes of a wrong passphrase is no key
			return nil, ErrPassphrase
		}
		return key, nil
	}
	var info privateKeyInfo
	if _, err := asn1.Unmarshal(der, &info); err == nil && info.Algorithm.Algorithm.Equal(oidEd448) {
		var seed []byte
		if rest, err := asn1.Unmarshal(info.PrivateKey, &seed); err != nil || len(rest) > 0 || len(seed) != ed448.SeedSize {
			return nil, errors.New("the Ed448 key is malformed")
		}
		return ed448.NewKeyFromSeed(seed), nil
	}
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return nil, err
	}
	s, ok := key.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key cannot sign")
	}
	return s, nil
}

// decrypt opens PBES2 (RFC 8018 §6.2.2).
func decrypt(enc *encryptedInfo, passphrase []byte) ([]byte, error) {
	var p pbes2Params
	var kdf pbkdf2Params
	var iv []byte
	if _, err := asn1.Unmarshal(enc.Algorithm.Parameters.FullBytes, &p); err != nil || !p.KDF.Algorithm.Equal(oidPBKDF2) {
		return nil, errors.New("the key is protected in a way that is not known here: PBES2 with PBKDF2 is")
	}
	if _, err := asn1.Unmarshal(p.KDF.Parameters.FullBytes, &kdf); err != nil {
		return nil, err
	}
	prf, size := sha1.New, ciphers[p.Scheme.Algorithm.String()]
	if len(kdf.PRF.Algorithm) > 0 {
		prf = prfs[kdf.PRF.Algorithm.String()]
	}
	if _, err := asn1.Unmarshal(p.Scheme.Parameters.FullBytes, &iv); err != nil || size == 0 || prf == nil || len(iv) != aes.BlockSize {
		return nil, errors.New("the key is protected in a way that is not known here: AES in CBC mode is")
	}
	if kdf.Iterations < 1 || kdf.Iterations > maxIterations {
		return nil, fmt.Errorf("the key is protected with %d iterations; at most %d are tried", kdf.Iterations, maxIterations)
	}
	key, err := pbkdf2.Key(prf, string(passphrase), kdf.Salt, kdf.Iterations, size)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if len(enc.Data) == 0 || len(enc.Data)%aes.BlockSize != 0 {
		return nil, errors.New("the protected key is cut off")
	}
	out := make([]byte, len(enc.Data))
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(out, enc.Data)
	pad := int(out[len(out)-1])
	if pad < 1 || pad > aes.BlockSize || !bytes.Equal(out[len(out)-pad:], bytes.Repeat([]byte{byte(pad)}, pad)) {
		return nil, ErrPassphrase
	}
	return out[:len(out)-pad], nil
}

// encrypt protects a key with PBES2: PBKDF2 with HMAC-SHA-256, AES-256 in CBC
// mode, which every toolkit reads.
func encrypt(der, passphrase []byte) ([]byte, error) {
	salt, iv := make([]byte, 16), make([]byte, aes.BlockSize)
	_, _ = rand.Read(salt) // never fails (crypto/rand)
	_, _ = rand.Read(iv)
	rounds := iterations()
	key, err := pbkdf2.Key(sha256.New, string(passphrase), salt, rounds, 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	pad := aes.BlockSize - len(der)%aes.BlockSize
	data := append(bytes.Clone(der), bytes.Repeat([]byte{byte(pad)}, pad)...)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(data, data)
	wrap := func(v any) asn1.RawValue {
		b, merr := asn1.Marshal(v)
		err = errors.Join(err, merr)
		return asn1.RawValue{FullBytes: b}
	}
	kdf := wrap(pbkdf2Params{Salt: salt, Iterations: rounds, PRF: pkix.AlgorithmIdentifier{Algorithm: oidSHA256, Parameters: asn1.NullRawValue}})
	params := wrap(pbes2Params{pkix.AlgorithmIdentifier{Algorithm: oidPBKDF2, Parameters: kdf}, pkix.AlgorithmIdentifier{Algorithm: oidAES256, Parameters: wrap(iv)}})
	if err != nil {
		return nil, err
	}
	return asn1.Marshal(encryptedInfo{pkix.AlgorithmIdentifier{Algorithm: oidPBES2, Parameters: params}, data})
}

// EncodePEM writes a private key as PKCS#8 in PEM, protected if there is a
// passphrase.
func EncodePEM(key crypto.Signer, passphrase []byte) ([]byte, error) {
	der, err := EncodeDER(key)
	if err != nil {
		return nil, err
	}
	block := &pem.Block{Type: pemPlain, Bytes: der}
	if len(passphrase) > 0 {
		block.Type = pemProtected
		if block.Bytes, err = encrypt(der, passphrase); err != nil {
			return nil, err
		}
	}
	return pem.EncodeToMemory(block), nil
}

func parsePEM(text, passphrase []byte) (crypto.Signer, error) {
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		switch block.Type {
		case pemPlain, pemProtected:
			return ParseDER(block.Bytes, passphrase)
		case pemEC, pemRSA:
			return parseOlder(block)
		}
	}
	return nil, errors.New("the file holds no private key in PEM form: PKCS#8, EC or RSA")
}

// The forms that keys had in PEM before PKCS#8.
const (
	pemEC  = "EC PRIVATE KEY"  // RFC 5915
	pemRSA = "RSA PRIVATE KEY" // RFC 8017 App. A.1.2
)

func parseOlder(block *pem.Block) (crypto.Signer, error) {
	if _, protected := block.Headers["DEK-Info"]; protected { // RFC 1421 §4.6.1.3
		return nil, errors.New("the key is protected in a form that can be broken; write it as PKCS#8 with the program that made it, and import that")
	}
	if block.Type == pemEC {
		return x509.ParseECPrivateKey(block.Bytes)
	}
	return x509.ParsePKCS1PrivateKey(block.Bytes)
}
