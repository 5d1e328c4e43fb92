package checks

import (
	"fmt"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
)

const okSOA = "@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300"

// weekend is the time from Friday evening to Monday morning, and a bit.
const weekend = 3 * 86400

var expireWeekend = &lint.Check{Rule: diag.Rule{
	Code: "expire-within-weekend", Severity: diag.Warning, Title: "secondaries give up before a weekend is over", Ref: "RFC 1912 §2.2",
	Doc:  "If the primary fails on Friday evening, secondaries answer until expire has passed. With less than three days the zone is gone by Monday. Two to four weeks are usual.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster 1 7200 900 86400 300"),
	Good: bare("@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 300")},
	Types: typeSOA, Set: soaCheck(soaExpireField, func(s rr.SOA) (string, string) {
		if s.Expire >= weekend || s.Expire <= s.Refresh+s.Retry {
			return "", ""
		}
		return "expire (" + secs(s.Expire) + ") is over before the weekend is", "write 1209600 (two weeks) or more"
	}),
}

// season is about a quarter of a year.
const season = 90 * 86400

var expireLong = &lint.Check{Rule: diag.Rule{
	Code: "expire-too-long", Severity: diag.Warning, Title: "a forgotten secondary answers from an old copy for months", Ref: "RFC 1912 §2.2",
	Doc:  "After expire a secondary that cannot reach its primary stops answering. A forgotten one answers with old data until then. Two to four weeks are usual.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster 1 7200 900 31536000 300"),
	Good: bare("@ SOA ns1.example.net. hostmaster 1 7200 900 1209600 300")},
	Types: typeSOA, Set: soaCheck(soaExpireField, func(s rr.SOA) (string, string) {
		if s.Expire <= season {
			return "", ""
		}
		return "secondaries answer without their primary for " + secs(s.Expire), "write 1209600 (two weeks) to 2419200 (four)"
	}),
}

var refreshShort = &lint.Check{Rule: diag.Rule{
	Code: "refresh-too-short", Severity: diag.Note, Title: "secondaries look for a new version all the time", Ref: "RFC 1912 §2.2",
	Doc:  "Refresh is only for the case that a NOTIFY was lost. Less than five minutes burdens the primary and gains nothing.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster 1 60 30 1209600 300"),
	Good: bare(okSOA)},
	Types: typeSOA, Set: soaCheck(soaRefresh, func(s rr.SOA) (string, string) {
		if s.Refresh >= 300 {
			return "", ""
		}
		return "refresh is " + secs(s.Refresh), "write 3600 or more, and let NOTIFY bring changes at once"
	}),
}

var refreshLong = &lint.Check{Rule: diag.Rule{
	Code: "refresh-too-long", Severity: diag.Note, Title: "a lost NOTIFY goes unnoticed for more than a day", Ref: "RFC 1912 §2.2",
	Doc:  "Secondaries that missed a NOTIFY serve the old version until refresh has passed. Half a day is the most that is usual.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster 1 172800 900 1209600 300"),
	Good: bare(okSOA)},
	Types: typeSOA, Set: soaCheck(soaRefresh, func(s rr.SOA) (string, string) {
		if s.Refresh <= 86400 {
			return "", ""
		}
		return "refresh is " + secs(s.Refresh), "write 43200 or less"
	}),
}

var serialFuture = &lint.Check{Rule: diag.Rule{
	Code: "serial-in-the-future", Severity: diag.Warning, Title: "the serial is a date that has not come yet", Ref: "RFC 1912 §2.2, RFC 1982 §7",
	Doc: "The serial looks like YYYYMMDDnn and is of a later day than today: most likely a digit was mistyped. From there one can only go further forward until that day. " +
		"`fencepost serial ZONE --set N` lays out the steps back.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster 2062112301 7200 900 1209600 300"),
	Good: bare(okSOA)},
	Types: typeSOA, Set: func(p *lint.Pass, set lint.Set) {
		soa, err := rr.ParseSOA(set.First())
		if err != nil || p.Now.IsZero() {
			return
		}
		day, ok := serialDay(soa.Serial)
		if !ok || !day.After(p.Now.UTC().Add(36*time.Hour)) { // somewhere it is tomorrow already
			return
		}
		p.Add(p.Report(set.Layout(0).Field(soaSerial), "the serial %d is of %s", soa.Serial, day.Format("2 January 2006")).
			Suggest("see how to go back: fencepost serial %s --set %s01", trimDot(p.Zone.Apex()), p.Now.UTC().Format("20060102")))
	},
}

