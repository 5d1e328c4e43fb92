package checks

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"slices"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/zone"
)

// Examples of checks of a workspace are several files: a line "-- file NAME --"
// begins each.
const (
	childOK  = "-- file sub.example.com.zone --\n$ORIGIN sub.example.com.\n$TTL 3600\n@ SOA ns1 hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1\n@ NS ns2.example.net.\nns1 A 192.0.2.53\n"
	parentOK = "-- file example.com.zone --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"
	cutOK    = "sub NS ns1.sub\nsub NS ns2.example.net.\nns1.sub A 192.0.2.53\n"
	reverse  = "-- file 2.0.192.in-addr.arpa.zone --\n$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster.example.net. 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"
)

// cut is a delegation in a parent zone of the workspace.
type cut struct {
	parent, child *lint.Zone
	name          *lint.Name // in the parent; nil if it is not delegated
}

// cuts finds where the zones of the workspace are delegated by others of it.
func cuts(f *lint.Workspace) (out []*cut) {
	wanted := map[*lint.Zone]map[string]*cut{}
	for _, m := range f.Members {
		parent := f.Parent(m)
		if parent == nil {
			continue
		}
		c := &cut{parent: parent, child: m}
		out = append(out, c)
		if wanted[parent] == nil {
			wanted[parent] = map[string]*cut{}
		}
		wanted[parent][m.Apex().Key()] = c
	}
	for parent, children := range wanted {
		for n := range parent.Names {
			if n.IsCut() {
				if c := children[n.Owner().Key()]; c != nil {
					c.name = n.Clone()
				}
			}
		}
	}
	return out
}

// apexName is the apex of a zone with its places.
func apexName(m *lint.Zone) *lint.Name {
	for n := range m.Names {
		return n
	}
	return nil
}

// names are the names in a set of NS records, sorted.
func names(set zone.RRset) (out []string) {
	for data := range set.Data {
		out = append(out, nameOf(data).Lower().String())
	}
	sort.Strings(out)
	return out
}

var notDelegated = &lint.Check{Rule: diag.Rule{
	Code: "not-delegated", Severity: diag.Error, Title: "a zone is not delegated by its parent", Ref: "RFC 1034 §4.2.1",
	Doc:  "Both zones are in this workspace. Without NS records in the parent resolvers are not referred to the child's servers, and the parent answers NXDOMAIN for its names.",
	Bad:  parentOK + childOK,
	Good: parentOK + cutOK + childOK},
	Workspace: func(f *lint.Workspace) {
		for _, c := range cuts(f) {
			if c.name != nil {
				continue
			}
			at := lint.Set{}
			if apex := apexName(c.child); apex != nil {
				at, _ = apex.Set(rr.TypeNS)
			}
			if at.N == 0 {
				continue
			}
			var lines []string
			for _, n := range names(at.RRset) {
				lines = append(lines, c.child.Apex().Relative(c.parent.Apex())+" NS "+n)
			}
			f.Add(f.Report(at.Layout(0).Type, "the zone %s has no NS records for %s", c.parent.Apex(), c.child.Apex()).
				Suggest("add them there: %s", strings.Join(lines, ", ")))
		}
	},
}

var delegationDiffers = &lint.Check{Rule: diag.Rule{
	Code: "delegation-differs", Severity: diag.Warning, Title: "parent and child list different name servers", Ref: "RFC 1034 §4.2.2",
	Doc:  "The NS records at the delegation should be those at the top of the child. Resolvers use both lists; a server that is in only one may get no queries, or queries for a zone that it does not have.",
	Bad:  parentOK + "sub NS ns1.sub\nsub NS old.example.net.\nns1.sub A 192.0.2.53\n" + childOK,
	Good: parentOK + cutOK + childOK},
	Workspace: func(f *lint.Workspace) {
		for _, c := range cuts(f) {
			apex := apexName(c.child)
			if c.name == nil || apex == nil {
				continue
			}
			above, _ := c.name.Set(rr.TypeNS)
			own, _ := apex.Set(rr.TypeNS)
			a, b := names(above.RRset), names(own.RRset)
			if slices.Equal(a, b) || own.N == 0 {
				continue
			}
			d := f.Report(above.Layout(0).Type, "%s delegates %s to other servers than it lists itself", c.parent.Apex(), c.child.Apex()).
				See(own.Layout(0).Type, "the child's own")
			if more := minus(a, b); len(more) > 0 {
				d.Message += "; only here: " + strings.Join(more, ", ")
			}
			if less := minus(b, a); len(less) > 0 {
				d.Message += "; only in the child: " + strings.Join(less, ", ")
			}
			f.Add(d.Suggest("make both the same"))
		}
	},
}

