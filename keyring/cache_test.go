package keyring_test

import (
	"errors"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/keyring"
	"fencepost/roll"
	"fencepost/signer"
)

// A ring from a cache is what the files say, whatever was done to other rings, with or without
// saving it, through the cache or beside it.
func TestCache(t *testing.T) {
	keyring.Settled(t)
	dir := filepath.Join(t.TempDir(), "example")
	var cache keyring.Cache
	r := rand.New(rand.NewPCG(1, 1))
	open := func(cached bool) *keyring.Ring {
		ring, err := cache.Open(dir, zone)
		if !cached {
			ring, err = keyring.Open(dir, zone)
		}
		if err != nil {
			t.Fatal(err)
		}
		return ring
	}
	change := map[string]func(*keyring.Ring, time.Time){
		"serial": func(k *keyring.Ring, _ time.Time) { k.Serial = r.Uint32() },
		"ttl":    func(k *keyring.Ring, at time.Time) { k.TTLs.Keys = k.TTLs.Keys.Note(r.Uint32N(9), at, time.Hour) },
		"ttl in place": func(k *keyring.Ring, _ time.Time) {
			if len(k.TTLs.Keys) > 0 {
				k.TTLs.Keys[0].Seconds++
			}
		},
		"use": func(k *keyring.Ring, at time.Time) {
			for _, e := range k.Keys {
				e.Use(at)
				e.Note += "x"
			}
		},
		"start": func(k *keyring.Ring, at time.Time) {
			if k.Roll.Roll == nil && len(k.Keys) > 0 {
				_ = k.Roll.Start(roll.GoSecure, []*roll.Key{k.Keys[0].Key}, "test", at)
			}
		},
		"advance": func(k *keyring.Ring, at time.Time) {
			k.Roll.Advance(at, []roll.Observation{{Server: "harbour", Err: errors.New("no answer")}, {Server: "dune"}}, &roll.Timing{Keys: k.TTLs.Keys})
			k.Roll.Served(k.Serial, at)
		},
		"states in place": func(k *keyring.Ring, _ time.Time) {
			if roll := k.Roll.Roll; roll != nil && len(roll.States) > 0 {
				roll.States[0].Problem += "!"
				roll.New[0]++
			}
		},
		"keys in place": func(k *keyring.Ring, at time.Time) {
			for _, e := range k.Keys {
				e.Publish = !e.Publish
				e.Since[roll.Retired] = at
			}
		},
		"unlist": func(k *keyring.Ring, _ time.Time) { k.Keys, k.Roll.Keys = nil, nil },
	}
	names := slices.Sorted(maps.Keys(change)) // so that a seed does the same each time
	unsaved := map[string]bool{"unlist": true, "states in place": true, "ttl in place": true, "keys in place": true}
	generate(t, open(true), signer.Single, "")
	generate(t, open(false), signer.ZSK, "")
	for i := range 300 {
		at := now.Add(time.Duration(i) * time.Minute)
		ring := open(r.IntN(2) == 0)
		for _, name := range names {
			if r.IntN(4) > 0 {
				continue
			}
			change[name](ring, at)
			if !unsaved[name] && r.IntN(2) == 0 {
				break
			}
		}
		if ring = open(r.IntN(2) == 0); r.IntN(2) == 0 {
			for _, name := range names {
				if !unsaved[name] && r.IntN(4) == 0 {
					change[name](ring, at)
				}
			}
			if err := ring.Save(); err != nil {
				t.Fatal(err)
			}
		}
		if got, want := open(true), open(false); !keyring.Same(got, want) {
			t.Fatalf("step %d: the cache has %v, %+v, the file %v, %+v", i, got.TTLs, got.Roll.Roll, want.TTLs, want.Roll.Roll)
		}
	}
}

// A private key is what its file holds, and is nobody's where others can read the file.
func TestCacheOfPrivate(t *testing.T) {
	keyring.Settled(t)
	dir := filepath.Join(t.TempDir(), "example")
	var cache keyring.Cache
	open := func() (*keyring.Ring, error) { return cache.Open(dir, zone) }
	ring, _ := open()
	one, two := generate(t, ring, signer.Single, "a passphrase"), generate(t, ring, signer.Single, "")
	unlock := func(passphrase string) error {
		ring, err := open()
		if err != nil {
			return err
		}
		if err := ring.Unlock(nil, []byte(passphrase)); err != nil {
			return err
		}
		for _, e := range ring.Keys {
			if sig, err := e.Private.Sign([]byte("x")); err != nil || e.Public.Verify([]byte("x"), sig) != nil {
				t.Errorf("key %d does not sign: %v", e.Tag, err)
			}
		}
		return nil
	}
	if err := unlock("another"); !errors.Is(err, keyring.ErrPassphrase) {
		t.Errorf("a wrong passphrase: %v", err)
	}
	for range 3 {
		if err := unlock("a passphrase"); err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join(dir, one.File)
	mine, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	other, err := os.ReadFile(filepath.Join(dir, two.File))
	if err != nil {
		t.Fatal(err)
	}
	write := func(text []byte) {
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(other)
	if err := unlock("a passphrase"); err == nil {
		t.Error("the file of another key was taken")
	}
	write(mine)
	if err := unlock("a passphrase"); err != nil {
		t.Error(err)
	}
	index := filepath.Join(dir, keyring.IndexFile)
	text, err := os.ReadFile(index)
	if err != nil {
		t.Fatal(err)
	}
	swapped := strings.NewReplacer(one.File, two.File, two.File, one.File).Replace(string(text))
	for _, c := range []struct {
		text  string
		valid bool
	}{{swapped, false}, {string(text), true}} {
		if err := os.WriteFile(index, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := unlock("a passphrase"); (err == nil) != c.valid {
			t.Errorf("files named in their order %v: %v", c.valid, err)
		}
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := open(); !errors.Is(err, keyring.ErrReadable) {
		t.Errorf("a key that others can read: %v", err)
	}
}
