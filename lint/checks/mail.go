package checks

import (
	"bytes"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
)

// dmarcTags are the tags of a DMARC record with the values that are permitted;
// nil: anything (RFC 7489 §6.3).
var dmarcTags = map[string][]string{"v": nil, "p": {"none", "quarantine", "reject"}, "sp": {"none", "quarantine", "reject"}, "np": {"none", "quarantine", "reject"},
	"adkim": {"r", "s"}, "aspf": {"r", "s"}, "fo": nil, "rf": nil, "ri": nil, "pct": nil, "rua": nil, "ruf": nil, "psd": {"y", "n", "u"}, "t": {"y", "n"}}

const dmarcVersion = "v=DMARC1"

var dmarcSyntax = &lint.Check{Rule: diag.Rule{
	Code: "dmarc-syntax", Severity: diag.Warning, Title: "a DMARC record cannot be understood", Ref: "RFC 7489 §6.3",
	Doc: "The record stands at _dmarc below the mail domain, begins with v=DMARC1, then p= with none, quarantine or reject. " +
		"Addresses for reports are URIs: rua=mailto:reports@example.com. Receivers ignore a record that is wrong.",
	Bad:  "_dmarc TXT \"v=DMARC1; p=refuse; rua=reports@example.com\"\n",
	Good: "_dmarc TXT \"v=DMARC1; p=reject; rua=mailto:reports@example.com\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		if !firstLabel(set.Name, "_dmarc") {
			return
		}
		eachData(set, func(i int, data []byte) {
			if fault, piece := dmarcFault(joined(data)); fault != "" {
				p.Add(p.Report(within(p, set, i, piece), "the DMARC record of %s: %s", set.Name.Owner().Parent(), fault))
			}
		})
	},
}

// dmarcFault says what is wrong with a DMARC record, and with which piece of it.
func dmarcFault(text string) (fault, piece string) {
	tags, bad := tagList(text)
	if len(tags) == 0 || tags[0].name != "v" || tags[0].value != "DMARC1" {
		return "it does not begin with " + dmarcVersion, ""
	}
	if bad != "" {
		return bad + " is not a tag=value", bad
	}
	policy := false
	for _, t := range tags {
		allowed, known := dmarcTags[t.name]
		switch {
		case !known:
			continue // receivers ignore it (§6.3)
		case allowed != nil && !slices.Contains(allowed, strings.ToLower(t.value)):
			return t.name + "=" + t.value + " is not one of " + strings.Join(allowed, ", "), t.value
		case t.name == "rua" || t.name == "ruf":
			for _, uri := range strings.Split(t.value, ",") {
				if uri = strings.TrimSpace(uri); !strings.Contains(uri, ":") {
					return uri + " is not a URI; write mailto:" + uri, uri
				}
			}
		}
		policy = policy || t.name == "p"
	}
	if !policy {
		return "it has no policy; add p=none, p=quarantine or p=reject", ""
	}
	return "", ""
}

// firstLabel reports whether the leftmost label of a name is the given one, which
// is in lower case.
func firstLabel(n *lint.Name, label string) bool {
	var buf [dnsname.MaxWire]byte
	w := n.AppendRelative(buf[:0])
	return len(w) > len(label) && int(w[0]) == len(label) && strings.EqualFold(string(w[1:1+len(label)]), label)
}

var dmarcSeveral = &lint.Check{Rule: diag.Rule{
	Code: "dmarc-several", Severity: diag.Warning, Title: "a domain has more than one DMARC record", Ref: "RFC 7489 §6.6.3",
	Doc:  "With two records receivers take neither. Keep one.",
	Bad:  "_dmarc TXT \"v=DMARC1; p=none\"\n_dmarc TXT \"v=DMARC1; p=reject\"\n",
	Good: "_dmarc TXT \"v=DMARC1; p=reject\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		if set.N < 2 || !firstLabel(set.Name, "_dmarc") {
			return
		}
		n := 0
		eachData(set, func(i int, data []byte) {
			if begins(data, dmarcVersion) {
				if n++; n > 1 {
					p.Add(p.Report(set.Layout(i).Field(0), "%s has a second DMARC record", set.Name.Owner()).Suggest("keep one"))
				}
			}
		})
	},
}

