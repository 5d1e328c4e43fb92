package checks

import (
	"fmt"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/rr"
)

// serviceShapes say how the owners of some types begin (RFC 8552 §4, RFC 2782,
// RFC 6698 §3, RFC 8162 §3, RFC 7929 §3).
var serviceShapes = map[rr.Type]struct {
	fits func(labels []string) bool
	want string
}{
	rr.TypeSRV:        {func(l []string) bool { return len(l) >= 2 && underscored(l[0]) && underscored(l[1]) }, "_SERVICE._PROTOCOL, such as _sip._tcp"},
	rr.TypeURI:        {func(l []string) bool { return slices.ContainsFunc(l, underscored) }, "_SERVICE._PROTOCOL, such as _ftp._tcp"},
	rr.TypeTLSA:       {func(l []string) bool { return len(l) >= 2 && underscored(l[0]) && underscored(l[1]) }, "_PORT._PROTOCOL, such as _443._tcp"},
	rr.TypeSMIMEA:     {func(l []string) bool { return len(l) >= 2 && l[1] == "_smimecert" }, "HASH._smimecert"},
	rr.TypeOPENPGPKEY: {func(l []string) bool { return len(l) >= 2 && l[1] == "_openpgpkey" }, "HASH._openpgpkey"},
}

var serviceOwner = &lint.Check{Rule: diag.Rule{
	Code: "service-at-wrong-name", Severity: diag.Warning, Title: "a service record is at a name where clients do not look for it", Ref: "RFC 8552 §4, RFC 2782, RFC 6698 §3",
	Doc: "Programs find these records by a name made of service and protocol, each with an underscore in front: SRV at _imaps._tcp, TLSA at _443._tcp.www. " +
		"At any other name they are never found.",
	Bad:  "sip SRV 0 5 5060 web\nweb A 192.0.2.1\n",
	Good: "_sip._tcp SRV 0 5 5060 web\nweb A 192.0.2.1\n"},
	Types: types(rr.TypeSRV, rr.TypeURI, rr.TypeTLSA, rr.TypeSMIMEA, rr.TypeOPENPGPKEY), Set: func(p *lint.Pass, set lint.Set) {
		shape := serviceShapes[set.Type]
		l := labels(p, set.Name)
		if set.Type == rr.TypeSRV && fastService(set.Name) || shape.fits(l) || len(l) > 0 && l[0] == "*" {
			return
		}
		p.Add(p.Report(set.Layout(0).OwnerOrType(), "%s records are not looked for at %s", set.Type, set.Name.Owner()).
			Suggest("begin the owner with %s", shape.want))
	},
}

// fastService tells of nearly all SRV owners that they are right.
func fastService(n *lint.Name) bool {
	var buf [256]byte
	w := n.AppendRelative(buf[:0])
	return len(w) > 2 && w[1] == '_' && int(w[0])+2 < len(w) && w[int(w[0])+2] == '_'
}

var noneBesideOthers = &lint.Check{Rule: diag.Rule{
	Code: "srv-none-beside-others", Severity: diag.Warning, Strict: true, Title: "\"service not offered\" stands beside a host that offers it", Ref: "RFC 2782",
	Doc:  "SRV with the target . says that the service is not there at all. It must be the only SRV record of its name.",
	Bad:  "_sip._tcp SRV 0 0 0 .\n_sip._tcp SRV 0 5 5060 web\nweb A 192.0.2.1\n",
	Good: "_sip._tcp SRV 0 0 0 .\n"},
	Types: types(rr.TypeSRV), Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if len(data) == 7 && set.N > 1 {
				p.Add(p.Report(set.Layout(i).Type, "%s says that the service is not offered and lists hosts", set.Name.Owner()).Suggest("keep either this record or the others"))
			}
		})
	},
}

