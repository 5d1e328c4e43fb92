package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const shouted = `$ORIGIN TIDES.EXAMPLE.
$TTL 3600
@       IN SOA  NS1 HOSTMASTER 2026112301 7200 900 1209600 300
@       IN NS   NS1.TIDES.EXAMPLE.
@       IN NS   NS.OTHER.EXAMPLE.
NS1     IN A    192.0.2.1
WWW     IN A    192.0.2.80
WWW     IN A    192.0.2.81
MAIL    300 IN A 192.0.2.25
@       IN MX   10 MAIL.TIDES.EXAMPLE.
$ORIGIN SUB.TIDES.EXAMPLE.
A       IN A    192.0.2.90 ; (the first)
`

// Daily work on a file that was typed in capitals, with a second $ORIGIN: names
// compare without case (RFC 4343), data mean what was asked wherever they stand.
func TestDailyEdits(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		command string
		has     string // in the file afterwards
		not     string
	}{
		{"add Z new A 192.0.2.99", "new         IN A 192.0.2.99", ""},
		{"add Z a.sub MX 30 mail", "MX   30 mail.TIDES.EXAMPLE.", "MX 30 mail\n"},
		{"add Z b.sub CNAME www", "www.TIDES.EXAMPLE.", ""},
		{"add Z www AAAA 2001:db8::80", "AAAA", ""},
		{"change Z www A 192.0.2.82 --from 192.0.2.81", "192.0.2.82", "192.0.2.81"},
		{"change Z @ MX 20 mail", "20 mail", "MX   10"},
		{"change Z a.sub A 192.0.2.91", "192.0.2.91 ; (the first)", "192.0.2.90"},
		{"remove Z @ MX 10 mail", "", "MX"},
		{"remove Z www a 192.0.2.81", "", "192.0.2.81"},
		{"delegate Z dunes --ns ns1 --ns ns.harbour.example", "dunes", ""},
		{"change Z www A --ttl 60", "WWW  60 IN A", ""},
		{"change Z mail A --ttl default", "MAIL        IN A 192.0.2.25", "300 IN A"},
		{"change Z @ SOA --expire 21d", "900 1814400 300", "1209600"},
		{"change Z @ SOA --refresh 90m --retry 20m --minimum 10m", "5400 1200 1209600 600", ""},
		{"change Z @ SOA ns1 ines 2026112399 7200 900 1209600 300", "2026112399", "HOSTMASTER"},
	} {
		path := filepath.Join(t.TempDir(), "tides.example.zone")
		write(t, path, shouted)
		before := ok(t, ".", "check", path, "--format", "json", clock)
		args := strings.Fields(strings.Replace(c.command, "Z", path, 1))
		r := fp(t, ".", append(args, clock)...)
		text := read(t, path)
		if r.status != 0 || !strings.Contains(strings.ToLower(text), strings.ToLower(c.has)) || c.not != "" && strings.Contains(text, c.not) {
			t.Errorf("%s: status %d %s\n%s", c.command, r.status, r.err, text)
			continue
		}
		if !strings.Contains(text, "(the first)") {
			t.Errorf("%s: a comment is lost\n%s", c.command, text)
		}
		// What the edit brings about is shown, whole; what was there is not shown again.
		after := ok(t, ".", "check", path, "--format", "json", clock)
		if n := strings.Count(after, "\n") - strings.Count(before, "\n"); n > 0 && strings.Count(r.out, "→") < n {
			t.Errorf("%s: %d new findings, of which the edit says\n%s", c.command, n, r.out)
		}
	}
}

// What cannot be is refused with the reason, and the file stays.
func TestEditsRefused(t *testing.T) {
	t.Parallel()
	for command, says := range map[string]string{
		"change Z www A 192.0.2.80 --ttl 60":         "share one TTL (RFC 2181 §5.2)",
		"change Z www A":                             "say what to change",
		"change Z www A --expire 5d":                 "are times of the SOA",
		"change Z @ SOA --expire 5x":                 "is not a time",
		"change Z www SOA --expire 5d":               "no such SOA",
		"add Z a.sub.tides.example A 192.0.2.1":      "final dot",
		"change Z a.sub.TIDES.example A 192.0.2.1":   "final dot",
		"change Z @ SOA ns1 h 1 7200 900 1209600 oh": "is not a time",
	} {
		path := filepath.Join(t.TempDir(), "tides.example.zone")
		write(t, path, shouted)
		r := fp(t, ".", append(strings.Fields(strings.Replace(command, "Z", path, 1)), clock)...)
		if r.status == 0 || !strings.Contains(r.err, says) || read(t, path) != shouted {
			t.Errorf("%s: status %d, %s", command, r.status, r.err)
		}
	}
}

