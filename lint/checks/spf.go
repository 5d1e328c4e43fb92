package checks

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
)

// spfTerm is one word of an SPF record (RFC 7208 §4.6.1, §12).
type spfTerm struct {
	text     string
	name     string // lower case, without qualifier
	value    string // after : or =
	modifier bool   // name=value
	pass     bool   // qualifier + or none
	fault    string // what is wrong with it, or ""
}

// mechanisms are those of RFC 7208 §5; true: they cost a DNS lookup (§4.6.4).
var mechanisms = map[string]bool{"all": false, "include": true, "a": true, "mx": true, "ptr": true, "ip4": false, "ip6": false, "exists": true}

const spfVersion = "v=spf1"

// spfOf is the text of an SPF record without its version; ok is false if the
// data are none.
func spfOf(data []byte) (string, bool) {
	if !begins(data, spfVersion) {
		return "", false
	}
	text := joined(data)
	if len(text) > len(spfVersion) && text[len(spfVersion)] != ' ' {
		return "", false
	}
	return text[len(spfVersion):], true
}

func spfTerms(text string) []spfTerm {
	terms := []spfTerm{} // not nil: an SPF record without terms is one too
	for _, word := range strings.Fields(text) {
		terms = append(terms, spfTermOf(word))
	}
	return terms
}

func spfTermOf(word string) spfTerm {
	t := spfTerm{text: word, pass: true}
	if name, value, ok := strings.Cut(word, "="); ok && isModifierName(name) {
		t.modifier, t.name, t.value = true, strings.ToLower(name), value
		if t.name == "redirect" || t.name == "exp" {
			if t.fault = macroFault(value); value == "" {
				t.fault = "it names no domain"
			}
		}
		return t
	}
	rest := word
	if strings.IndexByte("+-~?", rest[0]) >= 0 {
		t.pass, rest = rest[0] == '+', rest[1:]
	}
	end := strings.IndexAny(rest, ":/")
	name := rest
	if end >= 0 {
		name = rest[:end]
		t.value = strings.TrimPrefix(rest[end:], ":")
	}
	t.name = strings.ToLower(name)
	t.fault = mechanismFault(t.name, t.value, end >= 0)
	return t
}

func isModifierName(s string) bool {
	for i, c := range s {
		letter := c|0x20 >= 'a' && c|0x20 <= 'z'
		if !letter && (i == 0 || !(c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.')) {
			return false
		}
	}
	return s != ""
}

func mechanismFault(name, value string, has bool) string {
	if _, known := mechanisms[name]; !known {
		var names []string
		for m := range mechanisms {
			names = append(names, m)
		}
		if meant := diag.Closest(name, names); meant != "" {
			return "there is no mechanism " + name + "; did you mean " + meant + "?"
		}
		return "there is no mechanism " + name
	}
	switch name {
	case "all":
		if has {
			return "all takes nothing after it"
		}
	case "include", "exists":
		if value == "" {
			return name + " needs a domain after a colon"
		}
		return macroFault(value)
	case "a", "mx", "ptr":
		domain, bits, has := strings.Cut(value, "/")
		if has && name != "ptr" {
			if fault := lengthsFault(bits); fault != "" {
				return fault
			}
		}
		return macroFault(domain)
	case "ip4", "ip6":
		return addressFault(name, value)
	}
	return ""
}

// lengthsFault is what is wrong with the prefix lengths behind the first slash of a or mx, such as 24,
// 24//64 or /64 (RFC 7208 §5.6).
func lengthsFault(text string) string {
	four, six, both := strings.Cut(text, "//")
	if after, only := strings.CutPrefix(text, "/"); only {
		four, six, both = "", after, true
	}
	for _, l := range []struct {
		text string
		most int
		has  bool
	}{{four, 32, four != "" || !both}, {six, 128, both}} {
		if n, err := strconv.Atoi(l.text); l.has && (err != nil || n < 0 || n > l.most) {
			return fmt.Sprintf("/%s is not a prefix length up to %d", l.text, l.most)
		}
	}
	return ""
}

// macroExpand is a macro of a domain (RFC 7208 §7.1); c, r and t exist in explanations alone.
var macroExpand = regexp.MustCompile(`(?i)^%(?:[%_-]|\{[slodiphv][0-9]*r?[-.+,/_=]*\})`)

// macroFault is what is wrong with the macros of a domain.
func macroFault(domain string) string {
	for i := strings.IndexByte(domain, '%'); i >= 0; i = strings.IndexByte(domain, '%') {
		found := macroExpand.FindString(domain[i:])
		if found == "" {
			return fmt.Sprintf("%q does not begin a macro such as %%{i}", domain[i:])
		}
		domain = domain[i+len(found):]
	}
	return ""
}

func addressFault(name, value string) string {
	addr, bits, has := strings.Cut(value, "/")
	a, err := netip.ParseAddr(addr)
	if err != nil || a.Is4() != (name == "ip4") || a.Zone() != "" {
		return fmt.Sprintf("%q is not an %s address", addr, map[string]string{"ip4": "IPv4", "ip6": "IPv6"}[name])
	}
	if n, err := strconv.Atoi(bits); has && (err != nil || n < 0 || n > a.BitLen()) {
		return fmt.Sprintf("/%s is not a prefix length up to %d", bits, a.BitLen())
	}
	return ""
}

// spfCheck makes the function of a check on each SPF record.
func spfCheck(f func(p *lint.Pass, set lint.Set, i int, terms []spfTerm)) func(*lint.Pass, lint.Set) {
	return func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if !begins(data, spfVersion) {
				return
			}
			terms := lint.Remember(p, data, func() []spfTerm {
				text, ok := spfOf(data)
				if _, lost := lostBlanks(data); !ok || lost { // said by spf-lost-blanks
					return nil
				}
				return spfTerms(text)
			})
			if terms != nil {
				f(p, set, i, terms)
			}
		})
	}
}

