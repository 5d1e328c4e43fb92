package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Every command speaks JSON on request, on standard output and nothing else.
func TestJSON(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	serve(t, p.primary)
	bare := filepath.Join(t.TempDir(), "x.example.zone")
	write(t, bare, "$TTL 60\n@ SOA ns.other. h 1 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\n")
	for _, c := range []struct {
		args []string
		keys string // that the object has
	}{
		{[]string{"init", filepath.Join(t.TempDir(), "ws")}, "zone files"},
		{[]string{"add", bare, "a", "A", "192.0.2.1"}, "files written notes"},
		{[]string{"change", bare, "a", "A", "192.0.2.2"}, "written"},
		{[]string{"remove", bare, "a"}, "written"},
		{[]string{"serial", bare}, "zone serial next style"},
		{[]string{"serial", bare, "--set", "1", "--plan"}, "zone serial plan"},
		{[]string{"tidy", "--check", bare}, "file tidy written"},
		{[]string{"find", "ns1", "--type", "A"}, "file line column zone name ttl type data"},
		{[]string{"diff", bare, bare}, "zone old_serial serial changes without_dnssec"},
		{[]string{"reverse", "192.0.2.0/24", "--ns", "ns1.tides.example", "--ns", "ns2.tides.example", "--dry-run"}, "files written notes"},
		{[]string{"delegate", "tides.example", "new", "--ns", "ns1", "--dry-run"}, "files written notes"},
		{[]string{"pull", "pulled.example", "--file", bare, "-o", filepath.Join(t.TempDir(), "x.zone")}, "zone serial records left_out files errors warnings"},
		{[]string{"explain", "missing-glue"}, "code severity title reference text bad good"},
		{[]string{"key", "new", "tides.example"}, "key_tag algorithm role file"},
		{[]string{"key", "list", "tides.example"}, "zone folder keys"},
		{[]string{"roll", "tides.example"}, "zone state keys now"},
		{[]string{"sign", "tides.example", "-o", "s.zone"}, "zone serial signatures expires file"},
		{[]string{"verify", "s.zone"}, "valid signatures first_expiry denial zonemd anchored"},
		{[]string{"handover", "tides.example"}, "name_servers keys records"},
		{[]string{"status"}, "started listen zones"},
		{[]string{"reload"}, "zones"},
		{[]string{"notify", "tides.example"}, "zone done"},
		{[]string{"dump", "tides.example"}, "zone text"},
		{[]string{"ask", "tides.example", "MX"}, "RCODE answerRRs messageOctetsHEX"},
		{[]string{"ask", "tides.example", "MX", "--zone", "tides.example"}, "RCODE answerRRs"},
		{[]string{"secondaries", "tides.example", "--timeout", "100ms"}, "zone serial in_sync servers"},
	} {
		r := fp(t, p.primary, append(c.args, "--format", "json")...)
		v := object(t, r.out)
		for _, k := range strings.Fields(c.keys) {
			if _, ok := v[k]; !ok {
				t.Errorf("%v: there is no %s in %s", c.args, k, r.out)
			}
		}
	}
	for _, l := range strings.Split(strings.TrimSpace(fp(t, p.primary, "check", "--format", "json").out), "\n") {
		if l != "" && !json.Valid([]byte(l)) {
			t.Errorf("check prints %s", l)
		}
	}
}

// Data go to standard output, all else to standard error; --quiet silences the
// latter.
func TestStreams(t *testing.T) {
	t.Parallel()
	bare := filepath.Join(t.TempDir(), "x.example.zone")
	write(t, bare, "$TTL 60\n@ SOA ns.other. h 7 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\n")
	if r := fp(t, ".", "serial", bare, "--quiet"); r.out != "7\n" || r.err != "" {
		t.Errorf("out %q, err %q", r.out, r.err)
	}
	if r := fp(t, ".", "check", bare); r.out != "" || !strings.Contains(r.err, "nothing to report") {
		t.Errorf("out %q, err %q", r.out, r.err)
	}
	if r := fp(t, ".", "serial", "nosuch.zone"); r.out != "" || !strings.HasPrefix(r.err, "error: ") {
		t.Errorf("out %q, err %q", r.out, r.err)
	}
}

