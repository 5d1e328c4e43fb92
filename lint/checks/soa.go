package checks

import (
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
)

var missingSOA = &lint.Check{Rule: diag.Rule{
	Code: "missing-soa", Severity: diag.Error, Title: "the zone has no SOA record", Ref: "RFC 1035 §5.2",
	Doc:  "The SOA record says who runs the zone, its version and how secondaries keep up with it. Without it no server will load the zone. `fencepost new` writes one.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n",
	Good: bare(okSOA)},
	Zone: func(p *lint.Pass) {
		if _, ok := p.Zone.SOA(); !ok && !p.Zone.UnreadSOA {
			p.Add(p.Report(fileStart(p), "the zone %s has no SOA record", p.Zone.Apex()).
				Suggest("put one at the head: @ SOA ns1 hostmaster 1 7200 900 1209600 300"))
		}
	},
}

// fileStart is the first place of the zone's file.
func fileStart(p *lint.Pass) source.Span {
	return source.Span{Start: p.Zone.File.Pos(0), End: p.Zone.File.Pos(0)}
}

var secondSOA = &lint.Check{Rule: diag.Rule{
	Code: "second-soa", Severity: diag.Error, Title: "the zone has more than one SOA record", Ref: "RFC 1035 §5.2, RFC 2181 §6.1",
	Doc:  "A zone has exactly one SOA, at its own name. A second one often is the result of pasting two files together, or from a zone below that should be a file of its own.",
	Bad:  "sub SOA ns1 hostmaster 1 7200 900 1209600 300\n",
	Good: "sub NS ns1.example.net.\nsub NS ns2.example.net.\n"},
	Zone: func(p *lint.Pass) {
		for _, s := range p.Zone.ExtraSOA {
			p.Add(p.Report(s.Span, "a second SOA, at %s; the zone is %s", s.Owner, p.Zone.Apex()).
				See(p.Zone.SOASpan, "the first is here").
				Suggest("keep one; a zone below has a file of its own"))
		}
	},
}

var noNameServer = &lint.Check{Rule: diag.Rule{
	Code: "no-name-server", Severity: diag.Error, Title: "the zone has no NS record at its own name", Ref: "RFC 1034 §4.2.2",
	Doc:  "The NS records at the zone's own name list all servers that answer for it. They should be the same as those in the parent zone.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n",
	Good: bare(okSOA)},
	Zone: func(p *lint.Pass) {
		if apexServers(p).N == 0 && !p.Zone.Unread([]byte(p.Zone.Apex().Wire())) {
			p.Add(p.Report(soaPlace(p), "the zone %s has no NS record", p.Zone.Apex()).
				Suggest("list its servers: @ NS ns1"))
		}
	},
}

var oneNameServer = &lint.Check{Rule: diag.Rule{
	Code: "one-name-server", Severity: diag.Warning, Title: "the zone has only one name server", Ref: "RFC 1034 §4.1, RFC 2182 §5",
	Doc:  "When the only server is out of reach, so is everything in the zone. Have at least two, in different places.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1.example.net.\n",
	Good: bare(okSOA)},
	Zone: func(p *lint.Pass) {
		if set := apexServers(p); set.N == 1 && !servedByNobody(set.First(), set.N) {
			p.Add(p.Report(soaPlace(p), "the zone %s has only one name server", p.Zone.Apex()).
				Suggest("add a second, in another network"))
		}
	},
}

func apexServers(p *lint.Pass) zone.RRset {
	var apex zone.Node
	if !p.Zone.ApexNode(&apex) {
		return zone.RRset{}
	}
	set, _ := apex.Find(rr.TypeNS)
	return set
}

func soaPlace(p *lint.Pass) source.Span {
	if p.Zone.SOASpan.IsZero() {
		return fileStart(p)
	}
	return p.Zone.SOASpan
}

// Fields of SOA data, by the word they are.
const (
	soaMName = iota
	soaRName
	soaSerial
	soaRefresh
	soaRetryField
	soaExpireField
	soaMinimumField
)

// soaCheck makes the function of a check on the SOA's numbers: bad tells
// whether something is wrong with the field, and how to say so.
func soaCheck(field int, bad func(rr.SOA) (message, suggestion string)) func(*lint.Pass, lint.Set) {
	return func(p *lint.Pass, set lint.Set) {
		soa, err := rr.ParseSOA(set.First())
		if err != nil {
			return
		}
		if message, suggestion := bad(soa); message != "" {
			p.Add(p.Report(set.Layout(0).Field(field), "%s", message).Suggest("%s", suggestion))
		}
	}
}

var typeSOA = []rr.Type{rr.TypeSOA}

