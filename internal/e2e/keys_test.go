package e2e

import (
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// tagsOf are the tags of a zone's keys as key list shows them.
func tagsOf(t *testing.T, dir string, args ...string) (out []string) {
	t.Helper()
	for _, k := range object(t, ok(t, dir, append([]string{"key", "list", "saltmarsh.example", "--format", "json"}, args...)...))["keys"].([]any) {
		out = append(out, fmt.Sprint(k.(map[string]any)["key_tag"]))
	}
	return out
}

// Keys go out in every form and come back the same, protected or not; files are for
// their owner alone.
func TestKeysMove(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "pass"), "mud and salt\n")
	write(t, filepath.Join(dir, "wrong"), "mud\n")
	for i, alg := range []string{"13", "8", "RSASHA512", "ECDSAP384SHA384", "15", "ED448"} {
		from, protect, open := "from-"+alg, []string{}, []string{}
		if i == 0 { // opening a protected key takes a while, by design
			protect, open = []string{"--passphrase-file", "pass"}, []string{"--passphrase-file", "pass"}
		}
		ok(t, dir, append([]string{"key", "new", "saltmarsh.example", "--keys", from, "--algorithm", alg, "--role", "ksk"}, protect...)...)
		tag := tagsOf(t, dir, "--keys", from)[0]
		if i == 0 {
			want(t, fp(t, dir, "key", "export", "saltmarsh.example", tag, "--keys", from, "-o", "-"), 3, "protected by a passphrase")
			want(t, fp(t, dir, "key", "export", "saltmarsh.example", tag, "--keys", from, "-o", "-", "--passphrase-file", "wrong"), 3, "passphrase is wrong")
			ok(t, dir, "key", "export", "saltmarsh.example", tag, "--keys", from, "-o", "guarded.pem", "--passphrase-file", "pass", "--protect-file", "wrong")
			want(t, fp(t, dir, "key", "import", "saltmarsh.example", "guarded.pem", "--keys", "guarded", "--role", "ksk"), 3, "protected by a passphrase")
			ok(t, dir, "key", "import", "saltmarsh.example", "guarded.pem", "--keys", "guarded", "--role", "ksk", "--passphrase-file", "wrong")
		}
		ok(t, dir, "key", "export", "saltmarsh.example", tag, "--keys", from, "--as", "dnskey", "-o", "dnskey-"+alg)
		for _, form := range []string{"pem", "der", "jwk", "text"} {
			file, to := form+"-"+alg, "to-"+form+alg
			ok(t, dir, append([]string{"key", "export", "saltmarsh.example", tag, "--keys", from, "--as", form, "-o", file}, open...)...)
			if info, err := os.Stat(filepath.Join(dir, file)); err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("%s: %v", file, err)
			}
			ok(t, dir, "key", "import", "saltmarsh.example", file, "--keys", to, "--public", "dnskey-"+alg)
			if got := tagsOf(t, dir, "--keys", to); len(got) != 1 || got[0] != tag {
				t.Errorf("%s as %s comes back with tag %v, not %s", alg, form, got, tag)
			}
		}
		want(t, fp(t, dir, "key", "import", "saltmarsh.example", "pem-"+alg, "--keys", "to-pem"+alg, "--public", "dnskey-"+alg), 3, "tag is taken")
		want(t, fp(t, dir, "key", "export", "saltmarsh.example", tag, "--keys", "to-pem"+alg, "-o", "pem-"+alg), 3, "exists")
	}
	want(t, fp(t, dir, "key", "show", "saltmarsh.example", tagsOf(t, dir, "--keys", "from-13")[0], "--keys", "from-13"), 0, "13 (ECDSAP256SHA256)", "generated", "DNSKEY 257 3 13", "DS ")
	index := filepath.Join(dir, "from-13", "keyring.toml")
	if text := read(t, index); strings.Contains(text, "PRIVATE") || !strings.Contains(text, "public = '257 3 13") {
		t.Errorf("keyring.toml: %s", text)
	}
}

