package checks

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/net/idna"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
)

// eachLabel calls f for each label of a relative name in wire form, from the
// left, until it says no.
func eachLabel(wire []byte, f func(i int, label []byte) bool) {
	for i := 0; len(wire) > 0 && wire[0] > 0; i++ {
		if !f(i, wire[1:1+int(wire[0])]) {
			return
		}
		wire = wire[1+int(wire[0]):]
	}
}

// isHost reports whether a name has records that make it a host or mail domain.
func isHost(n *lint.Name) bool {
	for set := range n.RRsets {
		if set.Type == rr.TypeA || set.Type == rr.TypeAAAA || set.Type == rr.TypeMX {
			return true
		}
		if set.Type > rr.TypeAAAA {
			return false
		}
	}
	return false
}

var hostShape = &lint.Check{Rule: diag.Rule{
	Code: "host-name-shape", Severity: diag.Warning, Title: "a host's name is not a valid host name", Ref: "RFC 1123 §2.1, RFC 1912 §2.1",
	Doc: "Labels of host names are letters, digits and hyphens, with no hyphen at either end. The DNS carries other names, " +
		"but browsers, mail servers and certificate authorities refuse them.",
	Bad:  "web- A 192.0.2.1\n",
	Good: "web-1 A 192.0.2.1\n"},
	Name: func(p *lint.Pass, n *lint.Name) { hostLabels(p, n, false) },
}

var hostUnderscore = &lint.Check{Rule: diag.Rule{
	Code: "underscore-in-host-name", Severity: diag.Note, Title: "a host has an underscore in its name", Ref: "RFC 1123 §2.1, RFC 1912 §2.1, RFC 8552",
	Doc: "Underscores are for names of services, such as _sip._tcp. Hosts with one work in many places and not in all: certificates are not issued for them. " +
		"Write a hyphen.",
	Bad:  "web_1 A 192.0.2.1\n",
	Good: "web-1 A 192.0.2.1\n"},
	Name: func(p *lint.Pass, n *lint.Name) { hostLabels(p, n, true) },
}

// hostLabels reports the first label of a host's name that breaks host syntax:
// by an underscore alone, or by something else.
func hostLabels(p *lint.Pass, n *lint.Name, underscore bool) {
	if !n.Odd() {
		return
	}
	var buf [dnsname.MaxWire]byte
	var bad []byte
	eachLabel(n.AppendRelative(buf[:0]), func(_ int, l []byte) bool {
		if isHostLabel(l) || bytes.IndexByte(l, '*') >= 0 { // see asterisk-inside
			return true
		}
		if bytes.EqualFold(l, []byte("_msdcs")) { // hosts below it are found by services, not by people
			bad = nil
			return false
		}
		plain := bytes.ReplaceAll(l, []byte("_"), []byte("x"))
		if isHostLabel(plain) == underscore && isASCII(l) {
			bad = l
		}
		return bad == nil
	})
	if bad == nil || !isHost(n) || missesDot(p, n) {
		return
	}
	for set := range n.Sets {
		what := "the label %q of %s breaks the syntax of host names"
		if underscore {
			what = "the label %q of the host %s has an underscore"
		}
		p.Add(p.Report(set.Layout(0).OwnerOrType(), what, bad, n.Owner()).Suggest("use letters, digits and hyphens only"))
		return
	}
}