// What is so already is no failure, in whatever form it is asked for: nothing is written, and the exit
// status is 0. Of several records those that are missing are written.
func TestAlreadySo(t *testing.T) {
	t.Parallel()
	for command, says := range map[string]string{
		"change Z www A --ttl 3600":                             "have TTL 3600 already",
		"change Z www A --ttl default":                          "no TTL of their own",
		"change Z @ SOA --expire 1209600":                       "is so already",
		"add Z WWW a 192.0.2.80":                                "has this A record already",
		"change Z www A 192.0.2.80 --from 192.0.2.80":           "is so already",
		"change Z www A 192.0.2.80 --from 192.0.2.80 --dry-run": "is so already",
		"rename Z www WWW":                                      "is called so already",
		"serial Z --set 2026112301":                             "already",
	} {
		path := filepath.Join(t.TempDir(), "tides.example.zone")
		write(t, path, shouted)
		command = strings.Replace(command, "Z", path, 1)
		r := fp(t, ".", append(strings.Fields(command), clock)...)
		if r.status != 0 || !strings.Contains(r.err, "nothing changes: ") || !strings.Contains(r.err, says) || read(t, path) != shouted {
			t.Errorf("%s: status %d, %s", command, r.status, r.err)
		}
		r = fp(t, ".", append(strings.Fields(command), clock, "--format", "json")...)
		if o := object(t, r.out); r.status != 0 || o["written"] != false || !strings.Contains(fmt.Sprint(o["notes"]), says) {
			t.Errorf("%s, for programs: status %d, %s", command, r.status, r.out)
		}
	}
	path := filepath.Join(t.TempDir(), "tides.example.zone")
	write(t, path, shouted)
	r := fpIn(t, ".", "www A 192.0.2.80\nfresh A 192.0.2.100\n", "add", path, "-")
	want(t, r, 0, "1 of 2 records are so already", "192.0.2.100")
	if text := read(t, path); strings.Count(text, "192.0.2.80") != 1 || strings.Count(text, "192.0.2.100") != 1 {
		t.Errorf("of two records, one of them there:\n%s", text)
	}
}

// A data line behind an included file keeps the owner that it takes from there, in
// tidy and in the editor; what is included may have mistakes of its own.
func TestTidyBehindInclude(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "tides.example.zone")
	const text = "$TTL 3600\n@ SOA ns1 h 1 7200 900 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\n$INCLUDE part\n  MX 10 ns1\n  TXT x\n$ORIGIN b\n TXT y\n"
	write(t, path, text)
	write(t, filepath.Join(dir, "part"), "mail A 192.0.2.2\nbad A 1.2.3\nmail A 192.0.2.3\n")
	ok(t, dir, "tidy", path)
	for _, line := range []string{"mail                MX     10 ns1", "mail.tides.example. TXT    y"} {
		if got := read(t, path); !strings.Contains(got, line) {
			t.Errorf("there is no %q in\n%s", line, got)
		}
	}
	write(t, path, text)
	if err := os.Remove(filepath.Join(dir, "part")); err != nil {
		t.Fatal(err)
	}
	ok(t, dir, "tidy", path) // nothing is known of the owner: the lines stay without
	if got := read(t, path); !strings.Contains(got, "$INCLUDE part\n  MX 10 ns1\n  TXT x\n") {
		t.Errorf("%s", got)
	}
}

// With a serial from the year 2062 in service, whoever advises says the way that
// ends.
func TestSerialAheadOfService(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	setSerial(t, d, 2062010101)
	write(t, filepath.Join(d.dir, "zones", "tides.example.zone"), strings.Replace(tides, "hostmaster 1 ", "hostmaster 2026112301 ", 1))
	want(t, fp(t, d.dir, "reload"), 1, "went backwards", "fencepost serial tides.example --set 2026112301 --plan")
	for range 2 { // with the server and without it
		want(t, fp(t, d.dir, "check"), 1, "serial-not-moved", "--set 2026112301 --plan")
		want(t, fp(t, d.dir, "serial", "tides.example", clock), 0, "2062010101 was in service last", "the next would be 2062010102")
		want(t, fp(t, d.dir, "serial", "tides.example", "--set", "2026112301", "--plan", clock), 0, "2 steps get there", "--set 4209493748", "--set 2026112301")
		d.stop()
	}
	d.start()
	ok(t, d.dir, "serial", "tides.example", "--set", "4209493748", clock)
	ok(t, d.dir, "reload")
	ok(t, d.dir, "serial", "tides.example", "--set", "2026112301", clock)
	ok(t, d.dir, "reload")
	want(t, fp(t, d.dir, "check"), 0)
}

