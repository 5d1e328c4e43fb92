package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

func TestSerialPlan(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	want(t, fp(t, dir, "serial", "saltmarsh.example", "--set", "2062010101", clock), 0, "2062010101", "reads as 1 January 2062", "--set 2026112300 --plan")
	r := fp(t, dir, "serial", "saltmarsh.example", "--set", "2026112301", "--plan", clock)
	want(t, r, 0, "2 steps", "--set 4209493748", "--set 2026112301", "1 hour 50 minutes", "from 2026-11-23 10:50 UTC on")
	want(t, fp(t, dir, "serial", "saltmarsh.example", "--set", "2026112301"), 2, "set 4209493748 first")
	ok(t, dir, "serial", "saltmarsh.example", "--set", "4209493748")
	ok(t, dir, "serial", "saltmarsh.example", "--set", "2026112301")
	// One less than now is the longest way: the remaining half of the circle has no order.
	v := object(t, ok(t, dir, "serial", "saltmarsh.example", "--set", "2026112300", "--plan", "--format", "json"))
	if steps := v["plan"].([]any); len(steps) != 3 {
		t.Errorf("%v", steps)
	}
	want(t, fp(t, dir, "serial", "saltmarsh.example", "--plan"), 2, "--set N")
}

func TestDelegate(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	const parent = "saltmarsh.example"
	want(t, fp(t, dir, "delegate", parent, "gauges"), 2, "say which servers")
	want(t, fp(t, dir, "delegate", parent, "gauges", "--ns", "ns1.gauges"), 2, "its address is needed here")
	want(t, fp(t, dir, "delegate", parent, "other.example.", "--ns", "ns1"), 2, "not below the zone")
	ok(t, dir, "delegate", parent, "gauges", "--ns", "ns1.gauges=198.51.100.70,2001:db8:5a17::70", "--ns", "ns1", "--ns", "ns.harbour.example=192.0.2.9", "--create", clock)
	s := zoneText(t, dir, parent)
	for _, line := range []string{"gauges          NS     ns1.gauges\n                NS     ns1\n                NS     ns.harbour.example.\n", "ns1.gauges      A      198.51.100.70\n                AAAA   2001:db8:5a17::70\n"} {
		if !strings.Contains(s, line) {
			t.Errorf("there is no %q in\n%s", line, s)
		}
	}
	if strings.Contains(s, "192.0.2.9") {
		t.Error("an address that is not needed was written")
	}
	if c := zoneText(t, dir, "gauges.saltmarsh.example"); !strings.Contains(c, "NS     ns1.saltmarsh.example.") || !strings.Contains(c, "                AAAA   2001:db8:5a17::70") {
		t.Error(c)
	}
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	want(t, fp(t, dir, "delegate", parent, "gauges", "--ns", "ns1"), 3, "is delegated already, at zones/saltmarsh.example.zone:")

	// A signed child brings its DS, its own servers and glue.
	ok(t, dir, "key", "new", "gauges.saltmarsh.example")
	write(t, filepath.Join(dir, "fencepost.toml"), strings.Replace(read(t, filepath.Join(dir, "fencepost.toml")), "\"gauges.saltmarsh.example\"", "\"gauges.saltmarsh.example\"\nsign = \"standard\"", 1))
	want(t, fp(t, dir, "check"), 0, "ds-missing")
	ok(t, dir, "remove", parent, "gauges", "NS")
	ok(t, dir, "remove", parent, "ns1.gauges")
	want(t, fp(t, dir, "check"), 1, "not-delegated")
	want(t, fp(t, dir, "delegate", parent, "gauges.saltmarsh.example"), 0, "+                 DS     ", "+ ns1.gauges      A      198.51.100.70")
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	ok(t, dir, "add", parent, "x.dunes", "A", "198.51.100.7")
	want(t, fp(t, dir, "delegate", parent, "dunes", "--ns", "ns1", "--dry-run"), 0, "A record of the zone is now hidden", "x")
}