// What is weak is refused with the reason, and can still be read and proved.
func TestWeakKeys(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, c := range [][]string{{"--algorithm", "RSASHA1", "SHA-1 can be forged"}, {"--algorithm", "DSA", "DSA gives its key away"}, {"--algorithm", "ECC-GOST", "withdrawn"},
		{"--algorithm", "200", "no such algorithm"}, {"--algorithm", "NOSUCH", "not a DNSSEC algorithm"}, {"--bits", "4096", "have one size"}} {
		want(t, fp(t, dir, "key", "new", "saltmarsh.example", "--keys", "k", c[0], c[1]), 2, c[2])
	}
	want(t, fp(t, dir, "key", "lst", "saltmarsh.example"), 2, "did you mean list?")
	want(t, fp(t, dir, "key", "lst"), 2, "did you mean list?")
	want(t, fp(t, dir, "roll", "strat", "saltmarsh.example"), 2, "did you mean start?")
	want(t, fp(t, dir, "key", "new", "saltmarsh.example", "--keys", "k", "--algorithm", "8", "--bits", "1024"), 3, "can be broken", "at least 2048")
	// The 512-bit key that RFC 5702 §6.1 prints.
	write(t, filepath.Join(dir, "small.key"), `Private-key-format: v1.2
Algorithm: 8 (RSASHA256)
Modulus: wVwaxrHF2CK64aYKRUibLiH30KpPuPBjel7E8ZydQW1HYWHfoGmidzC2RnhwCC293hCzw+TFR2nqn8OVSY5t2Q==
PublicExponent: AQAB
PrivateExponent: UR44xX6zB3eaeyvTRzmskHADrPCmPWnr8dxsNwiDGHzrMKLN+i/HAam+97HxIKVWNDH2ba9Mf1SA8xu9dcHZAQ==
Prime1: 4c8IvFu1AVXGWeFLLFh5vs7fbdzdC6U82fduE6KkSWk=
Prime2: 2zZpBE8ZXVnL74QjG4zINlDfH+EOEtjJJ3RtaYDugvE=
Exponent1: G2xAPFfK0KGxGANDVNxd1K1c9wOmmJ51mGbzKFFNMFk=
Exponent2: GYxP1Pa7CAwtHm8SAGX594qZVofOMhgd6YFCNyeVpKE=
Coefficient: icQdNRjlZGPmuJm2TIadubcO8X7V4y07aVhX464tx8Q=
`)
	want(t, fp(t, dir, "key", "import", "example.net", "small.key", "--keys", "small", "--role", "zsk"), 0, "imported key 9033", "under 2048 bits can be broken")
	// And a signature that it made, proved and warned about.
	write(t, filepath.Join(dir, "old.zone"), `$ORIGIN example.net.
@ 3600 SOA ns h 1 7200 900 1209600 300
@ 3600 NS ns
@ 3600 DNSKEY 256 3 8 AwEAAcFcGsaxxdgiuuGmCkVImy4h99CqT7jwY3pexPGcnUFtR2Fh36BponcwtkZ4cAgtvd4Qs8PkxUdp6p/DlUmObdk=
ns 3600 A 192.0.2.1
www 3600 A 192.0.2.91
www 3600 RRSIG A 8 3 3600 20300101000000 20000101000000 9033 example.net. kRCOH6u7l0QGy9qpC9l1sLncJcOKFLJ7GhiUOibu4teYp5VE9RncriShZNz85mwlMgNEacFYK/lPtPiVYP4bwg==
`)
	r := fp(t, dir, "verify", "old.zone", "--now", "2026-11-23T12:00:00Z")
	want(t, r, 1, "weak-key", "512 bits", "has no signature", "ns.example.net.")
	if strings.Contains(r.out+r.err, "www.example.net. A") {
		t.Errorf("the right signature of a short key is called wrong:\n%s%s", r.out, r.err)
	}
}