// minus is what a has and b has not.
func minus(a, b []string) (out []string) {
	for _, s := range a {
		if !slices.Contains(b, s) {
			out = append(out, s)
		}
	}
	return out
}

var glueDiffers = &lint.Check{Rule: diag.Rule{
	Code: "glue-differs", Severity: diag.Error, Title: "the addresses in the parent are not those of the child", Ref: "RFC 1034 §4.2.2, RFC 1912 §2.3",
	Doc:  "The glue of a delegation is a copy of the servers' addresses in the child. When a server moved, the copy must be changed too, or resolvers use the old address.",
	Bad:  parentOK + "sub NS ns1.sub\nsub NS ns2.example.net.\nns1.sub A 192.0.2.99\n" + childOK,
	Good: parentOK + cutOK + childOK},
	Workspace: func(f *lint.Workspace) {
		byParent := map[*lint.Zone]map[string]*cut{}
		for _, c := range cuts(f) {
			if c.name == nil {
				continue
			}
			if byParent[c.parent] == nil {
				byParent[c.parent] = map[string]*cut{}
			}
			byParent[c.parent][c.child.Apex().Key()] = c
		}
		for parent, children := range byParent {
			for n := range parent.Names {
				if n.Occluded() {
					if c := above(children, parent, n.Owner()); c != nil {
						glueAgrees(f, c, n)
					}
				}
			}
		}
	},
}

// above is the delegation that a name in the parent lies below, if the child is
// in the workspace.
func above(children map[string]*cut, parent *lint.Zone, name dnsname.Name) *cut {
	for ; name.Below(parent.Apex()); name = name.Parent() {
		if c := children[name.Key()]; c != nil {
			return c
		}
	}
	return nil
}

// glueAgrees compares the addresses of a name below a delegation with those in
// the child.
func glueAgrees(f *lint.Workspace, c *cut, n *lint.Name) {
	for _, t := range addressTypes {
		glue, _ := n.Set(t)
		own, _ := c.child.Find(n.Owner(), t)
		if glue.N == 0 || own.N == 0 || sameData(glue.RRset, own) {
			continue
		}
		f.Add(f.Report(glue.Layout(0).Field(0), "here %s has %s, in its own zone %s", n.Owner(), addressText(glue.RRset), addressText(own)).
			Suggest("write %s", addressText(own)))
	}
}

func sameData(a, b zone.RRset) bool {
	if a.N != b.N {
		return false
	}
	have := map[string]bool{}
	for data := range a.Data {
		have[string(data)] = true
	}
	for data := range b.Data {
		if !have[string(data)] {
			return false
		}
	}
	return true
}

func addressText(set zone.RRset) string {
	var out []string
	for data := range set.Data {
		if a, ok := netip.AddrFromSlice(data); ok {
			out = append(out, a.String())
		}
	}
	return strings.Join(out, ", ")
}

var dsNoKey = &lint.Check{Rule: diag.Rule{
	Code: "ds-matches-no-key", Severity: diag.Error, Title: "no key of the child matches the DS records in the parent", Ref: "RFC 4035 §2.4, §5.2",
	Doc: "A DS is the digest of a key of the child. If no DS matches a key of the child, validating resolvers reject everything in it. " +
		"The DS was copied wrong, or the key was replaced and the DS forgotten.",
	Bad: parentOK + cutOK + "sub DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A\n" + childOK +
		"@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n",
	Good: parentOK + cutOK + childOK},
	Workspace: func(f *lint.Workspace) {
		for _, c := range cuts(f) {
			if c.name == nil {
				continue
			}
			ds, _ := c.name.Set(rr.TypeDS)
			keys := c.keys()
			if ds.N == 0 || len(keys) == 0 {
				continue
			}
			fits := false
			for data := range ds.Data {
				fits = fits || slices.ContainsFunc(keys, func(k []byte) bool { return dsFits(data, c.child.Apex(), k) })
			}
			if !fits {
				f.Add(f.Report(ds.Layout(0).Type, "no DS of %s fits a key that the zone has", c.child.Apex()).
					Suggest("see what belongs here: fencepost handover %s", trimDot(c.child.Apex())))
			}
		}
	},
}

