package workspace

import (
	"maps"
	"slices"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/update"
)

// Updates is how requests to change zones are taken (RFC 2136).
type Updates struct {
	Limits update.Limits // of what the holders of keys may make of a zone
	Gather time.Duration // after one version, how long requests are gathered for the next
	Grants []Grant
	Keys   map[string]*tsig.Key // those that grants name, by the key of their name
}

// Grant is what the holder of a key may change, and in which versions of the zones.
type Grant struct {
	update.Grant
	Audience string // empty: in everyone's; AllAudiences: in all
}

// AllAudiences stands for all versions of a zone.
const AllAudiences = "all"

// DefaultUpdateLimits are those of what the holders of keys may make of a zone, where nothing is said.
var DefaultUpdateLimits = update.Limits{Set: 500, Name: 2000, Zone: 1000000}

// DefaultGather is how long requests are gathered where nothing is said: fifty versions a second are
// enough for everybody, and nobody waits for that long.
const DefaultGather = 20 * time.Millisecond

type rawUpdates struct {
	Gather string `toml:"gather"`
	Set    *int   `toml:"most-in-set"`
	Name   *int   `toml:"most-at-name"`
	Zone   *int   `toml:"most-in-zone"`
}

// rawGrant is what the holder of a key may change.
type rawGrant struct {
	Key        string   `toml:"key"`
	Zones      []string `toml:"zones"`
	Names      []string `toml:"names"`
	Below      []string `toml:"below"`
	OwnName    bool     `toml:"own-name"`
	Types      []string `toml:"types"`
	May        []string `toml:"may"`
	OwnAddress bool     `toml:"own-address"`
	Audience   string   `toml:"audience"`
}

const grantHeader = "[[grant]]"

func (p *checker) updates(c *Config, r *raw) {
	c.Updates = Updates{Gather: DefaultGather, Limits: DefaultUpdateLimits, Keys: map[string]*tsig.Key{}}
	if text := r.Updates.Gather; text != "" {
		const most = 10 * time.Second
		d, err := time.ParseDuration(text)
		if err != nil || d < 0 || d > most {
			p.diags.Add(RuleBadValue.At(p.place("[updates]", 0, "gather"), "%q is not a time from 0s to %s", text, most).Suggest("write a time such as 20ms"))
		}
		c.Updates.Gather = d
	}
	for _, l := range []struct {
		key string
		in  *int
		to  *int
	}{{"most-in-set", r.Updates.Set, &c.Updates.Limits.Set}, {"most-at-name", r.Updates.Name, &c.Updates.Limits.Name}, {"most-in-zone", r.Updates.Zone, &c.Updates.Limits.Zone}} {
		switch {
		case l.in == nil:
		case *l.in < 1:
			p.diags.Add(RuleBadValue.At(p.place("[updates]", 0, l.key), "%d is not a number of records", *l.in).Suggest("write one or more"))
		default:
			*l.to = *l.in
		}
	}
	for i := range r.Grant {
		p.grant(c, i, &r.Grant[i])
	}
}

// keep reads where the n-th zone is kept.
func (p *checker) keep(n int, z *Zone, text string) {
	const header = "[[zone]]"
	switch text {
	case "", "file":
	case "store":
		if z.Kept = true; len(z.FetchFrom) > 0 {
			p.diags.Add(RuleBadValue.At(p.place(header, n, "keep"), "%s is fetched from a primary, which keeps it", z.Name.Plain()))
		}
	default:
		p.diags.Add(RuleBadValue.At(p.place(header, n, "keep"), "keep = %q is not known", text).Suggest("write file or store"))
	}
}

// HasFile reports whether the zone is what its file says.
func (z *Zone) HasFile() bool { return len(z.FetchFrom) == 0 && !z.Kept && z.Catalog == nil }

