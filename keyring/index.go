package keyring

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/roll"
	"fencepost/rr"
)

// formatVersion is the version of keyring.toml that is written; files without one are of
// version 1. What is newer is not read.
const formatVersion = 1

// ringFile is keyring.toml.
type ringFile struct {
	Format   int           `toml:"format,omitempty"`
	Zone     string        `toml:"zone"`
	Unsigned bool          `toml:"unsigned,omitempty"`
	Serial   uint32        `toml:"serial,omitempty"`
	Parent   string        `toml:"parent-problem,omitempty"`
	Rejected bool          `toml:"parent-rejects,omitempty"`
	Since    time.Time     `toml:"parent-problem-since,omitzero"`
	Lacks    []uint16      `toml:"parent-lacks-ds-of,omitempty"`
	Names    []uint16      `toml:"parent-has-ds-of,omitempty"`
	Clock    time.Time     `toml:"clock-confirmed,omitzero"`
	Key      []keyFile     `toml:"key"`
	TTL      *ttlFile      `toml:"ttl,omitempty"`
	Roll     *rolloverFile `toml:"roll,omitempty"`
	Last     *rolloverFile `toml:"last-roll,omitempty"`
}

type ttlFile struct {
	Keys []oneTTL `toml:"keys,omitempty"`
	Data []oneTTL `toml:"data,omitempty"`
	DS   []oneTTL `toml:"ds,omitempty"`
}

type keyFile struct {
	Tag       uint16               `toml:"tag"`
	Algorithm string               `toml:"algorithm"`
	Role      string               `toml:"role"`
	State     roll.State           `toml:"state"`
	File      string               `toml:"file,omitempty"`
	Public    string               `toml:"public,omitempty"` // data of the DNSKEY record
	Foreign   bool                 `toml:"foreign,omitempty"`
	Note      string               `toml:"note,omitempty"`
	Created   time.Time            `toml:"created"`
	Shows     []string             `toml:"shows"` // what the zone shows of it
	DSSeen    time.Time            `toml:"parent-has-ds,omitzero"`
	DSGone    time.Time            `toml:"parent-dropped-ds,omitzero"`
	Since     map[string]time.Time `toml:"since,omitempty"`
}

// shows are the words for what a zone shows of a key.
var shows = []struct {
	word string
	flag func(*roll.Key) *bool
}{
	{"dnskey", func(k *roll.Key) *bool { return &k.Publish }},
	{"signs-keys", func(k *roll.Key) *bool { return &k.SignKeys }},
	{"signs-zone", func(k *roll.Key) *bool { return &k.SignZone }},
	{"ds", func(k *roll.Key) *bool { return &k.DS }},
	{"revoked", func(k *roll.Key) *bool { return &k.Revoked }},
}

const head = `# The keys of this zone and where each is in its life. Written by fencepost; the
# private keys are the .pem files beside it. Change it with: fencepost key, fencepost roll
`

func (r *Ring) encode() ([]byte, error) {
	f := ringFile{Format: formatVersion, Zone: r.Zone.String(), Unsigned: r.Roll.Unsigned, Serial: r.Serial, Parent: r.Parent.Problem, Rejected: r.Parent.Rejects, Since: r.Parent.Since, Lacks: r.Parent.Lacks, Names: r.Parent.Names,
		Clock: r.ClockConfirmed, Roll: fileOfRollover(r.Roll.Roll), Last: fileOfRollover(r.Roll.Last)}
	if len(r.TTLs.Keys)+len(r.TTLs.Data)+len(r.TTLs.DS) > 0 {
		f.TTL = &ttlFile{fileOfTTLs(r.TTLs.Keys), fileOfTTLs(r.TTLs.Data), fileOfTTLs(r.TTLs.DS)}
	}
	for _, e := range r.Keys {
		k := keyFile{Tag: e.Tag, Algorithm: e.Public.Algorithm.String(), Role: RoleName(e.Role), State: e.State, File: e.File, Public: PublicText(e.Public.Data),
			Foreign: e.Foreign, Note: e.Note, Created: e.Created, DSSeen: e.Seen, DSGone: e.Gone, Since: map[string]time.Time{}, Shows: []string{}}
		for _, s := range shows {
			if *s.flag(e.Key) {
				k.Shows = append(k.Shows, s.word)
			}
		}
		for s, at := range e.Since {
			k.Since[string(s)] = at.UTC().Truncate(time.Second)
		}
		f.Key = append(f.Key, k)
	}
	text, err := toml.Marshal(f)
	return append([]byte(head), text...), err
}

func (r *Ring) decode(text []byte) error {
	var f ringFile
	if err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&f); err != nil {
		return err
	}
	if f.Format > formatVersion {
		return fmt.Errorf("it is of format %d, and this program knows formats up to %d: a newer fencepost wrote it", f.Format, formatVersion)
	}
	name, err := dnsname.Parse(f.Zone, dnsname.Root)
	if err != nil || !name.Equal(r.Zone) {
		return fmt.Errorf("these are the keys of %q, not of %s", f.Zone, r.Zone)
	}
	for i := range f.Key {
		if err := f.Key[i].complete(r.Dir); err != nil {
			return fmt.Errorf("key %s: %w", filepath.Join(r.Dir, f.Key[i].File), err)
		}
		e, err := f.Key[i].entry()
		if err != nil {
			return fmt.Errorf("key %d: %w", f.Key[i].Tag, err)
		}
		r.list(e)
	}
	r.Roll.Unsigned, r.Roll.Roll, r.Roll.Last = f.Unsigned, f.Roll.rollover(), f.Last.rollover()
	r.Serial, r.ClockConfirmed = f.Serial, f.Clock
	r.Parent.Problem, r.Parent.Rejects, r.Parent.Since, r.Parent.Lacks, r.Parent.Names = f.Parent, f.Rejected, f.Since, f.Lacks, f.Names
	if f.TTL != nil {
		r.TTLs.Keys, r.TTLs.Data, r.TTLs.DS = ttlsOf(f.TTL.Keys), ttlsOf(f.TTL.Data), ttlsOf(f.TTL.DS)
	}
	return r.Roll.Check()
}