var srvPort = &lint.Check{Rule: diag.Rule{
	Code: "srv-port-zero", Severity: diag.Warning, Title: "a service record has port 0", Ref: "RFC 2782",
	Doc:  "Nothing listens on port 0. Where the service is not offered, the target is a single dot.",
	Bad:  "_sip._tcp SRV 0 5 0 web\nweb A 192.0.2.1\n",
	Good: "_sip._tcp SRV 0 5 5060 web\nweb A 192.0.2.1\n"},
	Types: types(rr.TypeSRV), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if len(data) > 7 && data[4] == 0 && data[5] == 0 {
			return "the port is 0", 2, "write the port of the service"
		}
		return "", 0, ""
	}),
}

var naptrRule = &lint.Check{Rule: diag.Rule{
	Code: "naptr-rule", Severity: diag.Warning, Title: "a NAPTR record contradicts itself", Ref: "RFC 3403 §4.1, RFC 3402 §3.2",
	Doc: "Flags are letters and digits. A record has either a substitution or a replacement, not both. The substitution is !pattern!text! with the same " +
		"delimiter three times; backslashes are doubled in the file.",
	Bad:  "@ NAPTR 100 10 \"u\" \"E2U+sip\" \"!^.*$!sip:info@example.com\" .\n",
	Good: "@ NAPTR 100 10 \"u\" \"E2U+sip\" \"!^.*$!sip:info@example.com!\" .\n"},
	Types: types(rr.TypeNAPTR), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		var text []string
		var target []byte
		for it := rr.NewParts(rr.TypeNAPTR, data); it.Next(); {
			if it.Field.Kind == rr.String {
				text = append(text, string(it.Bytes[1:]))
			}
			target = it.Bytes
		}
		if len(text) != 3 {
			return "", 0, ""
		}
		for _, c := range text[0] {
			if !(c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z') {
				return fmt.Sprintf("the flags %q are not letters and digits", text[0]), 2, ""
			}
		}
		switch {
		case text[2] != "" && len(target) > 1:
			return "there are both a substitution and a replacement", 5, "write . for the replacement, or \"\" for the substitution"
		case text[2] != "" && !isSubstitution(text[2]):
			return "the substitution is not of the form !pattern!text!", 4, "end it with the delimiter it begins with"
		}
		return "", 0, ""
	}),
}

// isSubstitution reports whether text has its delimiter three times, escapes left
// out, and only i after it (RFC 3402 §3.2).
func isSubstitution(s string) bool {
	delimiter, n, last := s[0], 0, 0
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\':
			i++
		case s[i] == delimiter:
			n, last = n+1, i
		}
	}
	return n == 3 && (s[last+1:] == "" || s[last+1:] == "i")
}

// digestLengths are the octets of a digest by type of record and digest.
var sshDigests = map[byte]int{1: 20, 2: 32}
var tlsDigests = map[byte]int{1: 32, 2: 64}

var sshLength = &lint.Check{Rule: diag.Rule{
	Code: "sshfp-length", Severity: diag.Warning, Title: "an SSH fingerprint has the wrong length or an unknown algorithm", Ref: "RFC 4255 §3.1, RFC 6594, RFC 7479, RFC 8709",
	Doc:  "A fingerprint of type 1 (SHA-1) has 20 octets, one of type 2 (SHA-256) has 32. Another length means that the type is wrong or a part was lost.",
	Bad:  "web SSHFP 4 2 123456789abcdef67890123456789abcdef67890\nweb A 192.0.2.1\n",
	Good: "web SSHFP 4 1 123456789abcdef67890123456789abcdef67890\nweb A 192.0.2.1\n"},
	Types: types(rr.TypeSSHFP), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if !slices.Contains([]byte{1, 2, 3, 4, 6}, data[0]) {
			return "algorithm " + number(uint32(data[0])) + " is not assigned", 0, "write 1 for RSA, 3 for ECDSA, 4 for Ed25519, 6 for Ed448"
		}
		want, known := sshDigests[data[1]]
		if !known {
			return "fingerprint type " + number(uint32(data[1])) + " is not assigned", 1, "write 2 for SHA-256"
		}
		if n := len(data) - 2; n != want {
			return fmt.Sprintf("the fingerprint has %d octets; type %d has %d", n, data[1], want), 2, ""
		}
		return "", 0, ""
	}),
}