// A signed export is taken over without its signatures: comments stay, lines that
// cannot be read stay and are reported, ranges are written out, nothing is lost.
func TestPullExport(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "export.txt"), "; exported by Ann\n$TTL 1h\n@ IN SOA ns1 h 7 2h 900 2w 300 ; the head\n  IN NS ns1 ; first\n  IN RRSIG NS 13 2 3600 20261214122036 20261130112036 1 tides.example. AAAA\n"+
		"  IN NS ns2.other.\nns1 A 192.0.2.1\n; gauges\n$GENERATE 1-3 gauge$ A 192.0.2.$ ; three\nbad A 1.2.3 ; what was it\n    NSEC x A\n    TXT after\nq SPF \"v=spf1 -all\"\n")
	r := fp(t, dir, "pull", "tides.example", "--file", "export.txt", "--unsigned", "-o", "tides.zone")
	want(t, r, 1, "bad-address", "line 9 of export.txt", "3 records", "1 NSEC, 1 RRSIG")
	got := read(t, filepath.Join(dir, "tides.zone"))
	for _, s := range []string{"; exported by Ann", "; the head", "; first", "; gauges", "; three", "bad A 1.2.3 ; what was it", "bad             TXT    after", "q               SPF", "gauge1          A      192.0.2.1", "gauge3          A      192.0.2.3"} {
		if !strings.Contains(got, s) {
			t.Errorf("there is no %q in\n%s", s, got)
		}
	}
	if strings.Contains(got, "RRSIG") || strings.Contains(got, "NSEC") {
		t.Errorf("signatures are left in\n%s", got)
	}
	want(t, fp(t, dir, "check", "export.txt", "--origin", "tides.example"), 1, "fencepost pull ZONE --file export.txt")
}

// Slices of a /24 have the bounds of their network (RFC 2317 §4), and a zone above
// others delegates to those that are there.
func TestReverseBounds(t *testing.T) {
	t.Parallel()
	for network, want := range map[string]string{"198.51.100.64/26": "64-127", "198.51.100.128/25": "128-255", "198.51.100.0/25": "0-127", "198.51.100.8/30": "8-11", "198.51.100.254/31": "254-255", "198.51.100.7/32": "7-7"} {
		dir := estate(t)
		ok(t, dir, "reverse", network, clock)
		parent := zoneText(t, dir, "100.51.198.in-addr.arpa")
		first, last, _ := strings.Cut(want, "-")
		for _, s := range []string{"\n" + want + " ", "CNAME  " + first + "." + want + "\n", "CNAME  " + last + "." + want + "\n"} {
			if !strings.Contains(parent, s) {
				t.Errorf("%s: there is no %q in\n%s", network, s, parent)
			}
		}
		if _, err := os.Stat(filepath.Join(dir, "zones", want+".100.51.198.in-addr.arpa.zone")); err != nil {
			t.Errorf("%s: %v", network, err)
		}
	}
	dir := estate(t)
	ok(t, dir, "add", "saltmarsh.example", "far", "A", "198.51.7.9", clock)
	ok(t, dir, "add", "saltmarsh.example", "near", "A", "198.51.100.9", clock)
	ok(t, dir, "reverse", "198.51.0.0/16", "--ns", "ns1.saltmarsh.example", "--ns", "ns.harbour.example", clock)
	above, below := zoneText(t, dir, "51.198.in-addr.arpa"), zoneText(t, dir, "100.51.198.in-addr.arpa")
	for text, lines := range map[string][]string{above: {"100             NS     ns1.saltmarsh.example.", "9.7             PTR    far.saltmarsh.example.", "SOA    ns1.saltmarsh.example. hostmaster.saltmarsh.example."}, below: {"9               PTR    near.saltmarsh.example."}} {
		for _, l := range lines {
			if !strings.Contains(text, l) {
				t.Errorf("there is no %q in\n%s", l, text)
			}
		}
	}
	if strings.Contains(above, "near") {
		t.Errorf("a PTR is hidden by the delegation:\n%s", above)
	}
	want(t, fp(t, dir, "reverse", "--check"), 0, "all agree")
	// Files in order stay so: numbers count as numbers.
	ok(t, dir, "add", "saltmarsh.example", "later", "A", "198.51.100.80", "--ptr", clock)
	ok(t, dir, "add", "saltmarsh.example", "between", "A", "198.51.100.10", "--ptr", clock)
	below = zoneText(t, dir, "100.51.198.in-addr.arpa")
	at := 0
	for _, owner := range []string{"\n9 ", "\n10 ", "\n53 ", "\n80 "} {
		next := strings.Index(below, owner)
		if next < at {
			t.Errorf("%q is out of order:\n%s", owner, below)
		}
		at = next
	}
}

