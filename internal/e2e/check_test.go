package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"unicode"
)

// findings reads what `check --format json` printed.
func findings(t *testing.T, text string) (out []map[string]any) {
	t.Helper()
	for _, l := range strings.Split(strings.TrimSpace(text), "\n") {
		if l == "" {
			continue
		}
		var v map[string]any
		if err := json.Unmarshal([]byte(l), &v); err != nil {
			t.Fatalf("%v: %s", err, l)
		}
		out = append(out, v)
	}
	return out
}

const demoData = "../demo/data"

// The pasted file of the demo: every mistake at once, in order, at its place.
func TestCheckBrokenZone(t *testing.T) {
	t.Parallel()
	r := fp(t, demoData, "check", "estuary.example.zone", "--format", "json")
	want(t, r, 1)
	var got []string
	for _, f := range findings(t, r.out) {
		for _, key := range []string{"file", "line", "column", "end_line", "end_column", "severity", "code", "message"} {
			if f[key] == nil {
				t.Errorf("a finding has no %s: %v", key, f)
			}
		}
		got = append(got, f["code"].(string))
	}
	const all = "unknown-directive contact-with-at-sign expire-too-short missing-final-dot address-as-name missing-final-dot " +
		"address-leading-zero alias-beside-data address-out-of-range unclosed-parenthesis unknown-type one-server-delegation missing-glue ttl-mismatch owner-repeats-zone outside-zone"
	if s := strings.Join(got, " "); s != all {
		t.Errorf("found\n%s\nwant\n%s", s, all)
	}
	text := fp(t, demoData, "check", "estuary.example.zone")
	want(t, text, 1, "estuary.example.zone:14:17", "this parenthesis is never closed", "mx.harbour.example.estuary.example.", "→ did you mean $TTL?", "12 errors, 3 warnings")
	if strings.Contains(text.out, "\x1b[") {
		t.Error("there is colour where there is no terminal")
	}
	want(t, fp(t, demoData, "check", "estuary.example.zone", "--color", "always"), 1, "\x1b[")
}

// The zones of the demo have nothing to be found.
func TestCheckCleanZones(t *testing.T) {
	t.Parallel()
	files, _ := filepath.Glob(demoData + "/zones/*.zone")
	if len(files) < 4 {
		t.Fatalf("only %d demo zones", len(files))
	}
	for _, f := range files {
		if r := fp(t, ".", "check", f); r.status != 0 || r.out != "" {
			t.Errorf("%s:\n%s%s", f, r.out, r.err)
		}
	}
}

func TestCheckUse(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "plain.txt"), "$TTL 60\n@ SOA ns.other. h 1 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\n")
	want(t, fp(t, dir, "check", "plain.txt"), 1, "no-origin")
	want(t, fp(t, dir, "check", "plain.txt", "--origin", "x.example"), 0, "x.example: serial 1")
	want(t, fp(t, dir, "check", "missing.zone"), 3, "no fencepost.toml")
	want(t, fp(t, dir, "check", "./missing.zone"), 3, "no such file")
	want(t, fp(t, dir, "check"), 3, "fencepost init")
	want(t, fp(t, dir, "chek"), 2, "did you mean check?")
	want(t, fp(t, dir, "check", "--orign", "x"), 2, "did you mean --origin?")
	want(t, fp(t, dir, "check", "--format", "xml"), 2, "text, json or sarif")
	want(t, fp(t, dir, "check", "--now", "teatime"), 2, "RFC 3339")
	want(t, fp(t, dir, "check", "."), 3, "is a folder")
	write(t, filepath.Join(dir, "zeros"), strings.Repeat("\x00", 1000))
	want(t, fp(t, dir, "check", "zeros", "--origin", "x."), 1)
}

