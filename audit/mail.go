package audit

import (
	"encoding/binary"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/validate"
)

// exchange is an MX record.
type exchange struct {
	preference uint16
	host       dnsname.Name
}

func mxOf(data [][]byte) (out []exchange) {
	for _, d := range data {
		if len(d) < 3 {
			continue
		}
		if n, err := dnsname.FromWire(d[2:]); err == nil {
			out = append(out, exchange{binary.BigEndian.Uint16(d), n})
		}
	}
	slices.SortFunc(out, func(a, b exchange) int { return int(a.preference) - int(b.preference) })
	return out
}

// mx is who takes mail for the zone; the null MX of RFC 7505 is left out.
func (f *Facts) mx() (out []exchange) {
	for _, m := range mxOf(f.data(f.Zone, rr.TypeMX)) {
		if m.host != dnsname.Root {
			out = append(out, m)
		}
	}
	return out
}

// noMail says why nothing of mail is looked at.
func noMail(f *Facts) string {
	if why := noAnswers(f); why != "" {
		return why
	}
	if len(f.mx()) == 0 {
		return "the zone has no MX records"
	}
	return ""
}

// tlsaOf is where the certificates of a mail host are (RFC 7672 §3).
func tlsaOf(host dnsname.Name) dnsname.Name {
	n, err := dnsname.Parse("_25._tcp", host)
	if err != nil {
		return host
	}
	return n
}

// texts are the texts at a name that begin with a word.
func (f *Facts) texts(name dnsname.Name, begin string) (out []string, err error) {
	found, err := f.find(name, rr.TypeTXT)
	for _, d := range found.Data {
		if text := joined(d); len(text) >= len(begin) && strings.EqualFold(text[:len(begin)], begin) {
			out = append(out, text)
		}
	}
	return out, err
}

// joined is the strings of a TXT record as one.
func joined(d []byte) string {
	var b strings.Builder
	for len(d) > 0 && len(d) > int(d[0]) {
		b.Write(d[1 : 1+int(d[0])])
		d = d[1+int(d[0]):]
	}
	return b.String()
}

// tags are the parts of a record such as v=DMARC1; p=none, by their name in lower case.
func tags(text string) map[string]string {
	out := map[string]string{}
	for _, part := range strings.Split(text, ";") {
		if k, v, ok := strings.Cut(part, "="); ok {
			out[strings.ToLower(strings.TrimSpace(k))] = strings.TrimSpace(v)
		}
	}
	return out
}

// eachExchange calls look for each host that takes mail.
func eachExchange(look func(f *Facts, host dnsname.Name, l *Findings)) func(*Facts, *Findings) {
	return func(f *Facts, l *Findings) {
		for _, m := range f.mx() {
			look(f, m.host, l)
		}
	}
}

