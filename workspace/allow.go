package workspace

import (
	"path"
	"slices"
	"strings"

	"fencepost/dnsname"
)

// Right is what a person may have the running server do.
type Right string

// The rights.
const (
	MayChange  Right = "change"  // records, by messages over the control socket; fold
	MaySign    Right = "sign"    // keys
	MayRoll    Right = "roll"    // rollovers
	MayReload  Right = "reload"  // also refresh and notify
	MayPublish Right = "publish" // what publish does at the server
)

var rights = []Right{MayChange, MaySign, MayRoll, MayReload, MayPublish}

// Allow says what some people may do. Whoever the server runs as, and root, may do everything.
type Allow struct {
	Users, Groups []string
	Zones         []string // patterns of names; empty: all
	May           []Right
}

type rawAllow struct {
	Users  []string `toml:"users"`
	Groups []string `toml:"groups"`
	Zones  []string `toml:"zones"`
	May    []string `toml:"may"`
}

func (p *checker) allow(c *Config, r *raw) {
	const header = "[[allow]]"
	for i, in := range r.Allow {
		a := Allow{Users: in.Users, Groups: in.Groups}
		if len(in.Users)+len(in.Groups) == 0 {
			p.diags.Add(RuleBadValue.At(p.place(header, i, "users"), "nobody is named").Suggest(`write users = ["NAME"] or groups = ["NAME"]`))
		}
		if len(in.May) == 0 {
			p.diags.Add(RuleBadValue.At(p.place(header, i, "may"), "nothing is allowed").Suggest(`write may = ["reload"]; there are: %s`, listed(rights)))
		}
		for _, word := range in.May {
			if !slices.Contains(rights, Right(word)) {
				p.diags.Add(RuleBadValue.At(p.place(header, i, "may"), "%q is nothing that can be allowed", word).Suggest("there are: %s", listed(rights)))
			}
			a.May = append(a.May, Right(word))
		}
		for _, pattern := range in.Zones {
			if _, err := path.Match(pattern, ""); err != nil {
				p.diags.Add(RuleBadValue.At(p.place(header, i, "zones"), "%q is not a pattern of names: * stands for anything", pattern))
				continue
			}
			plain := strings.TrimSuffix(strings.ToLower(pattern), ".")
			one := Allow{Zones: []string{plain}}
			if !slices.ContainsFunc(c.Zones, func(z *Zone) bool { return one.covers(z.Name) }) {
				p.diags.Add(RuleBadValue.At(p.place(header, i, "zones"), "no zone of this workspace is called %s", pattern))
			}
			a.Zones = append(a.Zones, plain)
		}
		c.Allow = append(c.Allow, a)
	}
}

func listed[T ~string](words []T) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = string(w)
	}
	return strings.Join(out, ", ")
}

// covers reports whether it is about a zone; the zero name stands for all zones together.
func (a *Allow) covers(zone dnsname.Name) bool {
	if len(a.Zones) == 0 {
		return true
	}
	return !zone.IsZero() && slices.ContainsFunc(a.Zones, func(pattern string) bool {
		fits, _ := path.Match(pattern, zone.Lower().Plain())
		return fits
	})
}

// names reports whether it is about somebody, by any of their names.
func (a *Allow) names(users, groups []string) bool {
	return slices.ContainsFunc(users, func(u string) bool { return slices.Contains(a.Users, u) }) || slices.ContainsFunc(groups, func(g string) bool { return slices.Contains(a.Groups, g) })
}

// Allows reports whether somebody, by any of their names, has one of some rights in a zone; without
// rights, whether they have any anywhere. The zero name stands for all zones together.
func (c *Config) Allows(users, groups []string, zone dnsname.Name, any ...Right) bool {
	return slices.ContainsFunc(c.Allow, func(a Allow) bool {
		if !a.names(users, groups) {
			return false
		}
		return len(any) == 0 || a.covers(zone) && slices.ContainsFunc(any, func(r Right) bool { return slices.Contains(a.May, r) })
	})
}
