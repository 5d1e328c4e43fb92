// Package keyring keeps the keys of one zone in a folder: PKCS#8 PEM files that
// only their owner can read (RFC 5958, RFC 7468), and keyring.toml, which says
// where each key is in its life and which rollover is going on. It reads and
// writes the forms in which keys move between programs.
package keyring

import (
	"bytes"
	"crypto"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/wholefile"
)

// Entry is one key.
type Entry struct {
	*roll.Key
	File    string // in the ring's folder; empty for the key of another operator
	Created time.Time
	Note    string // where it came from, in words
	Public  *dnssec.PublicKey
	Private *dnssec.Key // after Unlock; nil before, and for keys of others
}

// Ring is the keys of a zone.
type Ring struct {
	Zone dnsname.Name
	Dir  string
	Keys []*Entry
	Roll *roll.KeySet // the same keys with the rollover
	// Keys and Data are the TTLs that caches may hold; Parent those of the DS.
	TTLs struct{ Keys, Data, DS roll.TTLs }
	// Serial is the highest that the zone was signed with: it must not go back where
	// all else is lost. 0 if it was never signed.
	Serial uint32
	// Parent is what is wrong with the DS at the parent, outside rollovers; empty:
	// nothing, or nothing is known.
	Parent struct {
		Problem string
		// Rejects tells that validating resolvers reject the zone for it.
		Rejects bool
		Since   time.Time
		// Lacks are the tags of the keys whose DS should be there and is not, Names those of
		// keys that are not in use any more and have one.
		Lacks, Names []uint16
	}

	// ClockConfirmed is when somebody said that the clock is right, and what was signed
	// later than now is to be signed anew; zero: nobody, or it is done.
	ClockConfirmed time.Time

	onDisk []byte // what keyring.toml holds
	cache  *Cache // that it came from, or nil
}

// ConfirmClock notes that now is the right time, whatever the ring says of times after
// it.
func (r *Ring) ConfirmClock(now time.Time) {
	r.ClockConfirmed = now
	r.Roll.NotAfter(now)
	for _, ttls := range []roll.TTLs{r.TTLs.Keys, r.TTLs.Data, r.TTLs.DS} {
		ttls.NotAfter(now)
	}
	for _, e := range r.Keys {
		if e.Created.After(now) {
			e.Created = now
		}
	}
	if r.Parent.Since.After(now) {
		r.Parent.Since = now
	}
}

// IndexFile is the name of the file in a key folder that says what the keys are for.
const IndexFile = "keyring.toml"

// Errors of key files.
var (
	// ErrReadable is returned for a key that others than its owner can read.
	ErrReadable = errors.New("others can read it")
	// ErrLocked means that a key is protected and no passphrase was given.
	ErrLocked = errors.New("the key is protected by a passphrase")
	// ErrPassphrase means that the passphrase does not open the key.
	ErrPassphrase = errors.New("the passphrase is wrong")
	// ErrOtherKey means that a file holds another key than keyring.toml says.
	ErrOtherKey = errors.New("the file holds another key than " + IndexFile + " says")
)

// KeyFileError says why the file of a private key cannot be used: it is not there, others can read
// it, it is damaged, or one of the errors above.
type KeyFileError struct {
	Path string
	Tag  uint16
	Err  error
}

func (e *KeyFileError) Error() string {
	if errors.Is(e.Err, fs.ErrNotExist) {
		return fmt.Sprintf("key %d: there is no file %s", e.Tag, e.Path)
	}
	return fmt.Sprintf("key %d (%s): %v", e.Tag, e.Path, e.Err)
}

// Cure is what to do about it.
func (e *KeyFileError) Cure() string {
	switch {
	case errors.Is(e.Err, ErrReadable):
		return "take the right to read it from others"
	case errors.Is(e.Err, ErrLocked):
		return "name the file that has the passphrase with passphrase-file in the zone's policy"
	case errors.Is(e.Err, ErrPassphrase):
		return "see whether the file that passphrase-file names has the passphrase that the key was protected by"
	}
	return fmt.Sprintf("bring the file of key %d back from a backup", e.Tag)
}

