package e2e

import (
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

// Two servers that share a secret take each other's cookies, also while it is changed for another;
// each tells its own name to whoever asks, by an option or in class CH, and the version of a zone.
func TestCookies(t *testing.T) {
	t.Parallel()
	const one, two = "AAAAAAAAAAAAAAAAAAAAAA==", "AQEBAQEBAQEBAQEBAQEBAQ=="
	start := func(name string) *daemon {
		dir := filepath.Join(t.TempDir(), name)
		write(t, filepath.Join(dir, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:0\"]\nnsid = %q\nid-server = %q\n[[zone]]\nname = \"tides.example\"\n", name, name+".tides.example"))
		write(t, filepath.Join(dir, "zones", "tides.example.zone"), tides)
		write(t, filepath.Join(dir, "secrets.toml"), "[cookies]\nsecret = \""+one+"\"\n")
		return serve(t, dir)
	}
	a, b := start("one"), start("two")
	ask := func(at *daemon, cookie string) (got string) {
		t.Helper()
		r := fp(t, at.dir, "ask", "tides.example", "SOA", "--at", at.addr, "--nsid", "--option", "10="+cookie)
		want(t, r, 0, "server: ")
		if !strings.Contains(r.out, filepath.Base(at.dir)) {
			t.Errorf("it does not tell its name:\n%s", r.out)
		}
		for _, line := range strings.Split(r.out, "\n") {
			if text, ok := strings.CutPrefix(strings.TrimSpace(line), "cookie: "); ok {
				got = strings.ReplaceAll(text, " ", "")
			}
		}
		if _, err := hex.DecodeString(got); err != nil || len(got) != 48 || got[:16] != cookie[:16] {
			t.Fatalf("the cookie is %q:\n%s", got, r.out)
		}
		return got
	}
	want(t, fp(t, a.dir, "ask", "id.server", "TXT", "--class", "CH", "--at", b.addr), 0, `"two.tides.example"`)
	want(t, fp(t, a.dir, "ask", "version.server", "TXT", "--class", "ch", "--at", b.addr), 1, "Not Supported")
	want(t, fp(t, a.dir, "ask", "nosuch.tides.example", "--zone-version", "--at", b.addr), 0, "zone version: serial ")
	made := ask(a, "0102030405060708")
	if got := ask(b, made); got != made {
		t.Errorf("the other server makes %s of %s", got, made)
	}
	write(t, filepath.Join(b.dir, "secrets.toml"), "[cookies]\nsecret = \""+two+"\"\nformer = \""+one+"\"\n")
	ok(t, b.dir, "reload")
	renewed := ask(b, made)
	if renewed == made || ask(b, renewed) != renewed {
		t.Errorf("with a new secret %s becomes %s", made, renewed)
	}
	write(t, filepath.Join(b.dir, "secrets.toml"), "[cookies]\nsecret = \"short\"\n")
	want(t, fp(t, b.dir, "reload"), 1, "16 octets in base64")
	if ask(b, renewed) != renewed {
		t.Error("a secret that cannot be read changed something")
	}
}
