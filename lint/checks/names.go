package checks

import (
	"strconv"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/zonefile"
)

func number(n uint32) string { return strconv.FormatUint(uint64(n), 10) }

// secs is a number of seconds with what that is in words.
func secs(n uint32) string {
	if n < 60 {
		return number(n) + " s"
	}
	words := ""
	rest := n
	for _, u := range []struct {
		name string
		size uint32
	}{{"day", 86400}, {"hour", 3600}, {"minute", 60}, {"second", 1}} {
		k := rest / u.size
		if k == 0 {
			continue
		}
		rest -= k * u.size
		words += " " + number(k) + " " + u.name
		if k > 1 {
			words += "s"
		}
	}
	return number(n) + " s," + words
}

// besideAlias are the types that may stand beside a CNAME (RFC 4035 §2.5).
func besideAlias(t rr.Type) bool {
	const key = 25 // RFC 2181 §10.1
	return t == rr.TypeCNAME || t == rr.TypeRRSIG || t == rr.TypeNSEC || t == key
}

var aliasBesideData = &lint.Check{Rule: diag.Rule{
	Code: "alias-beside-data", Severity: diag.Error, Title: "a CNAME stands beside other records of the same name", Ref: "RFC 1034 §3.6.2, RFC 2181 §10.1, RFC 4035 §2.5",
	Doc: "A CNAME says that the name is only another name for something else, so it can have no data of its own: resolvers would see " +
		"now the alias, now the data. Keep one. At the zone's own name, where SOA and NS must stand, a CNAME is never possible.",
	Bad:  "www CNAME web\nwww TXT \"hello\"\nweb A 192.0.2.1\n",
	Good: "www CNAME web\nweb A 192.0.2.1\nweb TXT \"hello\"\n"},
	Name: func(p *lint.Pass, n *lint.Name) {
		if !n.HasAlias() {
			return
		}
		var alias, other lint.Set
		for set := range n.Sets {
			if set.Type == rr.TypeCNAME {
				alias = set
			} else if !besideAlias(set.Type) && other.N == 0 {
				other = set
			}
		}
		if other.N == 0 {
			return
		}
		d := p.Report(alias.Layout(0).Type, "%s is an alias and has other data (%s)", n.Owner(), other.Type).
			See(other.Layout(0).Type, "the %s record", other.Type).
			Suggest("keep either the CNAME or the other records")
		if n.IsApex() {
			d = d.Suggest("at the zone's own name write the addresses themselves")
		}
		p.Add(d)
	},
}

var severalAliases = &lint.Check{Rule: diag.Rule{
	Code: "several-aliases", Severity: diag.Error, Title: "a name has more than one CNAME", Ref: "RFC 2181 §10.1",
	Doc:  "An alias points to one name. To share load among several hosts, give one name several addresses.",
	Bad:  "www CNAME web1\nwww CNAME web2\nweb1 A 192.0.2.1\nweb2 A 192.0.2.2\n",
	Good: "www A 192.0.2.1\nwww A 192.0.2.2\n"},
	Types: []rr.Type{rr.TypeCNAME}, Set: func(p *lint.Pass, set lint.Set) {
		if set.N > 1 {
			p.Add(p.Report(set.Layout(set.N-1).Type, "%s has %d CNAME records", set.Name.Owner(), set.N).
				See(set.Layout(0).Type, "another").Suggest("keep one"))
		}
	},
}

var ttlMismatch = &lint.Check{Rule: diag.Rule{
	Code: "ttl-mismatch", Severity: diag.Error, Title: "records of one set have different TTLs", Ref: "RFC 2181 §5.2",
	Doc:  "The records of one name and type are cached together and have one TTL. Resolvers that get several do different things.",
	Bad:  "www 60 A 192.0.2.1\nwww 300 A 192.0.2.2\n",
	Good: "www 300 A 192.0.2.1\nwww 300 A 192.0.2.2\n"},
	Zone: func(p *lint.Pass) {
		for _, c := range p.Zone.Conflicts {
			if c.Duplicate {
				continue
			}
			at, other := zonefile.LayoutAt(p.Source, c.Pos), zonefile.LayoutAt(p.Source, c.Other)
			place := at.TTL
			if place.IsZero() {
				place = at.Type
			}
			p.Add(p.Report(place, "this %s record of %s has TTL %d, another has %d", c.Type, c.Owner, c.TTL, c.First).
				See(other.OwnerOrType(), "the other").Suggest("give both the same TTL"))
		}
	},
}

var duplicateRecord = &lint.Check{Rule: diag.Rule{
	Code: "duplicate-record", Severity: diag.Warning, Title: "a record is written twice", Ref: "RFC 2181 §5",
	Doc:  "Equal records count once. Perhaps one of the two was meant to be something else.",
	Bad:  "www A 192.0.2.1\nwww A 192.0.2.1\n",
	Good: "www A 192.0.2.1\nwww A 192.0.2.2\n"},
	Zone: func(p *lint.Pass) {
		for _, c := range p.Zone.Conflicts {
			if !c.Duplicate {
				continue
			}
			at := zonefile.LayoutAt(p.Source, c.Pos)
			d := p.Report(at.Type, "this %s record of %s is written twice", c.Type, c.Owner).
				See(zonefile.LayoutAt(p.Source, c.Other).Type, "the first").Suggest("remove one")
			p.Add(d)
		}
	},
}
