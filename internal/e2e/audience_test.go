package e2e

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// Askers inside and outside have answers of their own, at the primary and through a secondary that has
// both versions by two keys; both are signed with the same keys, a message changes both, and what only
// some can see nobody else gets.
func TestAudiences(t *testing.T) {
	t.Parallel()
	main, second := t.TempDir(), t.TempDir()
	port, its := freePort(t), freePort(t)
	secrets := "[tsig.out]\nsecret = \"b3V0c2lkZQ==\"\n[tsig.in]\nsecret = \"aW5zaWRl\"\n[tsig.both]\nsecret = \"" + updateSecret + "\"\n"
	const audience = "[audience.inside]\nnetworks = [\"127.0.0.64/26\", \"2001:db8:40::/48\"]\n"
	write(t, filepath.Join(main, "secrets.toml"), secrets)
	write(t, filepath.Join(second, "secrets.toml"), secrets)
	write(t, filepath.Join(main, "fencepost.toml"), fmt.Sprintf(`[serve]
listen = ["127.0.0.1:%d"]
[policy.standard]
[peer.harbour]
address = "127.0.0.1:%d"
tsig = "out"
[peer.harbour-inside]
address = "127.0.0.1:%[2]d"
tsig = "in"
audience = "inside"
%s[[zone]]
name = "tides.example"
sign = "standard"
send-to = ["harbour", "harbour-inside"]
audiences = ["inside"]
[[grant]]
key = "both"
zones = ["tides.example"]
audience = "all"
`, port, its, audience))
	write(t, filepath.Join(second, "fencepost.toml"), fmt.Sprintf(`[serve]
listen = ["127.0.0.1:%d"]
[peer.main]
address = "127.0.0.1:%d"
tsig = "out"
[peer.main-inside]
address = "127.0.0.1:%[2]d"
tsig = "in"
audience = "inside"
%s[[zone]]
name = "tides.example"
fetch-from = ["main", "main-inside"]
audiences = ["inside"]
`, its, port, audience))
	head := "$TTL 60\n@ SOA ns1 hostmaster %d 5400 1200 1209600 60\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.1\n"
	write(t, filepath.Join(main, "zones", "tides.example.zone"), fmt.Sprintf(head, 10)+"web A 198.51.100.80\n")
	write(t, filepath.Join(main, "zones", "tides.example@inside.zone"), fmt.Sprintf(head, 70)+"web A 10.0.0.80\nprinter A 10.0.0.9\n")
	d, s := serve(t, main), serve(t, second)
	outside, inside := netip.MustParseAddr("127.0.0.9"), netip.MustParseAddr("127.0.0.70")
	ask := func(at, label string, typ rr.Type, from netip.Addr) *resolve.Response {
		t.Helper()
		resp, err := resolve.Ask(t.Context(), netip.MustParseAddrPort(at), resolve.Request{Name: dnsname.MustParse(label + "tides.example."), Type: typ, Local: from, Timeout: 5 * time.Second, DO: true})
		if err != nil {
			t.Fatal(err)
		}
		return resp
	}
	sees := func(at, label string, from netip.Addr, want string) bool {
		data, _ := ask(at, label, rr.TypeA, from).Set(dnsname.MustParse(label+"tides.example."), rr.TypeA)
		got := ""
		if len(data) == 1 {
			ip, _ := netip.AddrFromSlice(data[0])
			got = ip.String()
		}
		return got == want
	}
	eventually(t, "the secondary has both", func() bool {
		return ask(s.addr, "web.", rr.TypeA, inside).Rcode() == message.NoError && sees(s.addr, "web.", inside, "10.0.0.80") && sees(s.addr, "web.", outside, "198.51.100.80")
	})
	all := func(what string, want map[string][2]string) {
		t.Helper()
		for _, at := range []string{d.addr, s.addr} {
			for label, w := range want {
				eventually(t, what+" "+label+" outside at "+at, func() bool { return sees(at, label, outside, w[0]) })
				eventually(t, what+" "+label+" inside at "+at, func() bool { return sees(at, label, inside, w[1]) })
			}
		}
	}
	all("at first", map[string][2]string{"web.": {"198.51.100.80", "10.0.0.80"}, "printer.": {"", "10.0.0.9"}, "ns1.": {"192.0.2.1", "192.0.2.1"}})
	if code := ask(s.addr, "printer.", rr.TypeA, outside).Rcode(); code != message.NXDomain {
		t.Errorf("outside the printer is %s", code)
	}
	// One set of keys, and both versions are proved with it.
	var tags []string
	for _, version := range []string{"tides.example", "tides.example@inside"} {
		file := filepath.Join(main, strings.ReplaceAll(version, "@", "-")+".served")
		write(t, file, ok(t, main, "dump", version))
		out := ok(t, main, "verify", file)
		_, rest, _ := strings.Cut(out, "key ")
		tag, _, _ := strings.Cut(rest, ",")
		tags = append(tags, tag)
	}
	if tags[0] == "" || tags[0] != tags[1] {
		t.Errorf("the versions are signed with the keys %q", tags)
	}
	if a, b := ok(t, second, "dump", "tides.example@inside"), ok(t, main, "dump", "tides.example@inside"); a != b {
		t.Error("the secondary has another version for inside")
	}
	// A message changes both, and a file one.
	both := &asker{at: netip.MustParseAddrPort(d.addr), key: updateKey("both"), zone: dnsname.MustParse("tides.example.")}
	if code, err := both.set(t.Context(), "buoy", "198.51.100.7"); code != message.NoError || err != nil {
		t.Fatal(code, err)
	}
	ok(t, main, "add", "tides.example@inside", "scanner", "A", "10.0.0.10", "--reload")
	all("changed", map[string][2]string{"buoy.": {"198.51.100.7", "198.51.100.7"}, "scanner.": {"", "10.0.0.10"}})
	if out := ok(t, main, "pending", "tides.example@inside"); !strings.Contains(out, "buoy") {
		t.Error(out)
	}
	ok(t, main, "fold", "tides.example@inside")
	if !strings.Contains(read(t, filepath.Join(main, "zones", "tides.example@inside.zone")), "buoy") || strings.Contains(read(t, filepath.Join(main, "zones", "tides.example.zone")), "buoy") {
		t.Error("fold wrote into another file than that of its audience")
	}
	for _, c := range []struct{ args, says string }{
		{"status", "tides.example@inside"},
		{"history tides.example@inside", "key both"},
		{"ask printer.tides.example --as-from 127.0.0.70", "what the audience inside sees"},
		{"ask printer.tides.example --as-from 127.0.0.9", "what everyone sees"},
		{"ask web.tides.example --zone tides.example --as-from 2001:db8:40::1", "10.0.0.80"},
		{"ask web.tides.example --zone tides.example --as-from 192.0.2.200", "198.51.100.80"},
	} {
		if r := fp(t, main, strings.Fields(c.args)...); !strings.Contains(r.out+r.err, c.says) {
			t.Errorf("%s: %s%s, want %q in it", c.args, r.out, r.err, c.says)
		}
	}
	// What is published is what everyone sees; the inside has serials of its own, and is ahead.
	ok(t, main, "change", "tides.example", "web", "A", "198.51.100.81")
	want(t, fp(t, main, "publish", "tides.example", "--patience", "20s"), 0, "harbour, harbour-inside in sync", "published")
	all("published", map[string][2]string{"web.": {"198.51.100.81", "10.0.0.80"}})
	ok(t, main, "add", "tides.example@inside", "lamp", "A", "10.0.0.11")
	want(t, fp(t, main, "publish", "tides.example", "--patience", "20s"), 0, "tides.example@inside: sets of records: added 1", "published")
	all("published inside", map[string][2]string{"lamp.": {"", "10.0.0.11"}})
	d.kill()
	d.start()
	all("after a restart", map[string][2]string{"web.": {"198.51.100.81", "10.0.0.80"}, "scanner.": {"", "10.0.0.10"}})
}
