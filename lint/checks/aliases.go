package checks

import (
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/zone"
)

// maxChain is how far a chain of aliases is followed.
const maxChain = 16

// follow goes along the aliases that begin at a name in wire form: how many there
// are, and whether they come back to one that was passed.
func follow(p *lint.Pass, wire []byte) (n int, loop bool) {
	seen := map[string]bool{}
	for n < maxChain {
		set, ok := p.Find(wire, rr.TypeCNAME)
		if !ok {
			return n, false
		}
		key := nameOf(wire).Key()
		if seen[key] {
			return n, true
		}
		seen[key] = true
		wire = set.First()
		n++
	}
	return n, true
}

var aliasLoop = &lint.Check{Rule: diag.Rule{
	Code: "alias-loop", Severity: diag.Warning, Strict: true, Title: "aliases form a loop", Ref: "RFC 1034 §3.6.2",
	Doc:  "Each of these names is an alias of another of them, so none has data. Resolvers answer SERVFAIL.",
	Bad:  "a CNAME b\nb CNAME a\n",
	Good: "a CNAME b\nb A 192.0.2.1\n"},
	Types: types(rr.TypeCNAME), Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if !p.Look(r.wire).Alias {
				return
			}
			if _, loop := follow(p, r.wire); loop {
				t := r.place(p)
				p.Add(p.Report(t.span, "%s and %s are part of an alias loop", set.Name.Owner(), t.name()).Suggest("give one of them an address instead"))
			}
		})
	},
}

var aliasChain = &lint.Check{Rule: diag.Rule{
	Code: "alias-to-alias", Severity: diag.Note, Title: "an alias points to an alias", Ref: "RFC 1034 §3.6.2",
	Doc:  "It works, and each step costs a query and is one more thing that can break. Point to the true name.",
	Bad:  "www CNAME web\nweb CNAME box\nbox A 192.0.2.1\n",
	Good: "www CNAME box\nweb CNAME box\nbox A 192.0.2.1\n"},
	Types: types(rr.TypeCNAME), Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if t := p.Look(r.wire); !t.InZone || !t.Alias {
				return
			}
			if _, loop := follow(p, r.wire); loop {
				return
			}
			if p.Count(set.Pos(r.i)) {
				t, owner := r.place(p), set.Name.Owner()
				p.Explain(func(n int) diag.Diagnostic {
					d := p.Report(t.span, "%s points to %s, which is an alias itself", owner, t.name())
					if n > 1 {
						d.Message += "; there are " + number(uint32(n)) + " such aliases"
					}
					return d.Suggest("point to the true name")
				})
			}
		})
	},
}

var dnameHides = &lint.Check{Rule: diag.Rule{
	Code: "data-below-dname", Severity: diag.Error, Title: "a record stands below a DNAME", Ref: "RFC 6672 §2.4",
	Doc:  "All names below a DNAME are aliases, so none of them can have data of its own.",
	Bad:  "old DNAME example.net.\nwww.old A 192.0.2.1\n",
	Good: "old DNAME example.net.\n"},
	Name: func(p *lint.Pass, n *lint.Name) {
		if !n.Occluded() || !belowDNAME(p, n) {
			return
		}
		for set := range n.Sets {
			if set.Type == rr.TypeNSEC3 || set.Type == rr.TypeRRSIG {
				continue // RFC 5155 §10.2
			}
			p.Add(p.Report(set.Layout(0).OwnerOrType(), "%s lies below a DNAME and can have no data", n.Owner()).Suggest("remove the record, or the DNAME"))
			return
		}
	},
}

// belowDNAME reports whether what hides an occluded name is a DNAME.
func belowDNAME(p *lint.Pass, n *lint.Name) bool {
	var buf [2 * dnsname.MaxWire]byte
	var above zone.Node
	if !p.Zone.Get(n.OccluderKey(buf[:0]), &above) {
		return false
	}
	_, dname := above.Find(rr.TypeDNAME)
	return dname
}

var dnameBesideNS = &lint.Check{Rule: diag.Rule{
	Code: "dname-beside-delegation", Severity: diag.Error, Title: "a DNAME stands beside a delegation", Ref: "RFC 6672 §2.4",
	Doc:  "A name that is delegated is answered by the child's servers, so a DNAME here is never seen. It may stand with NS only at the zone's own name.",
	Bad:  "old DNAME example.net.\nold NS ns1.example.net.\nold NS ns2.example.net.\n",
	Good: "old DNAME example.net.\n"},
	Types: types(rr.TypeDNAME), Set: func(p *lint.Pass, set lint.Set) {
		if set.Name.IsCut() {
			p.Add(p.Report(set.Layout(0).Type, "%s has a DNAME and is delegated", set.Name.Owner()).Suggest("keep one of the two"))
		}
	},
}

var dnameLoop = &lint.Check{Rule: diag.Rule{
	Code: "dname-below-itself", Severity: diag.Warning, Strict: true, Title: "a DNAME points below its own name", Ref: "RFC 6672 §2.2",
	Doc:  "Each name then has a longer target, until it is too long.",
	Bad:  "old DNAME new.old\n",
	Good: "old DNAME example.net.\n"},
	Types: types(rr.TypeDNAME), Set: func(p *lint.Pass, set lint.Set) {
		eachTarget(set, func(r ref) {
			if t := nameOf(r.wire); t.AtOrBelow(set.Name.Owner()) {
				p.Add(p.Report(r.place(p).span, "%s is replaced by %s, which lies below it", set.Name.Owner(), t))
			}
		})
	},
}

var severalOfOne = &lint.Check{Rule: diag.Rule{
	Code: "several-of-a-single-type", Severity: diag.Error, Title: "a name has several records of a type that allows only one", Ref: "RFC 6672 §2.4, RFC 7477 §2",
	Doc:  "A name has at most one DNAME and at most one CSYNC record.",
	Bad:  "old DNAME example.net.\nold DNAME example.org.\n",
	Good: "old DNAME example.net.\n"},
	Types: types(rr.TypeDNAME, rr.TypeCSYNC), Set: func(p *lint.Pass, set lint.Set) {
		if set.N > 1 {
			p.Add(p.Report(set.Layout(set.N-1).Type, "%s has %d %s records", set.Name.Owner(), set.N, set.Type).See(set.Layout(0).Type, "another").Suggest("keep one"))
		}
	},
}