// Unwrap is what is wrong with it.
func (e *KeyFileError) Unwrap() error { return e.Err }

var roles = map[string]signer.Role{"single": signer.Single, "ksk": signer.KSK, "zsk": signer.ZSK}

// ParseRole reads the name of a role.
func ParseRole(s string) (signer.Role, error) {
	r, ok := roles[strings.ToLower(s)]
	if !ok {
		return 0, fmt.Errorf("%q is not a role of a key: single, ksk or zsk", s)
	}
	return r, nil
}

// RoleName is the name of a role.
func RoleName(role signer.Role) string {
	for name, r := range roles {
		if r == role {
			return name
		}
	}
	return ""
}

// Flags are those of the DNSKEY of a new key with a role.
func Flags(r signer.Role) uint16 {
	if r == signer.ZSK {
		return dnssec.FlagZone
	}
	return dnssec.FlagZone | dnssec.FlagSEP
}

// Open reads the keys of a zone from dir, without the private parts; see Unlock. A
// folder that does not exist is an empty ring. Files that others can read are
// refused.
func Open(dir string, zone dnsname.Name) (*Ring, error) {
	text, err := readIndex(dir)
	if err != nil {
		return nil, err
	}
	return open(dir, zone, text)
}

// Read is the keys of a zone as the text of keyring.toml has them, for whoever has that from elsewhere:
// they can be looked at, and not used.
func Read(dir string, zone dnsname.Name, text []byte) (*Ring, error) {
	r := &Ring{Zone: zone, Dir: dir, Roll: &roll.KeySet{}, onDisk: text}
	if err := r.decode(text); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, IndexFile), err)
	}
	return r, nil
}

// readIndex reads keyring.toml; nil where there is none.
func readIndex(dir string) ([]byte, error) {
	text, err := wholefile.Read(filepath.Join(dir, IndexFile), maxIndex)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return text, err
}

// open makes a ring of what keyring.toml holds.
func open(dir string, zone dnsname.Name, text []byte) (*Ring, error) {
	r := &Ring{Zone: zone, Dir: dir, Roll: &roll.KeySet{}, onDisk: text}
	if text == nil {
		return r, nil
	}
	if err := r.decode(text); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, IndexFile), err)
	}
	if err := r.checkModes(); err != nil {
		return nil, err
	}
	return r, nil
}

func (r *Ring) checkModes() error {
	for _, e := range r.Keys {
		if e.File == "" {
			continue
		}
		if err := checkMode(r.path(e)); err != nil {
			return &KeyFileError{r.path(e), e.Tag, err}
		}
	}
	return nil
}

func (r *Ring) path(e *Entry) string { return filepath.Join(r.Dir, filepath.Base(e.File)) }

func checkMode(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("%w (mode %04o); run: chmod 600 %s", ErrReadable, info.Mode().Perm(), path)
	}
	return nil
}

// Unlock reads the private parts of the keys that which picks, nil for all;
// passphrase opens protected ones and may be empty. That a file holds the key
// that it should is checked.
func (r *Ring) Unlock(which func(*Entry) bool, passphrase []byte) error {
	for _, e := range r.Keys {
		if e.File == "" || e.Private != nil || which != nil && !which(e) {
			continue
		}
		key, err := r.unlock(e, passphrase)
		if err != nil {
			return &KeyFileError{r.path(e), e.Tag, err}
		}
		e.Private = key
	}
	return nil
}

func (r *Ring) unlock(e *Entry, passphrase []byte) (*dnssec.Key, error) {
	path := r.path(e)
	mark, err := wholefile.MarkOf(path)
	if err != nil {
		return nil, err
	}
	if key := r.cache.privateOf(path, mark); key != nil && string(key.Data) == string(e.Public.Data) {
		return key, nil
	}
	private, err := ReadPrivate(path, passphrase)
	if err != nil {
		return nil, err
	}
	key, err := dnssec.NewKey(private, e.Public.Algorithm, e.Public.Flags)
	if err != nil {
		return nil, err
	}
	if string(key.Data) != string(e.Public.Data) {
		return nil, fmt.Errorf("%w (tag %d, not %d)", ErrOtherKey, key.Tag, e.Tag)
	}
	r.cache.unlocked(path, mark, key)
	return key, nil
}