var dmarcPlace = &lint.Check{Rule: diag.Rule{
	Code: "dmarc-at-wrong-name", Severity: diag.Warning, Title: "a DMARC record is at a name where receivers do not look for it", Ref: "RFC 7489 §6.1",
	Doc:  "Receivers look for DMARC at _dmarc below the domain of the sender.",
	Bad:  "@ TXT \"v=DMARC1; p=reject\"\n",
	Good: "_dmarc TXT \"v=DMARC1; p=reject\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if !begins(data, dmarcVersion) || firstLabel(set.Name, "_dmarc") || reportPermission(p, set.Name) {
				return
			}
			owner := set.Name.Owner()
			want, _ := owner.Child("_dmarc")
			p.Add(p.Report(set.Layout(i).OwnerOrType(), "a DMARC record at %s is not looked at", owner).Suggest("put it at %s", rel(p, want)))
		})
	},
}

// reportPermission reports whether a name is one at which a domain agrees to take
// reports for another: NAME._report._dmarc (RFC 7489 §7.1).
func reportPermission(p *lint.Pass, n *lint.Name) bool {
	l := labels(p, n)
	return slices.Contains(l, "_report") && slices.Contains(l, "_dmarc")
}

var dkimSyntax = &lint.Check{Rule: diag.Rule{
	Code: "dkim-syntax", Severity: diag.Warning, Title: "a DKIM key record cannot be used", Ref: "RFC 6376 §3.6.1, RFC 8463",
	Doc: "A key at SELECTOR._domainkey is a list of tags: v=DKIM1; k=rsa; p=KEY in base64. Long keys are several strings; a part that was lost or doubled " +
		"in copying makes all signatures fail. An empty p= withdraws the key.",
	Bad:  "tide._domainkey TXT \"v=DKIM1; k=rsa; p=MIIBIjANBgkqhkiG9w0BAQEF*AOCAQ8AMIIBCgKCAQEA\"\n",
	Good: "tide._domainkey TXT \"v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		if !isDKIM(set.Name) {
			return
		}
		eachData(set, func(i int, data []byte) {
			if fault := dkimOf(p, data).fault; fault != "" {
				p.Add(p.Report(set.Layout(i).Field(0), "the DKIM key %s: %s", set.Name.Owner(), fault).Suggest("copy the whole record again from where the key was made"))
			}
		})
	},
}

// isDKIM reports whether a name is one at which DKIM keys stand:
// SELECTOR._domainkey.DOMAIN.
func isDKIM(n *lint.Name) bool {
	var buf [dnsname.MaxWire]byte
	found := false
	eachLabel(n.AppendRelative(buf[:0]), func(i int, l []byte) bool {
		if i == 0 && (len(l) == 1 && l[0] == '*' || bytes.EqualFold(l, []byte("_report"))) {
			return false
		}
		found = i > 0 && bytes.EqualFold(l, []byte("_domainkey"))
		return !found
	})
	return found
}

// dkim is what is known of a DKIM record.
type dkim struct {
	bits  int
	fault string
}

func dkimOf(p *lint.Pass, data []byte) dkim {
	return lint.Remember(p, data, func() dkim {
		bits, fault := dkimKey(joined(data))
		return dkim{bits, fault}
	})
}

