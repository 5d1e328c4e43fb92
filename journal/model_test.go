package journal_test

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/rr"
	"fencepost/zone"
)

var long = flag.Duration("long", 0, "how long each random test goes on")

// oddZone is a zone with a serial, of few or many records, small or as large as they
// come.
func oddZone(r *rand.Rand, apex dnsname.Name, serial uint32) *zone.Snapshot {
	b := zone.NewBuilder(apex, false)
	add := func(owner dnsname.Name, t rr.Type, data []byte) {
		if err := b.AddRecord(rr.Record{Name: owner, Type: t, TTL: r.Uint32() >> 1, Data: data}); err != nil {
			panic(err)
		}
	}
	add(apex, rr.TypeSOA, rr.SetSerial([]byte("\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01"), serial))
	n := []int{0, 1, 30, 4000}[r.IntN(4)]
	for range n {
		owner, err := dnsname.FromWire(append([]byte{3, byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256))}, apex.Wire()...))
		if err != nil {
			panic(err)
		}
		data := make([]byte, []int{0, 1, 90, 65535}[r.IntN(4)/(1+n/31)])
		add(owner, rr.Type(65280+r.IntN(3)), data)
	}
	return b.Build().Snapshot
}

var odd = []dnsname.Name{dnsname.MustParse("."), dnsname.MustParse("a."), dnsname.MustParse(`\200\255\000.example.`), dnsname.MustParse(`\255.example.`), dnsname.MustParse("EXAMPLE."), dnsname.MustParse("b.a.")}

// The store is a map from names to versions, whatever is written and opened again.
func TestAgainstModel(t *testing.T) {
	const steps = 120
	r := rand.New(rand.NewPCG(4, 2026))
	path := filepath.Join(t.TempDir(), "versions.db")
	model := map[string]journal.Version{}
	var s *journal.Store
	defer func() { s.Close() }()
	for i, start := 0, time.Now(); i < steps || time.Since(start) < *long; i++ {
		if s == nil || r.IntN(8) == 0 {
			if s != nil {
				s.Close()
			}
			var err error
			if s, err = journal.Open(path); err != nil || s.Aside != "" {
				t.Fatal(err, s.Aside)
			}
		}
		name := odd[r.IntN(len(odd))]
		switch at := time.Unix(int64(i), 0).UTC(); r.IntN(3) {
		case 0:
			err := s.Update(name, func(m *journal.Meta) { m.Checked = at })
			if v, ok := model[name.Key()]; ok {
				v.Meta.Checked = at
				model[name.Key()] = v
			}
			if err != nil {
				t.Fatal(err)
			}
		default:
			var list []journal.Version
			for range 1 + r.IntN(3) {
				v := journal.Version{Zone: oddZone(r, odd[r.IntN(len(odd))], r.Uint32()), Meta: journal.Meta{Stored: at, From: fmt.Sprint("p", i)}}
				list = append(list, v)
				model[v.Zone.Apex().Key()] = v
			}
			if err := s.SaveAll(list); err != nil {
				t.Fatal(err)
			}
		}
		for _, name := range odd {
			want, has := model[name.Key()]
			got, m, err := s.Load(name)
			if err != nil || (got != nil) != has || has && (!zone.Equal(got, want.Zone) || m.From != want.Meta.From || !m.Checked.Equal(want.Meta.Checked) || m.Serial != want.Zone.Serial()) {
				t.Fatalf("step %d, %s: %v, %+v, want %+v", i, name, err, m, want.Meta)
			}
		}
	}
}

// A file that was cut off or has wrong octets is set aside. Nobody panics, every
// version is as it was or told to be gone, and the store is used on.
func TestDamagedFile(t *testing.T) {
	const rounds = 40 // at least
	r := rand.New(rand.NewPCG(7, 2026))
	whole := filepath.Join(t.TempDir(), "versions.db")
	s, err := journal.Open(whole)
	if err != nil {
		t.Fatal(err)
	}
	versions := map[string]*zone.Snapshot{}
	for i := range 40 {
		name := dnsname.MustParse(fmt.Sprintf("z%d.example.", i))
		versions[name.Key()] = oddZone(r, name, uint32(i))
		if err := s.Save(versions[name.Key()], journal.Meta{}); err != nil {
			t.Fatal(err)
		}
		if err := s.Publish([]journal.Published{{Zone: name.String(), Serial: uint32(i)}}); err != nil {
			t.Fatal(err)
		}
	}
	s.Close()
	good, err := os.ReadFile(whole)
	if err != nil {
		t.Fatal(err)
	}
	rescued, aside, round := 0, 0, 0
	for start := time.Now(); round < rounds || time.Since(start) < *long; round++ {
		bad := append([]byte(nil), good...)
		switch round % 4 {
		case 0:
			bad = bad[:r.IntN(len(bad))]
		case 1: // some octets, mostly where the engine keeps its own
			for range 1 + r.IntN(20) {
				bad[r.IntN(len(bad)/4096)*4096+r.IntN(64)] ^= byte(1 + r.IntN(255))
			}
		case 2:
			from := r.IntN(len(bad))
			for i := from; i < min(from+1+r.IntN(20000), len(bad)); i++ {
				bad[i] = byte(r.IntN(256))
			}
		case 3:
			bad = bad[:r.IntN(len(bad)/4096)*4096]
			bad = append(bad, make([]byte, r.IntN(3)*4096)...)
		}
		dir := t.TempDir()
		path := filepath.Join(dir, "versions.db")
		if err := os.WriteFile(path, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		_, _ = journal.ReadPublished(path)
		s, err := journal.Open(path)
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		if s.Aside != "" {
			aside++
			kept, err := os.ReadFile(s.Aside)
			if err != nil || string(kept) != string(bad) {
				t.Errorf("round %d: what was set aside is not what was there: %v", round, err)
			}
		}
		for key, was := range versions {
			z, _, err := s.Load(was.Apex())
			if z != nil && err == nil {
				rescued++
			}
			if z != nil && err == nil && !zone.Equal(z, was) || err != nil && !errors.Is(err, journal.ErrDamaged) {
				t.Fatalf("round %d: %q came back as something else: %v", round, key, err)
			}
		}
		now := oddZone(r, odd[1], 9)
		if err := s.Save(now, journal.Meta{}); err == nil {
			if z, _, err := s.Load(odd[1]); err != nil || !zone.Equal(z, now) {
				t.Errorf("round %d: what was saved is not what is there: %v", round, err)
			}
		} else if !errors.Is(err, journal.ErrDamaged) {
			t.Errorf("round %d: %v", round, err)
		}
		_ = s.Close()
	}
	if aside == 0 || rescued < round {
		t.Errorf("%d of %d files were set aside, %d versions came back", aside, round, rescued)
	}
	t.Logf("%d of %d files were set aside, %d of %d versions came back", aside, round, rescued, round*len(versions))
}