var soaExpire = &lint.Check{Rule: diag.Rule{
	Code: "expire-too-short", Severity: diag.Warning, Title: "secondaries give up before they have tried often enough", Ref: "RFC 1912 §2.2, RFC 1034 §4.3.5",
	Doc: "Expire is how long a secondary goes on answering without reaching the primary. If it is not longer than refresh and retry together, " +
		"one missed contact ends the service. Two to four weeks outlast a bad weekend.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 1 7200 900 3600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n",
	Good: bare(okSOA)},
	Types: typeSOA, Set: soaCheck(soaExpireField, func(s rr.SOA) (string, string) {
		if s.Expire > s.Refresh+s.Retry {
			return "", ""
		}
		return "expire (" + secs(s.Expire) + ") is not longer than refresh and retry together (" + secs(s.Refresh+s.Retry) + ")",
			"write 1209600 (two weeks) or more"
	}),
}

var soaRetry = &lint.Check{Rule: diag.Rule{
	Code: "retry-not-below-refresh", Severity: diag.Warning, Title: "retry is not shorter than refresh", Ref: "RFC 1912 §2.2",
	Doc:  "Retry is how long a secondary waits after a failed attempt. It is meant to be a fraction of refresh, so that a short outage is made up for soon.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 1 900 7200 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n",
	Good: bare(okSOA)},
	Types: typeSOA, Set: soaCheck(soaRetryField, func(s rr.SOA) (string, string) {
		if s.Retry < s.Refresh {
			return "", ""
		}
		return "retry (" + secs(s.Retry) + ") is not shorter than refresh (" + secs(s.Refresh) + ")", "write about an eighth of refresh, such as " + number(max(s.Refresh/8, 60))
	}),
}

var soaMinimum = &lint.Check{Rule: diag.Rule{
	Code: "minimum-too-long", Severity: diag.Warning, Title: "resolvers remember for over a day that a name does not exist", Ref: "RFC 2308 §5",
	Doc:  "The last number of the SOA is how long resolvers remember that a name or type does not exist. With more than a day, a name you add may stay invisible that long. 300 to 3600 is usual.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 604800\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n",
	Good: bare(okSOA)},
	Types: typeSOA, Set: soaCheck(soaMinimumField, func(s rr.SOA) (string, string) {
		if s.Minimum <= 86400 {
			return "", ""
		}
		return "the last number (" + secs(s.Minimum) + ") keeps missing names missing for over a day", "write 3600 or less"
	}),
}

var serialZero = &lint.Check{Rule: diag.Rule{
	Code: "serial-zero", Severity: diag.Warning, Title: "the serial is 0", Ref: "RFC 2136 §7.11, RFC 1982 §7",
	Doc:  "Some software takes 0 for \"no serial\". Any other number will do.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 0 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n",
	Good: bare(okSOA)},
	Types: typeSOA, Set: soaCheck(soaSerial, func(s rr.SOA) (string, string) {
		if s.Serial != 0 {
			return "", ""
		}
		return "the serial is 0", "let `fencepost serial ZONE --next` write the next one"
	}),
}

var contactAt = &lint.Check{Rule: diag.Rule{
	Code: "contact-with-at-sign", Severity: diag.Warning, Title: "the SOA's contact is written with @", Ref: "RFC 1035 §3.3.13, RFC 1912 §2.2",
	Doc:  `The contact is a name: the mailbox, a dot where the @ would be, and the domain. hostmaster@example.com is written hostmaster.example.com. and a dot inside the mailbox is written \. as in ines\.marsh.example.com.`,
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster@example.com. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n",
	Good: bare(okSOA)},
	Types: typeSOA, Set: func(p *lint.Pass, set lint.Set) {
		soa, err := rr.ParseSOA(set.First())
		if err != nil || !strings.Contains(soa.RName.Label(), "@") {
			return
		}
		box, domain, _ := strings.Cut(soa.RName.Label(), "@")
		right := soa.RName.Parent()
		if c, err := right.Child(domain); err == nil && domain != "" {
			right = c
		}
		d := p.Report(set.Layout(0).Field(soaRName), "the contact %s is written with @", strings.ReplaceAll(soa.RName.String(), `\@`, "@"))
		if c, err := right.Child(box); err == nil && box != "" {
			right = c
		}
		text := right.String()
		d = d.Suggest("write %s", text)
		d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: d.Span, New: text}}}
		p.Add(d)
	},
}

// nameOf is the Name of a wire form that is known to be good.
func nameOf(wire []byte) dnsname.Name {
	n, _ := dnsname.FromWire(wire)
	return n
}