func TestCheckWorkspace(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "a.example")
	write(t, filepath.Join(dir, "zones", "b.example.zone"), read(t, filepath.Join(dir, "zones", "a.example.zone")))
	want(t, fp(t, dir, "check"), 1, "other-zone", "this is the zone a.example.; b.example. was expected")
	write(t, filepath.Join(dir, "zones", "b.example.zone"), strings.ReplaceAll(read(t, filepath.Join(dir, "zones", "a.example.zone")), "a.example", "b.example"))
	want(t, fp(t, dir, "check"), 0, "unlisted-zone-file")
	write(t, filepath.Join(dir, "fencepost.toml"), "[[zone]]\nname = \"c.example\"\nsendto = []\n")
	want(t, fp(t, dir, "check"), 1, "config-unknown-key", "did you mean send-to?", "fencepost.toml:3:1")
	write(t, filepath.Join(dir, "fencepost.toml"), "[[zone]]\nname = \"c.example\"\n")
	want(t, fp(t, dir, "check"), 1, "missing-zone-file", "fencepost new c.example")
}

func TestExplain(t *testing.T) {
	t.Parallel()
	want(t, fp(t, ".", "explain", "missing-glue"), 0, "RFC 1034", "wrong", "right", "ns.sub A 192.0.2.53")
	want(t, fp(t, ".", "explain", "srv"), 0, "priority", "RFC 2782", "port of the service")
	want(t, fp(t, ".", "explain", "mising-glue"), 2, "did you mean missing-glue?")
	if v := object(t, ok(t, ".", "explain", "MX", "--format", "json")); v["type"] != "MX" || v["number"] != 15.0 {
		t.Errorf("%v", v)
	}
}

// Every command has help with an example, and completion knows the commands.
func TestHelp(t *testing.T) {
	t.Parallel()
	top := ok(t, ".", "help")
	for _, stage := range []string{"Write:", "Check:", "Sign:", "Publish:", "Verify:", "Try:"} {
		if !strings.Contains(top, stage) {
			t.Errorf("help has no stage %s", stage)
		}
	}
	eachCommand(t, func(path []string, help string) {
		c := strings.Join(path, " ")
		if path[0] == "completion" || path[0] == "help" {
			return // which the library for commands brings
		}
		if !strings.Contains(help, "Examples:\n") || !strings.Contains(help, "fencepost "+path[0]) {
			t.Errorf("%s --help has no example:\n%s", c, help)
		}
	})
	if out := ok(t, ".", "__complete", "se"); !strings.Contains(out, "serial\t") || !strings.Contains(out, "secondaries\t") {
		t.Errorf("completion: %s", out)
	}
	if out := ok(t, ".", "__complete", "explain", "missing-g"); !strings.Contains(out, "missing-glue") {
		t.Errorf("completion of codes: %s", out)
	}
	dir := estate(t)
	for words, want := range map[string]string{"check sal": "saltmarsh.example\n", "add saltmarsh.example x mx": "MX\n", "remove saltmarsh.example ns": "ns1\n", "sign --denial nsec": "nsec3\n", "explain pare": "parent-takes\n", "ask x --transport t": "tcp\n", "diff served": ":0\n"} {
		if out := ok(t, dir, append([]string{"__complete"}, strings.Fields(words)...)...); !strings.Contains(out, want) {
			t.Errorf("completion of %s: %q lacks %q", words, out, want)
		}
	}
}

// The reference page is what the program says of itself.
func TestReference(t *testing.T) {
	t.Parallel()
	if read(t, "../../docs/findings.md") != ok(t, ".", "explain", "--all") {
		t.Error("docs/findings.md is not up to date: make reference")
	}
	// What an example is about is seen, also where it has no shape of its own, and
	// no octet of one reaches a terminal.
	want(t, fp(t, ".", "explain", "not-text"), 0, "<FF><FE>@␀ ␀S")
	want(t, fp(t, ".", "explain", "no-break-space"), 0, "www A<U+00A0>192.0.2.1", "www A 192.0.2.1")
	for _, c := range read(t, "../../docs/findings.md") {
		if c != '\n' && !unicode.IsPrint(c) || c == unicode.ReplacementChar {
			t.Errorf("docs/findings.md has %U", c)
		}
	}
	if n := strings.Count(ok(t, ".", "explain", "--all", "--format", "json"), "\n"); n < 150 {
		t.Errorf("there are %d findings", n)
	}
	want(t, fp(t, ".", "explain", "--all", "MX"), 2, "one argument too many")
	want(t, fp(t, ".", "explain", "SPF"), 0, "obsolete: use TXT")
	if !strings.Contains(read(t, "../../docs/configuration.md"), ok(t, ".", "explain", "fencepost.toml")) {
		t.Error("docs/configuration.md is not up to date: make reference")
	}
	want(t, fp(t, ".", "explain", "renew-before-end"), 0, "a key of [policy.NAME]", `"15d"`)
	want(t, fp(t, ".", "explain", "SOA.expire"), 0, "secondaries stop answering")
	want(t, fp(t, ".", "explain", "send-two"), 2, "did you mean send-to?")
	want(t, fp(t, ".", "explain", "MX"), 0, "@ MX 10 mail")
	want(t, fp(t, ".", "explain", "zone", "--format", "json"), 0, `"key":"parent-takes"`)
}