var spfSyntax = &lint.Check{Rule: diag.Rule{
	Code: "spf-syntax", Severity: diag.Warning, Title: "an SPF record has a term that cannot be understood", Ref: "RFC 7208 §4.6, §12",
	Doc: "One wrong term makes the whole record void: receivers answer \"permanent error\", and many then refuse the mail. " +
		"Mechanisms are all, include, a, mx, ip4, ip6, exists; modifiers redirect= and exp=.",
	Bad:  "@ TXT \"v=spf1 ipv4:192.0.2.25 -all\"\n",
	Good: "@ TXT \"v=spf1 ip4:192.0.2.25 -all\"\n"},
	Types: types(rr.TypeTXT), Set: spfCheck(func(p *lint.Pass, set lint.Set, i int, terms []spfTerm) {
		for _, t := range terms {
			if t.fault != "" {
				p.Add(p.Report(within(p, set, i, t.text), "the term %s of the SPF record is wrong: %s", t.text, t.fault))
			}
		}
	}),
}

var spfSeveral = &lint.Check{Rule: diag.Rule{
	Code: "spf-several", Severity: diag.Error, Title: "a name has more than one SPF record", Ref: "RFC 7208 §3.2",
	Doc:  "With two records receivers take neither. Join them: the terms of both in one record, and one all at the end.",
	Bad:  "@ TXT \"v=spf1 ip4:192.0.2.25 -all\"\n@ TXT \"v=spf1 include:mail.example.net -all\"\n",
	Good: "@ TXT \"v=spf1 ip4:192.0.2.25 include:mail.example.net -all\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		if set.N < 2 {
			return
		}
		first := -1
		eachData(set, func(i int, data []byte) {
			if _, ok := spfOf(data); !ok {
				return
			}
			if first < 0 {
				first = i
				return
			}
			p.Add(p.Report(set.Layout(i).Field(0), "%s has a second SPF record", set.Name.Owner()).
				See(set.Layout(first).Field(0), "the first").Suggest("join both in one record"))
		})
	},
}

// maxLookups is how many terms may ask the DNS (RFC 7208 §4.6.4).
const maxLookups = 10

var spfLookups = &lint.Check{Rule: diag.Rule{
	Code: "spf-too-many-lookups", Severity: diag.Warning, Title: "an SPF record makes receivers ask the DNS more than ten times", Ref: "RFC 7208 §4.6.4",
	Doc: "include, a, mx, ptr, exists and redirect each cost one query, those of included records counted too. Beyond ten, receivers give up with " +
		"a permanent error. Includes of other domains count only once here, since their records are not known: the true number may be higher.",
	Bad:  "@ TXT \"v=spf1 a mx a:a1.example.net a:a2.example.net a:a3.example.net a:a4.example.net a:a5.example.net a:a6.example.net a:a7.example.net a:a8.example.net a:a9.example.net -all\"\n",
	Good: "@ TXT \"v=spf1 ip4:192.0.2.0/28 include:mail.example.net -all\"\n"},
	Types: types(rr.TypeTXT), Set: spfCheck(func(p *lint.Pass, set lint.Set, i int, terms []spfTerm) {
		if n := countLookups(p, terms, 0); n > maxLookups {
			p.Add(p.Report(set.Layout(i).Field(0), "this SPF record needs %d lookups; %d are allowed", n, maxLookups).
				Suggest("write addresses with ip4: and ip6: instead of names, or drop an include"))
		}
	}),
}

