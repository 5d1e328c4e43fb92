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

// A thousand zones reach a secondary by a catalog, without its configuration being touched; they go and
// come with it, keep what they have over a restart without their primary, and strangers are told nothing
// of the catalog. Groups say how their members are served there.
func TestCatalog(t *testing.T) {
	t.Parallel()
	main, second := t.TempDir(), t.TempDir()
	port, its := freePort(t), freePort(t)
	const key = "[tsig.harbour]\nsecret = \"c2FsdG1hcnNoLW9ic2VydmF0b3J5LXRpZGVzLW9mLTI=\"\n"
	write(t, filepath.Join(main, "secrets.toml"), key)
	write(t, filepath.Join(second, "secrets.toml"), key)
	const many = 400
	zones := func(n int, more string) string {
		var b strings.Builder
		fmt.Fprintf(&b, "[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.harbour]\naddress = \"127.0.0.1:%d\"\ntsig = \"harbour\"\n[[catalog]]\nname = \"catalog.example\"\nzones = [\"z*.example\", \"own.example\"]\nsend-to = [\"harbour\"]\n", port, its)
		for i := range n {
			fmt.Fprintf(&b, "[[zone]]\nname = \"z%d.example\"\nsend-to = [\"harbour\"]\n", i)
		}
		return b.String() + more
	}
	for i := range many {
		write(t, filepath.Join(main, "zones", fmt.Sprintf("z%d.example.zone", i)), fmt.Sprintf("$TTL 60\n@ SOA ns1.other. h.other. 1 5400 1200 1209600 60\n@ NS ns1.other.\n@ NS ns2.other.\nwww A 192.0.2.%d\n", i%250))
	}
	write(t, filepath.Join(main, "zones", "own.example.zone"), "$TTL 60\n@ SOA ns1.other. h.other. 1 5400 1200 1209600 60\n@ NS ns1.other.\n@ NS ns2.other.\n")
	write(t, filepath.Join(main, "fencepost.toml"), zones(many-1, "[[zone]]\nname = \"own.example\"\ngroup = \"special\"\nsend-to = [\"harbour\"]\n"))
	write(t, filepath.Join(second, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.main]\naddress = \"127.0.0.1:%d\"\ntsig = \"harbour\"\n[[catalog]]\nname = \"catalog.example\"\nfetch-from = [\"main\"]\n[[zone]]\nname = \"own.example\"\n", its, port))
	write(t, filepath.Join(second, "zones", "own.example.zone"), "$TTL 60\n@ SOA ns1.other. h.other. 77 5400 1200 1209600 60\n@ NS ns1.other.\n@ NS ns2.other.\n")
	d, s := serve(t, main), serve(t, second)
	ask := func(name string, typ rr.Type) *resolve.Response {
		resp, err := resolve.Ask(t.Context(), netip.MustParseAddrPort(s.addr), resolve.Request{Name: dnsname.MustParse(name), Type: typ, Timeout: 5 * time.Second})
		if err != nil {
			t.Fatal(err)
		}
		return resp
	}
	all := func(n int) func() bool {
		return func() bool {
			for i := range n {
				if ask(fmt.Sprintf("www.z%d.example.", i), rr.TypeA).Rcode() != message.NoError {
					return false
				}
			}
			return true
		}
	}
	eventually(t, "the zones come", all(many-1))
	write(t, filepath.Join(main, "fencepost.toml"), zones(many, "[[zone]]\nname = \"own.example\"\ngroup = \"special\"\nsend-to = [\"harbour\"]\n"))
	ok(t, main, "reload")
	eventually(t, "one more comes", all(many))
	if serial := serialAt(t, s.addr, dnsname.MustParse("own.example.")); serial != "77" {
		t.Errorf("the zone that is configured at the secondary has serial %s", serial)
	}
	if r := fp(t, second, "status"); r.status != 1 || !strings.Contains(r.out, "own.example is configured here in another way") || !strings.Contains(r.out, "400 zones served as it says") {
		t.Errorf("status %d: %s", r.status, r.out)
	}
	for _, at := range []string{d.addr, s.addr} {
		for _, name := range []string{"catalog.example.", "version.catalog.example."} {
			resp, err := resolve.Ask(t.Context(), netip.MustParseAddrPort(at), resolve.Request{Name: dnsname.MustParse(name), Type: rr.TypeTXT, Timeout: 5 * time.Second})
			if err != nil || resp.Rcode() != message.Refused {
				t.Errorf("a stranger asks %s for %s: %v (%v)", at, name, resp.Rcode(), err)
			}
		}
	}
	if out := ok(t, main, "dump", "catalog.example"); !strings.Contains(out, "special") || strings.Count(out, "PTR") != many+1 {
		t.Errorf("the catalog has %d members", strings.Count(out, "PTR"))
	}
	want(t, fp(t, main, "add", "catalog.example", "x", "A", "192.0.2.1"), 3, "made from fencepost.toml")
	want(t, fp(t, main, "check", "fencepost.toml"), 0)
	d.stop()
	s.kill()
	s.start()
	eventually(t, "they are there after a restart, without their primary", all(many))
	d.start()
	write(t, filepath.Join(main, "fencepost.toml"), zones(many-200, ""))
	ok(t, main, "reload")
	eventually(t, "half of them go", func() bool {
		return ask(fmt.Sprintf("www.z%d.example.", many-1), rr.TypeA).Rcode() == message.Refused && all(many-200)()
	})
}
