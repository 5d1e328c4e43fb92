package audit

import (
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// each calls look for each server that answers.
func each(look func(f *Facts, s *Server, l *Findings)) func(*Facts, *Findings) {
	return func(f *Facts, l *Findings) {
		for _, s := range f.Servers {
			if s.Answers() {
				look(f, s, l)
			}
		}
	}
}

var serverTests = []*Test{
	typeTest,
	of(resolve.NoServerAnswers, Servers, noServers, func(f *Facts, l *Findings) {
		if !slices.ContainsFunc(f.Servers, (*Server).Answers) {
			l.add("start the servers, or name others", "no address of a server answers for %s", f.Zone.Plain())
		}
	}),
	of(resolve.ServerNoAddress, Servers, noHosts, func(f *Facts, l *Findings) {
		for _, h := range f.Hosts {
			if len(h.Addrs) == 0 {
				l.add("give it an address, or name another server", "%s has no address: %v", h.Name.Plain(), h.Why)
			}
		}
	}),
	of(resolve.ServerSilent, Servers, noServers, func(f *Facts, l *Findings) {
		for _, s := range f.Servers {
			switch {
			case s.Err == nil:
			case errors.Is(s.Err, resolve.ErrUnreachable):
				l.add("", "%s cannot be reached: %v", s, s.Err)
			case errors.Is(s.Err, resolve.ErrCutOff): // it answers, see server-without-tcp
			case s.TCPErr == nil:
				l.add("let UDP on port 53 through to it", "%s answers over TCP, and not over UDP: %v", s, s.Err)
			default:
				l.add("", "%s does not answer: %v", s, s.Err)
			}
		}
	}),
	of(resolve.ServerLame, Servers, noServers, func(f *Facts, l *Findings) {
		for _, s := range f.Servers {
			switch {
			case s.SOA == nil || s.Answers():
			case s.SOA.ExtendedRcode != message.NoError:
				l.add("configure the zone there, or take the server out of the NS records", "%s does not answer for %s: it says %s", s, f.Zone.Plain(), s.SOA.ExtendedRcode)
			default:
				l.add("it does not have the zone, or the zone has expired there: see its log", "%s answers for %s without the AA flag", s, f.Zone.Plain())
			}
		}
	}),
	of(resolve.ServerNoTCP, Servers, noServers, func(f *Facts, l *Findings) {
		for _, s := range f.Servers {
			switch {
			case errors.Is(s.Err, resolve.ErrCutOff):
				l.add("open TCP port 53: answers that do not fit into a datagram need it", "%s truncates its answers over UDP, and does not answer over TCP", s)
			case s.SOA != nil && s.TCPErr != nil:
				l.add("let TCP on port 53 through to it", "%s does not answer over TCP: %v", s, s.TCPErr)
			}
		}
	}),
	of(resolve.ServerNoEDNS, Servers, noServers, func(f *Facts, l *Findings) {
		for _, s := range f.Servers {
			if s.Plain {
				l.add("update that server, or let its firewall pass EDNS (OPT records)", "%s answers only queries without EDNS", s)
			}
		}
	}),
	{Rule: rule("transports-disagree", diag.Warning, "UDP and TCP answers of a server differ", "RFC 7766 §5",
		"Different machines seem to answer under one address, and one of them is behind."),
		Area: Servers, Skip: noAnswers, Look: each(func(f *Facts, s *Server, l *Findings) {
			if s.TCP != nil && data(s.TCP, f.Zone, rr.TypeSOA) != data(s.SOA, f.Zone, rr.TypeSOA) {
				l.add("compare the machines behind the address", "%s has another SOA over TCP than over UDP", s)
			}
		})},
	{Rule: rule("serials-differ", diag.Warning, "servers of the zone have different serials", "RFC 1034 §4.3.5, RFC 1982 §3",
		"Right after a change this is normal. If it lasts, transfers fail or NOTIFY does not arrive: see the log of the stale server."),
		Area: Servers, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			for _, s := range f.Servers {
				if serial, ok := s.Serial(f.Zone); ok && serial != f.SOA.Serial {
					l.add("see its log: why it does not fetch", "%s has serial %d; the newest is %d", s, serial, f.SOA.Serial)
				}
			}
		}},
	{Rule: rule("same-serial-other-content", diag.Error, "servers have the same serial and different records", "RFC 1034 §4.3.5, RFC 1912 §2.2",
		"The zone was changed and its serial was not raised: the servers will not agree by themselves. Raise the serial at the primary."),
		Area: Servers, Skip: noAnswers, Look: func(f *Facts, l *Findings) {
			for _, what := range []struct {
				t   rr.Type
				get func(*Server) *resolve.Response
			}{{rr.TypeSOA, func(s *Server) *resolve.Response { return s.SOA }}, {rr.TypeNS, func(s *Server) *resolve.Response { return s.NS }},
				{rr.TypeDNSKEY, func(s *Server) *resolve.Response { return s.Keys }}, {rr.TypeCDS, func(s *Server) *resolve.Response { return s.CDS }}} {
				first := map[uint32]*Server{}
				for _, s := range f.Servers {
					soa, ok := s.soa(f.Zone)
					r := what.get(s)
					if !ok || !s.Answers() || r == nil {
						continue
					}
					if one := first[soa.Serial]; one == nil {
						first[soa.Serial] = s
					} else if data(r, f.Zone, what.t) != data(what.get(one), f.Zone, what.t) {
						l.add("raise the serial at the primary", "%s and %s have serial %d and not the same %s records", one, s, soa.Serial, what.t)
					}
				}
			}
			f.differing(func(_, _ *Server, serial uint32, what string) {
				l.add("raise the serial at the primary; where that does not help, see the log of the server that is behind", "serial %d, %s", serial, what)
			})
		}},
	{Rule: rule("server-slow", diag.Note, "a server is slow to answer", "RFC 1035 §7.2",
		"Resolvers prefer quick servers. If all are slow, every lookup without a cache is."),
		Area: Servers, Skip: noAnswers, Look: each(func(_ *Facts, s *Server, l *Findings) {
			if s.SOA.Elapsed > 700*time.Millisecond {
				l.add("", "%s answered after %s", s, s.SOA.Elapsed.Round(time.Millisecond))
			}
		})},
	{Rule: rule("recursion-offered", diag.Warning, "a server of the zone offers recursion to anyone", "RFC 5358 §4, RFC 2182 §5",
		"An open resolver can be used to flood third parties, and its cache can be poisoned. Authoritative servers do not offer recursion."),
		Area: Servers, Skip: noAnswers, Look: each(func(_ *Facts, s *Server, l *Findings) {
			r := s.Recursion
			if r == nil {
				return
			}
			const ra = 0x80
			if r.Flags&ra != 0 || r.Flags&message.FlagAA == 0 && len(r.Answer) > 0 {
				l.add("switch recursion off there, or allow it to your own networks only", "%s offers recursion", s)
			}
		})},
	{Rule: rule("transfer-open", diag.Note, "a server allows anyone to transfer the zone", "RFC 5936 §5",
		"Transfers show all names of the zone, and are much work for one query. Allow them to your secondaries only, by key or address."),
		Area: Servers, Skip: noAnswers, Look: each(func(_ *Facts, s *Server, l *Findings) {
			if r := s.Transfer; r != nil && r.ExtendedRcode == message.NoError && len(r.Answer) > 0 && r.Answer[0].Type == rr.TypeSOA { // RFC 5936 §2.2
				l.add("allow transfers to the secondaries only", "%s hands over the zone", s)
			}
		})},
	{Rule: rule("no-such-name-mishandled", diag.Warning, "a server has an answer for names that do not exist", "RFC 1034 §4.3.2, RFC 2308 §2.1, RFC 8020 §2",
		"The answer is NXDOMAIN, or what a wildcard supplies. An error or a timeout makes resolvers try every other server."),
		Area: Servers, Skip: noAnswers, Look: each(func(f *Facts, s *Server, l *Findings) {
			switch r := s.NoName; {
			case r == nil:
				l.add("", "%s does not answer for %s", s, f.nosuch.Plain())
			case r.ExtendedRcode != message.NXDomain && r.ExtendedRcode != message.NoError:
				l.add("", "%s answers %s for a name that does not exist", s, r.ExtendedRcode)
			case r.ExtendedRcode == message.NXDomain && !slices.ContainsFunc(r.Authority, func(a rr.Record) bool { return a.Type == rr.TypeSOA }):
				l.add("", "%s says NXDOMAIN without the SOA that says for how long", s)
			}
		})},
	{Rule: rule("keys-need-tcp", diag.Note, "the keys of the zone do not fit into a datagram", "RFC 9715 §3.1, RFC 6781 §3.4",
		"UDP answers of more than 1232 octets are truncated and fetched again over TCP, which costs every validating resolver time. Fewer keys, or ECDSA or EdDSA keys, fit."),
		Area: Servers, Skip: unsigned, Look: each(func(_ *Facts, s *Server, l *Findings) {
			if s.Keys != nil && s.Keys.Truncated {
				l.add("use ECDSA or EdDSA keys", "%s: the DNSKEY answer takes %d octets", s, s.Keys.Len)
			}
		})},
}

