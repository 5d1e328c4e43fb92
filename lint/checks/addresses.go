package checks

import (
	"net/netip"
	"slices"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/zone"
)

// unusable names the kind of an address that no host elsewhere can reach, or "".
func unusable(b []byte) string {
	if len(b) == 4 {
		switch {
		case b[0] == 0:
			return "an address of \"this network\" (RFC 1122)"
		case b[0] == 127:
			return "a loopback address (RFC 1122)"
		case b[0] == 169 && b[1] == 254:
			return "a link-local address (RFC 3927)"
		case b[0] >= 240:
			return "a reserved address (RFC 1112)"
		case b[0] >= 224:
			return "a multicast address (RFC 5771)"
		}
		return ""
	}
	if b[0] != 0 && b[0] < 0xfe {
		return ""
	}
	a := netip.AddrFrom16([16]byte(b))
	switch {
	case a.IsUnspecified():
		return "the unspecified address (RFC 4291)"
	case a.IsLoopback():
		return "a loopback address (RFC 4291)"
	case a.Is4In6():
		return "an IPv4 address in IPv6 form (RFC 4291); it belongs into an A record"
	case a.IsLinkLocalUnicast():
		return "a link-local address (RFC 4291)"
	case a.IsMulticast():
		return "a multicast address (RFC 4291)"
	}
	return ""
}

// private reports whether an address is for use inside one's own network.
func private(b []byte) bool {
	if len(b) == 4 {
		return b[0] == 10 || b[0] == 172 && b[1]&0xf0 == 16 || b[0] == 192 && b[1] == 168 || b[0] == 100 && b[1]&0xc0 == 64
	}
	return b[0]&0xfe == 0xfc
}

var addressTypes = types(rr.TypeA, rr.TypeAAAA)

// addressType is the type of the records that hold an address.
func addressType(ip netip.Addr) rr.Type {
	if ip.Is6() {
		return rr.TypeAAAA
	}
	return rr.TypeA
}

var unusableAddress = &lint.Check{Rule: diag.Rule{
	Code: "unusable-address", Severity: diag.Warning, Title: "an address cannot be reached from anywhere else", Ref: "RFC 6890, RFC 4291 §2",
	Doc: "Loopback, link-local, multicast and reserved addresses mean something else on every host, or nothing. In the DNS they send people to their own machine. " +
		"A name that is localhost on purpose is left alone.",
	Bad:  "web A 127.0.0.1\n",
	Good: "web A 192.0.2.1\n"},
	Types: addressTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if len(data) != 4 && len(data) != 16 {
				return
			}
			what := unusable(data)
			if what == "" || firstLabel(set.Name, "localhost") {
				return
			}
			a, _ := netip.AddrFromSlice(data)
			p.Add(p.Report(set.Layout(i).Field(0), "%s is %s", a, what))
		})
	},
}

var privateAddress = &lint.Check{Rule: diag.Rule{
	Code: "private-address", Severity: diag.Note, Title: "a zone with public addresses has private ones too", Ref: "RFC 1918 §5, RFC 4193 §4.4, RFC 6598",
	Doc: "Private addresses in a public zone cannot be reached from outside and show how the inner network is built. " +
		"Said once for each zone; a zone with private addresses only is taken for one of an inner network.",
	Bad:  "web A 192.0.2.1\nprinter A 10.0.0.7\n",
	Good: "web A 192.0.2.1\n"},
	Types: addressTypes, Set: func(p *lint.Pass, set lint.Set) {
		eachData(set, func(i int, data []byte) {
			if (len(data) == 4 || len(data) == 16) && private(data) && p.Count(set.Pos(i)) {
				explainPrivate(p, set, i)
			}
		})
	},
}

func explainPrivate(p *lint.Pass, set lint.Set, i int) {
	at := set.Layout(i).Field(0)
	p.Explain(func(n int) diag.Diagnostic {
		if !anyPublic(p) {
			return diag.Diagnostic{}
		}
		d := p.Report(at, "a private address in a zone with public ones")
		if n > 1 {
			d.Message = number(uint32(n)) + " addresses of the zone are private, first here"
		}
		return d.Suggest("keep them in a zone for inside askers")
	})
}

