package audit

import (
	"encoding/base64"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// Every test says what it is about, once, and can be explained.
func TestDeclared(t *testing.T) {
	seen := map[string]bool{}
	for _, x := range Tests {
		if seen[x.Code] || x.Title == "" || x.Doc == "" || x.Severity < diag.Error || x.Severity > diag.Note || x.Look == nil || x.Ref == "" && !elsewhere[x.Rule] {
			t.Errorf("%s: twice, or not declared in full: %+v", x.Code, x.Rule)
		}
		seen[x.Code] = true
		if strings.HasSuffix(x.Title, ".") || !strings.HasSuffix(x.Doc, ".") && !strings.HasSuffix(x.Doc, "-.") {
			t.Errorf("%s: %q, %q", x.Code, x.Title, x.Doc)
		}
	}
	if len(Tests) < 70 {
		t.Errorf("%d tests", len(Tests))
	}
}

func find(code string, f *Facts) []Finding {
	i := slices.IndexFunc(Tests, func(x *Test) bool { return x.Code == code })
	var l Findings
	if Tests[i].Skip == nil || Tests[i].Skip(f) == "" {
		Tests[i].Look(f, &l)
	}
	return l.list
}

func TestSlow(t *testing.T) {
	for elapsed, want := range map[time.Duration]int{0: 0, 700 * time.Millisecond: 0, 701 * time.Millisecond: 1, 5 * time.Second: 1} {
		s := &Server{Host: &Host{}, SOA: &resolve.Response{Message: &message.Message{Header: message.Header{Flags: message.FlagAA}}, Elapsed: elapsed}}
		if got := find("server-slow", &Facts{Servers: []*Server{s}}); len(got) != want {
			t.Errorf("%s: %v", elapsed, got)
		}
	}
}

func TestNetworks(t *testing.T) {
	n, err := ParseNetworks([]byte("# ours\n198.51.0.0/16 64500 The county\n198.51.100.7/24 as64501\n\n2001:db8::/32 AS64502 # six\n"))
	if err != nil {
		t.Fatal(err)
	}
	for a, want := range map[string]string{"198.51.100.53": "AS64501", "198.51.99.1": "AS64500 (The county)", "2001:db8::1": "AS64502"} {
		if got, known := n.of(netip.MustParseAddr(a)); !known || got.String() != want {
			t.Errorf("%s: %s, want %s", a, got, want)
		}
	}
	if got, known := n.of(netip.MustParseAddr("203.0.113.1")); known {
		t.Errorf("nobody's: %s", got)
	}
	for text, want := range map[string]string{"\n198.51.100.0/24": "line 2: ", "198.51.100.0 64500": "is not a network", "198.51.100.0/24 four": "is not a number", "::/0 4294967296": "is not a number"} {
		if _, err := ParseNetworks([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestRSABits(t *testing.T) {
	key := func(algorithm byte, exponent []byte, modulus int) []byte {
		return append(append([]byte{1, 0, 3, algorithm}, exponent...), slices.Repeat([]byte{0xC1}, modulus)...)
	}
	for want, dnskey := range map[int][]byte{
		1024: key(8, []byte{3, 1, 0, 1}, 128), 2048: key(10, []byte{0, 0, 3, 1, 0, 1}, 256), 512: key(5, []byte{1, 3, 0, 0}, 64),
		0: key(13, nil, 64), -1: {1, 0, 3, 8}, -2: key(8, []byte{200, 1}, 10), -3: {1, 0, 3, 8, 0, 0, 0, 0},
	} {
		if got := rsaBits(dnskey); got != max(want, 0) {
			t.Errorf("%s: %d bits, want %d", base64.StdEncoding.EncodeToString(dnskey), got, want)
		}
	}
}

func TestHostName(t *testing.T) {
	for name, want := range map[string]bool{"ns1.example.": true, "NS1.example.": true, "n-s.example.": true, "1.example.": true,
		"ns_1.example.": false, "-ns.example.": false, "ns-.example.": false, "*.example.": false, `n\\000.example.`: false} {
		if got := hostName(dnsname.MustParse(strings.ReplaceAll(name, `\\`, `\`))); got != want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// What servers answer for a name that does not exist (RFC 2308 §2.1).
func TestNoSuchName(t *testing.T) {
	answer := func(code message.Rcode, types ...rr.Type) *resolve.Response {
		r := &resolve.Response{Message: &message.Message{Header: message.Header{Flags: message.FlagAA}, ExtendedRcode: code}}
		for _, typ := range types {
			r.Authority = append(r.Authority, rr.Record{Type: typ})
		}
		return r
	}
	for want, answers := range map[string][]*resolve.Response{
		"":                {answer(message.NXDomain, rr.TypeSOA), answer(message.NXDomain, rr.TypeNSEC, rr.TypeSOA), answer(message.NoError), answer(message.NoError, rr.TypeSOA)},
		"does not answer": {nil}, "SERVFAIL": {answer(message.ServFail), answer(message.ServFail, rr.TypeSOA)}, "without the SOA": {answer(message.NXDomain), answer(message.NXDomain, rr.TypeNSEC)},
	} {
		for i, r := range answers {
			s := &Server{Host: &Host{}, SOA: answer(message.NoError), NoName: r}
			found := find("no-such-name-mishandled", &Facts{Servers: []*Server{s}, nosuch: dnsname.MustParse("nosuch.example.")})
			if (len(found) == 0) != (want == "") || want != "" && !strings.Contains(found[0].Message, want) {
				t.Errorf("%q, %d: %v", want, i, found)
			}
		}
	}
}
