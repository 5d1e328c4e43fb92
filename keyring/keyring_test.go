package keyring_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/keyring"
	"fencepost/rr"
	"fencepost/signer"
)

var (
	zone = dnsname.MustParse("example.")
	now  = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
)

func TestRing(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "keys", "example")
	r, err := keyring.Open(dir, zone)
	if err != nil || len(r.Keys) != 0 {
		t.Fatalf("%v, %v", r, err)
	}
	for _, role := range []signer.Role{signer.Single, signer.KSK, signer.ZSK} {
		if _, err := r.Generate(rr.ECDSAP256SHA256, role, now); err != nil {
			t.Fatal(err)
		}
	}
	again, err := keyring.Open(dir, dnsname.MustParse("EXAMPLE."))
	if err != nil || len(again.Keys) != 3 || len(again.Signers()) != 3 {
		t.Fatalf("%v, %v", again, err)
	}
	for i, k := range again.Keys {
		want := r.Keys[i]
		if k.Tag != want.Tag || k.Role != want.Role || string(k.Key.Data) != string(want.Key.Data) || !k.Created.Equal(now) {
			t.Errorf("key %d comes back as %+v", i, k)
		}
		sig, err := k.Key.Sign([]byte("x"))
		if err != nil || want.Key.Verify([]byte("x"), sig) != nil {
			t.Errorf("key %d does not sign like the one that was made", i)
		}
	}
	if flags := again.Keys[2].Key.Flags; flags != 256 {
		t.Errorf("a ZSK has flags %d", flags)
	}
	if _, err := keyring.Open(dir, dnsname.MustParse("other.")); err == nil {
		t.Error("the keys of another zone were opened")
	}
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if info, _ := e.Info(); info.Mode().Perm() != 0o600 {
			t.Errorf("%s has mode %v", e.Name(), info.Mode())
		}
	}
	if info, _ := os.Stat(dir); info.Mode().Perm() != 0o700 {
		t.Errorf("the folder has mode %v", info.Mode())
	}
}

func TestRefusals(t *testing.T) {
	for what, spoil := range map[string]func(pem, index string) error{
		"others can read it": func(pem, _ string) error { return os.Chmod(pem, 0o640) },
		"no PKCS#8":          func(pem, _ string) error { return os.WriteFile(pem, []byte("hello"), 0o600) },
		"tag":                func(_, index string) error { return replace(index, "tag = ", "tag = 7 # ") },
		"algorithm":          func(_, index string) error { return replace(index, "ECDSAP256SHA256", "NOSUCH") },
		"role":               func(_, index string) error { return replace(index, "'single'", "'boss'") },
		"no such file":       func(pem, _ string) error { return os.Remove(pem) },
		"keyring.toml":       func(_, index string) error { return replace(index, "state", "sate") },
	} {
		dir := t.TempDir()
		r, _ := keyring.Open(dir, zone)
		e, err := r.Generate(rr.ECDSAP256SHA256, signer.Single, now)
		if err != nil {
			t.Fatal(err)
		}
		if err := spoil(filepath.Join(dir, e.File), filepath.Join(dir, "keyring.toml")); err != nil {
			t.Fatal(err)
		}
		_, err = keyring.Open(dir, zone)
		if err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
		if what == "others can read it" && (!errors.Is(err, keyring.ErrReadable) || !strings.Contains(err.Error(), "chmod 600")) {
			t.Errorf("%v does not say what to do", err)
		}
	}
	if _, err := keyring.ParseRole("boss"); err == nil {
		t.Error("boss is a role")
	}
}

func replace(path, old, new string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return os.WriteFile(path, []byte(strings.Replace(string(text), old, new, 1)), 0o600)
}
