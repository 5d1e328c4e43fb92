package workspace_test

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/workspace"
)

const good = `[serial]
style = "date"

[serve]
listen  = ["127.0.0.1:5300", "[::1]:5300"]
control = "state/control.sock"

[peer.harbour]
address = "127.0.0.2:5300"
tsig    = "harbour-2026"

[policy.standard]
algorithm = "ECDSAP256SHA256"
keys      = "single"
denial    = "nsec"

[[zone]]
name    = "saltmarsh.example"
sign    = "standard"
send-to = ["harbour"]

[[zone]]
name       = "tides.example"
fetch-from = ["harbour"]
`

const secrets = "[tsig.harbour-2026]\nsecret = \"AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=\"\n"

func load(t *testing.T, config, secret string, mode os.FileMode) (*workspace.Config, []string) {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "fencepost.toml"), []byte(config), 0o644); err != nil {
		t.Fatal(err)
	}
	if secret != "" {
		if err := os.WriteFile(filepath.Join(dir, "secrets.toml"), []byte(secret), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Join(dir, "secrets.toml"), mode); err != nil {
			t.Fatal(err)
		}
	}
	src, diags := &source.Set{}, &diag.List{}
	c, err := workspace.Load(dir, src, diags)
	if err != nil {
		t.Fatal(err)
	}
	diags.Sort()
	var found []string
	for _, d := range diags.All {
		p := src.Position(d.Span.Start)
		found = append(found, fmt.Sprintf("%s:%d %s (%s) → %s", filepath.Base(p.File), p.Line, d.Rule.Code, d.Message, d.Suggestion))
	}
	return c, found
}

func TestLoad(t *testing.T) {
	c, found := load(t, good, secrets, 0o600)
	if len(found) > 0 {
		t.Fatal(found)
	}
	z := c.Find(dnsname.MustParse("SALTMARSH.example."))
	if z == nil || z.Sign == nil || z.Sign.Split || len(z.SendTo) != 1 || z.SendTo[0].TSIG == nil || z.SendTo[0].TSIG.Algorithm != "hmac-sha256" {
		t.Fatalf("the zone is %+v", z)
	}
	if len(c.Listen) != 2 || !strings.HasSuffix(c.Control, "state/control.sock") || !filepath.IsAbs(c.Control) {
		t.Errorf("listen %v, control %s", c.Listen, c.Control)
	}
	if got := c.File(dnsname.MustParse("0/25.2.0.192.in-addr.arpa.")); !strings.HasSuffix(got, "zones/0%2f25.2.0.192.in-addr.arpa.zone") {
		t.Errorf("file %s", got)
	}
	empty, found := load(t, "", "", 0)
	if len(found) > 0 || empty.SerialStyle != "date" || len(empty.Listen) != 2 || !empty.Listen[0].Addr().IsLoopback() {
		t.Errorf("an empty configuration: %+v, %v", empty, found)
	}
}

// What a server says of itself, at its longest.
func TestIdentity(t *testing.T) {
	long := strings.Repeat("n", 255)
	c, found := load(t, "[serve]\nnsid = \""+long[:64]+"\"\nid-server = \""+long+"\"\n", "", 0)
	if len(found) > 0 || c.NSID != long[:64] || len(c.Chaos) != 1 || c.Chaos["id.server"] != long {
		t.Errorf("%+v, %v", c, found)
	}
}

