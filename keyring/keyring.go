// Package keyring keeps the keys of one zone in a folder: PKCS#8 PEM files that
// only their owner can read (RFC 5958, RFC 7468), and keyring.toml, which says
// what each is for.
package keyring

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"github.com/pelletier/go-toml/v2"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/signer"
)

// State is where a key is in its life (RFC 7583 §3.1; roll-overs will use the others).
type State string

// The states.
const (
	Active State = "active"
)

// Entry is one key as keyring.toml lists it.
type Entry struct {
	File      string    `toml:"file"`
	Tag       uint16    `toml:"tag"`
	Algorithm string    `toml:"algorithm"`
	Role      string    `toml:"role"`
	State     State     `toml:"state"`
	Created   time.Time `toml:"created"`

	Key *dnssec.Key `toml:"-"`
}

// Ring is the keys of a zone.
type Ring struct {
	Zone dnsname.Name
	Dir  string
	Keys []*Entry
}

type ringFile struct {
	Zone string   `toml:"zone"`
	Key  []*Entry `toml:"key"`
}

const indexName = "keyring.toml"

// ErrReadable is returned for a key that others than its owner can read.
var ErrReadable = errors.New("others can read it")

var roles = map[string]signer.Role{"single": signer.Single, "ksk": signer.KSK, "zsk": signer.ZSK}

// ParseRole reads the name of a role.
func ParseRole(s string) (signer.Role, error) {
	r, ok := roles[strings.ToLower(s)]
	if !ok {
		return 0, fmt.Errorf("%q is no role of a key: single, ksk or zsk", s)
	}
	return r, nil
}

// Open reads the keys of a zone from dir. A folder that does not exist is an
// empty ring.
func Open(dir string, zone dnsname.Name) (*Ring, error) {
	r := &Ring{Zone: zone, Dir: dir}
	text, err := os.ReadFile(filepath.Join(dir, indexName))
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err != nil {
		return nil, err
	}
	var f ringFile
	if err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&f); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, indexName), err)
	}
	name, err := dnsname.Parse(f.Zone, dnsname.Root)
	if err != nil || !name.Equal(zone) {
		return nil, fmt.Errorf("%s: these are the keys of %q, not of %s", filepath.Join(dir, indexName), f.Zone, zone)
	}
	for _, e := range f.Key {
		if err := e.load(dir); err != nil {
			return nil, err
		}
		r.Keys = append(r.Keys, e)
	}
	return r, nil
}

// load reads the private key of an entry and checks that it is the one meant.
func (e *Entry) load(dir string) error {
	path := filepath.Join(dir, filepath.Base(e.File))
	fail := func(err error) error { return fmt.Errorf("key %s: %w", path, err) }
	role, err := ParseRole(e.Role)
	if err != nil {
		return fail(err)
	}
	alg, ok := rr.ParseAlgorithm(e.Algorithm)
	if !ok {
		return fail(fmt.Errorf("unknown algorithm %q", e.Algorithm))
	}
	private, err := readPrivate(path)
	if err != nil {
		return fail(err)
	}
	if e.Key, err = dnssec.NewKey(private, alg, flags(role)); err != nil {
		return fail(err)
	}
	if e.Key.Tag != e.Tag {
		return fail(fmt.Errorf("the key has tag %d; %s says %d", e.Key.Tag, indexName, e.Tag))
	}
	return nil
}

func flags(r signer.Role) uint16 {
	if r == signer.ZSK {
		return dnssec.FlagZone
	}
	return dnssec.FlagZone | dnssec.FlagSEP
}

func readPrivate(path string) (crypto.Signer, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%w (mode %04o); run: chmod 600 %s", ErrReadable, info.Mode().Perm(), path)
	}
	const maxFile = 64 << 10
	if info.Size() > maxFile {
		return nil, errors.New("the file is too large to be a key")
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "PRIVATE KEY" {
		return nil, errors.New("the file holds no PKCS#8 private key in PEM form")
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	s, ok := key.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key cannot sign")
	}
	return s, nil
}

// maxTries bounds how often a new key is thrown away because its tag is taken.
const maxTries = 32

// Generate makes a key, writes it to the folder and lists it. Key tags do not
// collide within a ring (RFC 4034 App. B).
func (r *Ring) Generate(a rr.AlgorithmNumber, role signer.Role, now time.Time) (*Entry, error) {
	for range maxTries {
		key, err := dnssec.Generate(a, flags(role))
		if err != nil {
			return nil, err
		}
		if r.byTag(key.Tag) == nil {
			return r.add(key, role, now)
		}
	}
	return nil, errors.New("no key with a tag of its own was found")
}

func (r *Ring) byTag(tag uint16) *Entry {
	for _, e := range r.Keys {
		if e.Tag == tag {
			return e
		}
	}
	return nil
}

func roleName(role signer.Role) string {
	for name, r := range roles {
		if r == role {
			return name
		}
	}
	return ""
}

func (r *Ring) add(key *dnssec.Key, role signer.Role, now time.Time) (*Entry, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key.Private())
	if err != nil {
		return nil, err
	}
	e := &Entry{Tag: key.Tag, Algorithm: key.Algorithm.String(), Role: roleName(role), State: Active,
		Created: now.UTC().Truncate(time.Second), Key: key}
	e.File = fmt.Sprintf("%s-%05d.pem", e.Role, e.Tag)
	if err := os.MkdirAll(r.Dir, 0o700); err != nil {
		return nil, err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	if err := writeFile(filepath.Join(r.Dir, e.File), text); err != nil {
		return nil, err
	}
	r.Keys = append(r.Keys, e)
	if err := r.save(); err != nil {
		return nil, err
	}
	return e, nil
}

func (r *Ring) save() error {
	text, err := toml.Marshal(ringFile{r.Zone.String(), r.Keys})
	if err != nil {
		return err
	}
	head := "# The keys of this zone. Written by fencepost; the private keys are the .pem files beside it.\n"
	return writeFile(filepath.Join(r.Dir, indexName), append([]byte(head), text...))
}

// writeFile writes all or nothing, readable by the owner only, and makes it last.
func writeFile(path string, text []byte) error {
	if err := renameio.WriteFile(path, text, 0o600, renameio.IgnoreUmask()); err != nil {
		return err
	}
	d, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Signers is the active keys as the signer wants them.
func (r *Ring) Signers() (out []signer.Key) {
	for _, e := range r.Keys {
		if e.State == Active {
			out = append(out, signer.Key{Key: e.Key, Role: roles[e.Role]})
		}
	}
	return out
}