var serialNoDate = &lint.Check{Rule: diag.Rule{
	Code: "serial-no-date", Severity: diag.Note, Title: "the serial looks like a date and is not one", Ref: "RFC 1912 §2.2",
	Doc:  "A serial is a number, and any will do as long as it grows. This one looks like a date: YYYYMMDD and two digits that count the changes of a day. Any other number confuses its readers, and a proper date may be a step back from it.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster 2026133201 7200 900 1209600 300"),
	Good: bare(okSOA)},
	Types: typeSOA, Set: soaCheck(soaSerial, func(s rr.SOA) (string, string) {
		what := notQuiteDate(s.Serial)
		if what == "" {
			return "", ""
		}
		return fmt.Sprintf("the serial %d %s", s.Serial, what), "any number that grows will do; the way to a date: fencepost serial ZONE --set YYYYMMDD00 --plan"
	}),
}

// notQuiteDate says how a serial misses being a date; empty if it is one, or looks
// like none.
func notQuiteDate(serial uint32) string {
	text := fmt.Sprint(serial)
	is := func(layout, t string) bool {
		day, err := time.Parse(layout, t)
		return err == nil && day.Year() >= 1980 && day.Year() < 2100
	}
	switch {
	case len(text) == 8 && is("20060102", text):
		return "is a date without the two digits that count the changes of a day"
	case len(text) != 10 || is("20060102", text[:8]):
		return ""
	case is("02012006", text[:8]):
		return "is a date with the day first"
	case is("01022006", text[:8]):
		return "is a date with the month first"
	case text[:2] == "20" && text[2:4] <= "99" && (text[2] == '0' || text[2] == '1' || text[2] == '2'):
		return "looks like a date, and there is no such day"
	}
	return ""
}

func trimDot(n dnsname.Name) string {
	s := n.String()
	return s[:max(len(s)-1, 1)]
}

// serialDay is the day of a serial of the form YYYYMMDDnn.
func serialDay(serial uint32) (time.Time, bool) {
	if serial < 1980010100 || serial > 2999123199 {
		return time.Time{}, false
	}
	day, err := time.Parse("20060102", fmt.Sprint(serial/100))
	return day, err == nil
}

var mnameMissing = &lint.Check{Rule: diag.Rule{
	Code: "primary-missing", Severity: diag.Warning, Title: "the SOA's primary server does not exist", Ref: "RFC 1035 §3.3.13, RFC 2136 §1",
	Doc:  "The first field of the SOA names the primary. Dynamic updates and NOTIFY go by it, so it should be a host with an address, though it need not be among the NS.",
	Bad:  bare("@ SOA primary hostmaster 2026112301 7200 900 1209600 300"),
	Good: bare(okSOA)},
	Types: typeSOA, Set: func(p *lint.Pass, set lint.Set) {
		soa, err := rr.ParseSOA(set.First())
		if err != nil {
			return
		}
		at := set.Layout(0).Field(soaMName)
		if soa.MName == dnsname.Root {
			p.Add(p.Report(at, "the SOA names no primary server"))
			return
		}
		t := p.Look([]byte(soa.MName.Wire()))
		if !t.InZone || t.Address {
			return
		}
		if lost, _ := lostDot(p, []byte(soa.MName.Wire())); lost {
			text := string(p.Text(at))
			p.Add(fixed(p.Report(at, "without a final dot the primary is %s, which does not exist", soa.MName).Suggest("write %s.", text), text+"."))
			return
		}
		p.Add(p.Report(at, "the primary %s has no address in the zone", soa.MName).Suggest("add one: %s A ADDRESS", rel(p, soa.MName)))
	},
}