// data is the data of a set in an answer, in an order of its own.
func data(r *resolve.Response, name dnsname.Name, t rr.Type) string {
	list, _ := r.Set(name, t)
	var out []string
	for _, d := range list {
		out = append(out, string(rr.AppendFolded(nil, t, d)))
	}
	slices.Sort(out)
	return strings.Join(out, "\x00")
}

var addressTests = []*Test{
	{Rule: rule("server-address-unusable", diag.Error, "an address of a server cannot be reached from everywhere", "RFC 6890 §2.2, RFC 1918 §3",
		"Private, loopback and link-local addresses mean another machine in every network, or none."),
		Area: Addresses, Skip: noServers, Look: func(f *Facts, l *Findings) {
			for _, s := range f.Servers {
				if why := unreachable(s.At.Addr()); why != "" {
					l.add("", "%s is %s", s, why)
				}
			}
		}},
	of(lintRule("servers-on-one-address"), Addresses, noServers, func(f *Facts, l *Findings) {
		first := map[netip.AddrPort]*Server{}
		for _, s := range f.Servers {
			if one := first[s.At]; one != nil && one.Host != s.Host {
				l.add("", "%s and %s have the address %s", one.Host.Name.Plain(), s.Host.Name.Plain(), s.At.Addr())
			}
			first[s.At] = s
		}
	}),
	of(lintRule("servers-in-one-network"), Addresses, oneHost, func(f *Facts, l *Findings) {
		if p, shared := f.shared(24, 48); shared {
			l.add("add a server in another network", "all addresses lie in %s", p)
		}
	}),
	{Rule: rule("servers-share-system", diag.Warning, "all servers are in one autonomous system", "RFC 2182 §3.1",
		"All of them depend on the routes of one operator."),
		Area: Addresses, Skip: func(f *Facts) string {
			if f.Networks == nil {
				return "no table of networks was given"
			}
			return oneServer(f)
		}, Look: func(f *Facts, l *Findings) {
			var only network
			for i, s := range f.Servers {
				w, known := f.Networks.of(s.At.Addr())
				if !known || i > 0 && w.number != only.number {
					return
				}
				only = w
			}
			l.add("have another server with another operator", "all addresses belong to %s", only)
		}},
	of(lintRule("servers-without-ipv4"), Addresses, noServers, func(f *Facts, l *Findings) {
		if !slices.ContainsFunc(f.Servers, func(s *Server) bool { return s.At.Addr().Unmap().Is4() }) {
			l.add("", "all addresses are IPv6")
		}
	}),
	{Rule: rule("servers-without-ipv6", diag.Note, "no server has an IPv6 address", "RFC 3901 §3",
		"Resolvers that have IPv6 only cannot reach the zone themselves. One server with an IPv6 address is enough to begin with."),
		Area: Addresses, Skip: noServers, Look: func(f *Facts, l *Findings) {
			if !slices.ContainsFunc(f.Servers, func(s *Server) bool { return !s.At.Addr().Unmap().Is4() }) {
				l.add("", "all addresses are IPv4")
			}
		}},
	{Rule: rule("server-reverse-missing", diag.Note, "an address of a server has no PTR record", "RFC 1912 §2.1",
		"Logs and traces show the address without a name. Some mail and other servers refuse such machines."),
		Area: Addresses, Skip: noServers, Look: eachReverse(func(f *Facts, s *Server, names []dnsname.Name, l *Findings) {
			if len(names) == 0 {
				l.add("add the PTR record "+dnsname.Reverse(s.At.Addr()).Plain(), "%s has no PTR record", s)
			}
		})},
	{Rule: rule("server-reverse-elsewhere", diag.Note, "the PTR record of a server does not match its address", "RFC 1912 §2.1",
		"The PTR record names a host that does not have the address: it was probably not updated when the address moved."),
		Area: Addresses, Skip: noServers, Look: eachReverse(func(f *Facts, s *Server, names []dnsname.Name, l *Findings) {
			if len(names) > 0 && !f.leadsBack(names, s.At.Addr()) {
				l.add("correct the PTR record, or give the host the address", "%s is called %s, which does not have that address", s, names[0].Plain())
			}
		})},
}

