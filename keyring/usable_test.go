package keyring_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"fencepost/keyring"
	"fencepost/rr"
	"fencepost/signer"
)

// Whether keys can be used is what their files and the passphrase say now, whatever was found or
// unlocked before; keys that nothing needs any more are not asked for.
func TestUsable(t *testing.T) {
	keyring.Settled(t)
	dir, pass := filepath.Join(t.TempDir(), "keys"), filepath.Join(t.TempDir(), "pass")
	secret := func(text string) {
		if err := os.WriteFile(pass, []byte(text+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	secret("gull")
	var cache keyring.Cache
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	ring, err := keyring.Open(dir, zone)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	var keys []*keyring.Entry
	for range 2 {
		e, err := ring.Generate(keyring.NewKey{Algorithm: rr.ED25519, Role: signer.Single, Passphrase: []byte("gull")}, now)
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, e)
	}
	keys[0].Use(now)
	if err := ring.Save(); err != nil {
		t.Fatal(err)
	}
	expect := func(what string, want error) {
		t.Helper()
		for _, c := range []*keyring.Cache{&cache, nil} {
			if got := c.Usable(dir, zone, pass); !errors.Is(got, want) {
				t.Errorf("%s: %v, want %v", what, got, want)
			}
		}
	}
	expect("all is well", nil)
	cached, err := cache.Open(dir, zone)
	if err != nil || cached.Unlock(nil, []byte("gull")) != nil {
		t.Fatal(err)
	}
	secret("tern")
	expect("another passphrase", keyring.ErrPassphrase)
	secret("gull")
	expect("the right one again", nil)
	_ = os.Remove(pass)
	expect("no passphrase", fs.ErrNotExist)
	secret("gull")
	path := filepath.Join(dir, keys[1].File)
	text, _ := os.ReadFile(path)
	first, _ := os.ReadFile(filepath.Join(dir, keys[0].File))
	if err := os.WriteFile(path, first, 0o600); err != nil {
		t.Fatal(err)
	}
	expect("one that is used next holds another key", keyring.ErrOtherKey)
	keys[1].Remove(now)
	if err := ring.Save(); err != nil {
		t.Fatal(err)
	}
	expect("one that is not needed any more", nil)
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
}
