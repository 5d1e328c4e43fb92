package store_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"
	"time"

	"go.etcd.io/bbolt"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

var apex = dnsname.MustParse("Example.")

func sample(n int) *zone.Snapshot {
	b := zone.NewBuilder(apex, false)
	_ = b.AddRecord(rr.Record{Name: apex, Type: rr.TypeSOA, TTL: 60, Data: []byte("\x00\x00\x00\x00\x00\x07\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01")})
	for i := range n {
		_ = b.AddRecord(rr.Record{Name: dnsname.MustParse(fmt.Sprintf("Host%d.Example.", i)), Type: rr.TypeTXT, TTL: uint32(i), Data: []byte("\x05hello")})
	}
	return b.Build().Snapshot
}

func TestSaveAndLoad(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "versions.db")
	s, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if z, _, err := s.Load(apex); z != nil || err != nil {
		t.Fatalf("an empty store has %v, %v", z, err)
	}
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for _, n := range []int{30000, 10} { // the second needs fewer chunks than the first
		z := sample(n)
		if _, err := s.Put(store.Version{Zone: z, Meta: store.Meta{Stored: at, Checked: at, From: "harbour"}}); err != nil {
			t.Fatal(err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if s, err = store.Open(path); err != nil {
			t.Fatal(err)
		}
		got, m, err := s.Load(dnsname.MustParse("example."))
		if err != nil || !zone.Equal(z, got) || m.Serial != 7 || m.From != "harbour" || !m.Checked.Equal(at) {
			t.Fatalf("%d names: %+v, %v", n, m, err)
		}
	}
	later := at.Add(time.Hour)
	if err := s.Update(apex, func(m *store.Meta) { m.Checked = later }); err != nil {
		t.Fatal(err)
	}
	if m, found, err := s.Meta(apex); !found || err != nil || !m.Checked.Equal(later) || m.Serial != 7 {
		t.Errorf("%+v, %v", m, err)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Errorf("others can read the store: %v", info.Mode())
	}
	if _, err := store.Open(path); !errors.Is(err, store.ErrInUse) {
		t.Errorf("opened twice: %v", err)
	}
	s.Close()
}

func TestDamage(t *testing.T) {
	path := filepath.Join(t.TempDir(), "versions.db")
	s, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Put(store.Version{Zone: sample(100)}); err != nil {
		t.Fatal(err)
	}
	s.Close()
	db, err := bbolt.Open(path, 0o600, nil)
	if err != nil {
		t.Fatal(err)
	}
	err = db.Update(func(tx *bbolt.Tx) error {
		b := tx.Bucket([]byte("data-1"))
		k, v := b.Cursor().First()
		changed := append([]byte(nil), v...)
		changed[len(changed)/2] ^= 1
		return b.Put(append([]byte(nil), k...), changed)
	})
	if err != nil {
		t.Fatal(err)
	}
	db.Close()
	if s, err = store.Open(path); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if z, _, err := s.Load(apex); z != nil || !errors.Is(err, store.ErrDamaged) {
		t.Errorf("a changed octet: %v", err)
	}
}

// A base in the form of records, as stores were written before there were pages, is read; one
// in a form that is not known is damaged, and a new version takes its place.
func TestForms(t *testing.T) {
	z := sample(100)
	put := func(path string) {
		t.Helper()
		s, err := store.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if _, err := s.Put(store.Version{Zone: z}); err != nil {
			t.Fatal(err)
		}
		if got, _, err := s.Load(apex); err != nil || !zone.Equal(z, got) {
			t.Fatalf("just stored: %v", err)
		}
	}
	var records []byte
	for n := range z.Nodes {
		for set := range n.RRsets {
			for data := range set.Data {
				records = z.AppendOwner(records, n)
				records = binary.BigEndian.AppendUint16(records, uint16(set.Type))
				records = binary.BigEndian.AppendUint32(records, set.TTL)
				records = binary.BigEndian.AppendUint16(records, uint16(len(data)))
				records = append(records, data...)
			}
		}
	}
	for _, c := range []struct {
		form string
		want error
	}{{"", nil}, {`,"form":99`, store.ErrDamaged}} {
		path := filepath.Join(t.TempDir(), "versions.db")
		put(path)
		db, err := bbolt.Open(path, 0o600, nil)
		if err != nil {
			t.Fatal(err)
		}
		err = db.Update(func(tx *bbolt.Tx) error {
			data, meta := tx.Bucket([]byte("data-1")), tx.Bucket([]byte("meta-1"))
			k, _ := data.Cursor().First()
			m, text := meta.Cursor().First()
			other := bytes.Replace(text, fmt.Appendf(nil, `,"form":%d`, zone.PageForm), []byte(c.form), 1)
			if bytes.Equal(other, text) {
				return fmt.Errorf("no form in %s", text)
			}
			return errors.Join(meta.Put(bytes.Clone(m), other),
				data.Put(bytes.Clone(k), append(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(records)), records...)))
		})
		if err := errors.Join(err, db.Close()); err != nil {
			t.Fatal(err)
		}
		s, err := store.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		got, _, err := s.Load(apex)
		if !errors.Is(err, c.want) || c.want == nil && !zone.Equal(z, got) {
			t.Errorf("form %q: %v", c.form, err)
		}
		s.Close()
		put(path)
	}
}