func TestFindings(t *testing.T) {
	swap := func(old, new string) string { return strings.Replace(good, old, new, 1) }
	for _, c := range []struct{ what, config, want string }{
		{"a misspelt key", swap("send-to", "sendto"), "fencepost.toml:20 config-unknown-key (there is no key zone.sendto) → did you mean send-to?"},
		{"a part of a key", swap("send-to", "to"), "fencepost.toml:20 config-unknown-key (there is no key zone.to) → did you mean send-to?"},
		{"a key of another section", swap("send-to", "listen"), "fencepost.toml:20 config-unknown-key (there is no key zone.listen) → listen belongs in [serve]"},
		{"no TOML", swap("[serve]", "[serve"), "fencepost.toml:4 config-syntax"},
		{"a wrong type", swap(`"127.0.0.2:5300"`, "53"), "fencepost.toml:9 config-bad-value"},
		{"a missing peer", swap(`send-to = ["harbour"]`, `send-to = ["harbor"]`), "fencepost.toml:20 config-missing-reference (there is no peer harbor) → did you mean harbour?"},
		{"a missing policy", swap(`sign    = "standard"`, `sign    = "strict"`), "fencepost.toml:19 config-missing-reference (there is no policy strict)"},
		{"a missing secret", swap(`"harbour-2026"`, `"harbour-2027"`), "fencepost.toml:10 config-missing-reference (there is no secret harbour-2027 in secrets.toml)"},
		{"a bad address", swap("127.0.0.2:5300", "harbour.example"), "fencepost.toml:9 config-bad-value"},
		{"nothing to listen on", swap(`["127.0.0.1:5300", "[::1]:5300"]`, "[]"), "fencepost.toml:5 config-bad-value (there is no address to listen on)"},
		{"a long name", swap("[serve]", "[serve]\nnsid = \""+strings.Repeat("n", 65)+"\""), "fencepost.toml:5 config-bad-value (nsid has 65 octets; at most 64 are told)"},
		{"a long text", swap("[serve]", "[serve]\nversion-server = \""+strings.Repeat("n", 256)+"\""), "fencepost.toml:5 config-bad-value (version-server has 256 octets; at most 255 are told)"},
		{"a bad style", swap(`"date"`, `"lunar"`), "fencepost.toml:2 config-bad-value"},
		{"a bad algorithm", swap("ECDSAP256SHA256", "ROT13"), "fencepost.toml:13 config-bad-value"},
		{"a bad zone name", swap("tides.example", "tides..example"), "fencepost.toml:23 config-bad-value"},
		{"a group's long name", swap(`name    = "saltmarsh.example"`, "name    = \"saltmarsh.example\"\ngroup   = \""+strings.Repeat("g", 256)+"\""), "fencepost.toml:19 config-bad-value (the name of a group has at most 255 octets)"},
		{"a zone twice", swap("tides.example", "saltmarsh.example"), "fencepost.toml:23 config-bad-value (the zone saltmarsh.example. is listed twice)"},
	} {
		conf, found := load(t, c.config, secrets, 0o600)
		if (conf != nil) != (c.what == "a missing secret") || len(found) != 1 || !strings.HasPrefix(found[0], c.want) {
			t.Errorf("%s: %q, want %q", c.what, found, c.want)
		}
	}
}

// secretless reports whether a configuration can be used without its secrets: that is said, and its
// peers are proved by nothing.
func secretless(c *workspace.Config) bool {
	if c == nil || c.SecretsTrouble == "" || len(c.Keys) != 0 || c.Peers["harbour"].TSIG != nil {
		return false
	}
	c.CloseSecretless()
	k := c.Peers["harbour"].TSIG
	return k != nil && len(k.Secret) == 32 && !bytes.Equal(k.Secret, make([]byte, 32))
}

// Secrets that others can read are refused, and none is ever shown. What needs none goes on.
func TestSecrets(t *testing.T) {
	c, found := load(t, good, secrets, 0o644)
	if !secretless(c) || len(found) == 0 || !strings.Contains(found[0], "secrets-readable") || !strings.Contains(found[0], "chmod 600") {
		t.Errorf("readable secrets: %v", found)
	}
	for _, secret := range []string{"", "%%%", "QUJDREVG%"} {
		if c, found := load(t, good, "[tsig.harbour-2026]\nsecret = \""+secret+"\"\n", 0o600); !secretless(c) || !strings.Contains(strings.Join(found, "\n"), "is not base64") {
			t.Errorf("the secret %q: %v", secret, found)
		}
	}
	for octets, short := range map[int]bool{31: true, 32: false} {
		text := fmt.Sprintf("[tsig.harbour-2026]\nsecret = %q\n", base64.StdEncoding.EncodeToString(make([]byte, octets)))
		if c, found := load(t, good, text, 0o600); c == nil || strings.Contains(strings.Join(found, "\n"), "has 31 octets") != short {
			t.Errorf("a secret of %d octets: %v", octets, found)
		}
	}
	for what, text := range map[string]string{
		"unknown algorithm": "[tsig.harbour-2026]\nalgorithm = \"hmac-md5\"\nsecret = \"AAAA\"\n",
		"cannot be read":    "[tsig.harbour-2026]\nsecrit = \"QUJDREVG\"\n",
	} {
		c, found := load(t, good, text, 0o600)
		if !secretless(c) || !strings.Contains(strings.Join(found, "\n"), what) || strings.Contains(strings.Join(found, "\n"), "QUJDREVG") {
			t.Errorf("%s: %v", what, found)
		}
	}
}

