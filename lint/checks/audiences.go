package checks

import (
	"fmt"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
)

// Zones of examples with a version for an audience.
const (
	forAll   = "-- file example.com.zone --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\nwww A 192.0.2.80\n"
	forSome  = "-- file example.com@inside.zone --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\nwww A 192.0.2.80\n"
	printers = "printer A 192.0.2.9\n"
)

// seenBy are the versions of a zone for audiences.
func seenBy(f *lint.Workspace, z *lint.Zone) (out []*lint.Zone) {
	for _, v := range f.Versions {
		if v.Apex().Equal(z.Apex()) {
			out = append(out, v)
		}
	}
	return out
}

// everyones is the version of a zone for everyone; nil where it is not here.
func everyones(f *lint.Workspace, v *lint.Zone) *lint.Zone {
	if m := f.Holder(v.Apex()); m != nil && m.Apex().Equal(v.Apex()) {
		return m
	}
	return nil
}

func exists(z *lint.Zone, name dnsname.Name) bool { return z.Look([]byte(name.Wire())).Exists }

// missingIn are the names of one version that another does not have.
func missingIn(other, z *lint.Zone) (out []string) {
	for n := range z.Names {
		if owner := n.Owner(); !exists(other, owner) {
			out = append(out, owner.Relative(z.Apex()))
		}
	}
	return out
}

// fewOf names the first few.
func fewOf(names []string) string {
	const most = 4
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

var audienceShown = &lint.Check{Rule: diag.Rule{
	Code: "audience-name-shown", Severity: diag.Warning, Title: "a record that everyone sees names a host that only an audience sees", Ref: "RFC 9499",
	Doc:  "Everyone learns that the name exists, and outside there is nothing: mail is not delivered, aliases do not work. Give the name an address for everyone too, or keep the record in the version for the audience.",
	Bad:  forAll + "old CNAME printer\n" + forSome + "old CNAME printer\n" + printers,
	Good: forAll + "old CNAME www\n" + forSome + "old CNAME www\n"},
	Workspace: func(f *lint.Workspace) {
		if len(f.Versions) == 0 {
			return
		}
		for _, m := range f.Members {
			for n := range m.Names {
				for set := range n.Sets {
					shownNames(f, n, set)
				}
			}
		}
	},
}

// shownNames looks at the names in the records of a set.
func shownNames(f *lint.Workspace, n *lint.Name, set lint.Set) {
	if !rr.HasNames(set.Type) || set.Type == rr.TypeSOA {
		return
	}
	i := -1
	for data := range set.Data {
		i++
		for it := rr.NewParts(set.Type, data); it.Next(); {
			if is, _ := it.IsName(); !is {
				continue
			}
			target, err := dnsname.FromWire(it.Bytes)
			if err != nil {
				continue
			}
			holder := f.Holder(target)
			if holder == nil || exists(holder, target) {
				continue
			}
			for _, v := range seenBy(f, holder) {
				if exists(v, target) {
					f.Add(f.Report(set.Layout(i).Type, "everyone sees that %s %s names %s, which only the audience %s sees", n.Owner(), set.Type, target, v.Audience).
						Suggest("give %s an address for everyone too, or move this record to the file for %s", target, v.Audience))
					break
				}
			}
		}
	}
}

var audienceLacks = &lint.Check{Rule: diag.Rule{
	Code: "audience-lacks-name", Severity: diag.Warning, Title: "names that everyone sees are missing for an audience", Ref: "RFC 9499",
	Doc:  "An audience with a version of its own sees only that version: a name that was added for everyone and not there does not exist for it. Records that all see are best written once, in a file that both versions include, as `fencepost new ZONE --audience NAME` lays them out.",
	Bad:  forAll + "shop A 192.0.2.81\n" + forSome,
	Good: forAll + "shop A 192.0.2.81\n" + forSome + "shop A 192.0.2.81\n"},
	Workspace: func(f *lint.Workspace) {
		for _, v := range f.Versions {
			all := everyones(f, v)
			if all == nil {
				continue
			}
			if names := missingIn(v, all); len(names) > 0 {
				f.Add(f.Report(v.SOASpan, "what everyone sees is missing for the audience %s: %s", v.Audience, fewOf(names)).
					Suggest("add it there too, or write it in a file that both include"))
			}
		}
	},
}

var audienceOnly = &lint.Check{Rule: diag.Rule{
	Code: "audience-only", Severity: diag.Note, Title: "names that only an audience sees", Ref: "RFC 9499",
	Doc:  "For everyone else these names do not exist. That is what versions for audiences are for; this note lists them.",
	Bad:  forAll + forSome + printers,
	Good: forAll + forSome},
	Workspace: func(f *lint.Workspace) {
		for _, v := range f.Versions {
			all := everyones(f, v)
			if all == nil {
				continue
			}
			if names := missingIn(all, v); len(names) > 0 {
				f.Add(f.Report(v.SOASpan, "only the audience %s sees: %s", v.Audience, fewOf(names)))
			}
		}
	},
}
