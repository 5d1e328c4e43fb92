package checks

import (
	"bytes"
	"net/netip"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
)

// What is read without a fault and was meant to be something else.

// Placeholders are the addresses that a new zone is given where none is known.
var Placeholders = [2]netip.Addr{netip.MustParseAddr("192.0.2.253"), netip.MustParseAddr("198.51.100.253")}

// placeholderEnd is the last octet of both.
const placeholderEnd = 253

var placeholder = &lint.Check{Rule: diag.Rule{
	Code: "placeholder-address", Severity: diag.Note, Title: "a new zone still has the addresses that stand for yours", Ref: "RFC 5737 §3",
	Doc:  "`fencepost init` and `fencepost new` without --ns write addresses that are for documentation. Write those of your servers in their place.",
	Bad:  "ns1 A 192.0.2.253\n",
	Good: "ns1 A 192.0.2.53\n"},
	Types: types(rr.TypeA), Set: func(p *lint.Pass, set lint.Set) {
		if first := set.First(); set.N == 1 && first[len(first)-1] != placeholderEnd { // nearly all
			return
		}
		eachData(set, func(i int, data []byte) {
			ip, _ := netip.AddrFromSlice(data)
			if ip != Placeholders[0] && ip != Placeholders[1] || !p.Count(set.Pos(0)) {
				return
			}
			at, owner := set.Layout(i).Field(0), set.Name.Owner()
			p.Explain(func(count int) diag.Diagnostic {
				d := p.Report(at, "%s has an address that stands for yours", owner)
				if count > 1 {
					d.Message += andMore(count - 1)
				}
				return d.Suggest("write the address of your server")
			})
		})
	},
}

var addressAsOwner = &lint.Check{Rule: diag.Rule{
	Code: "address-as-owner", Severity: diag.Warning, Title: "an owner is an address", Ref: "RFC 1035 §3.5",
	Doc:  "An address in place of the owner is a name of digits below the zone. Write the host's name; a PTR record in the reverse zone maps an address to its name.",
	Bad:  "192.0.2.7 A 192.0.2.7\n",
	Good: "web A 192.0.2.7\n"},
	Name: func(p *lint.Pass, n *lint.Name) {
		if !n.Quad() || p.Zone.Apex().AtOrBelow(ip6) { // where single digits are the rule
			return
		}
		text := strings.TrimSuffix(string(dnsname.AppendText(nil, append(n.AppendRelative(nil), 0))), ".")
		ip, err := netip.ParseAddr(text)
		if err != nil || !ip.Is4() {
			return
		}
		for set := range n.Sets {
			d := p.Report(set.Layout(0).OwnerOrType(), "the owner %s is an address; a name belongs here", n.Owner())
			if set.Type == rr.TypePTR {
				d = d.Suggest("write it into the reverse zone: %s PTR ...", dnsname.Reverse(ip))
			} else {
				d = d.Suggest("give the host a name, such as: host %s ...", set.Type)
			}
			p.Add(d)
			return
		}
	},
}

var urlAsName = &lint.Check{Rule: diag.Rule{
	Code: "url-as-name", Severity: diag.Warning, Strict: true, Title: "a web address stands where a host name belongs", Ref: "RFC 1035 §3.3, RFC 3986 §3",
	Doc:  "Records point to names, not to pages: what comes before and behind the host in a URL has no place in the DNS. Sending browsers on to another page is the work of a web server.",
	Bad:  "www CNAME https://web.example.net/start\n",
	Good: "www CNAME web.example.net.\n"},
	Types: targetTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if !isURL(r.wire) {
				return
			}
			t := r.place(p)
			_, host, _ := strings.Cut(t.text, "://")
			if end := strings.IndexAny(host, "/:?#"); end >= 0 {
				host = host[:end]
			}
			p.Add(p.Report(t.span, "the %s is a URL; a host name belongs here", role(set.Type)).Suggest("write %s.", strings.TrimSuffix(host, ".")))
		})
	},
}

// isURL reports whether a name is a URL that was read as one.
func isURL(wire []byte) bool { return bytes.Contains(wire, []byte("://")) }

