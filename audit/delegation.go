package audit

import (
	"net/netip"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// Why some tests look at nothing.
func notAbove(f *Facts) string {
	switch {
	case f.AsIf:
		return "the servers are taken as if the zone were delegated to them"
	case f.Zone == dnsname.Root:
		return "nothing is above the root"
	}
	return ""
}

func notDelegated(f *Facts) string {
	if why := notAbove(f); why != "" {
		return why
	}
	if len(f.AboveNS) == 0 {
		return "the parent's servers do not answer"
	}
	return ""
}

func noServers(f *Facts) string {
	if len(f.Servers) == 0 {
		return "no server is known"
	}
	return ""
}

func noAnswers(f *Facts) string {
	if why := noServers(f); why != "" {
		return why
	}
	if !slices.ContainsFunc(f.Servers, (*Server).Answers) {
		return "no server answers for the zone"
	}
	return ""
}

func noSOA(f *Facts) string {
	if why := noAnswers(f); why != "" {
		return why
	}
	if !f.HasSOA {
		return "no server has a SOA record of the zone"
	}
	return ""
}

// elsewhere are rules of other packages.
var elsewhere = map[*diag.Rule]bool{}

// of makes a test of a rule that another package has.
func of(r *diag.Rule, area Area, skip func(*Facts) string, look func(*Facts, *Findings)) *Test {
	elsewhere[r] = true
	return &Test{r, area, skip, look}
}

// whyNotDelegated is what to do where the zone above does not delegate the zone, and what it says of the
// name instead.
func (f *Facts) whyNotDelegated() (advice, message string) {
	says := func(k resolve.SaidKind) bool {
		return slices.ContainsFunc(f.Above, func(s *resolve.Said) bool { return s.Kind == k })
	}
	switch {
	case says(resolve.HasData) || says(resolve.HasAlias) || says(resolve.HasNone):
		return "audit the zone that it lies in, " + f.parent() + "; if it is to be a zone of its own, have its NS records entered there",
			f.Zone.Plain() + " is a name in the zone " + f.parent() + ", and no zone of its own"
	case says(resolve.HasNoName):
		return "if it is yours, and paid for, have the NS records of the zone entered there",
			f.parent() + " says that there is no name " + f.Zone.Plain() + ": it is not delegated"
	}
	return "have the NS records of the zone entered there", f.parent() + " has no NS records of " + f.Zone.Plain()
}

// troubled makes a test of what was found wrong on the way to the zone.
func troubled(r *diag.Rule, area Area) *Test {
	return of(r, area, notAbove, func(f *Facts, l *Findings) {
		for _, t := range f.Troubles {
			if t.Rule == r {
				l.add(t.Advice, "%s", t.Message)
			}
		}
	})
}

var delegationTests = []*Test{
	of(resolve.DelegationMissing, Delegation, notAbove, func(f *Facts, l *Findings) {
		if !f.Delegated && !slices.ContainsFunc(f.Troubles, func(t resolve.Trouble) bool { return t.Grave }) {
			advice, message := f.whyNotDelegated()
			l.add(advice, "%s", message)
		}
	}),
	{Rule: rule("parent-silent", diag.Error, "no server of the parent answers", "RFC 2182 §3.2",
		"The delegation cannot be looked at, and resolvers cannot find the zone once the delegation has left their caches."),
		Area: Delegation, Skip: notAbove, Look: func(f *Facts, l *Findings) {
			if f.Delegated || len(f.Above) == 0 || slices.ContainsFunc(f.Above, func(s *resolve.Said) bool { return s.Kind != resolve.Silent && s.Kind != resolve.Lame }) {
				return
			}
			var who []string
			for _, s := range f.Above {
				who = append(who, s.At.Addr().String())
			}
			l.add("audit again when its servers answer", "none of the servers of %s answers: %s", f.parent(), strings.Join(who, ", "))
		}},
	troubled(resolve.DelegationLoop, Delegation),
	troubled(resolve.GlueMissing, Delegation),
	troubled(resolve.GlueDiffers, Delegation),
	of(resolve.NSDiffer, Delegation, func(f *Facts) string {
		if f.AsIf {
			return ""
		}
		return notDelegated(f)
	}, func(f *Facts, l *Findings) {
		who := "the parent"
		if f.AsIf {
			who = "the delegation to come"
		}
		var above, own []string
		known := false
		for _, h := range f.Hosts {
			known = known || h.Own
			switch {
			case h.Above && !h.Own:
				above = append(above, h.Name.Plain())
			case h.Own && !h.Above:
				own = append(own, h.Name.Plain())
			}
		}
		if !known {
			return
		}
		const advice = "make the two lists the same; have the parent's operator change its list, or change the zone's NS records"
		if len(above) > 0 {
			l.add(advice, "only %s names %s", who, strings.Join(above, ", "))
		}
		if len(own) > 0 {
			l.add(advice, "only the zone itself names %s", strings.Join(own, ", "))
		}
	}),
	{Rule: rule("parents-disagree", diag.Warning, "the parent's servers say different things of the zone", "RFC 1034 §4.3.5, RFC 2182 §2",
		"Which servers of the zone one is sent to is chance. Mostly one server of the parent is behind: wait, and then tell its operator."),
		Area: Delegation, Skip: notDelegated, Look: func(f *Facts, l *Findings) {
			first := ""
			for _, s := range f.Above {
				hosts, _, ok := s.Referral(f.Zone)
				r := s.Response()
				if r == nil || !ok && (s.Kind == resolve.Silent || s.Kind == resolve.Lame || s.Kind == resolve.HasData) {
					continue
				}
				said := "no delegation"
				if ok {
					said = sorted(hosts)
				}
				if first == "" {
					first = said
				} else if said != first {
					l.add("", "%s says %s, others %s", s.At.Addr(), said, first)
				}
			}
		}},
	{Rule: rule("glue-incomplete", diag.Note, "the parent lacks glue of a server in the zone", "RFC 1034 §4.2.1, RFC 9471 §3.1",
		"One address is enough for most. A resolver that has only the other family, IPv4 or IPv6, needs that one."),
		Area: Delegation, Skip: notDelegated, Look: func(f *Facts, l *Findings) {
			for _, h := range f.Hosts {
				glue := f.Glue[h.Name.Key()]
				if !h.Above || !h.Name.AtOrBelow(f.Zone) || len(glue) == 0 {
					continue
				}
				own, _, err := f.addrs(h.Name)
				for _, a := range own {
					if err == nil && !slices.Contains(glue, a) && !slices.ContainsFunc(glue, func(g netip.Addr) bool { return g.Is4() == a.Is4() }) {
						l.add("have the parent's operator add the address", "%s has no glue for the address %s of %s", f.parent(), a, h.Name.Plain())
					}
				}
			}
		}},
	of(lintRule("one-name-server"), Delegation, nil, func(f *Facts, l *Findings) {
		if n := len(f.Hosts); n < 2 && (n == 1 || f.Delegated) {
			l.add("add a server: a friend's, or a provider's", "%d name server in all", n)
		}
	}),
	{Rule: rule("too-many-servers", diag.Note, "the zone has more name servers than are useful", "RFC 2182 §5",
		"Beyond seven, more servers make answers larger and mistakes likelier, and the zone no safer. One address can stand for many machines."),
		Area: Delegation, Look: func(f *Facts, l *Findings) {
			if n := len(f.Hosts); n > 7 && f.Zone != dnsname.Root {
				l.add("", "%d name servers", n)
			}
		}},
	{Rule: rule("server-is-alias", diag.Error, "the name of a server is an alias", "RFC 2181 §10.3, RFC 1912 §2.4",
		"An NS record has to name a host with addresses. Resolvers do not follow a CNAME there, or not all do."),
		Area: Delegation, Skip: noHosts, Look: func(f *Facts, l *Findings) {
			for _, h := range f.Hosts {
				if h.Alias {
					l.add("name the host that the alias stands for", "%s is an alias", h.Name.Plain())
				}
			}
		}},
	{Rule: rule("server-name-no-host", diag.Warning, "the name of a server is not a valid host name", "RFC 952, RFC 1123 §2.1",
		"Names of hosts have letters, digits and hyphens only. Registries refuse others, and some software too."),
		Area: Delegation, Skip: noHosts, Look: func(f *Facts, l *Findings) {
			for _, h := range f.Hosts {
				if !hostName(h.Name) {
					l.add("", "%s is not a host name", h.Name.Plain())
				}
			}
		}},
	{Rule: rule("referral-too-large", diag.Note, "the delegation does not fit into a small datagram", "RFC 1035 §4.2.1, RFC 9471 §3",
		"Resolvers without EDNS accept 512 octets. NS records and glue should fit, also for a long query name: use shorter or fewer server names."),
		Area: Delegation, Skip: notDelegated, Look: func(f *Facts, l *Findings) {
			if size := f.referralSize(); size > message.MinUDP {
				l.add("", "a referral for a name of 255 octets takes %d", size)
			}
		}},
	{Rule: rule("ns-ttl-short", diag.Note, "the servers of the zone may be kept for less than an hour", "RFC 1912 §2.2",
		"Lists of servers change rarely. A short TTL makes resolvers ask for them again and again, and forget them when the servers are away for a while."),
		Area: Delegation, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			if found, err := f.find(f.Zone, rr.TypeNS); err == nil && len(found.Data) > 0 && found.TTL < 3600 {
				l.add("", "the TTL of the NS records is %d seconds", found.TTL)
			}
		}},
}