// What is missing or in the wrong place on the command line is said in words, and of
// standard input every bad line is told at once.
func TestMistypedEdits(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "saltmarsh.example", "--ns", "ns1=198.51.100.53", "--ns", "ns2=203.0.113.53")
	zone := filepath.Join(dir, "zones", "saltmarsh.example.zone")
	was := read(t, zone)
	for words, say := range map[string]string{
		"cam IN A":                "the A record of cam has no data: write cam A address",
		"cam 198.51.100.9":        "the type is missing in front of the address: write cam A 198.51.100.9",
		"cam 2001:db8::1":         "write cam AAAA 2001:db8::1",
		"cam A 3600 198.51.100.9": "write 3600 A 198.51.100.9",
		"cam MX 10mail":           "a blank is missing: MX 10 mail",
		"cam CNAME www # the web": "CNAME",
	} {
		want(t, fp(t, dir, append([]string{"add", "saltmarsh.example"}, strings.Fields(words)...)...), 2, say)
	}
	want(t, fpIn(t, dir, "a 192.0.2.1\nb AA 192.0.2.2\n\nc A 192.0.2\nd A\ne A 192.0.2.5\n", "add", "saltmarsh.example", "-"), 2,
		"line 1 of standard input: the type is missing", "line 2 of standard input: \"AA\" is not a record type", "line 4 of standard input: A 192.0.2:", "line 5 of standard input: the A record of d has no data")
	want(t, fp(t, dir, "delegate", "saltmarsh.example", "own3", "--ns", "ns1=192.0.2.7"), 3, "198.51.100.53 here, not 192.0.2.7", "--ns ns1.own3=192.0.2.7", "fencepost change saltmarsh.example ns1 A 192.0.2.7")
	if read(t, zone) != was {
		t.Errorf("a refused edit changed the zone:\n%s", read(t, zone))
	}
	ok(t, dir, "add", "saltmarsh.example", "cam", "300", "IN", "A", "198.51.100.9")
	ok(t, dir, "delegate", "saltmarsh.example", "own3", "--ns", "ns3=192.0.2.7", "--ns", "ns1=198.51.100.53")
	long := strings.Repeat("A", 300)
	want(t, fpIn(t, dir, "s._domainkey TXT \"v=DKIM1; k=ed25519; p=\\065"+long+"\"\n", "add", "saltmarsh.example", "-"), 2, "--split")
	want(t, fpIn(t, dir, "s._domainkey TXT \"v=DKIM1; k=ed25519; p=\\065"+long+"\"\n", "add", "saltmarsh.example", "-", "--split"), 0)
	text := strings.Join(strings.Fields(read(t, zone)), " ")
	for _, line := range []string{"cam 300 A 198.51.100.9", "ns3 A 192.0.2.7", "\"v=DKIM1; k=ed25519; p=AAAA"} {
		if !strings.Contains(text, line) {
			t.Errorf("the zone has no %s:\n%s", line, text)
		}
	}
	for word, meant := range map[string]string{"delete": "remove", "edit": "change", "query": "ask", "signn": "sign"} {
		want(t, fp(t, dir, word, "x"), 2, "did you mean "+meant+"?")
	}
}

// A text is named by what it says, with its blanks, quoted or not, and however it is parted into strings.
func TestFromText(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "tides.example.zone")
	const head = "$TTL 60\n@ SOA ns.other. h 1 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\n"
	for _, from := range []string{"v=spf1 mx -all", `"v=spf1 mx -all"`, `"v=spf1 " "mx -all"`} {
		for _, have := range []string{`"v=spf1 mx -all"`, `"v=spf1" " mx -all"`} {
			write(t, path, head+"@ TXT "+have+"\n@ TXT \"site-verification=abc def\"\n")
			ok(t, dir, "change", path, "@", "TXT", "v=spf1 a -all", "--from", from, clock)
			if text := read(t, path); !strings.Contains(text, `"v=spf1 a -all"`) || !strings.Contains(text, "abc def") || strings.Contains(text, "mx") {
				t.Errorf("--from %s where there is %s:\n%s", from, have, text)
			}
			write(t, path, head+"@ TXT "+have+"\n@ TXT \"site-verification=abc def\"\nwww TXT "+have+"\n")
			ok(t, dir, "change", path, "TXT", "v=spf1 a -all", "--from", from, "--everywhere", clock)
			if text := read(t, path); strings.Count(text, `"v=spf1 a -all"`) != 2 || !strings.Contains(text, "abc def") {
				t.Errorf("everywhere, --from %s where there is %s:\n%s", from, have, text)
			}
		}
	}
	want(t, fp(t, dir, "change", path, "@", "TXT", "x", "--from", "v=spf1 -all", clock), 3, "has no such TXT record")
	write(t, path, head+"@ MX 10 ns.other.\n@ MX 20 ns2.other.\n")
	ok(t, dir, "change", path, "@", "MX", "30", "ns2.other.", "--from", "20  ns2.other.", clock)
}