// The guards: what would break the zone is refused with when it is safe, and forced
// only loudly.
func TestKeyGuards(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"split\"")
	l.finish("signing")
	byRole := func(role string) string {
		for _, k := range l.state()["keys"].([]any) {
			if m := k.(map[string]any); m["role"] == role && m["state"] != "removed" {
				return fmt.Sprint(m["key_tag"])
			}
		}
		return ""
	}
	ksk, zsk := byRole("ksk"), byRole("zsk")
	want(t, fp(t, l.home.dir, "key", "retire", "saltmarsh.example", ksk), 3, "refused", "last that signs the zone's keys", "roll start")
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", zsk), 3, "refused", "last that signs the zone")
	want(t, fp(t, l.home.dir, "key", "activate", "saltmarsh.example", zsk), 3, "refused", "not in the caches")
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", "1"), 3, "has no key 1", ksk)
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", "x"), 2, "not a key tag")
	// A second KSK by hand: the first may retire only when the parent names it no more.
	ok(t, l.home.dir, "key", "new", "saltmarsh.example", "--role", "ksk")
	second := tagsOf(t, l.home.dir)[2]
	want(t, fp(t, l.home.dir, "key", "activate", "saltmarsh.example", second, "--force"), 0, "FORCED, although")
	want(t, fp(t, l.home.dir, "key", "retire", "saltmarsh.example", ksk), 3, "refused", "the parent's DS names key "+ksk)
	l.tick(10*time.Minute, false) // the registry takes the DS of both
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", ksk), 3, "refused", "names key "+ksk)
	// A ZSK that has just retired is still needed for what is in caches.
	ok(t, l.home.dir, "key", "new", "saltmarsh.example", "--role", "zsk")
	other := tagsOf(t, l.home.dir)[3]
	ok(t, l.home.dir, "key", "activate", "saltmarsh.example", other, "--force")
	ok(t, l.home.dir, "key", "retire", "saltmarsh.example", zsk)
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", zsk), 3, "refused", "caches hold signatures of key "+zsk, "it is safe from")
	l.now = l.now.Add(3 * time.Hour)
	ok(t, l.home.dir, "roll", "step", "saltmarsh.example", "--now", l.stamp())
	ok(t, l.home.dir, "key", "delete", "saltmarsh.example", zsk)
	if strings.Contains(ok(t, l.home.dir, "key", "list", "saltmarsh.example"), " "+zsk+" ") {
		t.Error("the deleted key is still listed")
	}
}