// IPv6 is served like IPv4, on one address and on all.
func TestIPv6(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "[::1]:0")
	if err != nil {
		t.Skip("there is no IPv6 on this machine")
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	for _, host := range []string{"[::1]", "[::]"} {
		dir := t.TempDir()
		write(t, filepath.Join(dir, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"%s:%d\"]\n[[zone]]\nname = \"tides.example\"\n", host, port))
		write(t, filepath.Join(dir, "zones", "tides.example.zone"), tides)
		d := serve(t, dir)
		for _, transport := range []string{"udp", "tcp"} {
			want(t, fp(t, ".", "ask", "mail.tides.example", "AAAA", "--at", fmt.Sprintf("[::1]:%d", port), "--transport", transport), 0, "2001:db8::25", "authoritative")
		}
		d.stop()
	}
}

// A server begins at --now and goes on from there.
func TestServeNow(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	config := filepath.Join(p.primary, "fencepost.toml")
	write(t, config, strings.Replace(read(t, config), "[[zone]]", "[policy.standard]\n[[zone]]\nsign = \"standard\"", 1))
	d := &daemon{t: t, dir: p.primary, log: filepath.Join(t.TempDir(), "log"), args: []string{"--now", "2030-06-01T00:00:00Z"}}
	d.start()
	t.Cleanup(d.stop)
	eventually(t, "the zone is signed", func() bool { return strings.Contains(fp(t, p.primary, "status").out, "signatures are valid until") })
	want(t, fp(t, p.primary, "status"), 0, "signatures are valid until 2030-06-2", "renewed 2030-06-1")
	write(t, filepath.Join(p.primary, "dump.zone"), ok(t, p.primary, "dump", "tides.example"))
	want(t, fp(t, p.primary, "verify", "dump.zone", "--now", "2030-06-02T00:00:00Z"), 0, "proved")
	want(t, fp(t, p.primary, "verify", "dump.zone"), 1, "signature-not-yet-valid")
}

// Findings that are many and alike do not bury a terminal; a program gets all.
func TestManyFindings(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "x.example.zone")
	var b strings.Builder
	b.WriteString("$TTL 60\n@ SOA ns.other. h 7 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\n")
	for i := range 500 {
		fmt.Fprintf(&b, "h%d A 192.0.2.256\n", i)
	}
	write(t, path, b.String())
	r := fp(t, ".", "check", path)
	want(t, r, 1, "480 more of address-out-of-range are not shown", "500 errors")
	if n := strings.Count(r.out, "is over 255"); n != 20 {
		t.Errorf("%d are shown", n)
	}
	if n := strings.Count(fp(t, ".", "check", path, "--format", "json").out, "\n"); n != 500 {
		t.Errorf("as JSON there are %d", n)
	}
}

// ask says what an answer amounts to, finds the server wherever it listens, and its exit
// status tells a server that would not answer from a name that does not exist.
func TestAskOutcomes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "fencepost.toml"), "[serve]\nlisten = [\"127.0.0.1:1\"]\n[[zone]]\nname = \"tides.example\"\n")
	write(t, filepath.Join(dir, "zones", "tides.example.zone"), tides+"long TXT "+strings.Repeat("\""+strings.Repeat("x", 250)+"\" ", 8)+"\nxn--bcher-kva A 192.0.2.6\n")
	d := &daemon{t: t, dir: dir, log: filepath.Join(t.TempDir(), "log"), args: []string{"--listen", "127.0.0.1:0"}}
	d.start()
	t.Cleanup(d.stop)
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"www.tides.example", 0, "NOERROR"},
		{"nosuch.tides.example", 0, "does not exist (NXDOMAIN)"},
		{"mail.tides.example LOC", 0, "no data: mail.tides.example exists and has no LOC records"},
		{"x.child.tides.example", 0, "a referral: child.tides.example is delegated"},
		{"www.tides.example LOC", 0, "an alias: the server has no LOC at its target, mail.tides.example."},
		{"other.example", 1, "refuses to answer (REFUSED)"},
		{"bücher.tides.example", 0, "192.0.2.6"},
		{"192.0.2.6", 1, "6.2.0.192.in-addr.arpa PTR"},
		{"2001:db8::1", 1, "ip6.arpa PTR"},
		{".", 1, ". NS"},
		{"long.tides.example TXT", 0, "over TCP (too large for UDP)"},
		{"long.tides.example TXT --transport udp", 0, "cut off"},
		{"long.tides.example TXT --zone tides.example", 0, "xxxx"},
		{"other.example --zone tides.example", 1, "REFUSED"},
	} {
		r := fp(t, dir, append([]string{"ask"}, strings.Fields(c.args)...)...)
		want(t, r, c.status, c.says)
		if strings.Contains(c.args, "--zone") && strings.Contains(r.out, "cut off") {
			t.Errorf("from a file the answer is cut off:\n%s", r.out)
		}
	}
	want(t, fp(t, dir, "secondaries", "tides.example"), 0, "in sync")
}