// countLookups counts the questions of a record and of those it includes, as far
// as they are in the zone.
func countLookups(p *lint.Pass, terms []spfTerm, depth int) (n int) {
	for _, t := range terms {
		follows := t.name == "include" && !t.modifier || t.name == "redirect" && t.modifier
		if !t.modifier && mechanisms[t.name] || follows {
			n++
		}
		if !follows || depth >= maxLookups || n > 2*maxLookups {
			continue
		}
		name, err := dnsname.Parse(t.value, dnsname.Root)
		if err != nil {
			continue
		}
		set, _ := p.Find([]byte(name.Wire()), rr.TypeTXT)
		for data := range set.Data {
			if text, ok := spfOf(data); ok {
				n += countLookups(p, spfTerms(text), depth+1)
			}
		}
	}
	return n
}

var spfAfterAll = &lint.Check{Rule: diag.Rule{
	Code: "spf-after-all", Severity: diag.Warning, Title: "an SPF record has terms after all", Ref: "RFC 7208 §5.1",
	Doc:  "all matches everything, so what stands after it is never looked at. Put all at the end.",
	Bad:  "@ TXT \"v=spf1 mx -all ip4:192.0.2.25\"\n@ MX 10 mail.example.net.\n",
	Good: "@ TXT \"v=spf1 mx ip4:192.0.2.25 -all\"\n@ MX 10 mail.example.net.\n"},
	Types: types(rr.TypeTXT), Set: spfCheck(func(p *lint.Pass, set lint.Set, i int, terms []spfTerm) {
		all := false
		for _, t := range terms {
			if all && (!t.modifier || t.name == "redirect") {
				p.Add(p.Report(within(p, set, i, t.text), "%s stands after all and is never looked at", t.text).Suggest("put all at the end"))
				return
			}
			all = all || t.name == "all"
		}
	}),
}

var spfAnyone = &lint.Check{Rule: diag.Rule{
	Code: "spf-passes-anyone", Severity: diag.Warning, Title: "an SPF record lets anyone send mail in the domain's name", Ref: "RFC 7208 §5.1",
	Doc:  "all without a sign, or with +, says that every host of the world may send. -all says no other may, ~all that others are suspect.",
	Bad:  "@ TXT \"v=spf1 ip4:192.0.2.25 +all\"\n",
	Good: "@ TXT \"v=spf1 ip4:192.0.2.25 -all\"\n"},
	Types: types(rr.TypeTXT), Set: spfCheck(func(p *lint.Pass, set lint.Set, i int, terms []spfTerm) {
		for _, t := range terms {
			if t.name == "all" && !t.modifier && t.pass {
				p.Add(p.Report(within(p, set, i, t.text), "%s lets anyone send mail for %s", t.text, set.Name.Owner()).Suggest("write -all"))
			}
		}
	}),
}

var spfNoEnd = &lint.Check{Rule: diag.Rule{
	Code: "spf-without-end", Severity: diag.Note, Title: "an SPF record ends without all or redirect", Ref: "RFC 7208 §4.7",
	Doc:  "For senders that no term matches, the answer is then \"neutral\", as if there were no record. End it with -all or ~all.",
	Bad:  "@ TXT \"v=spf1 ip4:192.0.2.25\"\n",
	Good: "@ TXT \"v=spf1 ip4:192.0.2.25 ~all\"\n"},
	Types: types(rr.TypeTXT), Set: spfCheck(func(p *lint.Pass, set lint.Set, i int, terms []spfTerm) {
		for _, t := range terms {
			if t.name == "all" || t.modifier && t.name == "redirect" {
				return
			}
		}
		p.Add(p.Report(set.Layout(i).Field(0), "the SPF record of %s does not say what applies to all other senders", set.Name.Owner()).Suggest("end it with -all"))
	}),
}