// What is read as a key, and as the list of keys, at most.
const (
	maxKeyFile = 64 << 10
	maxIndex   = 16 << 20
)

// ReadPrivate reads a private key file that only its owner can read.
func ReadPrivate(path string, passphrase []byte) (crypto.Signer, error) {
	if err := checkMode(path); err != nil {
		return nil, err
	}
	text, err := wholefile.Read(path, maxKeyFile)
	if err != nil {
		return nil, err
	}
	return parsePEM(text, passphrase)
}

// maxTries bounds how often a new key is thrown away because its tag is taken.
const maxTries = 32

// NewKey says what key Generate makes.
type NewKey struct {
	Algorithm  rr.AlgorithmNumber
	Role       signer.Role
	Bits       int    // of RSA keys; 0 is the usual size
	Passphrase []byte // protects the file; empty: only its mode does
}

// Generate makes a key, writes it to the folder and lists it, used for nothing
// yet. Tags do not collide within a ring, not even those that keys have once they
// are revoked (RFC 4034 App. B, RFC 6781 §3.2).
func (r *Ring) Generate(o NewKey, now time.Time) (*Entry, error) {
	for range maxTries {
		key, err := dnssec.Generate(o.Algorithm, Flags(o.Role), o.Bits)
		if err != nil {
			return nil, err
		}
		if r.taken(key.PublicKey) == nil {
			return r.Add(key, o.Role, o.Passphrase, "", now)
		}
	}
	return nil, errors.New("no key with a tag of its own was found")
}

// taken is the key whose tag a new one would share, if any.
func (r *Ring) taken(k *dnssec.PublicKey) *Entry {
	for _, e := range r.Keys {
		for _, a := range []uint16{e.Public.Tag, e.Public.Revoked()} {
			if e.Public.Algorithm == k.Algorithm && (a == k.Tag || a == k.Revoked()) {
				return e
			}
		}
		if e.Public.Tag == k.Tag {
			return e
		}
	}
	return nil
}

// ByTag is the key with the tag, or nil.
func (r *Ring) ByTag(tag uint16) *Entry {
	for _, e := range r.Keys {
		if e.Tag == tag {
			return e
		}
	}
	return nil
}

// ErrTag means that a key's tag is taken.
var ErrTag = errors.New("the tag is taken")

// Add lists a key and writes it to the folder. The file is written first, so that
// a key that is listed is there.
func (r *Ring) Add(key *dnssec.Key, role signer.Role, passphrase []byte, note string, now time.Time) (*Entry, error) {
	if e := r.taken(key.PublicKey); e != nil {
		return nil, fmt.Errorf("%w: the ring has key %d of algorithm %s already", ErrTag, e.Tag, e.Public.Algorithm)
	}
	e := &Entry{Key: &roll.Key{Tag: key.Tag, Algorithm: key.Algorithm, Role: role, State: roll.Generated, Since: map[roll.State]time.Time{roll.Generated: now}},
		Created: now.UTC().Truncate(time.Second), Note: note, Public: key.PublicKey, Private: key}
	e.File = fmt.Sprintf("%s-%05d.pem", RoleName(role), key.Tag)
	text, err := EncodePEM(key.Private(), passphrase)
	if err != nil {
		return nil, err
	}
	if err := wholefile.MkdirAll(r.Dir, 0o700); err != nil {
		return nil, err
	}
	if err := writeFile(r.path(e), text); err != nil {
		return nil, err
	}
	r.list(e)
	return e, r.Save()
}

// AddForeign lists the key of another operator of the zone: it is published and
// never signs here (RFC 8901 §2.1.2).
func (r *Ring) AddForeign(public *dnssec.PublicKey, note string, now time.Time) (*Entry, error) {
	if e := r.taken(public); e != nil {
		return nil, fmt.Errorf("%w: the ring has key %d of algorithm %s already", ErrTag, e.Tag, e.Public.Algorithm)
	}
	role := signer.ZSK
	if public.Flags&dnssec.FlagSEP != 0 {
		role = signer.KSK
	}
	e := &Entry{Key: &roll.Key{Tag: public.Tag, Algorithm: public.Algorithm, Role: role, Foreign: true, State: roll.Published, Publish: true, DS: role == signer.KSK,
		Since: map[roll.State]time.Time{roll.Published: now}}, Created: now.UTC().Truncate(time.Second), Note: note, Public: public}
	r.list(e)
	return e, r.Save()
}