// diff knows what answered before, and says when secondaries would not take the change;
// sign says so too. A zone that is fetched has no file here.
func TestSerialsAndWildcards(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	zone := "$ORIGIN w.example.\n$TTL 3600\n@ SOA ns1 h 5 5400 1200 1209600 600\n@ NS ns1\n@ NS ns2.other.example.\nns1 A 192.0.2.1\n* 7200 A 192.0.2.9\n*.alias 1800 CNAME ns1\nsub 900 NS ns1\n"
	write(t, filepath.Join(dir, "a"), zone)
	write(t, filepath.Join(dir, "b"), zone+"www A 192.0.2.2\nx.alias TXT \"t\"\nwww AAAA 2001:db8::1\n")
	args := []string{"diff", "a", "b", "--origin", "w.example"}
	want(t, fp(t, dir, args...), 1, "*.w.example. answered before: caches may keep that for 2 hours", "*.alias.w.example. answered before: caches may keep that for 30 minutes", "the serial is still 5", "serial w.example --next")
	v := object(t, fp(t, dir, append(args, "--format", "json")...).out)
	by := map[string]any{}
	for _, c := range v["changes"].([]any) {
		m := c.(map[string]any)
		by[m["name"].(string)+m["type"].(string)] = m["answered_before_by"]
	}
	if by["www.w.example.A"] != "*.w.example." || by["www.w.example.AAAA"] != nil || by["x.alias.w.example.TXT"] != "*.alias.w.example." {
		t.Errorf("answered before: %v", by)
	}
	write(t, filepath.Join(dir, "b"), strings.Replace(zone, " 5 5400", " 4 5400", 1)+"www A 192.0.2.2\n")
	want(t, fp(t, dir, args...), 1, "goes back, from 5 to 4")
	write(t, filepath.Join(dir, "b"), strings.Replace(zone, " 5 5400", " 6 5400", 1)+"www A 192.0.2.2\n")
	if r := fp(t, dir, args...); strings.Contains(r.err, "the serial") {
		t.Errorf("serials that grew: %s", r.err)
	}
	ok(t, dir, "key", "new", "w.example", "--keys", "k")
	ok(t, dir, "sign", "a", "--origin", "w.example", "--keys", "k", "-o", "signed")
	want(t, fp(t, dir, "sign", "a", "--origin", "w.example", "--keys", "k", "-o", "signed", "--now", time.Now().Add(time.Hour).Format(time.RFC3339)), 0, "the serial is still 5")

	p, _ := newPair(t, false, 0)
	want(t, fp(t, p.secondary, "add", "tides.example", "x", "A", "192.0.2.1"), 3, "is fetched from first", "changed there")
}

// With --format json a refusal is an object too, with its findings: where the answer
// would have been, or beside what was written before.
func TestRefusalsInJSON(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	for args, status := range map[string]int{"add saltmarsh.example ns1 CNAME x": 1, "add saltmarsh.example": 2, "nosuch": 2, "remove saltmarsh.example nosuch": 3, "check nosuch.zone": 3, "add saltmarsh.example x AA 1": 2} {
		r := fp(t, dir, append(strings.Fields(args), "--format", "json")...)
		v := object(t, r.out)
		if r.status != status || v["status"] != float64(status) || v["error"] == "" || r.err != "" {
			t.Errorf("%s: status %d, %v, on standard error: %s", args, r.status, v, r.err)
		}
		if _, listed := v["findings"]; listed != (status == 1) {
			t.Errorf("%s: findings: %v", args, v)
		}
	}
	write(t, filepath.Join(dir, "tides.example.zone"), tides+"bad A x\n")
	r := fp(t, dir, "check", "nosuch.zone", "tides.example.zone", "--format", "json")
	if v := object(t, r.err); r.status != 3 || v["status"] != 3.0 || strings.Contains(r.out, "\"error\":") {
		t.Errorf("beside findings: status %d\n%s\n%s", r.status, r.out, r.err)
	}
}