// anyPublic looks for an address that is not private.
func anyPublic(p *lint.Pass) bool {
	for n := range p.Zone.Nodes {
		for _, t := range addressTypes {
			set, _ := n.Find(t)
			for data := range set.Data {
				if !private(data) && unusable(data) == "" {
					return true
				}
			}
		}
	}
	return false
}

// serverAddresses are the addresses of the zone's own servers. known is false if
// those of one are not known: it lies elsewhere, or has none that can be read.
func serverAddresses(p *lint.Pass) (addrs [][]netip.Addr, known bool) {
	var apex zone.Node
	if !p.Zone.ApexNode(&apex) {
		return nil, false
	}
	set, _ := apex.Find(rr.TypeNS)
	for data := range set.Data {
		t := p.Look(data)
		if !t.Address {
			return nil, false
		}
		var own []netip.Addr
		for _, typ := range addressTypes {
			found, _ := p.Find(data, typ)
			for a := range found.Data {
				if ip, ok := netip.AddrFromSlice(a); ok {
					own = append(own, ip)
				}
			}
		}
		if len(own) == 0 {
			return nil, false
		}
		addrs = append(addrs, own)
	}
	return addrs, true
}

// sharedBy reports whether all servers lie in one network, with the given prefix
// lengths for IPv4 and IPv6. Two that have no family in common may be anywhere.
func sharedBy(addrs [][]netip.Addr, bits4, bits6 int) (netip.Prefix, bool) {
	seen := map[netip.Prefix]bool{}
	var last netip.Prefix
	have4, have6 := 0, 0 // servers with an address of the family
	for _, own := range addrs {
		if slices.ContainsFunc(own, netip.Addr.Is4) {
			have4++
		}
		if slices.ContainsFunc(own, netip.Addr.Is6) {
			have6++
		}
		for _, a := range own {
			bits := bits6
			if a.Is4() {
				bits = bits4
			}
			pfx, err := a.Prefix(bits)
			if err != nil {
				return last, false
			}
			if a.Is4() || !last.IsValid() {
				last = pfx
			}
			seen[pfx] = true
		}
	}
	four, six := 0, 0
	for pfx := range seen {
		if pfx.Addr().Is4() {
			four++
		} else {
			six++
		}
	}
	return last, len(addrs) > 1 && four <= 1 && six <= 1 && (have4 == len(addrs) || have6 == len(addrs))
}

var serversOneAddress = &lint.Check{Rule: diag.Rule{
	Code: "servers-on-one-address", Severity: diag.Warning, Title: "all name servers have one and the same address", Ref: "RFC 2182 §3.1",
	Doc:  "Two names for one machine are one server: when it fails, the zone is gone. Have a second server elsewhere.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 192.0.2.1\n",
	Good: "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.1\n"},
	Zone: func(p *lint.Pass) {
		addrs, known := serverAddresses(p)
		if _, one := sharedBy(addrs, 32, 128); known && one {
			p.Add(p.Report(soaPlace(p), "the %d name servers of %s are one machine, %s", len(addrs), p.Zone.Apex(), addrs[0][0]).
				Suggest("add a second server, in another network"))
		}
	},
}

var serversOneNetwork = &lint.Check{Rule: diag.Rule{
	Code: "servers-in-one-network", Severity: diag.Warning, Title: "all name servers are in one network", Ref: "RFC 2182 §3.1",
	Doc:  "A cut line or a wrong route takes all servers of one network away at once. At least one should be elsewhere.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 192.0.2.2\n",
	Good: "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.1\n"},
	Zone: func(p *lint.Pass) {
		addrs, known := serverAddresses(p)
		if _, same := sharedBy(addrs, 32, 128); same {
			return // one address: said already
		}
		if net, one := sharedBy(addrs, 24, 48); known && one {
			p.Add(p.Report(soaPlace(p), "all name servers of %s are in the network %s", p.Zone.Apex(), net).Suggest("have one elsewhere"))
		}
	},
}

var serversIPv6Only = &lint.Check{Rule: diag.Rule{
	Code: "servers-without-ipv4", Severity: diag.Warning, Title: "no name server can be reached over IPv4", Ref: "RFC 3901 §4",
	Doc:  "Resolvers that have IPv4 only cannot reach the zone. Give at least one server an A record.",
	Bad:  "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 AAAA 2001:db8:1::1\nns2 AAAA 2001:db8:2::1\n",
	Good: "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns1 AAAA 2001:db8:1::1\nns2 AAAA 2001:db8:2::1\n"},
	Zone: func(p *lint.Pass) {
		addrs, known := serverAddresses(p)
		if !known || len(addrs) == 0 {
			return
		}
		for _, own := range addrs {
			for _, a := range own {
				if a.Is4() {
					return
				}
			}
		}
		p.Add(p.Report(soaPlace(p), "no name server of %s has an IPv4 address", p.Zone.Apex()).Suggest("give one an A record"))
	},
}

