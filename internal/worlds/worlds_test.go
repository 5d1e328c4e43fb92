package worlds

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
)

func play(t *testing.T, more string) *World {
	t.Helper()
	w, err := Read(append(append([]byte(nil), Demo...), more...))
	if err != nil {
		t.Fatal(err)
	}
	p, err := Play(t.Context(), w, netio.Real)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Stop)
	return p
}

// ask asks an address of the world. RD for resolvers.
func (p *World) ask(t *testing.T, at, name string, typ rr.Type) *resolve.Response {
	t.Helper()
	resp, err := resolve.Ask(t.Context(), netip.AddrPortFrom(netip.MustParseAddr(at), 53), resolve.Request{Name: dnsname.MustParse(name), Type: typ, Net: p.Net(), RD: true, DO: true})
	if err != nil {
		t.Fatalf("%s %s at %s: %v", name, typ, at, err)
	}
	return resp
}

// In the demo's world, a validating resolver finds what there is, secure where it is signed.
func TestDemoWorld(t *testing.T) {
	p := play(t, "")
	for _, c := range []struct {
		name   string
		typ    rr.Type
		code   message.Rcode
		secure bool
		data   string // of the last record; empty: no data
	}{
		{"www.saltmarsh.example.", rr.TypeA, message.NoError, true, "198.51.100.80"},
		{"tides.saltmarsh.example.", rr.TypeA, message.NoError, true, "198.51.100.80"},
		{"cams.saltmarsh.example.", rr.TypeA, message.NoError, true, "203.0.113.90"},
		{"old.archive.saltmarsh.example.", rr.TypeA, message.NoError, true, "203.0.113.91"},
		{"x.cams-old.saltmarsh.example.", rr.TypeA, message.NoError, true, "198.51.100.81"},
		{"north.gauges.saltmarsh.example.", rr.TypeA, message.NoError, true, "198.51.100.101"},
		{"www.island.example.", rr.TypeA, message.NoError, false, "203.0.113.99"},
		{"25.100.51.198.in-addr.arpa.", rr.TypePTR, message.NoError, true, "mail.saltmarsh.example."},
		{"nosuch.saltmarsh.example.", rr.TypeA, message.NXDomain, true, ""},
		{"nosuch.example.", rr.TypeA, message.NXDomain, true, ""},
		{"www.saltmarsh.example.", rr.TypeTXT, message.NoError, true, ""},
		{"island.example.", rr.TypeDS, message.NoError, true, ""},
	} {
		for range 2 { // found, and remembered
			resp := p.ask(t, "192.0.2.100", c.name, c.typ)
			const ad = 0x0020
			last := ""
			for _, rec := range resp.Answer {
				if rec.Type == c.typ {
					last = rr.DataText(rec.Type, rec.Data)
				}
			}
			if resp.Rcode() != c.code || (resp.Flags&ad != 0) != c.secure || last != c.data {
				t.Errorf("%s %s: %s, secure %v, %q; want %s, %v, %q", c.name, c.typ, resp.Rcode(), resp.Flags&ad != 0, last, c.code, c.secure, c.data)
			}
		}
	}
}

func TestReadErrors(t *testing.T) {
	for text, want := range map[string]string{
		"[[server]]\nnam = \"x\"\n":                         "line 2: worlds have no key",
		"[[server]\n":                                       "line 1",
		"[[zone]]\nname = \".\"\nservers = [\"a\"]\n":       "which is not a server here",
		"[[server]]\nname = \"a\"\naddresses = [\"1\"]\n":   "is not an address",
		"[[server]]\nname = \"a..b\"\naddresses = []\n":     "is not a name",
		"[[server]]\nname = \"a\"\naddresses = []\n":        "has no address",
		"[[fault]]\nkind = \"asleep\"\n":                    "there is no root",
		"[[fault]]\nkind = \"away\"\nfrom = \"tomorrow\"\n": "is not a time",
	} {
		if _, err := Read([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
	for more, want := range map[string]string{
		"\n[[fault]]\nkind = \"asleep\"\n":                          "not a kind of fault",
		"\n[[fault]]\nkind = \"no-delegation\"\n":                   "needs a zone",
		"\n[[fault]]\nkind = \"away\"\nserver = \"ns.nowhere\"\n":   "not a server here",
		"\n[[server]]\nname = \"c\"\naddresses = [\"192.0.2.1\"]\n": "two hosts have the address",
	} {
		if _, err := Read(append(append([]byte(nil), Demo...), more...)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", more, err, want)
		}
	}
}

// Go's own resolver is told by a resolver of the world what ours is told.
func TestGoResolver(t *testing.T) {
	p := play(t, "")
	const at = "192.0.2.100"
	place := p.Places[netip.MustParseAddr(at)]
	r := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, place.String())
	}}
	ours := func(name string, typ rr.Type) (out []string) {
		for _, rec := range p.ask(t, at, name, typ).Answer {
			if rec.Type == typ {
				out = append(out, rr.DataText(typ, rec.Data))
			}
		}
		slices.Sort(out)
		return out
	}
	same := func(what string, got []string, err error, want []string) {
		t.Helper()
		var none *net.DNSError
		if err != nil && !(errors.As(err, &none) && none.IsNotFound) {
			t.Errorf("%s: %v", what, err)
		}
		if slices.Sort(got); !slices.Equal(got, want) {
			t.Errorf("%s: Go's resolver says %q, ours %q", what, got, want)
		}
	}
	for _, name := range []string{"www.saltmarsh.example.", "tides.saltmarsh.example.", "cams.saltmarsh.example.", "old.archive.saltmarsh.example.", "x.cams-old.saltmarsh.example.",
		"north.gauges.saltmarsh.example.", "www.island.example.", "mail.harbour.example.", "nosuch.saltmarsh.example.", "_dmarc.saltmarsh.example."} {
		found, err := r.LookupNetIP(t.Context(), "ip", name)
		var got []string
		for _, a := range found {
			got = append(got, a.Unmap().String())
		}
		want := append(ours(name, rr.TypeA), ours(name, rr.TypeAAAA)...)
		slices.Sort(want)
		same(name, got, err, want)
	}
	mx, err := r.LookupMX(t.Context(), "saltmarsh.example.")
	var got []string
	for _, m := range mx {
		got = append(got, fmt.Sprintf("%d %s", m.Pref, m.Host))
	}
	same("MX", got, err, ours("saltmarsh.example.", rr.TypeMX))
	ns, err := r.LookupNS(t.Context(), "gauges.saltmarsh.example.")
	got = nil
	for _, n := range ns {
		got = append(got, n.Host)
	}
	same("NS", got, err, ours("gauges.saltmarsh.example.", rr.TypeNS))
	txt, err := r.LookupTXT(t.Context(), "_dmarc.saltmarsh.example.")
	for i := range txt {
		txt[i] = strconv.Quote(txt[i])
	}
	same("TXT", txt, err, ours("_dmarc.saltmarsh.example.", rr.TypeTXT))
	ptr, err := r.LookupAddr(t.Context(), "198.51.100.25")
	same("PTR", ptr, err, ours("25.100.51.198.in-addr.arpa.", rr.TypePTR))
}