func isASCII(b []byte) bool {
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// missesDot reports whether a name ends in the zone's name twice, which is reported
// as just that.
func missesDot(p *lint.Pass, n *lint.Name) bool {
	return !n.IsApex() && len(p.ApexKey) > 0 && n.HasKeyPrefix(p.ApexKey)
}

var targetShape = &lint.Check{Rule: diag.Rule{
	Code: "target-no-host-name", Severity: diag.Warning, Title: "an NS, MX or SRV record names a host that cannot be one", Ref: "RFC 1123 §2.1, RFC 2181 §11",
	Doc:  "Name servers and mail servers are hosts, so their names are letters, digits and hyphens. Something was mistyped, or a character is escaped that should not be.",
	Bad:  "@ MX 10 mail_1.example.net.\n",
	Good: "@ MX 10 mail-1.example.net.\n"},
	Types: types(rr.TypeNS, rr.TypeMX, rr.TypeSRV), Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			bad := false
			eachLabel(r.wire, func(_ int, l []byte) bool { bad = !isHostLabel(l); return !bad })
			if !bad || p.Look(r.wire).InZone {
				return
			}
			t := r.place(p)
			p.Add(p.Report(t.span, "the %s %s is not a host name", role(set.Type), t.name()).Suggest("use letters, digits and hyphens only"))
		})
	},
}

var aLabel = &lint.Check{Rule: diag.Rule{
	Code: "bad-a-label", Severity: diag.Warning, Title: "a label begins with xn-- and is not a valid A-label", Ref: "RFC 5890 §2.3.1, §2.3.2.1, RFC 5891 §4.2, §5.4",
	Doc: "A label that begins with xn-- is the encoded form of a name in another script; one that does not decode, or has another encoding, is never asked for. " +
		"Other labels with two hyphens in the third and fourth place are reserved.",
	Bad:  "xn--a A 192.0.2.1\n",
	Good: "xn--bcher-kva A 192.0.2.1\n"},
	Name: func(p *lint.Pass, n *lint.Name) {
		if !n.Odd() {
			return
		}
		var buf [dnsname.MaxWire]byte
		eachLabel(n.AppendRelative(buf[:0]), func(_ int, l []byte) bool {
			if len(l) < 4 || l[2] != '-' || l[3] != '-' || l[0] == '_' {
				return true
			}
			label := strings.ToLower(string(l))
			fault := "is reserved: it has hyphens in the third and fourth place"
			if strings.HasPrefix(label, "xn--") {
				fault = aLabelFault(label)
			}
			if fault == "" {
				return true
			}
			for set := range n.Sets {
				p.Add(p.Report(set.Layout(0).OwnerOrType(), "the label %s of %s %s", label, n.Owner(), fault))
				break
			}
			return false
		})
	},
}

// aLabelFault says what is wrong with a label that begins with xn--.
func aLabelFault(label string) string {
	u, err := idna.Registration.ToUnicode(label)
	if err != nil || u == label {
		return "is not a valid A-label"
	}
	if back, err := idna.Registration.ToASCII(u); err != nil || back != label {
		return "decodes to " + u + ", which is written " + back
	}
	return ""
}

var asteriskInside = &lint.Check{Rule: diag.Rule{
	Code: "asterisk-inside", Severity: diag.Note, Title: "an asterisk stands where it has no special meaning", Ref: "RFC 4592 §2.1.1",
	Doc:  "Only an asterisk that is the whole leftmost label stands for all other names. Elsewhere it is a character like any other.",
	Bad:  "web* A 192.0.2.1\n",
	Good: "*.web A 192.0.2.1\n"},
	Name: func(p *lint.Pass, n *lint.Name) {
		if !n.Odd() {
			return
		}
		var buf [dnsname.MaxWire]byte
		w := n.AppendRelative(buf[:0])
		if bytes.IndexByte(w, '*') < 0 {
			return
		}
		found := false
		eachLabel(w, func(i int, l []byte) bool {
			found = bytes.IndexByte(l, '*') >= 0 && (i > 0 || len(l) > 1)
			return !found
		})
		if !found {
			return
		}
		for set := range n.Sets {
			p.Add(p.Report(set.Layout(0).OwnerOrType(), "the asterisk in %s stands for itself only", n.Owner()).Suggest("for all names below write *. in front"))
			return
		}
	},
}

