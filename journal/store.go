// Package journal keeps zones on disk: the copies that a secondary fetched and
// the signed versions that were published, each with what is known about it. A
// version is stored wholly or not at all, also when the process is killed.
package journal

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"time"

	"go.etcd.io/bbolt"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Meta is what is known about a stored version.
type Meta struct {
	Zone    string    `json:"zone"`
	Serial  uint32    `json:"serial"`
	Stored  time.Time `json:"stored"`
	Checked time.Time `json:"checked"` // copies: when a primary last confirmed it
	From    string    `json:"from,omitempty"`
	// Signed versions: what they were made of and when the signatures end.
	SourceSerial uint32    `json:"source_serial,omitempty"`
	Source       string    `json:"source,omitempty"` // digest of the unsigned zone and the keys
	Expires      time.Time `json:"expires,omitzero"`
	Renew        time.Time `json:"renew,omitzero"` // when to sign again at the latest
	Chunks       int       `json:"chunks"`
}

// ErrInUse means that another process has the store open.
var ErrInUse = errors.New("another fencepost is running on this workspace")

// ErrDamaged means that what is stored is not what was written.
var ErrDamaged = errors.New("the stored version is damaged")

// Store is the file. It belongs to one process at a time.
type Store struct {
	db *bbolt.DB
	// Aside is where Open put a file that was damaged; empty: it was not. Rescued is
	// how many versions could still be read of it.
	Aside   string
	Rescued int
}

var (
	bucketMeta = []byte("meta-1")
	bucketData = []byte("data-1")
)

// Open opens the store at path, making it and its folder if needed. One that is
// damaged is set aside, and what can still be read of it is taken over.
func Open(path string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	s, err := open(path)
	if errors.Is(err, ErrDamaged) {
		s, err = setAside(path)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}

// Close closes the store.
func (s *Store) Close() error { return guard(s.db.Close) }

// chunkSize is about how many octets are stored under one key.
const chunkSize = 256 << 10

func chunkKey(zone string, i int) []byte {
	return binary.BigEndian.AppendUint32(append([]byte(zone), 0), uint32(i))
}

// Version is a version with what is known about it.
type Version struct {
	Zone *zone.Snapshot
	Meta Meta
}

// Save stores a version in place of the one before.
func (s *Store) Save(z *zone.Snapshot, m Meta) error { return s.SaveAll([]Version{{z, m}}) }

// SaveAll stores versions of several zones, all or none.
func (s *Store) SaveAll(list []Version) error {
	if len(list) == 0 {
		return nil
	}
	return s.update(func(tx *bbolt.Tx) error {
		for _, v := range list {
			if err := save(tx, v.Zone, v.Meta); err != nil {
				return err
			}
		}
		return nil
	})
}

func save(tx *bbolt.Tx, z *zone.Snapshot, m Meta) error {
	m.Zone, m.Serial, m.Chunks = z.Apex().Key(), z.Serial(), 0
	data := tx.Bucket(bucketData)
	old, _, err := readMeta(tx, m.Zone)
	if err != nil {
		return err
	}
	put := func(chunk []byte) error {
		sum := binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(chunk))
		err := data.Put(chunkKey(m.Zone, m.Chunks), append(sum, chunk...))
		m.Chunks++
		return err
	}
	if err := encode(z, put); err != nil {
		return err
	}
	for i := m.Chunks; i < old.Chunks; i++ {
		if err := data.Delete(chunkKey(m.Zone, i)); err != nil {
			return err
		}
	}
	return writeMeta(tx, m)
}

// encode cuts a zone into chunks of records: owner, type, TTL, length, data.
func encode(z *zone.Snapshot, put func([]byte) error) error {
	chunk := make([]byte, 0, chunkSize+1024)
	var owner []byte
	for n := range z.AllNodes {
		owner = z.AppendOwner(owner[:0], n)
		for set := range n.RRsets {
			for data := range set.Data {
				chunk = append(chunk, owner...)
				chunk = binary.BigEndian.AppendUint16(chunk, uint16(set.Type))
				chunk = binary.BigEndian.AppendUint32(chunk, set.TTL)
				chunk = binary.BigEndian.AppendUint16(chunk, uint16(len(data)))
				chunk = append(chunk, data...)
			}
		}
		if len(chunk) >= chunkSize {
			if err := put(chunk); err != nil {
				return err
			}
			chunk = chunk[:0]
		}
	}
	if len(chunk) == 0 {
		return nil
	}
	return put(chunk)
}

// Load reads a stored version; nil when there is none.
func (s *Store) Load(name dnsname.Name) (*zone.Snapshot, Meta, error) {
	var m Meta
	var z *zone.Snapshot
	err := s.view(func(tx *bbolt.Tx) error {
		var found bool
		var err error
		if m, found, err = readMeta(tx, name.Key()); err != nil || !found {
			return err
		}
		b := zone.NewBuilder(name, false)
		for i := range m.Chunks {
			chunk := tx.Bucket(bucketData).Get(chunkKey(m.Zone, i))
			if len(chunk) < 4 || crc32.ChecksumIEEE(chunk[4:]) != binary.BigEndian.Uint32(chunk) {
				return fmt.Errorf("%s: %w", name, ErrDamaged)
			}
			if err := decode(chunk[4:], b); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		z = b.Build().Snapshot
		return nil
	})
	return z, m, err
}

func decode(b []byte, to *zone.Builder) error {
	for len(b) > 0 {
		n, err := dnsname.WireLen(b)
		if err != nil || len(b) < n+8 || len(b) < n+8+int(binary.BigEndian.Uint16(b[n+6:])) {
			return ErrDamaged
		}
		end := n + 8 + int(binary.BigEndian.Uint16(b[n+6:]))
		t, ttl := rr.Type(binary.BigEndian.Uint16(b[n:])), binary.BigEndian.Uint32(b[n+2:])
		if err := to.Add(b[:n], t, ttl, b[n+8:end], 0); err != nil {
			return err
		}
		b = b[end:]
	}
	return nil
}

// Update changes what is known about the stored version of a zone.
func (s *Store) Update(name dnsname.Name, change func(*Meta)) error {
	return s.update(func(tx *bbolt.Tx) error {
		m, found, err := readMeta(tx, name.Key())
		if err != nil || !found {
			return err
		}
		change(&m)
		return writeMeta(tx, m)
	})
}

// Meta is what is known about the stored version of a zone; found is false when
// there is none.
func (s *Store) Meta(name dnsname.Name) (m Meta, found bool, err error) {
	err = s.view(func(tx *bbolt.Tx) error {
		m, found, err = readMeta(tx, name.Key())
		return err
	})
	return m, found, err
}

func readMeta(tx *bbolt.Tx, zone string) (m Meta, found bool, err error) {
	text := tx.Bucket(bucketMeta).Get([]byte(zone))
	if text == nil {
		return m, false, nil
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, true, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	m.Zone = zone // JSON does not hold every octet of a name
	return m, true, nil
}

func writeMeta(tx *bbolt.Tx, m Meta) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return tx.Bucket(bucketMeta).Put([]byte(m.Zone), text)
}
