package checks

import (
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
)

// catalogHead begins the example of a catalog zone (RFC 9432 §4).
const catalogHead = "-- bare --\n$ORIGIN catalog.example.com.\n$TTL 3600\n@ SOA invalid. hostmaster.example.com. 2026112301 7200 900 1209600 300\n@ NS invalid.\n"

const catalogOK = catalogHead + "version TXT \"2\"\na1.zones PTR tides.example.\nb2.zones PTR birds.example.\n"

// catalogNames are the version and the zones label of a zone, below its apex.
func catalogNames(p *lint.Pass) (version, zones dnsname.Name) {
	version, _ = p.Zone.Apex().Child("version")
	zones, _ = p.Zone.Apex().Child("zones")
	return version, zones
}

// isCatalog reports whether a zone is a catalog of others: it says its version and
// lists zones.
func isCatalog(p *lint.Pass) bool {
	version, zones := catalogNames(p)
	if version.IsZero() || zones.IsZero() {
		return false
	}
	_, has := p.Find([]byte(version.Wire()), rr.TypeTXT)
	t := p.Look([]byte(zones.Wire()))
	return has && t.InZone && t.Exists && !t.Address
}

var catalogVersion = &lint.Check{Rule: diag.Rule{
	Code: "catalog-version", Severity: diag.Error, Title: "a catalog zone does not say that it is of version 2", Ref: "RFC 9432 §4.2.1",
	Doc:  "The name version has exactly one TXT record, \"2\". Secondaries ignore a catalog that says anything else, and keep the zones they had.",
	Bad:  catalogHead + "version TXT \"1\"\na1.zones PTR tides.example.\n",
	Good: catalogOK},
	Types: types(rr.TypeTXT), Set: func(p *lint.Pass, set lint.Set) {
		version, _ := catalogNames(p)
		if !firstLabel(set.Name, "version") || !set.Name.Owner().Equal(version) || !isCatalog(p) {
			return
		}
		if set.N != 1 || joined(set.First()) != "2" {
			p.Add(p.Report(set.Layout(0).Field(0), "the version of this catalog is not the one record \"2\"").Suggest(`write: version TXT "2"`))
		}
	},
}

// member reports whether a name is <unique>.zones of the catalog.
func member(p *lint.Pass, n *lint.Name) bool {
	l := labels(p, n)
	return len(l) == 2 && l[1] == "zones" && isCatalog(p)
}

var catalogMember = &lint.Check{Rule: diag.Rule{
	Code: "catalog-member", Severity: diag.Error, Title: "a catalog zone lists a zone in a way that breaks the catalog", Ref: "RFC 9432 §4.3",
	Doc:  "Each UNIQUE.zones has one PTR record with the name of a zone, and no zone is listed twice. One mistake makes secondaries ignore the whole catalog.",
	Bad:  catalogHead + "version TXT \"2\"\na1.zones PTR tides.example.\na1.zones PTR birds.example.\n",
	Good: catalogOK},
	Types: types(rr.TypePTR), Set: func(p *lint.Pass, set lint.Set) {
		if set.N > 1 && member(p, set.Name) {
			p.Add(p.Report(set.Layout(1).Type, "%s lists %d zones", set.Name.Owner(), set.N).Suggest("give each its own label below zones"))
		}
	},
}

var catalogTwice = &lint.Check{Rule: diag.Rule{
	Code: "catalog-member-twice", Severity: diag.Error, Title: "a catalog zone lists a zone twice", Ref: "RFC 9432 §4.3",
	Doc:  "A zone that stands below two labels makes secondaries ignore the whole catalog. Keep the label under which it was first.",
	Bad:  catalogHead + "version TXT \"2\"\na1.zones PTR tides.example.\nb2.zones PTR tides.example.\n",
	Good: catalogOK},
	Zone: func(p *lint.Pass) {
		if !isCatalog(p) {
			return
		}
		_, zones := catalogNames(p)
		seen := map[string]bool{}
		for n := range p.Zone.Nodes {
			owner := p.Zone.Owner(n)
			set, _ := n.Find(rr.TypePTR)
			if set.N == 0 || !owner.Parent().Equal(zones) {
				continue
			}
			target := nameOf(set.First())
			if seen[target.Key()] {
				p.Add(p.Report(soaPlace(p), "the zone %s is listed twice, the second time by %s", target, owner).Suggest("take %s out", rel(p, owner)))
			}
			seen[target.Key()] = true
		}
	},
}

var catalogServer = &lint.Check{Rule: diag.Rule{
	Code: "catalog-name-server", Severity: diag.Note, Title: "a catalog zone has name servers", Ref: "RFC 9432 §4.1",
	Doc:  "Nobody sends a catalog queries, so it has one NS record, invalid., which says so.",
	Bad:  "-- bare --\n$ORIGIN catalog.example.com.\n$TTL 3600\n@ SOA invalid. hostmaster.example.com. 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\nversion TXT \"2\"\na1.zones PTR tides.example.\n",
	Good: catalogOK},
	Types: types(rr.TypeNS), Set: func(p *lint.Pass, set lint.Set) {
		if set.Name.IsApex() && isCatalog(p) && !servedByNobody(set.First(), set.N) {
			p.Add(p.Report(set.Layout(0).Field(0), "a catalog needs no name servers").Suggest("write the one record: @ NS invalid."))
		}
	},
}

// servedByNobody reports whether a set of NS records is the one that says so.
func servedByNobody(first []byte, n int) bool {
	return n == 1 && nameOf(first).Key() == "\x07invalid\x00"
}