var tlsaFields = &lint.Check{Rule: diag.Rule{
	Code: "tlsa-fields", Severity: diag.Warning, Title: "a TLSA or SMIMEA record has fields out of range or a digest of the wrong length", Ref: "RFC 6698 §2.1, RFC 7218",
	Doc:  "Usage is 0 to 3, selector 0 or 1, matching type 0 to 2; a digest of matching type 1 has 32 octets, one of type 2 has 64. A client ignores a record that it cannot use.",
	Bad:  "_443._tcp.www TLSA 3 1 2 8bd1da95272f7fa4ffb24137fc0ed03aae67e5c4d8b3c50734e1050a7920b922\nwww A 192.0.2.1\n",
	Good: "_443._tcp.www TLSA 3 1 1 8bd1da95272f7fa4ffb24137fc0ed03aae67e5c4d8b3c50734e1050a7920b922\nwww A 192.0.2.1\n"},
	Types: types(rr.TypeTLSA, rr.TypeSMIMEA), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		for i, f := range []struct {
			name string
			most byte
		}{{"usage", 3}, {"selector", 1}, {"matching type", 2}} {
			if data[i] > f.most && data[i] != 255 {
				return fmt.Sprintf("%s %d is not assigned", f.name, data[i]), i, fmt.Sprintf("write 0 to %d", f.most)
			}
		}
		if want := tlsDigests[data[2]]; want > 0 && len(data)-3 != want {
			return fmt.Sprintf("the digest has %d octets; matching type %d has %d", len(data)-3, data[2], want), 3, ""
		}
		return "", 0, ""
	}),
}

var uriScheme = &lint.Check{Rule: diag.Rule{
	Code: "uri-without-scheme", Severity: diag.Warning, Title: "the target of a URI record is not a URI", Ref: "RFC 7553 §4.4, RFC 3986 §3.1",
	Doc:  "The target is a whole URI with its scheme, such as https://www.example.com/path.",
	Bad:  "_ftp._tcp URI 10 1 \"ftp.example.com/public\"\n",
	Good: "_ftp._tcp URI 10 1 \"ftp://ftp.example.com/public\"\n"},
	Types: types(rr.TypeURI), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		scheme, _, ok := strings.Cut(string(data[4:]), ":")
		if ok && isModifierName(strings.ReplaceAll(scheme, "+", "-")) {
			return "", 0, ""
		}
		return fmt.Sprintf("%q has no scheme", shorten(string(data[4:]))), 2, "write the whole URI, such as https://..."
	}),
}

// ---- SVCB and HTTPS ----

var svcbTypes = types(rr.TypeSVCB, rr.TypeHTTPS)

func aliasMode(data []byte) bool { return data[0] == 0 && data[1] == 0 }

var svcbAliasParams = &lint.Check{Rule: diag.Rule{
	Code: "svcb-alias-with-parameters", Severity: diag.Warning, Title: "an alias of HTTPS or SVCB has parameters", Ref: "RFC 9460 §2.4.2",
	Doc:  "Priority 0 makes the record an alias: clients continue at the target and ignore the parameters. For parameters write priority 1.",
	Bad:  "@ HTTPS 0 www.example.net. alpn=h2\n@ A 192.0.2.1\n",
	Good: "@ HTTPS 1 www.example.net. alpn=h2\n@ A 192.0.2.1\n"},
	Types: svcbTypes, Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if aliasMode(data) && len(svcbParams(data)) > 0 {
			return "the parameters of this alias are ignored", 2, "take them away, or write priority 1"
		}
		return "", 0, ""
	}),
}

// svcbParams are the parameters of an SVCB or HTTPS record.
func svcbParams(data []byte) []rr.Param {
	for it := rr.NewParts(rr.TypeSVCB, data); it.Next(); {
		if it.Field.Kind == rr.Params {
			return rr.SplitParams(it.Bytes)
		}
	}
	return nil
}

