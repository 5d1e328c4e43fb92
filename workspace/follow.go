package workspace

import (
	"net/netip"
	"slices"
	"time"

	"fencepost/dnsname"
)

// Follow is a name whose addresses are kept like those of another one, which is somewhere else.
type Follow struct {
	Owner, Source   dnsname.Name
	Resolvers       []netip.AddrPort
	Networks        []netip.Prefix // in which addresses may be; empty: anywhere
	TTL             uint32         // of the records, where there are none yet, in seconds
	AtLeast, AtMost time.Duration  // between two looks
}

// What counts of a Follow where nothing is said: a change is seen within five minutes.
const (
	defaultFollowTTL     = 300
	defaultFollowAtLeast = time.Minute
	defaultFollowAtMost  = 5 * time.Minute
)

type rawFollow struct {
	Zone      string   `toml:"zone"`
	Owner     string   `toml:"owner"`
	Source    string   `toml:"source"`
	Resolvers []string `toml:"resolvers"`
	Networks  []string `toml:"networks"`
	TTL       int64    `toml:"ttl"`
	AtLeast   string   `toml:"at-least"`
	AtMost    string   `toml:"at-most"`
}

func (p *checker) follows(c *Config, r *raw) {
	for i := range r.Follow {
		p.follow(c, i, &r.Follow[i])
	}
}

// follow reads the n-th one.
func (p *checker) follow(c *Config, n int, in *rawFollow) {
	const header = "[[follow]]"
	bad := func(key, suggest, format string, args ...any) {
		p.diags.Add(RuleBadValue.At(p.place(header, n, key), format, args...).Suggest("%s", suggest))
	}
	name, err := dnsname.Parse(in.Zone, dnsname.Root)
	z := c.Find(name)
	if err != nil || z == nil || len(z.FetchFrom) > 0 {
		bad("zone", "name a zone with a file here", "%q is not a zone of this workspace that is changed here", in.Zone)
		return
	}
	f := Follow{TTL: defaultFollowTTL, AtLeast: defaultFollowAtLeast, AtMost: defaultFollowAtMost}
	if f.Owner, err = dnsname.Parse(in.Owner, z.Name); err != nil || in.Owner == "" || !f.Owner.AtOrBelow(z.Name) {
		bad("owner", "@ is the zone itself", "%q is not a name in %s", in.Owner, z.Name.Plain())
	}
	if f.Source, err = dnsname.Parse(in.Source, dnsname.Root); err != nil || in.Source == "" {
		bad("source", "write the whole name of the host whose addresses count", "%q is not a name", in.Source)
	} else if f.Source.Equal(f.Owner) {
		bad("source", "write the name of a host that is somewhere else", "%s would follow itself", in.Source)
	}
	for _, text := range in.Resolvers {
		if at, ok := p.address(text, header, "resolvers"); ok {
			f.Resolvers = append(f.Resolvers, at)
		}
	}
	if len(in.Resolvers) == 0 {
		bad("resolvers", `list some: resolvers = ["192.0.2.53"]`, "no servers are given that could be asked for the addresses")
	}
	for _, text := range in.Networks {
		net, err := netip.ParsePrefix(text)
		if err != nil {
			bad("networks", "write ADDRESS/LENGTH, such as 192.0.2.0/24", "%q is not a network", text)
			continue
		}
		f.Networks = append(f.Networks, net.Masked())
	}
	const mostTTL = 1<<31 - 1 // RFC 2181 §8
	if in.TTL < 0 || in.TTL > mostTTL {
		bad("ttl", "write seconds", "%d is not a TTL", in.TTL)
	} else if in.TTL > 0 {
		f.TTL = uint32(in.TTL)
	}
	for key, to := range map[string]struct {
		text string
		at   *time.Duration
	}{"at-least": {in.AtLeast, &f.AtLeast}, "at-most": {in.AtMost, &f.AtMost}} {
		if to.text == "" {
			continue
		}
		d, err := ParseSpan(to.text)
		if err != nil || d < time.Second {
			bad(key, "write a time such as 1m", "%q is not a length of time of a second or more", to.text)
			continue
		}
		*to.at = d
	}
	if f.AtMost < f.AtLeast {
		bad("at-most", "make it at least as long", "at-most is shorter than at-least")
	}
	if slices.ContainsFunc(z.Follows, func(o Follow) bool { return o.Owner.Equal(f.Owner) }) {
		bad("owner", "leave one of the two out", "%s follows two names", f.Owner.Plain())
	}
	z.Follows = append(z.Follows, f)
}

// May reports whether an address is one that the name may have.
func (f *Follow) May(a netip.Addr) bool {
	return len(f.Networks) == 0 || slices.ContainsFunc(f.Networks, func(n netip.Prefix) bool { return n.Contains(a.Unmap()) })
}