func (r *Ring) list(e *Entry) {
	r.Keys = append(r.Keys, e)
	r.Roll.Keys = append(r.Roll.Keys, e.Key)
}

// Delete takes a key off the list and removes its file. Whether that is safe is
// for the caller to have asked.
func (r *Ring) Delete(e *Entry) error {
	r.Keys = slices.DeleteFunc(r.Keys, func(o *Entry) bool { return o == e })
	r.Roll.Keys = slices.DeleteFunc(r.Roll.Keys, func(o *roll.Key) bool { return o == e.Key })
	if err := r.Save(); err != nil || e.File == "" {
		return err
	}
	return os.Remove(r.path(e))
}

// Save writes keyring.toml, if that changes it.
func (r *Ring) Save() error {
	text, err := r.encode()
	if err != nil || bytes.Equal(text, r.onDisk) {
		return err
	}
	if err := wholefile.MkdirAll(r.Dir, 0o700); err != nil {
		return err
	}
	if err := writeFile(filepath.Join(r.Dir, IndexFile), text); err != nil {
		return err
	}
	r.onDisk = text
	return nil
}

// writeFile writes all or nothing, readable by the owner only.
func writeFile(path string, text []byte) error {
	_ = os.Chmod(path, 0o600) // one that exists keeps its mode
	return wholefile.Write(path, text, 0o600)
}

// Signers is the keys as the signer wants them: those that the zone shows or that
// sign. Unlock comes first.
func (r *Ring) Signers() (out []signer.Key) {
	for _, e := range r.Keys {
		if e.Publish || e.SignKeys || e.SignZone || e.DS {
			private := e.Private
			if e.Revoked && private != nil {
				private = private.Revoke()
			}
			out = append(out, signer.Key{PublicKey: e.Shown(), Private: private, Publish: e.Publish, SignKeys: e.SignKeys, SignZone: e.SignZone, DS: e.DS})
		}
	}
	return out
}

// Shown is the key as the zone shows it: with the flag of a revoked one, if it is.
func (e *Entry) Shown() *dnssec.PublicKey {
	if e.Revoked {
		return e.Public.Revoke()
	}
	return e.Public
}

// Signing picks the keys that sign now.
func Signing(e *Entry) bool { return e.SignKeys || e.SignZone }

// Shows tells in one line what the zone shows of the keys: when it differs, the
// zone has to be signed again.
func (r *Ring) Shows() string {
	var words []string
	for _, e := range r.Keys {
		if e.Publish || e.SignKeys || e.SignZone || e.DS {
			words = append(words, fmt.Sprintf("%d/%d/%v%v%v%v", e.Algorithm, e.Shown().Tag, bit(e.Publish), bit(e.SignKeys), bit(e.SignZone), bit(e.DS)))
		}
	}
	if r.Roll.Deletes() {
		words = append(words, "delete")
	}
	return strings.Join(words, " ")
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// EntryPoint reports whether a parent can have a DS for the key.
func (e *Entry) EntryPoint() bool { return e.Role != signer.ZSK }

// Unused are the keys of ours that were made and never used.
func (r *Ring) Unused() (out []*Entry) {
	for _, e := range r.Keys {
		if e.State == roll.Generated && !e.Foreign && !e.SignZone {
			out = append(out, e)
		}
	}
	return out
}

// Unlisted are the key files in the folder that the ring does not list, by name.
func (r *Ring) Unlisted() (out []string) {
	files, _ := filepath.Glob(filepath.Join(r.Dir, "*.pem"))
	for _, f := range files {
		name := filepath.Base(f)
		if !slices.ContainsFunc(r.Keys, func(e *Entry) bool { return filepath.Base(e.File) == name }) {
			out = append(out, name)
		}
	}
	return out
}