var svcbAliasOthers = &lint.Check{Rule: diag.Rule{
	Code: "svcb-alias-beside-others", Severity: diag.Warning, Title: "an alias of HTTPS or SVCB stands beside other records of its type", Ref: "RFC 9460 §2.4.1, §2.4.2",
	Doc:  "Where there is an alias (priority 0), clients ignore all records with another priority. Keep one kind.",
	Bad:  "@ HTTPS 0 www.example.net.\n@ HTTPS 1 . alpn=h2\n@ A 192.0.2.1\n",
	Good: "@ HTTPS 0 www.example.net.\n@ A 192.0.2.1\n"},
	Types: svcbTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if set.N > 1 && aliasMode(data) {
				p.Add(p.Report(set.Layout(i).Field(0), "%s has an alias and further %s records", set.Name.Owner(), set.Type).Suggest("keep the alias alone, or none"))
			}
		})
	},
}

var svcbSelf = &lint.Check{Rule: diag.Rule{
	Code: "svcb-alias-to-itself", Severity: diag.Warning, Strict: true, Title: "an alias of HTTPS or SVCB points to its own name", Ref: "RFC 9460 §2.4.2",
	Doc:  "A client that follows it loops and gives up. Name another host, or write priority 1 and . for the name itself.",
	Bad:  "@ HTTPS 0 @\n@ A 192.0.2.1\n",
	Good: "@ HTTPS 1 .\n@ A 192.0.2.1\n"},
	Types: svcbTypes, Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if !aliasMode(data) {
			return "", 0, ""
		}
		target := ""
		eachName(set.Type, data, func(_ rr.Target, wire []byte) { target = nameOf(wire).Key() })
		if target == set.Name.Owner().Key() {
			return "the alias points to its own name", 1, "name another host, or write 1 ."
		}
		return "", 0, ""
	}),
}

var httpsNoAddress = &lint.Check{Rule: diag.Rule{
	Code: "https-without-address", Severity: diag.Note, Title: "a name has an HTTPS record and no address", Ref: "RFC 9460 §3",
	Doc:  "Older clients know nothing of HTTPS records and look for an address at the name itself. Keep A and AAAA records beside it.",
	Bad:  "@ HTTPS 0 www.example.net.\n",
	Good: "@ HTTPS 0 www.example.net.\n@ A 192.0.2.1\n"},
	Types: types(rr.TypeHTTPS), Set: func(p *lint.Pass, set lint.Set) {
		if l := labels(p, set.Name); len(l) > 0 && underscored(l[0]) || set.Name.Occluded() {
			return
		}
		if _, a := set.Name.Find(rr.TypeA); a {
			return
		}
		if _, aaaa := set.Name.Find(rr.TypeAAAA); !aaaa {
			p.Add(p.Report(set.Layout(0).OwnerOrType(), "%s cannot be reached by clients that do not know HTTPS records", set.Name.Owner()).
				Suggest("add an A or AAAA record"))
		}
	},
}

var dohPath = &lint.Check{Rule: diag.Rule{
	Code: "dohpath-without-dns", Severity: diag.Warning, Title: "the path of a DNS server over HTTPS has no place for the question", Ref: "RFC 9461 §5",
	Doc:  "dohpath is a relative URI template with the variable dns in it, such as /dns-query{?dns}.",
	Bad:  "_dns.resolver SVCB 1 doh.example.net. alpn=h2 dohpath=/q\n",
	Good: "_dns.resolver SVCB 1 doh.example.net. alpn=h2 dohpath=/q{?dns}\n"},
	Types: svcbTypes, Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		for _, prm := range svcbParams(data) {
			if v := string(prm.Value); prm.Key == rr.ParamDoHPath && !(strings.HasPrefix(v, "/") && strings.Contains(v, "{") && strings.Contains(v, "dns")) {
				return fmt.Sprintf("dohpath=%s has no variable dns", shorten(v)), 2, "write it as /PATH{?dns}"
			}
		}
		return "", 0, ""
	}),
}