func oneHost(f *Facts) string {
	if len(f.Hosts) < 2 {
		return "there are not two servers to compare"
	}
	return oneServer(f)
}

func oneServer(f *Facts) string {
	if len(f.Servers) < 2 {
		return "there are not two addresses to compare"
	}
	return ""
}

// unreachable says what an address is that not everybody reaches; empty for others. Addresses
// for documentation are left alone: examples stand in them.
func unreachable(a netip.Addr) string {
	a = a.Unmap()
	shared := netip.MustParsePrefix("100.64.0.0/10")
	switch {
	case a.IsPrivate():
		return "private (RFC 1918, RFC 4193)"
	case a.IsLoopback():
		return "an address of every machine itself"
	case a.IsLinkLocalUnicast():
		return "link-local"
	case a.IsMulticast():
		return "a multicast address"
	case a.IsUnspecified():
		return "no address"
	case shared.Contains(a):
		return "kept for providers' inner networks (RFC 6598)"
	}
	return ""
}

// shared reports whether all servers lie in one network of each family.
func (f *Facts) shared(bits4, bits6 int) (p netip.Prefix, shared bool) {
	seen := map[netip.Prefix]bool{}
	families := map[bool]int{}
	for _, s := range f.Servers {
		bits := bits6
		a := s.At.Addr().Unmap()
		if a.Is4() {
			bits = bits4
		}
		pfx, err := a.Prefix(bits)
		if err != nil {
			return p, false
		}
		if !seen[pfx] {
			seen[pfx] = true
			families[a.Is4()]++
		}
		if a.Is4() || !p.IsValid() {
			p = pfx
		}
	}
	return p, families[true] <= 1 && families[false] <= 1
}

// reverse are the names that an address has in the reverse tree.
func (f *Facts) reverse(a netip.Addr) (out []dnsname.Name, err error) {
	found, err := f.find(dnsname.Reverse(a), rr.TypePTR)
	for _, d := range found.Data {
		if n, nerr := dnsname.FromWire(d); nerr == nil {
			out = append(out, n)
		}
	}
	return out, err
}

// leadsBack reports whether one of the names has the address.
func (f *Facts) leadsBack(names []dnsname.Name, a netip.Addr) bool {
	return slices.ContainsFunc(names, func(n dnsname.Name) bool {
		addrs, _, err := f.addrs(n)
		return err != nil || slices.Contains(addrs, a)
	})
}

// eachReverse calls look for each address of servers whose place in the reverse tree can be
// asked for.
func eachReverse(look func(f *Facts, s *Server, names []dnsname.Name, l *Findings)) func(*Facts, *Findings) {
	return func(f *Facts, l *Findings) {
		for _, s := range f.Servers {
			if names, err := f.reverse(s.At.Addr()); err == nil && unreachable(s.At.Addr()) == "" {
				look(f, s, names, l)
			}
		}
	}
}