// dkimKey is the bits of an RSA key, or 0 for another, and what is wrong.
func dkimKey(text string) (bits int, fault string) {
	tags, bad := tagList(text)
	if bad != "" {
		return 0, shorten(bad) + " is not a tag=value"
	}
	value := map[string]string{}
	for i, t := range tags {
		if _, twice := value[t.name]; twice {
			return 0, "the tag " + t.name + " is there twice"
		}
		value[t.name] = t.value
		if t.name == "v" && (i > 0 || t.value != "DKIM1") {
			return 0, "v=" + t.value + " must be v=DKIM1 and come first"
		}
	}
	key, ok := value["p"]
	if !ok {
		return 0, "it has no key, p="
	}
	if key == "" {
		return 0, "" // withdrawn
	}
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(key), ""))
	if err != nil {
		return 0, "the key is not base64"
	}
	switch strings.ToLower(value["k"]) {
	case "", "rsa":
		if len(raw) == 0 || raw[0] != 0x30 { // every form of an RSA key is an ASN.1 sequence
			return 0, "the key is not an RSA public key; its beginning may be lost"
		}
		pub, err := x509.ParsePKIXPublicKey(raw)
		k, isRSA := pub.(*rsa.PublicKey)
		if err != nil {
			k, err = x509.ParsePKCS1PublicKey(raw)
			isRSA = err == nil
		}
		if !isRSA {
			return 0, "the key is not an RSA public key; a part of it may be lost"
		}
		return k.N.BitLen(), ""
	case "ed25519":
		if len(raw) != 32 {
			return 0, "an Ed25519 key has 32 octets"
		}
	default:
		return 0, "k=" + value["k"] + " is neither rsa nor ed25519"
	}
	return 0, ""
}

var dkimWeak = &lint.Check{Rule: diag.Rule{
	Code: "dkim-weak-key", Severity: diag.Warning, Title: "a DKIM key is too short", Ref: "RFC 8301 §3.2",
	Doc:  "Receivers do not accept signatures by RSA keys of less than 1024 bits; keys are to have at least 2048. Make a new one under a new selector.",
	Bad:  "tide._domainkey TXT \"v=DKIM1; p=MFwwDQYJKoZIhvcNAQEBBQADSwAwSAJBAMYfnvWtC8Id5bPKae5yXSxQTt+Zpul6AnnZWfI2TtIarvjHBFUtXRo96y7hoL4VWOPKGCsRqMFDkrbeUjRrx8MCAwEAAQ==\"\n",
	Good: "tide._domainkey TXT \"v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		if !isDKIM(set.Name) {
			return
		}
		eachData(set, func(i int, data []byte) {
			if bits := dkimOf(p, data).bits; bits > 0 && bits < 2048 {
				p.Add(p.Report(set.Layout(i).Field(0), "the DKIM key %s has %d bits", set.Name.Owner(), bits).Suggest("make one of 2048 bits, or an Ed25519 key beside it"))
			}
		})
	},
}

var textQuotes = &lint.Check{Rule: diag.Rule{
	Code: "typographic-quotes", Severity: diag.Warning, Title: "a text holds curly quotes, as a word processor makes them", Ref: "RFC 1035 §5.1",
	Doc:  "Only the straight quote \" sets off a text. Curly ones become part of it, and the blanks between them part it into several strings.",
	Bad:  "note TXT \u201chello\u201d\n",
	Good: "note TXT \"hello\"\n"},
	Types: types(rr.TypeTXT, rr.TypeSPF, rr.TypeCAA), Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			text := string(data)
			if set.Type != rr.TypeCAA {
				text = joined(data)
			}
			if strings.HasPrefix(text, "\u201c") || strings.HasPrefix(text, "\u201e") || strings.HasSuffix(text, "\u201d") {
				p.Add(p.Report(set.Layout(i).Field(0), "the text of %s has curly quotes", set.Name.Owner()).Suggest("write straight quotes"))
			}
		})
	},
}

// caaTags are the registered tags (RFC 8659 §4, RFC 8657, RFC 9495).
var caaTags = []string{"issue", "issuewild", "iodef", "issuemail", "issuevmc", "contactemail", "contactphone"}