func TestLocate(t *testing.T) {
	dir := t.TempDir()
	deep := filepath.Join(dir, "a", "b")
	if err := os.MkdirAll(deep, 0o755); err != nil {
		t.Fatal(err)
	}
	if _, err := workspace.Locate(deep); !errors.Is(err, workspace.ErrNone) {
		t.Errorf("found one where there is none: %v", err)
	}
	if err := os.WriteFile(filepath.Join(dir, "fencepost.toml"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if got, err := workspace.Locate(deep); err != nil || got != dir {
		t.Errorf("%s, %v", got, err)
	}
}

func TestParseAddress(t *testing.T) {
	for in, want := range map[string]string{"192.0.2.1": "192.0.2.1:53", "192.0.2.1:5300": "192.0.2.1:5300", "2001:db8::1": "[2001:db8::1]:53", "[2001:db8::1]": "[2001:db8::1]:53", "[2001:db8::1]:5300": "[2001:db8::1]:5300"} {
		if got, err := workspace.ParseAddress(in); err != nil || got.String() != want {
			t.Errorf("%s: %s, %v", in, got, err)
		}
	}
	if _, err := workspace.ParseAddress("ns1.example"); err == nil {
		t.Error("a name is an address")
	}
}

// Whatever is wrong with secrets.toml, and wherever a secret was put by a slip, nothing of it is shown:
// findings are logged and copied into mails.
func TestSecretsAreNotShown(t *testing.T) {
	const slipped = "AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8="
	for _, text := range []string{
		"[tsig.k]\nalgorithm = \"hmac-sha256\"\nsecret = \"" + slipped[:12] + "\"\n",
		"[tsig.k]\nalgorithm = \"" + slipped + "\"\nsecret = \"hmac-sha256\"\n",
		"[tsig.k]\nalgorithm = \"hmac-sha256\"\nsecret = \"-" + slipped + "\"\n",
		"[tsig.\"" + slipped + "\"]\nsecret = \"harbour-2026\"\n",
		"[tsig.\"" + slipped + "\"]\nsecret = \"AAEC\"\n",
		"[tsig.\"" + strings.Repeat(slipped, 3) + "\"]\nsecret = \"harbour-2026\"\n",
		"[tsig.\"" + slipped + ".." + "\"]\nsecret = \"AAEC\"\n",
		"[tsig.\"" + slipped + "\"]\nalgorithm = \"x\"\n",
		"[tsig]\n\"" + slipped + "\" = \"k\"\n",
		"[\"" + slipped + "\"]\nsecret = \"k\"\n",
		"[tsig.k]\n\"" + slipped + "\" = \"secret\"\n",
		"[tsig.k]\nsecret = \"" + slipped + "\n",
		"[cookies]\nsecret = \"" + slipped + "\"\n",
		"[cookies]\nformer = \"" + slipped + "\"\n",
		slipped,
	} {
		_, found := load(t, good, text, 0o600)
		said := strings.Join(found, "\n")
		if !strings.Contains(said, "secrets.toml:") { // the place of a finding
			t.Errorf("nothing is said of\n%s%s", text, said)
		}
		if strings.Contains(strings.ToLower(said), strings.ToLower(slipped[:8])) {
			t.Errorf("a secret is shown:\n%s", said)
		}
	}
}
