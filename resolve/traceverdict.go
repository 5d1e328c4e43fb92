package resolve

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// Rules of what is wrong with delegations.
var (
	DelegationMissing = &diag.Rule{Code: "delegation-missing", Severity: diag.Error, Title: "the parent does not delegate the zone", Ref: "RFC 1034 §4.2.1, RFC 1912 §2.8",
		Doc: "Servers answer for the zone, but the parent has no NS records for it, so resolvers never find it. The parent's operator adds the NS records, with glue for servers inside the zone."}
	DelegationLoop = &diag.Rule{Code: "delegation-loop", Severity: diag.Error, Title: "delegations form a loop: the servers' addresses cannot be found", Ref: "RFC 1912 §2.8, RFC 4697 §2.9",
		Doc: "Each zone's servers have names in the other zone, and no glue comes with the delegations. Add glue, or a server whose name is in another zone."}
	GlueMissing = &diag.Rule{Code: "glue-missing", Severity: diag.Error, Title: "the glue of a name server is missing", Ref: "RFC 1034 §4.2.1, RFC 9471 §3.1",
		Doc: "The server's name lies in the zone that it serves: without glue in the parent no resolver can find its address."}
	GlueDiffers = &diag.Rule{Code: "glue-other-address", Severity: diag.Warning, Title: "parent and zone give a server different addresses", Ref: "RFC 1034 §4.2.2, RFC 4697 §2.1",
		Doc: "Resolvers that follow the delegation use the glue; those that have the zone's own data use the other address. Correct whichever is out of date."}
	NSDiffer = &diag.Rule{Code: "servers-differ-above", Severity: diag.Warning, Title: "the parent lists other name servers than the zone itself", Ref: "RFC 1034 §4.2.2",
		Doc: "Resolvers use both lists. A server that only one of them has is asked by some resolvers and not by others: a removed server still gets queries, a new one gets too few."}
	ServerNoAddress = &diag.Rule{Code: "server-without-address", Severity: diag.Error, Title: "a server of the zone has no address that can be found", Ref: "RFC 1912 §2.8, RFC 2181 §10.3",
		Doc: "The NS record names a host that has no A or AAAA record, does not exist, or lies in a zone that cannot be reached. Nobody can ask it."}
	ServerSilent = &diag.Rule{Code: "server-silent", Severity: diag.Warning, Title: "a server does not answer", Ref: "RFC 2182 §3.2",
		Doc: "Three queries over UDP timed out. Resolvers lose time with each query that they send to it, and fail when the other servers fail too."}
	ServerNoTCP = &diag.Rule{Code: "server-without-tcp", Severity: diag.Warning, Title: "a server answers over UDP and not over TCP", Ref: "RFC 7766 §5, RFC 9210 §3",
		Doc: "Answers that do not fit into a datagram are fetched over TCP. Without TCP large answers, as signed zones have them, are lost. Often a firewall blocks it."}
	ServerLame = &diag.Rule{Code: "server-lame", Severity: diag.Warning, Title: "a name server is lame: it does not answer for the zone", Ref: "RFC 1912 §2.8, RFC 4697 §2.2.1",
		Doc: "The delegation lists it, and it answers REFUSED or SERVFAIL, or without the AA flag: the zone is not configured there, did not load, or has expired."}
	ServersDisagree = &diag.Rule{Code: "servers-disagree", Severity: diag.Warning, Title: "servers of one zone give different answers", Ref: "RFC 1034 §4.3.5, RFC 2182 §2",
		Doc: "Which answer a resolver gets is chance. Usually one server is stale: its transfers fail, or the serial was not raised."}
	ServerNoEDNS = &diag.Rule{Code: "server-without-edns", Severity: diag.Warning, Title: "a server answers only queries without EDNS", Ref: "RFC 6891 §6.1.1, RFC 8906 §3.2",
		Doc: "Nearly every query has an OPT record. A server that drops those, or answers FORMERR, costs resolvers several tries; validating resolvers cannot use it at all. Often a firewall is the cause."}
	ApexAlias = &diag.Rule{Code: "apex-is-alias", Severity: diag.Error, Title: "the zone's own name is an alias", Ref: "RFC 1034 §3.6.2, RFC 2181 §10.1",
		Doc: "A CNAME stands alone at its name, and the zone's name has SOA and NS records. Some resolvers take one, some the other."}
	AliasLoop = &diag.Rule{Code: "alias-circle", Severity: diag.Error, Title: "aliases form a loop", Ref: "RFC 1034 §3.6.2",
		Doc: "None of the names has data. Resolvers answer SERVFAIL."}
	NoServerAnswers = &diag.Rule{Code: "zone-unreachable", Severity: diag.Error, Title: "no server of the zone answers for it", Ref: "RFC 1912 §2.8",
		Doc: "All servers that the delegation names are silent or do not have the zone: nothing in it can be found."}
)