// caa takes the data of a CAA record apart.
func caa(data []byte) (flags byte, tag, value string) {
	if len(data) < 2 || 2+int(data[1]) > len(data) {
		return 0, "", ""
	}
	n := 2 + int(data[1])
	return data[0], strings.ToLower(string(data[2:n])), string(data[n:])
}

var caaFlags = &lint.Check{Rule: diag.Rule{
	Code: "caa-flags", Severity: diag.Warning, Title: "the flags of a CAA record are neither 0 nor 128", Ref: "RFC 8659 §4.1",
	Doc:  "Only one flag has a meaning: 128, which says that an authority that does not know the tag must not issue. 1 is a common slip for it.",
	Bad:  "@ CAA 1 issue \"ca.example\"\n",
	Good: "@ CAA 128 issue \"ca.example\"\n"},
	Types: types(rr.TypeCAA), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		if data[0]&^128 == 0 {
			return "", 0, ""
		}
		return "flags " + number(uint32(data[0])) + " have no meaning here", 0, "write 0, or 128 for critical"
	}),
}

var caaTag = &lint.Check{Rule: diag.Rule{
	Code: "caa-unknown-tag", Severity: diag.Warning, Title: "a CAA record has a tag that is not registered", Ref: "RFC 8659 §4.1, §4.5",
	Doc:  "Authorities ignore tags they do not know, or refuse to issue at all when the record is critical (flags 128). Most likely the tag is misspelt.",
	Bad:  "@ CAA 0 isue \"ca.example\"\n",
	Good: "@ CAA 0 issue \"ca.example\"\n"},
	Types: types(rr.TypeCAA), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		flags, tag, _ := caa(data)
		if tag == "" || slices.Contains(caaTags, tag) {
			return "", 0, ""
		}
		message, suggestion := "the tag "+tag+" is not registered", "write one of: "+strings.Join(caaTags, ", ")
		if flags&128 != 0 {
			message += " and critical, so nobody can issue a certificate"
		}
		if meant := diag.Closest(tag, caaTags); meant != "" {
			suggestion = "did you mean " + meant + "?"
		}
		return message, 1, suggestion
	}),
}

var caaValue = &lint.Check{Rule: diag.Rule{
	Code: "caa-value", Severity: diag.Warning, Title: "the value of a CAA record cannot be used", Ref: "RFC 8659 §4.2, §4.4",
	Doc:  "issue and issuewild name the authority by its domain, with parameters after a semicolon, or are \";\" for none at all; iodef is a mailto: or https: URI.",
	Bad:  "@ CAA 0 issue \"https://ca.example/\"\n",
	Good: "@ CAA 0 issue \"ca.example\"\n"},
	Types: types(rr.TypeCAA), Set: perRecord(func(p *lint.Pass, set lint.Set, data []byte) (string, int, string) {
		_, tag, value := caa(data)
		switch tag {
		case "issue", "issuewild", "issuemail", "issuevmc":
			domain, _, _ := strings.Cut(value, ";")
			if domain = strings.TrimSpace(domain); domain != "" && !isHostText(domain) {
				return shorten(domain) + " is not a domain of an authority", 2, "write its domain name alone, such as \"ca.example\""
			}
		case "iodef":
			if !strings.HasPrefix(value, "mailto:") && !strings.HasPrefix(value, "https://") && !strings.HasPrefix(value, "http://") {
				return shorten(value) + " is not an address for reports", 2, "write mailto:MAILBOX or https://..."
			}
		}
		return "", 0, ""
	}),
}

// isHostText reports whether text is a host name of letters, digits and hyphens.
func isHostText(s string) bool {
	for _, l := range strings.Split(s, ".") {
		if !isHostLabel([]byte(l)) {
			return false
		}
	}
	return true
}

// isHostLabel reports whether a label may be part of a host name (RFC 1123 §2.1).
func isHostLabel(l []byte) bool {
	for _, c := range l {
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c >= 'A' && c <= 'Z') {
			return false
		}
	}
	return len(l) > 0 && l[0] != '-' && l[len(l)-1] != '-'
}