// What zones of a workspace say of each other is said for one of them as for all: by `check ZONE`, of the
// whole folder of zones, and by the edit that brings it about.
func TestCheckBetweenZones(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	head := "$TTL 3600\n@ SOA ns1.salt.example. h.salt.example. 1 7200 900 1209600 300\n@ NS ns1.salt.example.\n@ NS ns2.salt.example.\n"
	zones := map[string]string{
		"salt.example":         head + "ns1 A 192.0.2.53\nns2 A 203.0.113.53\nweb A 192.0.2.80\nsub NS ns1\nsub NS ns9.tide.example.\nsub DS 12345 13 2 " + strings.Repeat("ab", 32) + "\n",
		"sub.salt.example":     head + "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n",
		"tide.example":         head + "www CNAME webb.salt.example.\n@ MX 10 alias.reef.example.\nok CNAME web.salt.example.\n_x._tcp SRV 0 0 1 text.reef.example.\n",
		"reef.example":         head + "alias CNAME web.salt.example.\ntext TXT x\n",
		"2.0.192.in-addr.arpa": head + "80 PTR web.salt.example.\n81 PTR web.salt.example.\n82 PTR webb.salt.example.\n",
	}
	config := ""
	for name, text := range zones {
		config += fmt.Sprintf("[[zone]]\nname = %q\n", name)
		write(t, filepath.Join(dir, "zones", name+".zone"), text)
	}
	write(t, filepath.Join(dir, "fencepost.toml"), config)
	found := func(args ...string) map[string]int {
		out := map[string]int{}
		for _, line := range strings.Split(strings.TrimSpace(fp(t, dir, append([]string{"check", "--format", "json"}, args...)...).out), "\n") {
			if line == "" {
				continue
			}
			if m := object(t, line); m["file"] != nil {
				out[fmt.Sprintf("%s:%v %s", filepath.Base(m["file"].(string)), m["line"], m["code"])]++
			}
		}
		return out
	}
	all := found()
	for _, code := range []string{"target-missing-elsewhere", "target-alias-elsewhere", "target-without-address-elsewhere", "ds-matches-no-key", "ptr-mismatch"} {
		if !strings.Contains(fmt.Sprint(all), code) {
			t.Fatalf("the workspace shows no %s: %v", code, all)
		}
	}
	ofZones := map[string]int{}
	for name := range zones {
		for f, n := range found(name) {
			ofZones[f] += n
		}
	}
	folder := found("zones")
	for f, n := range all {
		if strings.HasPrefix(f, "fencepost.toml") {
			continue
		}
		if ofZones[f] != n || folder[f] != n {
			t.Errorf("%s: %d times of all, %d zone by zone, %d of the folder", f, n, ofZones[f], folder[f])
		}
	}
	if len(ofZones) > len(all) {
		t.Errorf("zone by zone there is more: %v, of all %v", ofZones, all)
	}
	want(t, fp(t, dir, "add", "tide.example", "two", "CNAME", "wbe.salt.example."), 0, "target-missing-elsewhere", "wrote")
	if r := fp(t, dir, "add", "tide.example", "three", "CNAME", "web.salt.example."); r.status != 0 || strings.Contains(r.out, "elsewhere") {
		t.Errorf("an edit tells of what it did not bring about: %s", r.out)
	}
	if r := fp(t, dir, "add", "salt.example", "fresh", "A", "192.0.2.99", "--ptr"); r.status != 0 || strings.Contains(r.out, "ptr-mismatch") {
		t.Errorf("a PTR is compared with what the zone was before: %s", r.out)
	}
}
