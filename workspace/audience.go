package workspace

import (
	"net/netip"
	"slices"
	"strings"

	"fencepost/dnsname"
)

// Audience is a group of askers, told by the networks they ask from, who are
// given answers of their own.
type Audience struct {
	Name     string
	Networks []netip.Prefix
}

// AudienceMark stands between zone and audience in the name of a file:
// ZONE@AUDIENCE.zone.
const AudienceMark = "@"

// AudienceFile is the path of the zone's master file for an audience.
func (c *Config) AudienceFile(z dnsname.Name, audience string) string {
	return strings.TrimSuffix(c.File(z), ZoneSuffix) + AudienceMark + audience + ZoneSuffix
}

// SplitAudience parts ZONE@AUDIENCE, the zone as askers of one audience see it.
func SplitAudience(s string) (zone, audience string) {
	i := strings.LastIndex(s, AudienceMark)
	if i <= 0 || s[i-1] == '\\' {
		return s, ""
	}
	return s[:i], s[i+1:]
}

// audiences reads the groups of askers.
func (p *checker) audiences(c *Config, r *raw) {
	c.Audiences = map[string]*Audience{}
	for name, in := range r.Audience {
		header := "[audience." + name + "]"
		a := &Audience{Name: name}
		if !plainWord(name) {
			p.diags.Add(RuleBadValue.At(p.place(header, 0, ""), "the audience's name %q is part of file names: letters, digits and hyphens", name))
		}
		for _, text := range in.Networks {
			net, err := netip.ParsePrefix(text)
			if err != nil {
				p.diags.Add(RuleBadValue.At(p.place(header, 0, "networks"), "%q is not a network", text).Suggest("write ADDRESS/LENGTH, such as 192.0.2.0/24"))
				continue
			}
			a.Networks = append(a.Networks, net.Masked())
		}
		if len(in.Networks) == 0 {
			p.diags.Add(RuleBadValue.At(p.place(header, 0, "networks"), "the audience %s has no networks", name).Suggest("list them: networks = [\"192.0.2.0/24\"]"))
		}
		c.Audiences[name] = a
	}
}

// peersOfAudiences looks whether the peers of the n-th zone and its audiences fit.
func (p *checker) peersOfAudiences(n int, z *Zone) {
	has := func(a string) bool {
		return a == "" || slices.ContainsFunc(z.Audiences, func(x *Audience) bool { return x.Name == a })
	}
	for key, peers := range map[string][]*Peer{"send-to": z.SendTo, "fetch-from": z.FetchFrom} {
		for _, peer := range peers {
			if !has(peer.Audience) {
				p.diags.Add(RuleBadValue.At(p.place("[[zone]]", n, key), "the peer %s is of the audience %s, for which %s has no version", peer.Name, peer.Audience, z.Name.Plain()).
					Suggest("add audiences = [%q], or name a peer without an audience", peer.Audience))
			}
		}
	}
	if len(z.FetchFrom) == 0 {
		return
	}
	for _, a := range append([]*Audience{{}}, z.Audiences...) {
		if len(OfAudience(z.FetchFrom, a.Name)) == 0 && (a.Name != "" || len(z.Audiences) > 0) {
			what := "for everyone"
			if a.Name != "" {
				what = "for the audience " + a.Name
			}
			p.diags.Add(RuleBadValue.At(p.place("[[zone]]", n, "fetch-from"), "the version %s of %s has no primaries (fetch-from)", what, z.Name.Plain()).
				Suggest("name a peer that is of it: audience in [peer.NAME], with a tsig of its own"))
		}
	}
}

// OfAudience are the peers that versions for an audience are exchanged with; empty: everyone's.
func OfAudience(peers []*Peer, audience string) (out []*Peer) {
	for _, p := range peers {
		if p.Audience == audience {
			out = append(out, p)
		}
	}
	return out
}

func plainWord(s string) bool {
	for _, ch := range s {
		if !(ch >= 'a' && ch <= 'z' || ch >= 'A' && ch <= 'Z' || ch >= '0' && ch <= '9' || ch == '-') {
			return false
		}
	}
	return s != ""
}