// grant reads the n-th grant.
func (p *checker) grant(c *Config, n int, in *rawGrant) {
	bad := func(key, format string, args ...any) diag.Diagnostic {
		return RuleBadValue.At(p.place(grantHeader, n, key), format, args...)
	}
	key := c.Keys[in.Key]
	if key == nil && p.hidden {
		return
	}
	if key == nil {
		if in.Key == "" {
			p.diags.Add(bad("key", "a grant names no key").Suggest(`write key = "NAME", and the secret as [tsig.NAME] in %s`, SecretsFile))
		} else {
			failed := p.failed()
			if missing(p, grantHeader, n, "key", secretKind, in.Key, c.Keys); !failed {
				p.forgive(p.diags.All[len(p.diags.All)-1])
			}
		}
		return
	}
	g := Grant{Grant: update.Grant{Key: key.Name, OwnAddress: in.OwnAddress}, Audience: in.Audience}
	if in.Audience != "" && in.Audience != AllAudiences && c.Audiences[in.Audience] == nil {
		missing(p, grantHeader, n, "audience", "audience", in.Audience, c.Audiences)
	}
	if len(in.Zones) == 0 {
		p.diags.Add(bad("zones", "a grant names no zones").Suggest(`write zones = ["NAME"]`))
	}
	for _, text := range in.Zones {
		name, err := dnsname.Parse(text, dnsname.Root)
		z := c.Find(name)
		switch {
		case err != nil:
			p.diags.Add(bad("zones", "%q is not a zone name: %v", text, err))
		case z == nil:
			d := bad("zones", "%s is not a zone of this workspace", text)
			if meant := diag.Closest(text, c.zoneNames()); meant != "" {
				d = d.Suggest("did you mean %s?", meant)
			}
			p.diags.Add(d)
		case len(z.FetchFrom) > 0:
			p.diags.Add(bad("zones", "%s is fetched from a primary: it is changed there", text))
		default:
			g.Zones = append(g.Zones, z.Name)
		}
	}
	g.Names = append(p.places(n, "names", in.Names, g.Zones, false), p.places(n, "below", in.Below, g.Zones, true)...)
	if in.OwnName {
		g.Names = append(g.Names, update.Place{Name: key.Name})
	}
	g.Types = p.grantedTypes(n, in.Types)
	g.Add, g.Remove = len(in.May) == 0, len(in.May) == 0
	may := map[string]*bool{"add": &g.Add, "remove": &g.Remove}
	for _, word := range in.May {
		if may[word] == nil {
			p.diags.Add(bad("may", "%q is nothing that can be granted", word).Suggest("write add, remove or both"))
			continue
		}
		*may[word] = true
	}
	c.Updates.Grants = append(c.Updates.Grants, g)
	c.Updates.Keys[key.Name.Key()] = key
}

// places reads names: those that end in one of the zones as they are, others in each of the zones.
func (p *checker) places(n int, key string, texts []string, zones []dnsname.Name, below bool) (out []update.Place) {
	for _, text := range texts {
		whole, err := dnsname.Parse(text, dnsname.Root)
		if err == nil && slices.ContainsFunc(zones, whole.AtOrBelow) {
			out = append(out, update.Place{Name: whole, Below: below})
			continue
		}
		for _, z := range zones {
			name, err := dnsname.Parse(text, z)
			if err != nil || !name.AtOrBelow(z) {
				p.diags.Add(RuleBadValue.At(p.place(grantHeader, n, key), "%q is not a name in %s", text, z.Plain()).Suggest("write it without the zone's name, or whole; @ is the zone itself"))
				continue
			}
			out = append(out, update.Place{Name: name, Below: below})
		}
	}
	return out
}

// grantedTypes reads types of records; empty: any.
func (p *checker) grantedTypes(n int, texts []string) (out []rr.Type) {
	for _, text := range texts {
		t, ok := rr.ParseType(text)
		if info := rr.Lookup(t); !ok || info != nil && info.Use != rr.Data {
			d := RuleBadValue.At(p.place(grantHeader, n, "types"), "%q is not a record type of a zone", text)
			if meant := diag.Closest(text, rr.Mnemonics()); meant != "" && !ok {
				d = d.Suggest("did you mean %s?", meant)
			}
			p.diags.Add(d)
			continue
		}
		out = append(out, t)
	}
	return out
}

// For are the updates of one zone, in its version for an audience; nil where nobody may change it.
func (u *Updates) For(zone dnsname.Name, audience string) (update.Grants, []*tsig.Key) {
	var mine update.Grants
	keys := map[string]*tsig.Key{}
	for _, g := range u.Grants {
		if (g.Audience == audience || g.Audience == AllAudiences) && slices.ContainsFunc(g.Zones, zone.Equal) {
			mine = append(mine, g.Grant)
			keys[g.Key.Key()] = u.Keys[g.Key.Key()]
		}
	}
	return mine, slices.Collect(maps.Values(keys))
}

func (c *Config) zoneNames() (out []string) {
	for _, z := range c.Zones {
		out = append(out, z.Name.Plain())
	}
	return out
}
