package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A key that cannot sign any more is told of at a reload and at a start, each kind with its own advice,
// and not days later when signatures are to be renewed; the zone is served all the while.
func TestKeyFilesAreLookedAt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "fencepost.toml"), "[serve]\nlisten = [\"127.0.0.1:0\"]\n[policy.standard]\nkeys = \"single\"\npassphrase-file = \"pass\"\n[[zone]]\nname = \"tides.example\"\nsign = \"standard\"\nparent = []\n[[zone]]\nname = \"plain.example\"\n")
	for _, z := range []string{"tides", "plain"} {
		write(t, filepath.Join(dir, "zones", z+".example.zone"), "$TTL 300\n@ SOA ns h 1 7200 900 1209600 300\n@ NS ns\nns A 198.51.100.53\n")
	}
	pass := filepath.Join(dir, "pass")
	secret := func(text string) {
		t.Helper()
		if err := os.WriteFile(pass, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	secret("gull\n")
	d := &daemon{t: t, dir: dir, log: filepath.Join(t.TempDir(), "log")}
	d.start()
	t.Cleanup(func() { d.stop() })
	eventually(t, "the signed zone", func() bool { return serial(t, d.addr, "tides.example") != 0 })
	keys, _ := filepath.Glob(filepath.Join(dir, "keys", "tides.example", "*.pem"))
	if len(keys) != 1 {
		t.Fatalf("keys: %v", keys)
	}
	good := read(t, keys[0])
	ok(t, dir, "key", "new", "tides.example", "--keys", filepath.Join(dir, "other"), "--passphrase-file", pass)
	others, _ := filepath.Glob(filepath.Join(dir, "other", "*.pem"))
	put := func(text string) {
		t.Helper()
		if err := os.WriteFile(keys[0], []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for i, c := range []struct {
		what  string
		spoil func()
		words []string
	}{
		{"cut off", func() { put(good[:len(good)/2]) }, []string{"holds no private key in PEM form", "back from a backup"}},
		{"another key", func() { put(read(t, others[0])) }, []string{"the file holds another key than keyring.toml says", "back from a backup"}},
		{"no file", func() { _ = os.Remove(keys[0]) }, []string{"there is no file", "back from a backup"}},
		{"another passphrase", func() { secret("tern\n") }, []string{"the passphrase is wrong", "was protected by"}},
		{"an empty passphrase", func() { secret("\n") }, []string{"its first line is empty", "write the passphrase of the keys into it"}},
		{"no passphrase", func() { _ = os.Remove(pass) }, []string{"the passphrase: there is no file", "name another"}},
	} {
		c.spoil()
		if i%2 == 0 {
			d.stop()
			d.start()
			eventually(t, c.what+": told after the start", func() bool { return strings.Contains(fp(t, dir, "status").out, c.words[0]) })
		} else {
			want(t, fp(t, dir, "reload"), 1, c.words...)
			want(t, fp(t, dir, "reload", "tides.example"), 1, c.words[0])
		}
		want(t, fp(t, dir, "status"), 1, c.words[0], "are not renewed while this lasts")
		want(t, fp(t, dir, "check"), 1, append([]string{"keys-unusable"}, c.words...)...)
		if serial(t, d.addr, "tides.example") == 0 {
			t.Errorf("%s: the zone is not served any more", c.what)
		}
		secret("gull\n")
		put(good)
		ok(t, dir, "reload")
		want(t, fp(t, dir, "status"), 0)
	}
}
