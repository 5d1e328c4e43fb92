package workspace

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"fencepost/catalog"
	"fencepost/dnsname"
)

// Catalog is what makes a zone one that lists others (RFC 9432). It has no file: where it is not fetched
// it is made from the configuration.
type Catalog struct {
	Zones       []string // patterns of names of zones here that it lists
	MembersFrom []*Peer  // of one that is fetched: where the zones that it lists come from
	MayList     []string // of one that is fetched: patterns of names of zones that it may list, and no others; none: any that touch no zone of the configuration
}

// Group is how members of catalogs are served that belong to it.
type Group struct {
	SendTo []*Peer
	Digest Digest
}

type rawCatalog struct {
	Name        string   `toml:"name"`
	Zones       []string `toml:"zones"`
	SendTo      []string `toml:"send-to"`
	FetchFrom   []string `toml:"fetch-from"`
	MembersFrom []string `toml:"members-from"`
	MayList     []string `toml:"may-list"`
}

type rawGroup struct {
	SendTo []string `toml:"send-to"`
	Digest string   `toml:"check-digest"`
}

// mostGroup is the most octets of a group's name: one string of a TXT record.
const mostGroup = 255

const catalogHeader = "[[catalog]]"

func (p *checker) catalogs(c *Config, r *raw) {
	c.Groups = map[string]*Group{}
	for name, in := range r.Group {
		header := "[group." + name + "]"
		g := &Group{SendTo: p.peersNamed(c, header, 0, "send-to", in.SendTo)}
		g.Digest = p.digest(header, 0, in.Digest)
		c.Groups[name] = g
	}
	for i, in := range r.Catalog {
		p.catalog(c, i, in)
	}
}

// catalog reads the n-th one.
func (p *checker) catalog(c *Config, n int, in rawCatalog) {
	bad := func(key, suggest, format string, args ...any) {
		p.diags.Add(RuleBadValue.At(p.place(catalogHeader, n, key), format, args...).Suggest("%s", suggest))
	}
	name, err := dnsname.Parse(in.Name, dnsname.Root)
	if err != nil || in.Name == "" {
		bad("name", "write the name of a zone of yours, such as catalog.saltmarsh.example", "%q is not a zone name", in.Name)
		return
	}
	if c.Find(name) != nil {
		bad("name", "give it a name of its own", "the zone %s is listed twice", name.Plain())
		return
	}
	z := &Zone{Name: name, Digest: DigestNever, Catalog: &Catalog{}}
	z.SendTo = p.peersNamed(c, catalogHeader, n, "send-to", in.SendTo)
	z.FetchFrom = p.peersNamed(c, catalogHeader, n, "fetch-from", in.FetchFrom)
	if z.Catalog.MembersFrom = p.peersNamed(c, catalogHeader, n, "members-from", in.MembersFrom); in.MembersFrom == nil {
		z.Catalog.MembersFrom = z.FetchFrom
	}
	switch {
	case len(in.FetchFrom) == 0 && len(in.Zones) == 0:
		bad("zones", `list them: zones = ["*"] for all, or say where it is fetched from`, "the catalog %s lists nothing", name.Plain())
	case len(in.FetchFrom) > 0 && len(in.Zones) > 0:
		bad("zones", "leave out zones, or fetch-from", "the catalog %s is fetched, so what it lists is said there", name.Plain())
	}
	patterns := func(key string, list []string) (out []string) {
		for _, pattern := range list {
			if _, err := path.Match(pattern, ""); err != nil {
				bad(key, "* stands for anything", "%q is not a pattern of names", pattern)
				continue
			}
			if pattern != "." {
				pattern = strings.TrimSuffix(strings.ToLower(pattern), ".")
			}
			out = append(out, pattern)
		}
		return out
	}
	z.Catalog.Zones, z.Catalog.MayList = patterns("zones", in.Zones), patterns("may-list", in.MayList)
	c.Zones = append(c.Zones, z)
	c.byName[name.Key()] = z
}

// FitsPattern reports whether a zone's name fits a pattern in small letters, without a final dot; * stands
// for any octets, dots too. The root fits "." alone.
func FitsPattern(pattern string, zone dnsname.Name) bool {
	if zone == dnsname.Root {
		return pattern == "."
	}
	plain := func(s string) string { return strings.ReplaceAll(s, "/", "|") } // which is an octet like others in names
	fits, _ := path.Match(plain(pattern), plain(zone.Lower().Plain()))
	return fits
}

// Listed are the zones that a catalog of this workspace lists, in the order of the configuration.
func (c *Config) Listed(z *Zone) (out []catalog.Member) {
	for _, m := range c.Zones {
		lists := slices.ContainsFunc(z.Catalog.Zones, func(pattern string) bool { return FitsPattern(pattern, m.Name) })
		if m.Catalog != nil || !lists {
			continue
		}
		one := catalog.Member{Zone: m.Name}
		if m.Group != "" {
			one.Groups = []string{m.Group}
		}
		out = append(out, one)
	}
	return out
}

// IsCatalog says that a zone is a catalog, and so is not edited.
func IsCatalog(z *Zone) error {
	return fmt.Errorf("%[1]s is a catalog, made from fencepost.toml: change zones in its [[catalog]]; what it lists is shown by: fencepost dump %[1]s", z.Name.Plain())
}