// ---- reverse zones ----

var (
	inAddr = dnsname.MustParse("in-addr.arpa.")
	ip6    = dnsname.MustParse("ip6.arpa.")
)

var reverseShape = &lint.Check{Rule: diag.Rule{
	Code: "reverse-name-shape", Severity: diag.Warning, Title: "a PTR record stands at a name that belongs to no address", Ref: "RFC 1035 §3.5, RFC 3596 §2.5",
	Doc: "An IPv4 address has four labels before in-addr.arpa, each a number from 0 to 255; an IPv6 address has 32 hexadecimal digits before ip6.arpa. " +
		"Other names are never looked up. Names of slices by RFC 2317, such as 0/25, are left alone.",
	Bad:  "-- bare --\n$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n256 PTR web.example.net.\n",
	Good: "-- bare --\n$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n25 PTR web.example.net.\n"},
	Types: types(rr.TypePTR), Set: func(p *lint.Pass, set lint.Set) {
		if set.Name.Occluded() {
			return
		}
		apex := p.Zone.Apex()
		var fault string
		switch {
		case apex.AtOrBelow(inAddr):
			fault = reverseFault(set.Name.Owner(), inAddr, 4, isOctet)
		case apex.AtOrBelow(ip6):
			fault = reverseFault(set.Name.Owner(), ip6, 32, isNibble)
		}
		if fault != "" {
			p.Add(p.Report(set.Layout(0).OwnerOrType(), "%s belongs to no address: %s", set.Name.Owner(), fault))
		}
	},
}

// reverseFault says why a name below top is not that of an address.
func reverseFault(name, top dnsname.Name, want int, digit func(string) (ok, odd bool)) string {
	n := name.Labels() - top.Labels()
	for m := name; m != top && m.Labels() > top.Labels(); m = m.Parent() {
		ok, odd := digit(m.Label())
		if odd {
			return "" // a slice, or a service below it
		}
		if !ok {
			return m.Label() + " is not a part of an address"
		}
	}
	if n != want {
		return "it has " + number(uint32(n)) + " parts of " + number(uint32(want))
	}
	return ""
}

func isOctet(s string) (ok, odd bool) {
	n := 0
	for _, c := range s {
		if c < '0' || c > '9' {
			return false, true
		}
		n = min(n*10+int(c-'0'), 1000)
	}
	return n <= 255 && (len(s) == 1 || s[0] != '0'), false
}

func isNibble(s string) (ok, odd bool) {
	for _, c := range s {
		if !(c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f') {
			return false, true
		}
	}
	return len(s) == 1, false
}

var ptrStaysInside = &lint.Check{Rule: diag.Rule{
	Code: "ptr-into-reverse-zone", Severity: diag.Warning, Title: "a PTR record points to a name in the reverse zone itself", Ref: "RFC 1035 §3.5, §5.1",
	Doc:  "In a reverse zone a name without a final dot is completed with in-addr.arpa or ip6.arpa, so web means web.2.0.192.in-addr.arpa. Write the host's whole name and the dot.",
	Bad:  "-- bare --\n$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n25 PTR web\n",
	Good: "-- bare --\n$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster.example.net. 1 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n25 PTR web.example.net.\n"},
	Types: types(rr.TypePTR), Set: func(p *lint.Pass, set lint.Set) {
		apex := p.Zone.Apex()
		if !apex.AtOrBelow(inAddr) && !apex.AtOrBelow(ip6) {
			return
		}
		eachTarget(set, func(r ref) {
			if lost, _ := lostDot(p, r.wire); lost || !nameOf(r.wire).AtOrBelow(apex) || isAddress(p, r.wire) {
				return
			}
			t := r.place(p)
			p.Add(p.Report(t.span, "this host name is %s, in the reverse zone", t.name()).Suggest("write the whole name with a final dot, such as %s.example.com.", t.text))
		})
	},
}