// What the parent is told fits what it takes, in every form, and is looked for there.
func TestHandoverForms(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"single\"\ndigests = [2, 4]")
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--now", l.stamp()), 0, "do not enter the DS yet", "2026-11-23 14:20")
	if text := ok(t, l.home.dir, "handover", "saltmarsh.example", "--now", l.stamp(), "--format", "epp", "-o", filepath.Join(t.TempDir(), "epp")); strings.Contains(text, "secDNS") {
		t.Errorf("a DS that must not be entered yet is handed over:\n%s", text)
	}
	l.finish("signing")
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example"), 0, "digest type       2 (SHA-256)", "digest type       4 (SHA-384)", "address         198.51.100.53")
	one := ok(t, l.home.dir, "handover", "saltmarsh.example", "--party-takes", "algorithms=8,13 digests=1,4")
	if strings.Contains(one, "SHA-256") || !strings.Contains(one, "SHA-384") {
		t.Errorf("the party takes SHA-384 only:\n%s", one)
	}
	conf := filepath.Join(l.home.dir, "fencepost.toml")
	was := read(t, conf)
	write(t, conf, strings.Replace(was, "name = \"saltmarsh.example\"\n", "name = \"saltmarsh.example\"\nparent-takes = \"algorithms=8,13 digests=1,4\"\n", 1))
	if kept := ok(t, l.home.dir, "handover", "saltmarsh.example"); kept != one {
		t.Errorf("what the parent takes, from the configuration:\n%s\nby hand:\n%s", kept, one)
	}
	write(t, conf, was)
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--party-takes", "digests=1"), 3, "no common ground", "SHA-1 can be forged")
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--party-takes", "algorithms=5,8"), 3, "no common ground", "of 13", "RSASHA256")
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--party-takes", "colour=blue"), 2, "algorithms=8,13 digests=1,2")
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--digest", "1"), 2, "SHA-1 can be forged")
	// The parent has all of it: nothing has to change.
	if r := fp(t, l.home.dir, "handover", "saltmarsh.example", "--format", "epp"); r.status != 0 || r.out != "" || !strings.Contains(r.err, "nothing to be changed") {
		t.Errorf("status %d, %s%s", r.status, r.out, r.err)
	}
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--confirm"), 0, "the parent serves all of it", "same")
	ok(t, l.registry.dir, "change", "example", "ns2.saltmarsh", "A", "192.0.2.99")
	ok(t, l.registry.dir, "reload")
	r := fp(t, l.home.dir, "handover", "saltmarsh.example", "--confirm", "--at", l.registry.addr)
	want(t, r, 1, "the parent does not serve all of it", "missing", "203.0.113.54", "extra", "192.0.2.99")
	// One address differs: one command, of what goes and what comes.
	var host struct {
		Name string   `xml:"command>update>update>name"`
		Add  []string `xml:"command>update>update>add>addr"`
		Rem  []string `xml:"command>update>update>rem>addr"`
	}
	text := ok(t, l.home.dir, "handover", "saltmarsh.example", "--format", "epp")
	if err := xml.Unmarshal([]byte(text), &host); err != nil || host.Name != "ns2.saltmarsh.example" || !slices.Equal(host.Add, []string{"203.0.113.54"}) || !slices.Equal(host.Rem, []string{"192.0.2.99"}) || strings.Count(text, "<?xml") != 1 {
		t.Errorf("%+v, %v\n%s", host, err, text)
	}
	// One DS is of another key: that one goes, one comes, and each stands once.
	zone := filepath.Join(l.registry.dir, "zones", "example.zone")
	lines := strings.Split(read(t, zone), "\n")
	for i, line := range lines {
		if strings.Contains(line, "DS") && strings.Contains(line, " 13 2 ") {
			f := strings.Fields(line)
			lines[i] = strings.Replace(line, f[len(f)-1], strings.Repeat("ab", 32), 1)
		}
	}
	write(t, zone, strings.Join(lines, "\n"))
	ok(t, l.registry.dir, "change", "example", "ns2.saltmarsh", "A", "203.0.113.54")
	ok(t, l.registry.dir, "reload")
	var domain struct {
		Name string   `xml:"command>update>update>name"`
		Rem  []string `xml:"command>extension>update>rem>dsData>digest"`
		Add  []string `xml:"command>extension>update>add>dsData>digest"`
		Key  []string `xml:"command>extension>update>add>dsData>keyData>pubKey"`
	}
	text = ok(t, l.home.dir, "handover", "saltmarsh.example", "--format", "epp")
	if err := xml.Unmarshal([]byte(text), &domain); err != nil || domain.Name != "saltmarsh.example" || !slices.Equal(domain.Rem, []string{strings.Repeat("AB", 32)}) || len(domain.Add) != 1 || len(domain.Key) != 1 || domain.Add[0] == domain.Rem[0] {
		t.Errorf("%+v, %v\n%s", domain, err, text)
	}
	if strings.Index(text, "secDNS:rem") > strings.Index(text, "secDNS:add") || strings.Contains(text, "<domain:add>") || strings.Contains(text, "<domain:rem>") {
		t.Errorf("out of order, or empty elements:\n%s", text)
	}
	// For one that has nothing yet: several commands, each a document of its own.
	none := filepath.Join(t.TempDir(), "none")
	write(t, filepath.Join(none, "zones", "example.zone"), "$ORIGIN example.\n$TTL 60\n@ SOA ns.other. h 1 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\n")
	write(t, filepath.Join(none, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[[zone]]\nname = \"example\"\n", freePort(t)))
	empty := serve(t, none)
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--format", "epp", "--at", empty.addr), 2, "3 EPP commands", "-o FOLDER")
	folder := filepath.Join(t.TempDir(), "epp")
	ok(t, l.home.dir, "handover", "saltmarsh.example", "--format", "epp", "--at", empty.addr, "-o", folder)
	files, _ := filepath.Glob(filepath.Join(folder, "*.xml"))
	for i, words := range []string{"host:create", "host:create", "secDNS:add"} {
		if len(files) != 3 || !strings.Contains(read(t, files[i]), words) || strings.Contains(read(t, files[i]), "rem>") {
			t.Fatalf("%v, and number %d has no %s", files, i+1, words)
		}
	}
	l.registry.stop()
	want(t, fp(t, l.home.dir, "handover", "saltmarsh.example", "--confirm"), 1, "nothing listens on")
}