var singleQuotes = &lint.Check{Rule: diag.Rule{
	Code: "single-quotes", Severity: diag.Warning, Title: "a text stands in single quotes, which are part of it", Ref: "RFC 1035 §5.1",
	Doc:  "Only the straight double quote sets off a text. Single quotes become part of it, and the blanks between them part it into several strings.",
	Bad:  "note TXT 'tide tables'\n",
	Good: "note TXT \"tide tables\"\n"},
	Types: types(rr.TypeTXT, rr.TypeSPF, rr.TypeCAA), Set: func(p *lint.Pass, set lint.Set) {
		if set.N == 1 && bytes.IndexByte(set.First(), '\'') < 0 { // nearly all
			return
		}
		eachData(set, func(i int, data []byte) {
			text := joined(data)
			if set.Type == rr.TypeCAA {
				_, _, text = caa(data)
			}
			if len(text) < 2 || text[0] != '\'' || text[len(text)-1] != '\'' {
				return
			}
			l := set.Layout(i)
			word := 0
			if set.Type == rr.TypeCAA {
				word = 2
			}
			if written := p.Text(l.Field(word)); len(written) == 0 || written[0] != '\'' {
				return // inside straight quotes they were meant
			}
			span := source.Span{Start: l.Field(word).Start, End: l.Data[len(l.Data)-1].End}
			right := "\"" + strings.Trim(string(p.Text(span)), "'") + "\""
			d := p.Report(span, "the text of %s has single quotes", set.Name.Owner()).Suggest("write straight double quotes: %s", shorten(right))
			if !strings.ContainsAny(right[1:len(right)-1], "\"\n\\") {
				d = fixed(d, right)
			}
			p.Add(d)
		})
	},
}

var dkimPlace = &lint.Check{Rule: diag.Rule{
	Code: "dkim-place", Severity: diag.Warning, Title: "a DKIM key is at a name where receivers do not look for it", Ref: "RFC 6376 §3.6.2.1",
	Doc:  "Receivers look for the key at SELECTOR._domainkey.DOMAIN, with the underscore.",
	Bad:  "tide.domainkey TXT \"v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=\"\n",
	Good: "tide._domainkey TXT \"v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		if set.N == 1 && !bytes.Contains(set.First(), []byte("p=")) { // nearly all
			return
		}
		eachData(set, func(i int, data []byte) {
			if !bytes.Contains(data, []byte("p=")) || isDKIM(set.Name) {
				return
			}
			key := begins(data, "v=DKIM1")
			if l := labels(p, set.Name); !key && (len(l) < 2 || l[1] != "domainkey" || !strings.Contains(joined(data), "p=")) {
				return
			}
			p.Add(p.Report(set.Layout(i).OwnerOrType(), "the DKIM key at %s is not below _domainkey", set.Name.Owner()).Suggest("write SELECTOR._domainkey as the owner"))
		})
	},
}

// signatureTypes come from signing.
var signatureTypes = types(rr.TypeRRSIG, rr.TypeNSEC, rr.TypeNSEC3)

var leftoverSignatures = &lint.Check{Rule: diag.Rule{
	Code: "leftover-signatures", Severity: diag.Warning, Title: "records of a signing are left in a zone that has no keys", Ref: "RFC 4035 §2.1, §2.2",
	Doc:  "RRSIG, NSEC and NSEC3 records without a DNSKEY at the zone's name are left from a copy of a signed zone. They prove nothing, and are wrong as soon as a record changes. `fencepost pull ZONE --file FILE --unsigned` takes a copy over without them.",
	Bad:  "www A 192.0.2.1\nwww NSEC @ A NSEC\n",
	Good: "www A 192.0.2.1\n"},
	Types: signatureTypes, Set: func(p *lint.Pass, set lint.Set) {
		if _, keys := p.Find([]byte(p.Zone.Apex().Wire()), rr.TypeDNSKEY); keys || !p.Count(set.Pos(0)) {
			return
		}
		at, owner, t := set.Layout(0).Type, set.Name.Owner(), set.Type
		p.Explain(func(count int) diag.Diagnostic {
			d := p.Report(at, "the %s records of %s are left over: the zone has no key", t, owner)
			if count > 1 {
				d.Message += andMore(count - 1)
			}
			return d.Suggest("take them out")
		})
	},
}
