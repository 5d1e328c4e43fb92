package store_test

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"fencepost/dnsname"
	"fencepost/store"
)

// What nothing but the store has survives it: whenever its file is lost, cut off or overwritten,
// between two openings or while it is open, what is kept beside versions is there to the last change
// that was acknowledged, and of each zone a version or its serial is known.
func TestSecondCopySurvives(t *testing.T) {
	rounds := 15
	if testing.Short() {
		rounds = 8
	}
	for seed := range rounds {
		r := rand.New(rand.NewPCG(uint64(seed), 77))
		path := filepath.Join(t.TempDir(), "versions.db")
		s, err := store.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		zones := []dnsname.Name{dnsname.MustParse("a.example."), dnsname.MustParse("b.example."), dnsname.MustParse(`\255.example.`)}
		pending, serials := map[string]store.Pending{}, map[string]uint32{}
		id := func(scope string, name dnsname.Name) string { return scope + "@" + name.Key() }
		do := func(write func() error) {
			t.Helper()
			err := write()
			if errors.Is(err, store.ErrBroken) {
				if _, err = s.Renew(); err == nil {
					err = write()
				}
			}
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
		}
		change := func() {
			scope, name := []string{"", "inside"}[r.IntN(2)], zones[r.IntN(len(zones))]
			at, p := id(scope, name), beside(r)
			if pending[at] == nil {
				pending[at] = store.Pending{}
			}
			if r.IntN(3) == 0 {
				z := oddZone(r, name, serials[at]+1+uint32(r.IntN(9)))
				do(func() error {
					_, err := s.For(scope).Put(store.Version{Zone: z, Pending: p})
					return err
				})
				serials[at] = z.Serial()
			} else {
				do(func() error { return s.For(scope).PutPending(name, p) })
			}
			for key, value := range p {
				if pending[at][key] = value; value == nil {
					delete(pending[at], key)
				}
			}
		}
		check := func(what string) {
			t.Helper()
			for _, scope := range []string{"", "inside"} {
				for _, name := range zones {
					at := id(scope, name)
					var got store.Pending
					do(func() (err error) { got, err = s.For(scope).Pending(name); return err })
					if len(got) != len(pending[at]) {
						t.Fatalf("seed %d, %s: %d values of %q beside the versions, want %d", seed, what, len(got), at, len(pending[at]))
					}
					for key, value := range pending[at] {
						if !bytes.Equal(got[key], value) {
							t.Fatalf("seed %d, %s: %q of %q is another", seed, what, key, at)
						}
					}
					m, found, err := s.For(scope).Meta(name)
					floor, _, known := s.For(scope).Floor(name)
					if serials[at] != 0 && (err != nil || !found || m.Serial != serials[at]) && (!known || floor != serials[at]) {
						t.Fatalf("seed %d, %s: serial %d of %q is known as %d, %v, %v, and %d, %v", seed, what, serials[at], at, m.Serial, found, err, floor, known)
					}
				}
			}
		}
		for range 4 {
			for range 1 + r.IntN(12) {
				change()
			}
			check("before")
			what := []string{"nothing", "lost", "cut off", "overwritten", "overwritten while it is open"}[r.IntN(5)]
			if what == "overwritten while it is open" {
				overwrite(t, r, path)
				change()
				check(what)
				continue
			}
			s.Close()
			switch what {
			case "lost":
				_ = os.Remove(path)
			case "cut off":
				info, _ := os.Stat(path)
				_ = os.Truncate(path, r.Int64N(info.Size()))
			case "overwritten":
				overwrite(t, r, path)
			}
			if s, err = store.Open(path); err != nil {
				t.Fatalf("seed %d, %s: %v", seed, what, err)
			}
			if what == "lost" && len(store.SetAside(path)) == 0 {
				t.Errorf("seed %d: that the store is gone is not noted", seed)
			}
			check(what)
		}
		s.Close()
	}
}

// overwrite damages the file of a store behind its first two pages, which the engine looks at.
func overwrite(t *testing.T, r *rand.Rand, path string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	info, _ := f.Stat()
	junk := make([]byte, 4096)
	for at := int64(2 * 4096); at+4096 <= info.Size(); at += 4096 {
		for i := range junk {
			junk[i] = byte(r.IntN(256))
		}
		if _, err := f.WriteAt(junk, at); err != nil {
			t.Fatal(err)
		}
	}
}