// A server elsewhere vouches for the first keys of a zone (RFC 9615): the registry
// takes them without anybody's hand, and only if all is proved.
func TestBootstrap(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	home, harbour, registry := filepath.Join(dir, "home"), filepath.Join(dir, "harbour"), filepath.Join(dir, "registry")
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	a, b, c := freePort(t), freePort(t), freePort(t)
	conf := func(port int, zone, more string) string {
		return fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[policy.standard]\nmargin = \"0s\"\n%s\n[[zone]]\nname = %q\nsign = \"standard\"\n", port, more, zone)
	}
	write(t, filepath.Join(home, "fencepost.toml"), conf(a, "saltmarsh.example", fmt.Sprintf("[peer.harbour]\naddress = \"127.0.0.1:%d\"\n[peer.registry]\naddress = \"127.0.0.1:%d\"", b, c))+"send-to = [\"harbour\"]\nparent = [\"registry\"]\n")
	write(t, filepath.Join(home, "zones", "saltmarsh.example.zone"), "$TTL 300\n@ SOA ns.harbour.example. h 1 7200 900 1209600 300\n@ NS ns.harbour.example.\nwww A 198.51.100.80\n")
	write(t, filepath.Join(harbour, "fencepost.toml"), conf(b, "harbour.example", fmt.Sprintf("[peer.home]\naddress = \"127.0.0.1:%d\"\n[peer.registry]\naddress = \"127.0.0.1:%d\"", a, c))+"parent = [\"registry\"]\n[[zone]]\nname = \"saltmarsh.example\"\nfetch-from = [\"home\"]\n")
	write(t, filepath.Join(harbour, "zones", "harbour.example.zone"), "$TTL 300\n@ SOA ns h 1 7200 900 1209600 300\n@ NS ns\nns A 203.0.113.54\n")
	write(t, filepath.Join(registry, "fencepost.toml"), conf(c, "example", fmt.Sprintf("[address-override]\n\"ns.harbour.example\" = \"127.0.0.1:%d\"\n[trust]\nanchors = \"anchors\"\nservers = [\"127.0.0.1:%d\"]", b, c)))
	write(t, filepath.Join(registry, "zones", "example.zone"), "$TTL 300\n@ SOA ns1 h 1 7200 900 1209600 300\n@ NS ns1\nns1 A 198.51.100.1\nsaltmarsh NS ns.harbour\nharbour NS ns.harbour\nns.harbour A 203.0.113.54\n")
	at := func(args ...string) []string { return append(args, "--now", now.Format(time.RFC3339)) }
	start := func(dir string) *daemon {
		d := &daemon{t: t, dir: dir, log: filepath.Join(t.TempDir(), "log"), args: at()}
		d.start()
		t.Cleanup(d.stop)
		return d
	}
	for _, d := range []string{harbour, home, registry} {
		write(t, filepath.Join(d, "anchors"), "")
		start(d)
	}
	eventually(t, "the harbour in sync", func() bool { return serial(t, fmt.Sprintf("127.0.0.1:%d", b), "saltmarsh.example") != 0 })
	for range 4 {
		now = now.Add(time.Hour)
		for dir, zone := range map[string]string{home: "saltmarsh.example", harbour: "harbour.example", registry: "example"} {
			ok(t, dir, at("roll", "step", zone)...)
		}
	}
	eventually(t, "the CDS records at the harbour", func() bool {
		return strings.Contains(fp(t, home, "ask", "saltmarsh.example", "CDS", "--at", fmt.Sprintf("127.0.0.1:%d", b)).out, " 13 2 ")
	})
	tag := fmt.Sprint(object(t, ok(t, registry, "key", "list", "example", "--format", "json"))["keys"].([]any)[0].(map[string]any)["key_tag"])
	write(t, filepath.Join(registry, "anchors"), ok(t, registry, "key", "export", "example", tag, "--as", "ds"))
	ok(t, registry, at("delegate", "example", "harbour", "--follow", "--first")...)
	ok(t, registry, "reload")
	follow := func(status int, texts ...string) {
		t.Helper()
		want(t, fp(t, registry, at("delegate", "example", "saltmarsh", "--follow")...), status, texts...)
	}
	follow(3, "records at _dsboot.saltmarsh.example._signal.ns.harbour.example.", "RFC 9615")
	signals := ok(t, home, "handover", "saltmarsh.example", "--signals")
	if strings.Count(signals, "_dsboot.saltmarsh.example._signal.ns.harbour.example. 3600 IN CD") != 2 {
		t.Fatalf("signals:\n%s", signals)
	}
	zone := filepath.Join(harbour, "zones", "harbour.example.zone")
	write(t, zone, strings.Replace(read(t, zone), " h 1 ", " h 2 ", 1)+signals)
	ok(t, harbour, "reload")
	follow(0, "wrote", "saltmarsh DS "+tagsOf(t, home)[0])
	follow(0, "asks for nothing that is not there already")
}