func TestReverse(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "saltmarsh.example", "--ns", "ns1=198.51.100.53,2001:db8:5a17::53", "--ns", "ns2=203.0.113.53", clock)
	ok(t, dir, "add", "saltmarsh.example", "web", "A", "198.51.100.80", clock)
	ok(t, dir, "add", "saltmarsh.example", "www", "A", "198.51.100.80", clock)
	ok(t, dir, "add", "saltmarsh.example", "gauge[65-67]", "A", "198.51.100.[65-67]", clock)
	want(t, fp(t, dir, "reverse", "--check"), 3, "no reverse zone of the workspace", "fencepost reverse NETWORK")
	want(t, fp(t, dir, "reverse", "198.51.100.0/24", clock), 0, "belongs to web.saltmarsh.example. and to www.saltmarsh.example.")
	ok(t, dir, "reverse", "203.0.113.0/24", clock)
	ok(t, dir, "reverse", "2001:db8:5a17::/48", clock)
	s := zoneText(t, dir, "100.51.198.in-addr.arpa")
	if !strings.Contains(s, "80              PTR    web.saltmarsh.example.") || !strings.Contains(s, "NS     ns2.saltmarsh.example.") || strings.Count(s, "PTR") != 5 {
		t.Error(s)
	}
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	want(t, fp(t, dir, "reverse", "--check"), 0, "all agree both ways")
	// Of two names of one address either may be pointed back to.
	ok(t, dir, "change", "100.51.198.in-addr.arpa", "80", "PTR", "www.saltmarsh.example.", clock)
	want(t, fp(t, dir, "reverse", "--check"), 0, "all agree both ways")
	ok(t, dir, "change", "saltmarsh.example", "gauge65", "A", "198.51.100.99", clock)
	want(t, fp(t, dir, "reverse", "--check"), 1, "198.51.100.99", "there is no PTR", "the host does not have this address")
	want(t, fp(t, dir, "check"), 0, "ptr-mismatch")
	ok(t, dir, "change", "saltmarsh.example", "gauge65", "A", "198.51.100.65", clock)

	// A slice moves the PTRs into a zone of its own; the aliases lead there.
	want(t, fp(t, dir, "reverse", "198.51.100.64/28", clock), 0, "- 66              PTR    gauge66", "+ 66              CNAME  66.64-79", "+ 64-79           NS     ns1.saltmarsh.example.")
	if s := zoneText(t, dir, "64-79.100.51.198.in-addr.arpa"); !strings.Contains(s, "66              PTR    gauge66.saltmarsh.example.") {
		t.Error(s)
	}
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	want(t, fp(t, dir, "reverse", "--check"), 0, "all agree")
	ok(t, dir, "add", "saltmarsh.example", "gauge68", "A", "198.51.100.68", "--ptr", clock)
	want(t, fp(t, dir, "reverse", "198.51.100.0/24"), 0, "nothing changes")
	want(t, fp(t, dir, "reverse", "10.0.0.0/20", "--dry-run"), 0, "15.0.10.in-addr.arpa")
	want(t, fp(t, dir, "reverse", "198.51.100.7"), 2, "is not a network")
	want(t, fp(t, dir, "ask", "66.100.51.198.in-addr.arpa", "PTR", "--zone", "64-79.100.51.198.in-addr.arpa"), 1)
}

func TestTidyFiles(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	want(t, fp(t, dir, "tidy", "--check"), 0, "is tidy")
	path := filepath.Join(dir, "zones", "saltmarsh.example.zone")
	tidy := read(t, path)
	write(t, path, strings.ReplaceAll(strings.ReplaceAll(tidy, "NS     ", "ns\t"), "\n", "\r\n"))
	want(t, fp(t, dir, "tidy", "--check"), 1, "saltmarsh.example.zone is not tidy")
	ok(t, dir, "tidy", "saltmarsh.example")
	if got := read(t, path); got != tidy {
		t.Errorf("tidied it is\n%s", got)
	}
	want(t, fp(t, dir, "tidy", "--check"), 0)
	write(t, path, tidy+"broken A\n")
	want(t, fp(t, dir, "tidy"), 3, "has errors, so it was left")
}

