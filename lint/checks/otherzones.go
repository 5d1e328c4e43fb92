package checks

import (
	"slices"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/rr"
)

// Names in the data of one zone that lie in another of the workspace: what a zone by
// itself cannot know.

// eachElsewhere calls f for each target that another zone of the workspace holds, with
// what that zone has there. Glue and what is delegated on is somebody else's to say.
func eachElsewhere(f *lint.Workspace, types []rr.Type, do func(r ref, holder *lint.Zone, found lint.Target)) {
	if len(f.Members) < 2 {
		return
	}
	for _, m := range f.Members {
		for n := range m.Names {
			if n.Occluded() {
				continue
			}
			for set := range n.Sets {
				if !slices.Contains(types, set.Type) {
					continue
				}
				eachTarget(set, func(r ref) {
					if t := m.Look(r.wire); t.InZone && !t.Delegated {
						return
					}
					holder := f.Holder(nameOf(r.wire))
					if holder == nil || holder == m {
						return
					}
					if found := holder.Look(r.wire); !found.Delegated {
						do(r, holder, found)
					}
				})
			}
		}
	}
}

// Targets calls f for the names that a record points to.
func Targets(t rr.Type, data []byte, f func(wire []byte)) {
	if slices.Contains(targetTypes, t) {
		eachName(t, data, func(_ rr.Target, wire []byte) { f(wire) })
	}
}

// Elsewhere calls f for the names outside a zone that its records point to, and for those that it
// delegates: what other zones would say of them matters for it. A name may come more than once.
func Elsewhere(m *lint.Zone, f func(wire []byte)) {
	for n := range m.Names {
		if n.Occluded() {
			continue
		}
		if n.IsCut() {
			f([]byte(n.Owner().Wire()))
		}
		for set := range n.Sets {
			if slices.Contains(targetTypes, set.Type) {
				eachTarget(set, func(r ref) {
					if t := m.Look(r.wire); !t.InZone || t.Delegated {
						f(r.wire)
					}
				})
			}
		}
	}
}

// elsewhereTypes are the types whose targets are looked for in other zones; PTR has a
// check of its own.
var elsewhereTypes = slices.DeleteFunc(slices.Clone(targetTypes), func(t rr.Type) bool { return t == rr.TypePTR })

const otherZone = "-- file harbour.example.zone --\n$ORIGIN harbour.example.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.net.\n"

// isTypeWithHost reports whether the target of a type has to be a host.
func isTypeWithHost(t rr.Type) bool { return slices.Contains(hostTypes, t) }

var elsewhereMissing = &lint.Check{Rule: diag.Rule{
	Code: "target-missing-elsewhere", Severity: diag.Warning, Strict: true, Title: "a record points to a name that another zone here does not have", Ref: "RFC 1912 §2.3, §2.4, RFC 1034 §3.6.2",
	Doc:  "The name lies in another zone of this workspace, and that zone has no such name: the host was renamed or removed there, or the name is mistyped here.",
	Bad:  otherZone + "web A 192.0.2.1\n" + parentOK + "www CNAME webb.harbour.example.\n",
	Good: otherZone + "web A 192.0.2.1\n" + parentOK + "www CNAME web.harbour.example.\n"},
	Workspace: func(f *lint.Workspace) {
		eachElsewhere(f, elsewhereTypes, func(r ref, holder *lint.Zone, found lint.Target) {
			if found.Exists || r.set.Type == rr.TypeCNAME && r.set.Name.Owner().Below(inAddr) {
				return // of a classless zone not all addresses need be in use (RFC 2317 §4)
			}
			at := r.place(holder.Pass())
			d := f.Report(at.span, "the %s %s does not exist in the zone %s", role(r.set.Type), at.name(), holder.Apex())
			if isTypeWithHost(r.set.Type) {
				f.Add(d.Suggest("add its address there: fencepost add %s %s A ADDRESS; or correct the name", trimDot(holder.Apex()), at.name().Relative(holder.Apex())))
				return
			}
			f.Add(d.Suggest("correct the name, or remove the record"))
		})
	},
}

var elsewhereAlias = &lint.Check{Rule: diag.Rule{
	Code: "target-alias-elsewhere", Severity: diag.Warning, Strict: true, Title: "an NS, MX or SRV record points to an alias in another zone here", Ref: "RFC 2181 §10.3, RFC 2782",
	Doc:  "These records must name the host itself, one with addresses. The name is an alias in another zone of this workspace: write what that points to.",
	Bad:  otherZone + "mail CNAME box\nbox A 192.0.2.25\n" + parentOK + "@ MX 10 mail.harbour.example.\n",
	Good: otherZone + "mail CNAME box\nbox A 192.0.2.25\n" + parentOK + "@ MX 10 box.harbour.example.\n"},
	Workspace: func(f *lint.Workspace) {
		eachElsewhere(f, hostTypes, func(r ref, holder *lint.Zone, found lint.Target) {
			if found.Alias {
				at := r.place(holder.Pass())
				f.Add(f.Report(at.span, "the %s %s is an alias in the zone %s", role(r.set.Type), at.name(), holder.Apex()).
					Suggest("name the host that the alias points to"))
			}
		})
	},
}

var elsewhereNoAddress = &lint.Check{Rule: diag.Rule{
	Code: "target-without-address-elsewhere", Severity: diag.Warning, Strict: true, Title: "an NS, MX or SRV record points to a name without address in another zone here", Ref: "RFC 1035 §3.3.9, RFC 2782",
	Doc:  "The name exists in another zone of this workspace and has neither A nor AAAA there, so the host cannot be reached.",
	Bad:  otherZone + "mail TXT \"moved\"\n" + parentOK + "@ MX 10 mail.harbour.example.\n",
	Good: otherZone + "mail A 192.0.2.25\n" + parentOK + "@ MX 10 mail.harbour.example.\n"},
	Workspace: func(f *lint.Workspace) {
		eachElsewhere(f, hostTypes, func(r ref, holder *lint.Zone, found lint.Target) {
			if found.Exists && !found.Alias && !found.Address {
				at := r.place(holder.Pass())
				f.Add(f.Report(at.span, "the %s %s has no address in the zone %s", role(r.set.Type), at.name(), holder.Apex()).
					Suggest("add one there: fencepost add %s %s A ADDRESS", trimDot(holder.Apex()), at.name().Relative(holder.Apex())))
			}
		})
	},
}