// keys are the DNSKEYs of the child, from its key folder or its file.
func (c *cut) keys() [][]byte {
	keys := slices.Clone(c.child.Keys)
	set, _ := c.child.Find(c.child.Apex(), rr.TypeDNSKEY)
	for data := range set.Data {
		keys = append(keys, data)
	}
	return keys
}

// dsFits reports whether a DS is of a key (RFC 4034 §5.1.4). Of a digest type that
// is not known only the key tag is compared, so that nothing is said that is not
// certain.
func dsFits(ds []byte, owner dnsname.Name, key []byte) bool {
	if len(ds) < 5 || len(key) < 5 || ds[2] != key[3] {
		return false
	}
	if want := dnssec.DS(owner, key, ds[3]); want != nil {
		return bytes.Equal(want, ds)
	}
	return binary.BigEndian.Uint16(ds) == dnssec.KeyTag(key)
}

var dsMissing = &lint.Check{Rule: diag.Rule{
	Code: "ds-missing", Severity: diag.Note, Title: "a zone is signed and its parent has no DS for it", Ref: "RFC 4035 §2.4",
	Doc:  "Both zones are in this workspace. Without a DS in the parent, resolvers treat the child as unsigned.",
	Bad:  parentOK + cutOK + childOK + "@ DNSKEY 257 3 13 oJMRESz5E4gYzS/q6XDrvU1qMPYIjCWzJaOau8XNEZeqCYKD5ar0IRd8KqXXFJkqmVfRvMGPmM1x8fGAa2XhSA==\n",
	Good: parentOK + cutOK + childOK},
	Workspace: func(f *lint.Workspace) {
		for _, c := range cuts(f) {
			if c.name == nil || len(c.keys()) == 0 {
				continue
			}
			if ds, _ := c.name.Set(rr.TypeDS); ds.N == 0 {
				ns, _ := c.name.Set(rr.TypeNS)
				f.Add(f.Report(ns.Layout(0).OwnerOrType(), "%s is signed and has no DS here", c.child.Apex()).
					Suggest("see what belongs here: fencepost handover %s", trimDot(c.child.Apex())))
			}
		}
	},
}

var ptrMismatch = &lint.Check{Rule: diag.Rule{
	Code: "ptr-mismatch", Severity: diag.Warning, Title: "a PTR names a host that does not have the address", Ref: "RFC 1912 §2.1",
	Doc:  "Mail servers and others look up the name of an address and then the address of that name, and distrust hosts where they do not match. The host moved, or the PTR was forgotten.",
	Bad:  reverse + "25 PTR web.example.com.\n" + parentOK + "web A 192.0.2.1\n",
	Good: reverse + "1 PTR web.example.com.\n" + parentOK + "web A 192.0.2.1\n"},
	Workspace: func(f *lint.Workspace) {
		for _, m := range f.Members {
			if !m.Apex().AtOrBelow(inAddr) && !m.Apex().AtOrBelow(ip6) {
				continue
			}
			for n := range m.Names {
				if set, ok := n.Set(rr.TypePTR); ok {
					ptrAgrees(f, set)
				}
			}
		}
	},
}

func ptrAgrees(f *lint.Workspace, set lint.Set) {
	addr, ok := dnsname.AddrOf(set.Name.Owner())
	if !ok {
		return
	}
	eachData(set, func(i int, data []byte) {
		host := nameOf(data)
		m := f.Holder(host)
		if m == nil {
			return
		}
		if m.Delegated(host) {
			return // somebody else's to say
		}
		t := rr.TypeA
		if addr.Is6() {
			t = rr.TypeAAAA
		}
		found, has := m.Find(host, t)
		for a := range found.Data {
			if ip, _ := netip.AddrFromSlice(a); ip == addr {
				return
			}
		}
		d := f.Report(set.Layout(i).Field(0), "%s has no %s record with %s", host, t, addr)
		if has {
			d.Message = host.String() + " has the address " + addressText(found) + ", not " + addr.String()
		}
		f.Add(d.Suggest("correct the PTR, or the host's address"))
	})
}
