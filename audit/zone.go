package audit

import (
	"slices"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
)

var zoneTests = []*Test{
	{Rule: rule("primary-no-server", diag.Note, "the primary server in the SOA is not among the zone's servers", "RFC 1035 §3.3.13, RFC 2136 §4.3",
		"This is intended where the primary is hidden. Otherwise updates and tools that look for the primary use the wrong host."),
		Area: Zone, Skip: noSOA, Look: func(f *Facts, l *Findings) {
			if !slices.ContainsFunc(f.Hosts, func(h *Host) bool { return h.Name.Equal(f.SOA.MName) }) {
				l.add("", "the SOA names %s", f.SOA.MName.Plain())
			}
		}},
	{Rule: rule("primary-does-not-exist", diag.Warning, "the primary server in the SOA has no address", "RFC 1035 §3.3.13, RFC 2136 §4.3",
		"Dynamic updates are sent there. Nothing else shows a slip in the name."),
		Area: Zone, Skip: noSOA, Look: func(f *Facts, l *Findings) {
			if slices.ContainsFunc(f.Hosts, func(h *Host) bool { return h.Name.Equal(f.SOA.MName) }) || f.SOA.MName == dnsname.Root {
				return
			}
			if addrs, _, err := f.addrs(f.SOA.MName); err == nil && len(addrs) == 0 {
				l.add("name the primary in the SOA", "%s has neither A nor AAAA records", f.SOA.MName.Plain())
			}
		}},
	{Rule: rule("contact-without-mail", diag.Warning, "the contact in the SOA cannot receive mail", "RFC 1035 §3.3.13, RFC 2142 §7",
		"Other operators report problems of the zone to this address. The mail domain of the contact must accept mail."),
		Area: Zone, Skip: noSOA, Look: func(f *Facts, l *Findings) {
			if f.SOA.RName == dnsname.Root {
				l.add("write the mailbox of a person who reads it", "the SOA gives no contact")
				return
			}
			domain := f.SOA.RName.Parent()
			switch takes, known := f.takesMail(domain); {
			case known && !takes:
				l.add("write the mailbox of a person who reads it", "%s accepts no mail: it has no MX record and no address", domain.Plain())
			}
		}},
	{Rule: rule("soa-missing", diag.Error, "a server has no SOA record of the zone", "RFC 1034 §4.2.1, RFC 2181 §6.1",
		"Each zone has one SOA record at its own name. Without it secondaries cannot transfer the zone, and resolvers do not know for how long a name is missing."),
		Area: Zone, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			for _, s := range f.Servers {
				if _, has := s.soa(f.Zone); !has && s.Answers() {
					l.add("look whether that server has loaded the right zone", "%s answers for %s and has no SOA record of it", s, f.Zone.Plain())
				}
			}
		}},
	of(resolve.ApexAlias, Zone, noAnswers, func(f *Facts, l *Findings) {
		found, err := f.find(f.Zone, rr.TypeCNAME)
		if err == nil && len(found.Data) > 0 {
			l.add("replace it by A and AAAA records, or by an HTTPS record in alias mode", "%s has a CNAME record", f.Zone.Plain())
		}
	}),
	{Rule: rule("issuance-open", diag.Note, "any authority may issue certificates for the zone", "RFC 8659 §3",
		"Without a CAA record every certification authority may. One line says which ones do."),
		Area: Zone, Skip: noServices, Look: func(f *Facts, l *Findings) {
			for up := f.Zone; up != dnsname.Root; up = up.Parent() { // RFC 8659 §3
				found, err := f.find(up, rr.TypeCAA)
				if err != nil || len(found.Data) > 0 {
					return
				}
			}
			l.add("@ CAA 0 issue \"ca.example\"", "%s has no CAA record", f.Zone.Plain())
		}},
	{Rule: rule("web-name-missing", diag.Note, "of the zone's name and www only one has an address", "RFC 1912 §2.1",
		"People type both."),
		Area: Zone, Skip: noServices, Look: func(f *Facts, l *Findings) {
			www := f.under("www")
			own, _, err := f.addrs(f.Zone)
			other, _, err2 := f.addrs(www)
			switch {
			case err != nil || err2 != nil:
			case len(own) > 0 && len(other) == 0:
				l.add("", "%s has an address, and %s has none", f.Zone.Plain(), www.Plain())
			case len(other) > 0 && len(own) == 0:
				l.add("", "%s has an address, and %s has none", www.Plain(), f.Zone.Plain())
			}
		}},
}

// takesMail reports whether a domain has a place that mail for it can be brought to; known is
// false where nobody can tell (RFC 5321 §5.1, RFC 7505).
func (f *Facts) takesMail(domain dnsname.Name) (takes, known bool) {
	mx, err := f.find(domain, rr.TypeMX)
	if err != nil {
		return false, false
	}
	hosts := []dnsname.Name{domain}
	if len(mx.Data) > 0 {
		hosts = nil
		for _, m := range mxOf(mx.Data) {
			hosts = append(hosts, m.host)
		}
	}
	for _, h := range hosts {
		if h == dnsname.Root {
			continue
		}
		addrs, _, err := f.addrs(h)
		if err != nil {
			return false, false
		}
		if len(addrs) > 0 {
			return true, true
		}
	}
	return false, true
}