// TraceRules lists these rules.
var TraceRules = []*diag.Rule{DelegationMissing, DelegationLoop, GlueMissing, GlueDiffers, NSDiffer, ServerNoAddress, ServerSilent, ServerNoTCP, ServerLame, ServerNoEDNS, ServersDisagree, ApexAlias, AliasLoop, NoServerAnswers}

// trouble notes that something is wrong.
func (s *Step) trouble(r *diag.Rule, grave bool, format string, args ...any) *Trouble {
	s.Troubles = append(s.Troubles, Trouble{Rule: r, Grave: grave, Message: fmt.Sprintf(format, args...)})
	return &s.Troubles[len(s.Troubles)-1]
}

// server is an address with its name, for people.
func (s *Said) server() string {
	if s.Host.IsZero() {
		return s.At.Addr().String()
	}
	return fmt.Sprintf("%s (%s)", s.Host.Plain(), s.At.Addr())
}

// compare tells what the servers of a zone do that they should not.
func (s *Step) compare(t rr.Type) {
	for _, a := range s.Said {
		switch {
		case a.Kind == Silent && errors.Is(a.Err, ErrUnreachable):
			s.trouble(ServerSilent, false, "%s cannot be reached: %v", a.server(), a.Err)
		case a.Kind == Silent && errors.Is(a.Err, ErrCutOff):
			s.trouble(ServerNoTCP, false, "%s truncates its answer over UDP, and does not answer over TCP", a.server()).
				Advice = "open TCP port 53: answers that do not fit into a datagram need it"
		case a.Kind == Silent && a.TCP == nil:
			s.trouble(ServerSilent, false, "%s answers over TCP, and not over UDP: %v", a.server(), a.Err).
				Advice = "let UDP port 53 through to it, EDNS queries too"
		case a.Kind == Silent:
			s.trouble(ServerSilent, false, "%s does not answer over UDP: %v", a.server(), a.Err)
		case a.Kind == Lame && a.Code != message.NoError:
			s.trouble(ServerLame, false, "%s does not answer for %s: it says %s", a.server(), s.Zone.Plain(), a.Code).
				Advice = "configure the zone there, or remove the server from the NS records of zone and parent"
		case a.Kind == Lame:
			s.trouble(ServerLame, false, "%s answers for %s without the AA flag", a.server(), s.Zone.Plain()).
				Advice = "it does not have the zone, or the zone has expired there: see its log"
		}
		if a.resp != nil {
			if alias, _ := a.resp.Set(s.Zone, rr.TypeCNAME); len(alias) > 0 {
				s.trouble(ApexAlias, true, "%s answers with a CNAME record at %s, the zone's own name", a.server(), s.Zone.Plain()).
					Advice = "replace it by A and AAAA records, or by an HTTPS record in alias mode"
			}
		}
		if a.Plain {
			s.trouble(ServerNoEDNS, false, "%s answers only queries without EDNS", a.server()).
				Advice = "update that server, or let its firewall pass EDNS (OPT records)"
		}
		if a.TCP != nil && a.Kind != Silent {
			s.trouble(ServerNoTCP, false, "%s does not answer over TCP: %v", a.server(), a.TCP)
		}
	}
	s.disagree(t)
}

// disagree tells where servers give different answers. One that refers to a zone below and
// one that has that zone say the same.
func (s *Step) disagree(t rr.Type) {
	refers := slices.ContainsFunc(s.Said, func(a *Said) bool { return a.Kind == Refers })
	groups := map[string][]*Said{}
	var order []string
	for _, a := range s.Said {
		if a.Kind == Silent || a.Kind == Lame || refers && a.Kind != Refers && a.deeper(s.Zone) {
			continue
		}
		v := a.vote()
		if groups[v] == nil {
			order = append(order, v)
		}
		groups[v] = append(groups[v], a)
	}
	if len(order) < 2 {
		return
	}
	var parts []string
	for _, v := range order {
		var who []string
		for _, a := range groups[v] {
			who = append(who, a.server())
		}
		verb := " say "
		if len(who) == 1 {
			verb = " says "
		}
		parts = append(parts, strings.Join(who, ", ")+verb+groups[v][0].summary(t))
	}
	s.trouble(ServersDisagree, true, "the servers of %s disagree: %s", s.Zone.Plain(), strings.Join(parts, "; ")).
		Advice = "compare their serials"
}

// deeper reports whether an answer comes from a zone below: from its SOA, or its signatures.
func (s *Said) deeper(zone dnsname.Name) bool {
	for _, a := range slices.Concat(s.resp.Authority, s.resp.Answer) {
		if a.Type == rr.TypeSOA && a.Name.Below(zone) {
			return true
		}
	}
	return s.Kind == HasData || s.Kind == HasAlias // positive answers do not say their zone
}