// noServices says why nobody looks for mail or certificates here.
func noServices(f *Facts) string {
	if why := noAnswers(f); why != "" {
		return why
	}
	if f.Zone == dnsname.Root || strings.HasSuffix(f.Zone.Key(), "\x04arpa\x00") {
		return "clients do not look for services at such a name"
	}
	return ""
}

// parent is the zone above, for people.
func (f *Facts) parent() string {
	if f.Parent == dnsname.Root {
		return "the root"
	}
	return f.Parent.Plain()
}

func noHosts(f *Facts) string {
	if len(f.Hosts) == 0 {
		return "no server is known"
	}
	return ""
}

func sorted(names []dnsname.Name) string {
	var out []string
	for _, n := range names {
		out = append(out, n.Lower().Plain())
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), ", ")
}

// hostName reports whether a name has only labels as hosts have (RFC 1123 §2.1).
func hostName(n dnsname.Name) bool {
	for w := []byte(n.Lower().Wire()); len(w) > 1; {
		label := w[1 : 1+int(w[0])]
		for i, c := range label {
			if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' && i > 0 && i < len(label)-1) {
				return false
			}
		}
		w = w[1+int(w[0]):]
	}
	return true
}

// referralSize is how many octets a referral for the longest name takes, with an address of
// each family for servers in the zone; names are compressed as far as the zone's name goes.
func (f *Facts) referralSize() int {
	size := message.HeaderLen + dnsname.MaxWire + 4
	zone := len(f.Zone.Wire())
	for i, n := range f.AboveNS {
		name := len(n.Wire())
		switch {
		case n.AtOrBelow(f.Zone):
			name -= zone - 2
		case i > 0:
			name = min(name, len(n.Wire())-len(n.Parent().Wire())+2)
		}
		size += 2 + 10 + name
		for _, a := range f.Glue[n.Key()] {
			if n.AtOrBelow(f.Zone) {
				size += 2 + 10 + len(a.AsSlice())
			}
		}
	}
	return size
}
