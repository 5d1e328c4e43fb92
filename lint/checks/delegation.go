package checks

import (
	"fencepost/diag"
	"fencepost/lint"
	"fencepost/rr"
)

var missingGlue = &lint.Check{Rule: diag.Rule{
	Code: "missing-glue", Severity: diag.Error, Title: "a name server inside the delegated zone has no address here", Ref: "RFC 1034 §4.2.1",
	Doc: "To ask the child's servers one needs their addresses, and these are in the child, which one cannot ask yet. " +
		"So the parent holds a copy of the addresses: the glue.",
	Bad:  "sub NS ns.sub\nsub NS ns2.example.net.\n",
	Good: "sub NS ns.sub\nsub NS ns2.example.net.\nns.sub A 192.0.2.53\n"},
	Types: []rr.Type{rr.TypeNS}, Set: func(p *lint.Pass, set lint.Set) {
		if !set.Name.IsCut() || set.Name.Occluded() {
			return
		}
		owner := set.Name.Owner()
		eachTarget(set, func(r ref) {
			if !nameOf(r.wire).AtOrBelow(owner) || p.Look(r.wire).Address {
				return
			}
			t := r.place(p)
			p.Add(p.Report(t.span, "the server %s lies in the delegated zone and has no address here", t.name()).
				Suggest("add its address: %s A ADDRESS", t.name().Relative(p.Zone.Apex())))
		})
	},
}

var occludedData = &lint.Check{Rule: diag.Rule{
	Code: "occluded-data", Severity: diag.Warning, Title: "a record lies in a part of the zone that is delegated away", Ref: "RFC 1034 §4.2.1, RFC 5936 §3.5",
	Doc: "From the delegation down, the child zone's servers answer. Here only its NS, DS and the addresses of its servers have a use; " +
		"anything else is never seen. Move it to the child zone.",
	Bad:  "sub NS ns1.example.net.\nsub NS ns2.example.net.\nwww.sub A 192.0.2.1\n",
	Good: "sub NS ns1.example.net.\nsub NS ns2.example.net.\n"},
	Servers: true,
	Name: func(p *lint.Pass, n *lint.Name) {
		if !n.IsCut() && !n.Occluded() || n.Occluded() && belowDNAME(p, n) {
			return
		}
		for set := range n.Sets {
			if !belongsAtCut(n, set.Type) && !(isAddressType(set.Type) && isGlue(p, n)) {
				p.Add(p.Report(set.Layout(0).OwnerOrType(), "this %s record of %s lies in a delegated part and is never seen", set.Type, n.Owner()).
					Suggest("move it to the child zone"))
				return
			}
		}
	},
}

func isAddressType(t rr.Type) bool { return t == rr.TypeA || t == rr.TypeAAAA }

// belongsAtCut reports whether a type has a use at a delegation in the parent.
func belongsAtCut(n *lint.Name, t rr.Type) bool {
	if n.Occluded() {
		return false
	}
	// A DNAME there is reported as just that.
	return t == rr.TypeNS || t == rr.TypeDS || t == rr.TypeNSEC || t == rr.TypeRRSIG || t == rr.TypeDNAME
}

// isGlue reports whether some delegation of the zone names n as a server.
func isGlue(p *lint.Pass, n *lint.Name) bool { return p.IsServer(n) }

var dsWithoutDelegation = &lint.Check{Rule: diag.Rule{
	Code: "ds-without-delegation", Severity: diag.Error, Title: "a DS record stands where there is no delegation", Ref: "RFC 4035 §2.4",
	Doc:  "A DS belongs to the parent's side of a delegation, beside its NS records. A zone's own DS goes to its parent, not into the zone.",
	Bad:  "@ DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n",
	Good: "sub NS ns1.example.net.\nsub NS ns2.example.net.\nsub DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n"},
	Types: []rr.Type{rr.TypeDS}, Set: func(p *lint.Pass, set lint.Set) {
		if set.Name.IsCut() {
			return
		}
		d := p.Report(set.Layout(0).Type, "%s has a DS record and no NS records", set.Name.Owner()).
			Suggest("add the delegation's NS records, or remove the DS")
		if set.Name.IsApex() {
			d = d.Suggest("give it to the parent zone: see `fencepost handover`")
		}
		p.Add(d)
	},
}

var wildcardDelegation = &lint.Check{Rule: diag.Rule{
	Code: "wildcard-delegation", Severity: diag.Error, Title: "a wildcard has NS records", Ref: "RFC 4592 §4.2",
	Doc:  "What a delegation of all names should mean is not defined, and resolvers differ. Delegate each child by name.",
	Bad:  "* NS ns1.example.net.\n* NS ns2.example.net.\n",
	Good: "sub NS ns1.example.net.\nsub NS ns2.example.net.\n"},
	Types: []rr.Type{rr.TypeNS}, Set: func(p *lint.Pass, set lint.Set) {
		if set.Name.Owner().IsWildcard() {
			p.Add(p.Report(set.Layout(0).Type, "the wildcard %s has NS records", set.Name.Owner()).
				Suggest("delegate each child by its name"))
		}
	},
}

var oneServerCut = &lint.Check{Rule: diag.Rule{
	Code: "one-server-delegation", Severity: diag.Note, Title: "a zone is delegated to only one server", Ref: "RFC 1034 §4.1, RFC 2182 §5",
	Doc:  "When that server is out of reach, so is everything in the delegated zone. Said once for each zone.",
	Bad:  "sub NS ns1.example.net.\n",
	Good: "sub NS ns1.example.net.\nsub NS ns2.example.org.\n"},
	Types: []rr.Type{rr.TypeNS}, Set: func(p *lint.Pass, set lint.Set) {
		if set.N > 1 || !set.Name.IsCut() || set.Name.Occluded() {
			return
		}
		if !p.Count(set.Pos(0)) {
			return
		}
		at, owner := set.Layout(0).OwnerOrType(), set.Name.Owner()
		p.Explain(func(n int) diag.Diagnostic {
			d := p.Report(at, "%s is delegated to a single server", owner)
			if n > 1 {
				d.Message += andMore(n - 1)
			}
			return d.Suggest("add a second server")
		})
	},
}