var mailTests = []*Test{
	{Rule: rule("mail-without-mx", diag.Note, "the zone does not say where its mail goes", "RFC 5321 §5.1, RFC 7505 §3",
		"Without MX records mail is delivered to the address of the zone's name, which is rarely intended. Add MX records, or MX 0 . if it accepts no mail."),
		Area: Mail, Skip: noServices, Look: func(f *Facts, l *Findings) {
			if found, err := f.find(f.Zone, rr.TypeMX); err == nil && len(found.Data) == 0 {
				l.add("@ MX 10 mail, or @ MX 0 .", "%s has no MX record", f.Zone.Plain())
			}
		}},
	{Rule: rule("mail-host-missing", diag.Error, "a mail exchanger has no address", "RFC 5321 §5.1",
		"Mail for it waits in queues and is returned after days."),
		Area: Mail, Skip: noMail, Look: eachExchange(func(f *Facts, host dnsname.Name, l *Findings) {
			if addrs, _, err := f.addrs(host); err != nil {
				l.add("", "%s cannot be looked up: %v", host.Plain(), err)
			} else if len(addrs) == 0 {
				l.add("give the host an address, or take the MX record away", "%s has neither A nor AAAA records", host.Plain())
			}
		})},
	{Rule: rule("mail-host-is-alias", diag.Error, "a mail exchanger is an alias", "RFC 2181 §10.3, RFC 5321 §5.1",
		"An MX record has to name a host with addresses; some senders do not follow a CNAME there, or make a loop of it."),
		Area: Mail, Skip: noMail, Look: eachExchange(func(f *Facts, host dnsname.Name, l *Findings) {
			if _, aliases, _ := f.addrs(host); aliases > 0 {
				l.add("name the host that the alias stands for", "%s is an alias", host.Plain())
			}
		})},
	{Rule: rule("mail-host-unusable", diag.Error, "a mail exchanger has an address that cannot be reached", "RFC 6890 §2.2",
		"Private and loopback addresses mean something else in every network: senders try their own."),
		Area: Mail, Skip: noMail, Look: eachExchange(func(f *Facts, host dnsname.Name, l *Findings) {
			addrs, _, _ := f.addrs(host)
			for _, a := range addrs {
				if why := unreachable(a); why != "" {
					l.add("", "%s has the address %s, which is %s", host.Plain(), a, why)
				}
			}
		})},
	{Rule: rule("mail-reverse-missing", diag.Note, "the PTR record of a mail exchanger is missing, or does not match", "RFC 1912 §2.1",
		"Many mail servers refuse mail from addresses without a matching PTR record. A mail exchanger usually sends mail too."),
		Area: Mail, Skip: noMail, Look: eachExchange(func(f *Facts, host dnsname.Name, l *Findings) {
			addrs, _, _ := f.addrs(host)
			for _, a := range addrs {
				names, err := f.reverse(a)
				switch {
				case err != nil || unreachable(a) != "":
				case len(names) == 0:
					l.add("add the PTR record "+dnsname.Reverse(a).Plain(), "%s (%s) has no PTR record", host.Plain(), a)
				case !f.leadsBack(names, a):
					l.add("correct the PTR record", "%s is called %s, which does not have that address", a, names[0].Plain())
				}
			}
		})},
	{Rule: rule("spf-missing", diag.Warning, "the zone does not say who may send mail for it", "RFC 7208 §3",
		"Without an SPF record anyone can send mail in its name, and receivers treat much of yours as spam. A name that sends no mail says v=spf1 -all."),
		Area: Mail, Skip: noMail, Look: func(f *Facts, l *Findings) {
			if list, err := f.texts(f.Zone, "v=spf1"); err == nil && len(list) == 0 {
				l.add(`@ TXT "v=spf1 mx -all"`, "%s has no SPF record", f.Zone.Plain())
			}
		}},
	{Rule: rule("spf-fails", diag.Warning, "receivers cannot evaluate the SPF record to its end", "RFC 7208 §4.6.4, §5.2",
		"With all includes followed, it needs more than ten lookups, has more than two lookups without an answer, or includes a domain without an SPF record. The result is a permanent error, and receivers refuse mail."),
		Area: Mail, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			for _, fault := range f.spf() {
				l.add("", "%s", fault)
			}
		}},
	{Rule: rule("dmarc-missing", diag.Note, "the zone does not say what to do with forged mail", "RFC 7489 §6.3",
		"A DMARC record asks receivers to refuse mail that is not yours, or at least to report it."),
		Area: Mail, Skip: noMail, Look: func(f *Facts, l *Findings) {
			if list, err := f.texts(f.under("_dmarc"), "v=DMARC1"); err == nil && len(list) == 0 {
				l.add(`_dmarc TXT "v=DMARC1; p=none; rua=mailto:postmaster@`+f.Zone.Plain()+`"`, "%s has no DMARC record", f.under("_dmarc").Plain())
			}
		}},
	{Rule: rule("dmarc-only-watches", diag.Note, "the DMARC record asks for nothing to be done", "RFC 7489 §6.3",
		"With p=none forged mail is delivered as before. This is right for the first weeks, while you read the reports, but protects nobody."),
		Area: Mail, Skip: noAnswers, Look: eachDMARC(func(_ *Facts, t map[string]string, l *Findings) {
			if strings.EqualFold(t["p"], "none") {
				l.add("p=quarantine, then p=reject", "the policy is p=none")
			}
		})},
	{Rule: rule("dmarc-reports-refused", diag.Warning, "the receiver of DMARC reports has not agreed to them", "RFC 7489 §7.1",
		"Reports go to another domain only if it has a record that accepts them."),
		Area: Mail, Skip: noAnswers, Look: eachDMARC(func(f *Facts, t map[string]string, l *Findings) {
			for _, uri := range strings.Split(t["rua"]+","+t["ruf"], ",") {
				_, domain, ok := strings.Cut(strings.TrimSpace(uri), "@")
				domain, _, _ = strings.Cut(domain, "!")
				to, err := dnsname.Parse(domain, dnsname.Root)
				if !ok || err != nil || to.AtOrBelow(f.Zone) || f.Zone.AtOrBelow(to) {
					continue
				}
				name, err := dnsname.Parse(f.Zone.Plain()+"._report._dmarc", to)
				if err != nil {
					continue
				}
				if list, err := f.texts(name, "v=DMARC1"); err == nil && len(list) == 0 {
					l.add("have "+name.Plain()+" TXT \"v=DMARC1\" added there", "%s does not say that it takes reports about %s", to.Plain(), f.Zone.Plain())
				}
			}
		})},
	{Rule: rule("mta-sts-record", diag.Warning, "the MTA-STS record cannot be understood", "RFC 8461 §3.1",
		"Senders look for v=STSv1 and an id of letters and digits that changes with the policy. With several records, senders ignore all."),
		Area: Mail, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			list, _ := f.texts(f.under("_mta-sts"), "v=STS")
			if len(list) > 1 {
				l.add("", "there are %d MTA-STS records", len(list))
			}
			for _, text := range list {
				t := tags(text)
				id := t["id"]
				switch {
				case t["v"] != "STSv1":
					l.add("v=STSv1", "the version is %q", t["v"])
				case id == "" || len(id) > 32 || strings.Trim(strings.ToLower(id), "abcdefghijklmnopqrstuvwxyz0123456789") != "":
					l.add("", "the id %q is not 1 to 32 letters and digits", id)
				}
			}
		}},
	{Rule: rule("mta-sts-host", diag.Warning, "the host of the MTA-STS policy has no address", "RFC 8461 §3.2",
		"The policy itself is a file on mta-sts under the zone's name. Without that host the record means nothing."),
		Area: Mail, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			list, _ := f.texts(f.under("_mta-sts"), "v=STSv1")
			if addrs, _, err := f.addrs(f.under("mta-sts")); len(list) > 0 && err == nil && len(addrs) == 0 {
				l.add("", "%s has neither A nor AAAA records", f.under("mta-sts").Plain())
			}
		}},
	{Rule: rule("tls-reports", diag.Warning, "the record for reports about TLS cannot be understood", "RFC 8460 §3",
		"Senders look for v=TLSRPTv1 and rua= with a mailto: or https: address."),
		Area: Mail, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			list, _ := f.texts(f.under("_smtp._tls"), "v=TLSRPT")
			if len(list) > 1 {
				l.add("", "there are %d such records", len(list))
			}
			for _, text := range list {
				t := tags(text)
				rua := strings.ToLower(t["rua"])
				switch {
				case t["v"] != "TLSRPTv1":
					l.add("v=TLSRPTv1", "the version is %q", t["v"])
				case !strings.HasPrefix(rua, "mailto:") && !strings.HasPrefix(rua, "https:"):
					l.add("", "rua=%s is neither mailto: nor https:", t["rua"])
				}
			}
		}},
	{Rule: rule("tlsa-unsigned", diag.Warning, "TLSA records of a mail exchanger are in an unsigned zone", "RFC 7672 §2.2, RFC 6698 §4",
		"TLSA records count only if DNSSEC proves them: senders ignore these."),
		Area: Mail, Skip: noMail, Look: eachExchange(func(f *Facts, host dnsname.Name, l *Findings) {
			if len(f.data(tlsaOf(host), rr.TypeTLSA)) > 0 && host.AtOrBelow(f.Zone) && (!f.signed() || f.Chain != nil && f.Chain.Status != validate.Secure) {
				l.add("sign the zone, and have the parent's operator add its DS", "%s has TLSA records that DNSSEC does not prove", host.Plain())
			}
		})},
	{Rule: rule("tlsa-usage", diag.Warning, "TLSA records of a mail exchanger have a usage that senders ignore", "RFC 7672 §3.1.3",
		"For mail only DANE-TA (2) and DANE-EE (3) count; senders ignore 0 and 1."),
		Area: Mail, Skip: noMail, Look: eachExchange(func(f *Facts, host dnsname.Name, l *Findings) {
			list := f.data(tlsaOf(host), rr.TypeTLSA)
			if len(list) > 0 && !slices.ContainsFunc(list, func(d []byte) bool { return len(d) > 3 && (d[0] == 2 || d[0] == 3) }) {
				l.add("3 1 1 and the digest of the key", "all TLSA records of %s have usage 0 or 1", host.Plain())
			}
		})},
}

// eachDMARC calls look with the parts of the DMARC record.
func eachDMARC(look func(f *Facts, t map[string]string, l *Findings)) func(*Facts, *Findings) {
	return func(f *Facts, l *Findings) {
		list, _ := f.texts(f.under("_dmarc"), "v=DMARC1")
		for _, text := range list {
			look(f, tags(text), l)
		}
	}
}