// complete fills in what rings did not say before they knew the lives of keys: the
// public half, and that an active key does all that its role is for.
func (k *keyFile) complete(dir string) error {
	if k.Public != "" || k.File == "" {
		return nil
	}
	alg, ok := rr.ParseAlgorithm(k.Algorithm)
	if !ok {
		return fmt.Errorf("unknown algorithm %q", k.Algorithm)
	}
	role, err := ParseRole(k.Role)
	if err != nil {
		return err
	}
	private, err := ReadPrivate(filepath.Join(dir, filepath.Base(k.File)), nil)
	if err != nil {
		return err
	}
	key, err := dnssec.NewKey(private, alg, Flags(role))
	if err != nil {
		return err
	}
	k.Public = PublicText(key.Data)
	if k.Shows == nil && k.State == roll.Active {
		use := roll.Key{Role: role}
		use.Use(k.Created)
		for _, s := range shows {
			if *s.flag(&use) {
				k.Shows = append(k.Shows, s.word)
			}
		}
		k.Since = map[string]time.Time{string(roll.Active): k.Created}
	}
	return nil
}

// entry checks what the file says of a key.
func (k *keyFile) entry() (*Entry, error) {
	role, err := ParseRole(k.Role)
	if err != nil {
		return nil, err
	}
	alg, ok := rr.ParseAlgorithm(k.Algorithm)
	if !ok {
		return nil, fmt.Errorf("unknown algorithm %q", k.Algorithm)
	}
	data, err := ParsePublicText(k.Public)
	if err != nil {
		return nil, err
	}
	public, err := dnssec.ParseDNSKEY(data)
	if err != nil {
		return nil, err
	}
	if public.Tag != k.Tag || public.Algorithm != alg {
		return nil, fmt.Errorf("its public half has tag %d and algorithm %s", public.Tag, public.Algorithm)
	}
	e := &Entry{Key: &roll.Key{Tag: k.Tag, Algorithm: alg, Role: role, Foreign: k.Foreign, State: k.State, Seen: k.DSSeen, Gone: k.DSGone, Since: map[roll.State]time.Time{}},
		File: k.File, Created: k.Created, Note: k.Note, Public: public}
	for s, at := range k.Since {
		e.Since[roll.State(s)] = at
	}
	for _, word := range k.Shows {
		i := slices.IndexFunc(shows, func(s struct {
			word string
			flag func(*roll.Key) *bool
		}) bool {
			return s.word == word
		})
		if i < 0 {
			return nil, fmt.Errorf("%q is nothing that a zone shows of a key", word)
		}
		*shows[i].flag(e.Key) = true
	}
	return e, nil
}

// PublicText is DNSKEY data as in a master file.
func PublicText(data []byte) string { return rr.DataText(rr.TypeDNSKEY, data) }

// ParsePublicText reads DNSKEY data as PublicText writes it: flags, protocol,
// algorithm by number or mnemonic, and the key in base64, perhaps in pieces.
func ParsePublicText(text string) ([]byte, error) {
	words := strings.Fields(text)
	if len(words) < 4 {
		return nil, fmt.Errorf("%w: a DNSKEY has flags, protocol, algorithm and a key", dnssec.ErrKey)
	}
	flags, err := strconv.ParseUint(words[0], 10, 16)
	if err != nil {
		return nil, fmt.Errorf("%w: its flags are not a number", dnssec.ErrKey)
	}
	protocol, err := strconv.ParseUint(words[1], 10, 8)
	if err != nil {
		return nil, fmt.Errorf("%w: its protocol is not a number", dnssec.ErrKey)
	}
	alg, ok := rr.ParseAlgorithm(words[2])
	if !ok {
		return nil, fmt.Errorf("%w: unknown algorithm %q", dnssec.ErrKey, words[2])
	}
	key, err := base64.StdEncoding.DecodeString(strings.Join(words[3:], ""))
	if err != nil {
		return nil, fmt.Errorf("%w: the key is not base64", dnssec.ErrKey)
	}
	data := binary.BigEndian.AppendUint16(nil, uint16(flags))
	return append(append(data, byte(protocol), byte(alg)), key...), nil
}

// SortedStates are the states that a key has been in, the earliest first; those of
// one moment in the order of a key's life.
func SortedStates(since map[roll.State]time.Time) []roll.State {
	return slices.SortedFunc(maps.Keys(since), func(a, b roll.State) int {
		return cmp.Or(since[a].Compare(since[b]), slices.Index(roll.Lifetime, a)-slices.Index(roll.Lifetime, b))
	})
}