func TestFind(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	ok(t, dir, "add", "saltmarsh.example", "cam-north", "A", "198.51.100.31", "--ptr", clock)
	ok(t, dir, "add", "saltmarsh.example", "www", "CNAME", "cam-north", clock)
	ok(t, dir, "add", "saltmarsh.example", "@", "TXT", "v=spf1 ip4:198.51.100.31 -all", clock)
	for _, c := range []struct {
		args []string
		n    int
		says string
	}{
		{[]string{"cam-*"}, 3, "zones/saltmarsh.example.zone:"},
		{[]string{"cam-north.saltmarsh.example", "--type", "PTR"}, 1, "31.100.51.198.in-addr.arpa."},
		{[]string{"198.51.100.31"}, 3, "v=spf1"},
		{[]string{"198.51.100.0/27"}, 2, "PTR"},
		{[]string{"--text", "SPF1"}, 1, "TXT"},
		{[]string{"--type", "soa", "--zone", "saltmarsh.example"}, 1, "SOA"},
		{[]string{"nothing-like-it"}, 0, ""},
	} {
		r := fp(t, dir, append([]string{"find"}, c.args...)...)
		want(t, r, map[bool]int{true: 0, false: 1}[c.n > 0], c.says)
		if n := max(strings.Count(r.out, "\n")-1, 0); n != c.n {
			t.Errorf("%v finds %d\n%s", c.args, n, r.out)
		}
	}
	want(t, fp(t, dir, "find"), 2, "say what to look for")
	want(t, fp(t, dir, "find", "x["), 2, "is not a pattern")
	want(t, fp(t, dir, "find", "--type", "AA"), 2, "did you mean")
}

func TestDiff(t *testing.T) {
	t.Parallel()
	p, port := newPair(t, false, 0)
	s := serve(t, p.primary)
	want(t, fp(t, p.primary, "diff", "served:tides.example", "tides.example"), 0, "the same records")
	ok(t, p.primary, "add", "tides.example", "new", "A", "192.0.2.77", clock)
	ok(t, p.primary, "change", "tides.example", "mail", "A", "192.0.2.26", "--ttl", "60", clock)
	ok(t, p.primary, "remove", "tides.example", "1", clock)
	r := fp(t, p.primary, "diff", "served:tides.example", "tides.example", clock)
	want(t, r, 1, "- mail.tides.example  3600 → 60  A  192.0.2.25", "+ mail.tides.example  3600 → 60  A  192.0.2.26", "+ new.tides.example  3600  A  192.0.2.77", "until 2026-11-23 10:00 UTC", "is missing for 5 minutes", "1 added, 1 removed, 1 changed")
	v := object(t, fp(t, p.primary, "diff", "tides.example", "served:tides.example", "--format", "json").out)
	if n := len(v["changes"].([]any)); n != 3 {
		t.Errorf("%d changes", n)
	}
	// The secondary may transfer, and sees what the primary serves.
	want(t, fp(t, p.secondary, "diff", "server:first", "server:first", "--origin", "tides.example"), 0, "the same records")
	want(t, fp(t, p.secondary, "diff", "server:first", "server:first"), 0, "the same records") // there is one zone
	want(t, fp(t, t.TempDir(), "diff", "server:127.0.0.1", "server:127.0.0.1"), 2, "say which zone")
	want(t, fp(t, p.primary, "diff", "serial:1", "tides.example", clock), 1, "1 added, 1 removed, 1 changed")
	want(t, fp(t, p.primary, "diff", "serial:9", "tides.example"), 3, "no such version is kept", "fencepost history")

	// The zone is taken over by transfer, and is then a tidy file.
	want(t, fp(t, p.secondary, "pull", "tides.example", "--from", "first"), 0, "15 records", "wrote zones/tides.example.zone")
	text := read(t, filepath.Join(p.secondary, "zones", "tides.example.zone"))
	if !strings.Contains(text, "$TTL 3600\n") || !strings.Contains(text, "www             CNAME  mail\n") || !strings.Contains(text, "; refresh") {
		t.Errorf("%s", text)
	}
	want(t, fp(t, p.secondary, "tidy", "--check"), 0)
	want(t, fp(t, p.secondary, "diff", "server:first", "zones/tides.example.zone"), 0)
	want(t, fp(t, p.secondary, "pull", "tides.example", "--from", "first"), 3, "exists already")
	want(t, fp(t, p.secondary, "pull", "tides.example", "--from", "first", "-o", "-"), 0, "$ORIGIN tides.example.")
	s.stop()
	want(t, fp(t, p.secondary, "pull", "other.example", "--from", fmt.Sprintf("127.0.0.1:%d", port), "-o", "-"), 3)
}