var spfPtr = &lint.Check{Rule: diag.Rule{
	Code: "spf-ptr", Severity: diag.Warning, Title: "an SPF record uses ptr", Ref: "RFC 7208 §5.5",
	Doc:  "ptr is slow and not to be published: receivers may skip it. Write the addresses, or a and mx.",
	Bad:  "@ TXT \"v=spf1 ptr -all\"\n",
	Good: "@ TXT \"v=spf1 ip4:192.0.2.25 -all\"\n"},
	Types: types(rr.TypeTXT), Set: spfCheck(func(p *lint.Pass, set lint.Set, i int, terms []spfTerm) {
		for _, t := range terms {
			if t.name == "ptr" && !t.modifier {
				p.Add(p.Report(within(p, set, i, t.text), "ptr is not to be used any more").Suggest("write ip4: and ip6: with the addresses"))
			}
		}
	}),
}

var spfBlanks = &lint.Check{Rule: diag.Rule{
	Code: "spf-lost-blanks", Severity: diag.Warning, Title: "an SPF record loses its blanks where its strings meet", Ref: "RFC 7208 §3.3",
	Doc: "Readers join the strings of a TXT record without a blank. v=spf1 mx -all without quotes is three strings, and is read as v=spf1mx-all, " +
		"which is not an SPF record. Put the whole text in one pair of quotes; where it must be split, leave a blank at the end of the first part.",
	Bad:  "@ TXT v=spf1 mx -all\n@ MX 10 mail.example.net.\n",
	Good: "@ TXT \"v=spf1 mx -all\"\n@ MX 10 mail.example.net.\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if begins(data, spfVersion) {
				spfStrings(p, set, i, data)
			}
		})
	},
}

// lostBlanks are the strings of an SPF record, and whether blanks are missing where they meet.
func lostBlanks(data []byte) (parts []string, lost bool) {
	for rest := data; len(rest) > 0; rest = rest[1+int(rest[0]):] {
		parts = append(parts, string(rest[1:1+int(rest[0])]))
	}
	for k := 1; k < len(parts); k++ {
		a, b := strings.Fields(parts[k-1]), strings.Fields(parts[k])
		if len(a) == 0 || len(b) == 0 || strings.HasSuffix(parts[k-1], " ") || strings.HasPrefix(parts[k], " ") {
			continue
		}
		left, right := a[len(a)-1], b[0]
		whole := strings.EqualFold(left, spfVersion) || spfTermOf(left).fault == ""
		lost = lost || whole && spfTermOf(right).fault == "" && spfTermOf(left+right).fault != "" || strings.EqualFold(left, spfVersion)
	}
	return parts, lost
}

// spfStrings looks where the strings of an SPF record meet: a term that is whole
// on either side must not be joined to the next.
func spfStrings(p *lint.Pass, set lint.Set, i int, data []byte) {
	parts, lost := lostBlanks(data)
	if !lost {
		return
	}
	l := set.Layout(i)
	if len(l.Data) < 2 {
		return
	}
	text := strings.Join(parts, " ")
	d := p.Report(source.Span{Start: l.Data[0].Start, End: l.Data[len(l.Data)-1].End}, "the strings of this SPF record are read as one, without blanks: %s", shorten(joined(data)))
	if len(text) <= 255 {
		quoted := string(rr.AppendQuoted(nil, []byte(text)))
		d = fixed(d.Suggest("write %s", quoted), quoted)
	}
	p.Add(d)
}

func shorten(s string) string {
	if len(s) > 60 {
		return s[:57] + "..."
	}
	return s
}

var spfVersionTypo = &lint.Check{Rule: diag.Rule{
	Code: "spf-version", Severity: diag.Warning, Title: "a text looks like an SPF record and is not one", Ref: "RFC 7208 §4.5",
	Doc:  "An SPF record begins with v=spf1 and a blank, or consists of it. Anything else is ignored by receivers.",
	Bad:  "@ TXT \"v=spf ip4:192.0.2.25 -all\"\n",
	Good: "@ TXT \"v=spf1 ip4:192.0.2.25 -all\"\n"},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			_, is := spfOf(data)
			split := len(data) > 0 && strings.EqualFold(string(data[1:1+int(data[0])]), spfVersion) // see spf-lost-blanks
			if !is && !split && begins(data, "v=spf") || begins(data, "spf1 ") || begins(data, "spf=1") {
				p.Add(p.Report(set.Layout(i).Field(0), "this text does not count as an SPF record").Suggest("begin it with v=spf1 and a blank"))
			}
		})
	},
}