// summary is an answer in a few words.
func (s *Said) summary(t rr.Type) string {
	switch s.Kind {
	case Refers:
		_, hosts, _ := delegation(s.resp, s.Cut.Parent(), s.Cut)
		return "that " + s.Cut.Plain() + " is delegated to " + namesText(hosts)
	case HasData, HasAlias:
		var data []string
		for _, a := range s.own() {
			if a.Type == t || a.Type == rr.TypeCNAME {
				data = append(data, a.Type.String()+" "+rr.DataText(a.Type, a.Data))
			}
		}
		slices.Sort(data)
		return strings.Join(data, ", ")
	}
	return s.Kind.String()
}

// stopped says why no server of a zone leads on.
func (r *tracing) stopped(leg *Leg, step *Step) {
	leg.End = Stopped
	t := step.trouble(NoServerAnswers, true, "no server of %s answers for it", step.Zone.Plain())
	t.Advice = "start the servers, or delegate to others"
}

// undelegated looks, where a name does not exist, whether there is a zone that should have
// been delegated.
func (r *tracing) undelegated(leg *Leg, step *Step) {
	if r.Known == nil || leg.End == Answered {
		return
	}
	z := r.Known(leg.Name, step.Zone)
	if z == nil || step.servesBelow(z.Name) {
		return
	}
	leg.End = Stopped
	t := step.trouble(DelegationMissing, true, "%s has no NS records of %s", step.Zone.Plain(), z.Name.Plain())
	t.Records, t.In = z.Records, step.Zone
	t.Advice = fmt.Sprintf("add these records, which the zone %s lacks", step.Zone.Plain())
}

// servesBelow reports whether the answers came from a zone below already.
func (s *Step) servesBelow(zone dnsname.Name) bool {
	for _, a := range s.Said {
		if a.resp == nil {
			continue
		}
		for _, rec := range slices.Concat(a.resp.Answer, a.resp.Authority) {
			if rec.Type == rr.TypeSOA && rec.Name.AtOrBelow(zone) {
				return true
			}
		}
	}
	return false
}

// ownServers compares what a zone says of its servers with what the zone above says.
func (r *tracing) ownServers(step *Step) {
	if step.Zone == dnsname.Root {
		return // hints are only hints (RFC 8109 §3)
	}
	above := make([]dnsname.Name, 0, len(step.Hosts))
	for _, h := range step.Hosts {
		above = append(above, h.Name)
	}
	for _, s := range step.Said {
		if len(s.NS) == 0 || namesText(s.NS) == namesText(above) {
			continue
		}
		only := func(a, b []dnsname.Name) (out []dnsname.Name) {
			for _, n := range a {
				if !slices.ContainsFunc(b, n.Equal) {
					out = append(out, n)
				}
			}
			return out
		}
		var parts []string
		if gone := only(above, s.NS); len(gone) > 0 {
			parts = append(parts, "only the parent names "+namesText(gone))
		}
		if own := only(s.NS, above); len(own) > 0 {
			parts = append(parts, "only the zone itself names "+namesText(own))
		}
		step.trouble(NSDiffer, false, "the NS records of %s differ at the parent and in the zone: %s", step.Zone.Plain(), strings.Join(parts, ", and ")).
			Advice = "make the two lists the same; have the parent's operator change its list, or change the zone's NS records"
		return
	}
}

// glue compares the addresses that came with a delegation with those in the zone.
func (r *tracing) glue(step *Step) {
	for _, h := range step.Glue {
		own, known := r.ownAddresses(step, h.Name)
		if !known {
			continue
		}
		var above []string
		for _, a := range h.Addrs {
			above = append(above, a.Addr().String())
		}
		slices.Sort(above)
		slices.Sort(own)
		if slices.Equal(above, own) {
			continue
		}
		if subset(above, own) {
			continue // part of the addresses is enough to come in
		}
		step.trouble(GlueDiffers, false, "the glue of %s at the parent is %s; the zone has %s", h.Name.Plain(), strings.Join(above, ", "), orNone(own)).
			Advice = "have the parent's operator change the addresses"
	}
}

func subset(a, b []string) bool {
	return len(a) > 0 && !slices.ContainsFunc(a, func(s string) bool { return !slices.Contains(b, s) })
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "that it has none"
	}
	return strings.Join(list, ", ")
}

// ownAddresses are the addresses that a zone gives a host in it; known is false where no
// server tells.
func (r *tracing) ownAddresses(step *Step, host dnsname.Name) (out []string, known bool) {
	for _, s := range step.Said {
		if s.Kind == Silent || s.Kind == Lame {
			continue
		}
		out, ok := []string(nil), true
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			resp, err := r.put(s.At, Request{Name: host, Type: t, NoEDNS: s.Plain})
			if err != nil || resp.Flags&message.FlagAA == 0 {
				ok = false
				break
			}
			data, _ := resp.Set(host, t)
			for _, d := range data {
				if a, isAddr := netip.AddrFromSlice(d); isAddr {
					out = append(out, a.String())
				}
			}
		}
		if ok {
			return out, true
		}
	}
	return nil, false
}