// A file from elsewhere is taken octet for octet, with a report.
func TestPullFile(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	foreign := filepath.Join(dir, "foreign.txt")
	write(t, foreign, read(t, filepath.Join(demoData, "estuary.example.zone")))
	want(t, fp(t, dir, "pull", "estuary.example", "--file", foreign), 1, "zones/estuary.example.zone:14:17", "wrote zones/estuary.example.zone")
	if zoneText(t, dir, "estuary.example") != read(t, foreign) {
		t.Error("the file is not as it was")
	}
	want(t, fp(t, dir, "pull", "x.example"), 2, "--from")
	want(t, fp(t, dir, "pull", "other.example", "--file", foreign, "-o", filepath.Join(dir, "other.txt")), 1, "this is the zone estuary.example.; other.example. was expected")
}

func TestNewLike(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	ok(t, dir, "add", "saltmarsh.example", "www", "CNAME", "web.saltmarsh.example.", "--dry-run", clock)
	ok(t, dir, "add", "saltmarsh.example", "web", "A", "198.51.100.80", clock)
	ok(t, dir, "add", "saltmarsh.example", "info", "TXT", "mail for Saltmarsh.Example", clock)
	want(t, fp(t, dir, "new", "dunes.example", "--like", "saltmarsh.example", clock), 0, "the text at zones/dunes.example.zone:", "still holds saltmarsh.example")
	s := zoneText(t, dir, "dunes.example")
	if !strings.Contains(s, "$ORIGIN dunes.example.") || !strings.Contains(s, "web             A      198.51.100.80") || strings.Contains(s, "ORIGIN saltmarsh") || !strings.Contains(s, "2026112300") {
		t.Error(s)
	}
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	want(t, fp(t, dir, "new", "x.example", "--like", "saltmarsh.example", "--ns", "ns1"), 2, "leave --ns")
	want(t, fp(t, dir, "new", "x.example", "--like", "nosuch.example"), 3, "no zone nosuch.example")
}

// An exported file is written as a person would, in two rounds the same, and says the
// same; a file with old signatures in a zone that is signed here is told of.
func TestTidyExported(t *testing.T) {
	t.Parallel()
	dir := workspaceWith(t, "tides.example")
	path := filepath.Join(dir, "zones", "tides.example.zone")
	write(t, path, "tides.example. 3600 IN SOA ns1.tides.example. h.tides.example. 5 5400 1200 1209600 600\ntides.example. 3600 IN NS ns1.tides.example.\ntides.example. 3600 IN NS ns2.other.example.\n"+
		"ns1.tides.example. 3600 IN A 192.0.2.1\ntides.example. 3600 IN TYPE15 \\# 21 000a 036e7331 057469646573 076578616d706c65 00\nx.tides.example. 3600 IN TYPE65280 \\# 2 abcd\n")
	want(t, fp(t, dir, "tidy", "tides.example", "--shorten", "--check"), 1, "is not tidy")
	ok(t, dir, "tidy", "tides.example", "--shorten")
	text := strings.Join(strings.Fields(read(t, path)), " ")
	for _, line := range []string{"$ORIGIN tides.example. @ 3600 SOA ns1 h 5", "3600 MX 10 ns1", "x 3600 TYPE65280 \\# 2 abcd"} {
		if !strings.Contains(text, line) {
			t.Errorf("shortened it lacks %s:\n%s", line, text)
		}
	}
	want(t, fp(t, dir, "tidy", "tides.example", "--shorten", "--check"), 0, "is tidy")
	ok(t, dir, "key", "new", "tides.example", "--keys", filepath.Join(t.TempDir(), "k"))
	ok(t, dir, "check")
	write(t, path, read(t, path)+"@ 3600 DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n@ 3600 RRSIG SOA 13 2 3600 20300101000000 20200101000000 1 tides.example. AAAA\n")
	want(t, fp(t, dir, "check"), 0, "signatures-in-source")
}