var wildcardDNAME = &lint.Check{Rule: diag.Rule{
	Code: "wildcard-dname", Severity: diag.Warning, Title: "a wildcard has a DNAME", Ref: "RFC 6672 §3.3, RFC 4592 §4.4",
	Doc:  "What an alias of all names below all names should mean depends on the software. Name the owner.",
	Bad:  "*.old DNAME example.net.\n",
	Good: "old DNAME example.net.\n"},
	Types: types(rr.TypeDNAME), Set: func(p *lint.Pass, set lint.Set) {
		if set.Name.Owner().IsWildcard() {
			p.Add(p.Report(set.Layout(0).Type, "the wildcard %s has a DNAME", set.Name.Owner()).Suggest("write the owner without the asterisk"))
		}
	},
}

// specialNames are names with a meaning of their own (RFC 6761 and its registry).
// example and its kin are left out: they are what examples are made of.
var specialNames = map[string]string{
	"local": "RFC 6762", "localhost": "RFC 6761 §6.3", "onion": "RFC 7686", "invalid": "RFC 6761 §6.4", "test": "RFC 6761 §6.2",
	"home.arpa": "RFC 8375", "ipv4only.arpa": "RFC 8880", "alt": "RFC 9476", "internal": "the registry of special names"}

var specialUse = &lint.Check{Rule: diag.Rule{
	Code: "special-use-name", Severity: diag.Warning, Title: "the zone has a name that is set apart for something else", Ref: "RFC 6761, RFC 6762, RFC 7686, RFC 8375",
	Doc: "Resolvers treat these names themselves and do not ask for them in the DNS of the world: local, localhost, onion, invalid, test, home.arpa. " +
		"For a network of your own, take a name below one that you have registered.",
	Bad:  "-- bare --\n$ORIGIN office.local.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n",
	Good: "-- bare --\n$ORIGIN office.example.com.\n$TTL 3600\n" + okSOA + "\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"},
	Zone: func(p *lint.Pass) {
		for name := p.Zone.Apex(); name != dnsname.Root; name = name.Parent() {
			if ref := specialNames[strings.TrimSuffix(name.Lower().String(), ".")]; ref != "" {
				p.Add(p.Report(soaPlace(p), "names below %s are set apart by %s and are not asked for in the world's DNS", name, ref))
				return
			}
		}
	},
}

// privateReverse are the reverse zones that resolvers answer themselves
// (RFC 6303 §4).
var privateReverse = []string{"10.in-addr.arpa.", "168.192.in-addr.arpa.", "127.in-addr.arpa.", "254.169.in-addr.arpa.", "0.in-addr.arpa.",
	"d.f.ip6.arpa.", "c.f.ip6.arpa.", "8.e.f.ip6.arpa.", "9.e.f.ip6.arpa.", "a.e.f.ip6.arpa.", "b.e.f.ip6.arpa."}

var privateReverseZone = &lint.Check{Rule: diag.Rule{
	Code: "private-reverse-zone", Severity: diag.Note, Title: "this reverse zone is seen only by resolvers that are told of it", Ref: "RFC 6303 §4",
	Doc:  "Resolvers answer for the reverse zones of private addresses themselves. Those of your own network need to be told to ask your servers.",
	Bad:  "-- bare --\n$ORIGIN 10.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n",
	Good: "-- bare --\n$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"},
	Zone: func(p *lint.Pass) {
		apex := p.Zone.Apex().Lower()
		private := slices.ContainsFunc(privateReverse, func(s string) bool { return apex.AtOrBelow(dnsname.MustParse(s)) })
		for i := 16; i < 32 && !private; i++ {
			private = apex.AtOrBelow(dnsname.MustParse(fmt.Sprintf("%d.172.in-addr.arpa.", i)))
		}
		if private {
			p.Add(p.Report(soaPlace(p), "resolvers elsewhere answer for %s themselves", p.Zone.Apex()).Suggest("tell your own resolvers to ask these servers"))
		}
	},
}
