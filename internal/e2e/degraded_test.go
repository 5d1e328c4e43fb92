package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Without its secrets a server starts all the same: it answers, refuses whoever would have to be proved
// by one, and says so; a reload that has lost them keeps what is there.
func TestServesWithoutSecrets(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, true, 0)
	secrets := filepath.Join(p.primary, "secrets.toml")
	text := read(t, secrets)
	restore := func() {
		t.Helper()
		_ = os.Remove(secrets)
		if err := os.WriteFile(secrets, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for what, spoil := range map[string]func() error{
		"gone":             func() error { return os.Remove(secrets) },
		"readable for all": func() error { return os.Chmod(secrets, 0o644) },
		"no TOML":          func() error { return os.WriteFile(secrets, []byte("[tsig"), 0o600) },
	} {
		if err := spoil(); err != nil {
			t.Fatal(err)
		}
		d := serve(t, p.primary)
		if serial(t, d.addr, "tides.example") == 0 {
			t.Errorf("%s: nothing is answered", what)
		}
		want(t, fp(t, p.primary, "status"), 1, "some secrets are not there, and what needs one is not done", "next: mend it, then: fencepost reload")
		want(t, fp(t, p.primary, "check"), 1, "secrets.toml")
		second := serve(t, p.secondary)
		if r := fp(t, ".", "ask", "tides.example", "AXFR", "--at", d.addr); strings.Contains(r.out, "tides.example.") && strings.Contains(r.out, "SOA") && r.status == 0 {
			t.Errorf("%s: the zone is handed to somebody who is proved by nothing:\n%s", what, r.out)
		}
		eventually(t, what+": that the transfer is refused is told", func() bool { return strings.Contains(fp(t, p.secondary, "status").out, "next: see why") })
		restore()
		ok(t, p.primary, "reload")
		want(t, fp(t, p.primary, "status"), 0)
		fp(t, p.secondary, "refresh", "tides.example")
		eventually(t, what+": the zone at the secondary", func() bool { return serial(t, second.addr, "tides.example") != 0 })
		if err := spoil(); err != nil {
			t.Fatal(err)
		}
		want(t, fp(t, p.primary, "reload"), 1, "keeping the running configuration")
		restore()
		second.stop()
		if err := os.RemoveAll(filepath.Join(p.secondary, "state")); err != nil {
			t.Fatal(err)
		}
		d.stop()
	}
}

// A configuration that cannot be read makes no command useless that asks the running server; all its
// mistakes are told at once, at their places, by `check` and by a start.
func TestConfigBroken(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	conf := filepath.Join(p.primary, "fencepost.toml")
	good := read(t, conf)
	for what, c := range map[string]struct {
		text string
		says []string
	}{
		"three mistakes": {strings.Replace(good, "[peer.second]\n", "nsid = 7\n[serial]\nstyle = \"lunar\"\n[peer.second]\nadress = \"192.0.2.1\"\n", 1), []string{"fencepost.toml:3", "fencepost.toml:5", "fencepost.toml:7"}},
		"no TOML":        {good + "[[zone\n", []string{"config-syntax"}},
	} {
		write(t, conf, c.text)
		want(t, fp(t, p.primary, "status"), 0, "tides.example", "fencepost.toml has errors")
		want(t, fp(t, p.primary, "dump", "tides.example"), 0, "SOA")
		want(t, fp(t, p.primary, "reload"), 1, "keeping the running configuration")
		want(t, fp(t, p.primary, "check"), 1, c.says...)
		if serial(t, d.addr, "tides.example") == 0 {
			t.Errorf("%s: nothing is answered any more", what)
		}
	}
	write(t, conf, good)
	ok(t, p.primary, "reload")
}