var contactShape = &lint.Check{Rule: diag.Rule{
	Code: "contact-shape", Severity: diag.Warning, Title: "the SOA's contact is not a mailbox", Ref: "RFC 1035 §3.3.13, RFC 1912 §2.2",
	Doc:  "The contact is a name whose first label is the mailbox and whose rest is the mail domain: hostmaster.example.com. for hostmaster@example.com.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster. 2026112301 7200 900 1209600 300"),
	Good: bare(okSOA)},
	Types: typeSOA, Set: func(p *lint.Pass, set lint.Set) {
		soa, err := rr.ParseSOA(set.First())
		if err != nil || soa.RName.Labels() >= 2 || p.Zone.Apex() == dnsname.Root {
			return
		}
		p.Add(p.Report(set.Layout(0).Field(soaRName), "the contact %s has no mail domain", soa.RName).
			Suggest("write hostmaster, or a whole name such as hostmaster.%s", p.Zone.Apex()))
	},
}

var contactDot = &lint.Check{Rule: diag.Rule{
	Code: "contact-without-final-dot", Severity: diag.Warning, Title: "the SOA's contact has most likely lost its final dot", Ref: "RFC 1035 §5.1, §3.3.13",
	Doc:  "A contact without a final dot is completed with the origin: hostmaster.example.com in the zone example.com means hostmaster@example.com.example.com, where no mail arrives. Write the final dot, or the mailbox alone.",
	Bad:  bare("@ SOA ns1.example.net. hostmaster.example.com 2026112301 7200 900 1209600 300"),
	Good: bare(okSOA)},
	Types: typeSOA, Set: func(p *lint.Pass, set lint.Set) {
		soa, err := rr.ParseSOA(set.First())
		if err != nil {
			return
		}
		wire := []byte(soa.RName.Wire())
		lost, _ := lostDot(p, wire)
		at := set.Layout(0).Field(soaRName)
		text := string(p.Text(at))
		if !lost || strings.HasSuffix(text, ".") || strings.Contains(text, "@") {
			return
		}
		p.Add(fixed(p.Report(at, "without a final dot the contact means %s", soa.RName).Suggest("write %s.", text), text+"."))
	},
}

const week = 7 * 86400

var ttlLong = &lint.Check{Rule: diag.Rule{
	Code: "ttl-over-a-week", Severity: diag.Note, Title: "records may be cached for more than a week", Ref: "RFC 1912 §2.2, RFC 8767 §4",
	Doc:  "So long will a mistake in such a record live on. Most resolvers cut it to a day or a week anyway. Said once for each zone.",
	Bad:  "web 2592000 A 192.0.2.1\n",
	Good: "web 86400 A 192.0.2.1\n"},
	Set: func(p *lint.Pass, set lint.Set) {
		if set.TTL > week {
			countTTL(p, set, "may be cached for "+secs(set.TTL), "write 86400 or less")
		}
	},
}

var ttlZero = &lint.Check{Rule: diag.Rule{
	Code: "ttl-zero", Severity: diag.Note, Title: "records must not be cached at all", Ref: "RFC 1035 §3.2.1, RFC 2181 §8",
	Doc:  "With TTL 0 each use is a query to your servers, and some resolvers do as they please. For what changes often 60 will do. Said once for each zone.",
	Bad:  "web 0 A 192.0.2.1\n",
	Good: "web 60 A 192.0.2.1\n"},
	Set: func(p *lint.Pass, set lint.Set) {
		if set.TTL == 0 {
			countTTL(p, set, "may not be cached (TTL 0)", "write 60 or more")
		}
	},
}

// countTTL counts the sets with such a TTL.
func countTTL(p *lint.Pass, set lint.Set, what, suggestion string) {
	if !p.Count(set.Pos(0)) {
		return
	}
	l, owner, t := set.Layout(0), set.Name.Owner(), set.Type
	at := l.TTL
	if at.IsZero() {
		at = l.Type
	}
	p.Explain(func(count int) diag.Diagnostic {
		d := p.Report(at, "the %s records of %s %s", t, owner, what)
		if count > 1 {
			d.Message += andMore(count - 1)
		}
		return d.Suggest("%s", suggestion)
	})
}
