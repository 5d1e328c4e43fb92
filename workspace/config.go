// Package workspace reads a workspace folder: fencepost.toml into a checked,
// immutable Config, and secrets.toml, which nobody else may read.
package workspace

import (
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fencepost/cookie"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/keymanager"
	"fencepost/lint"
	"fencepost/resolve"
	"fencepost/tsig"
)

// Names of the files and folders of a workspace.
const (
	ConfigFile  = "fencepost.toml"
	SecretsFile = "secrets.toml"
	ZonesDir    = "zones"
	ExpectDir   = "expect"
	KeysDir     = "keys"
	StateDir    = "state"
	ZoneSuffix  = ".zone"
)

// DefaultListen is where a server listens when the configuration does not say:
// on this machine only.
var DefaultListen = []string{"127.0.0.1:5300", "[::1]:5300"}

// Styles of serials.
const (
	StyleDate  = "date"  // YYYYMMDDnn
	StyleCount = "count" // one more than before
	StyleClock = "clock" // seconds since 1970
)

// Config is a checked configuration. Do not change it.
type Config struct {
	Dir         string
	SerialStyle string
	Listen      []netip.AddrPort
	Control     string // path of the control socket
	Limits      Limits
	History     History
	Updates     Updates
	Allow       []Allow // what people may have the running server do
	Peers       map[string]*Peer
	Keys        map[string]*tsig.Key // the secrets, by name
	// SecretsHidden tells that whoever reads this may not read secrets.toml: there is no key, and nothing
	// is said of those that are named.
	SecretsHidden bool
	// SecretsTrouble says why some secrets that are named are not there, empty if they are: what needs
	// one is not done, and the rest is.
	SecretsTrouble string
	// CookieSecrets are those that servers share for cookies (RFC 9018 §5), the present one
	// first; none: each server makes its own. NSID is what a server calls itself (RFC 5001).
	CookieSecrets cookie.Secrets
	NSID          string
	// Chaos are the texts that a server has for names of class CH, by the name without final dot
	// (RFC 4892 §3).
	Chaos       map[string]string
	Policies    map[string]*keymanager.Policy
	Audiences   map[string]*Audience
	Groups      map[string]*Group // of members of catalogs
	Zones       []*Zone
	byName      map[string]*Zone // by the key of their name
	Checks      *lint.Settings
	AnchorFile  string                        // DS or DNSKEY records that are trusted; empty: none
	Roots       []netip.AddrPort              // servers of the zone that the anchors are of
	Reach       map[string]netip.AddrPort     // where name servers are reached, by the key of their name
	Redirect    map[netip.Addr]netip.AddrPort // where addresses are reached, if not there
	Closed      bool                          // no other address is reached but loopback
	IncludeFrom []string                      // folders, besides a zone file's own, that $INCLUDE may read from
}

// Zone is one zone of the workspace.
type Zone struct {
	Name      dnsname.Name
	Sign      *keymanager.Policy // nil: unsigned
	SendTo    []*Peer
	FetchFrom []*Peer // we are secondary
	// Kept tells that the zone is in the store alone, and changed by messages: its file begins it.
	Kept    bool
	Digest  Digest  // what is asked of the ZONEMD records of what is fetched
	WaitFor []*Peer // servers that have to be seen in step before a rollover goes on; nil: SendTo; empty: none
	Parent  []*Peer // servers of the parent zone
	// OtherSigners sign the zone too, each with keys of its own (RFC 8901).
	OtherSigners []*Peer
	Takes        Takes // what whoever runs the parent supports
	// FollowChildren tells to take over what children ask for by CDS and CSYNC.
	FollowChildren bool
	Audiences      []*Audience // askers with a file of their own
	Follows        []Follow    // names whose addresses follow those of others
	Group          string      // what it belongs to in catalogs; empty: nothing
	Catalog        *Catalog    // it lists other zones; nil: it is an ordinary one
}

// Digest says what a zone that is fetched must prove by ZONEMD records (RFC 8976 §4).
type Digest string

// The choices; the first is the default.
const (
	DigestNever   Digest = "never"
	DigestPresent Digest = "present" // one that is there must fit
	DigestAlways  Digest = "always"  // there must be one, and it must fit
)

// File is the path of the zone's master file, below dir.
func (c *Config) File(z dnsname.Name) string {
	return filepath.Join(c.Dir, ZonesDir, FileName(z))
}

// FileName is the name of a zone's file: its name in lower case without the
// final dot. Octets that are no letters, digits, hyphens, underscores or dots
// are written as in a master file, a slash as a percent sign and its code.
func FileName(z dnsname.Name) string {
	s := strings.TrimSuffix(z.Lower().String(), ".")
	if s == "" {
		s = "root"
	}
	return strings.ReplaceAll(s, "/", "%2f") + ZoneSuffix
}

// KeyDir is the folder of a zone's keys.
func (c *Config) KeyDir(z dnsname.Name) string {
	return filepath.Join(c.Dir, KeysDir, strings.TrimSuffix(FileName(z), ZoneSuffix))
}

// Store is the path of the file that keeps versions of zones.
func (c *Config) Store() string { return filepath.Join(c.Dir, StateDir, "versions.db") }

// Find is the zone with the given name, or nil.
func (c *Config) Find(name dnsname.Name) *Zone { return c.byName[name.Key()] }

// raw is fencepost.toml as it is written. The keys are the documented ones.
type raw struct {
	Serial struct {
		Style string `toml:"style"`
	} `toml:"serial"`
	Serve struct {
		Listen  []string `toml:"listen"`
		Control string   `toml:"control"`
		rawIdentity
	} `toml:"serve"`
	Updates rawUpdates `toml:"updates"`
	Grant   []rawGrant `toml:"grant"`
	Allow   []rawAllow `toml:"allow"`

	Follow  []rawFollow         `toml:"follow"`
	Catalog []rawCatalog        `toml:"catalog"`
	Group   map[string]rawGroup `toml:"group"`
	Limits  rawLimits           `toml:"limits"`
	History rawHistory          `toml:"history"`
	Peer    map[string]struct {
		Address string `toml:"address"`
		TSIG    string `toml:"tsig"`
		Also    string `toml:"tsig-also"`

		Audience string `toml:"audience"`
	} `toml:"peer"`
	Policy  map[string]rawPolicy `toml:"policy"`
	Check   rawCheck             `toml:"check"`
	Include struct {
		From []string `toml:"from"`
	} `toml:"include"`
	Reach map[string]string `toml:"address-override"`
	Trust struct {
		Anchors string   `toml:"anchors"`
		Servers []string `toml:"servers"`
	} `toml:"trust"`
	Audience map[string]struct {
		Networks []string `toml:"networks"`
	} `toml:"audience"`
	Zone []struct {
		Name      string   `toml:"name"`
		Sign      string   `toml:"sign"`
		SendTo    []string `toml:"send-to"`
		FetchFrom []string `toml:"fetch-from"`
		Digest    string   `toml:"check-digest"`
		Keep      string   `toml:"keep"`
		Group     string   `toml:"group"`
		Audiences []string `toml:"audiences"`
		WaitFor   []string `toml:"wait-for"`
		Parent    []string `toml:"parent"`
		Signers   []string `toml:"other-signers"`
		Takes     string   `toml:"parent-takes"`
		Follow    bool     `toml:"follow-children"`
	} `toml:"zone"`
}

func (p *checker) config(dir string, r *raw, held secrets) *Config {
	c := &Config{Dir: dir, byName: map[string]*Zone{}, SerialStyle: r.Serial.Style, Peers: map[string]*Peer{}, Keys: held.keys, SecretsHidden: held.hidden, CookieSecrets: held.cookies, Policies: map[string]*keymanager.Policy{}}
	switch c.SerialStyle {
	case "":
		c.SerialStyle = StyleDate
	case StyleDate, StyleCount, StyleClock:
	default:
		p.diags.Add(RuleBadValue.At(p.place("[serial]", 0, "style"), "%q is not a style of serials", c.SerialStyle).
			Suggest("write date (YYYYMMDDnn), count (one more) or clock (seconds since 1970)"))
	}
	listen := r.Serve.Listen
	if listen == nil {
		listen = DefaultListen
	}
	if len(listen) == 0 {
		p.diags.Add(RuleBadValue.At(p.place("[serve]", 0, "listen"), "there is no address to listen on").
			Suggest("list one, such as \"127.0.0.1:5300\", or leave the key out"))
	}
	for _, s := range listen {
		if a, ok := p.address(s, "[serve]", "listen"); ok {
			c.Listen = append(c.Listen, a)
		}
	}
	c.Control = r.Serve.Control
	if c.Control == "" {
		c.Control = controlSocket
	}
	if !filepath.IsAbs(c.Control) {
		c.Control = filepath.Join(dir, c.Control)
	}
	p.identity(c, &r.Serve.rawIdentity)
	p.limits(c, &r.Limits)
	p.history(c, &r.History)
	p.peers(c, r, held.keys)
	p.policies(c, r)
	p.audiences(c, r)
	p.reach(c, r)
	p.zones(c, r)
	p.catalogs(c, r)
	p.updates(c, r)
	p.allow(c, r)
	p.follows(c, r)
	c.Checks = p.settings(&r.Check)
	for _, from := range r.Include.From {
		if !filepath.IsAbs(from) {
			from = filepath.Join(dir, from)
		}
		if info, err := os.Stat(from); err != nil || !info.IsDir() {
			p.diags.Add(RuleBadValue.At(p.place("[include]", 0, "from"), "%s is not a folder", from))
		}
		abs, err := filepath.Abs(from)
		if err == nil {
			c.IncludeFrom = append(c.IncludeFrom, abs)
		}
	}
	return c
}

// DefaultPort is the port of DNS where none is given.
const DefaultPort = resolve.Port

// ParseAddress reads ADDRESS or ADDRESS:PORT.
func ParseAddress(s string) (netip.AddrPort, error) {
	if ap, err := netip.ParseAddrPort(s); err == nil {
		return ap, nil
	}
	a, err := netip.ParseAddr(strings.Trim(s, "[]"))
	if err != nil {
		return netip.AddrPort{}, fmt.Errorf("%q is not an address: write ADDRESS or ADDRESS:PORT, such as 192.0.2.1:53 or [2001:db8::1]:53", s)
	}
	return netip.AddrPortFrom(a, DefaultPort), nil
}

func (p *checker) address(s, header, key string) (netip.AddrPort, bool) {
	a, err := ParseAddress(s)
	if err != nil {
		p.diags.Add(RuleBadValue.At(p.place(header, 0, key), "%v", err))
	}
	return a, err == nil
}

// reach reads where name servers are reached other than the world reaches them.
func (p *checker) reach(c *Config, r *raw) {
	c.Reach, c.Redirect = map[string]netip.AddrPort{}, map[netip.Addr]netip.AddrPort{}
	if c.AnchorFile = r.Trust.Anchors; c.AnchorFile != "" && !filepath.IsAbs(c.AnchorFile) {
		c.AnchorFile = filepath.Join(c.Dir, c.AnchorFile)
	}
	for _, s := range r.Trust.Servers {
		if at, ok := p.address(s, "[trust]", "servers"); ok {
			c.Roots = append(c.Roots, at)
		}
	}
	if (c.AnchorFile == "") != (len(c.Roots) == 0) {
		p.diags.Add(RuleBadValue.At(p.place("[trust]", 0, "anchors"), "anchors and servers belong together").
			Suggest("name a file of DS records, and servers of the zone that they are of"))
	}
	for host, at := range r.Reach {
		if host == anyAddress {
			if c.Closed = at == unreachable; !c.Closed {
				p.diags.Add(RuleBadValue.At(p.place("[address-override]", 0, host), "all other addresses are %q", at).Suggest("write %q = %q, or leave it out", anyAddress, unreachable))
			}
			continue
		}
		if a, err := netip.ParseAddr(host); err == nil {
			if ap, ok := p.address(at, "[address-override]", host); ok {
				c.Redirect[a.Unmap()] = ap
			}
			continue
		}
		name, err := dnsname.Parse(host, dnsname.Root)
		if err != nil {
			p.diags.Add(RuleBadValue.At(p.place("[address-override]", 0, host), "%q is not a name: %v", host, err))
			continue
		}
		if ap, ok := p.address(at, "[address-override]", host); ok {
			c.Reach[name.Key()] = ap
		}
	}
}

// What [address-override] says of all addresses that it does not name.
const (
	anyAddress  = "*"
	unreachable = "unreachable"
)

func (p *checker) zones(c *Config, r *raw) {
	const header = "[[zone]]"
	for i, in := range r.Zone {
		name, err := dnsname.Parse(in.Name, dnsname.Root)
		if err != nil {
			p.diags.Add(RuleBadValue.At(p.place(header, i, "name"), "%q is not a zone name: %v", in.Name, err))
			continue
		}
		if c.Find(name) != nil {
			p.diags.Add(RuleBadValue.At(p.place(header, i, "name"), "the zone %s is listed twice", name))
			continue
		}
		z := &Zone{Name: name}
		if in.Sign != "" {
			if z.Sign = c.Policies[in.Sign]; z.Sign == nil {
				missing(p, header, i, "sign", "policy", in.Sign, c.Policies)
			}
		}
		z.Digest, z.Group = p.digest(header, i, in.Digest), in.Group
		if len(z.Group) > mostGroup {
			p.diags.Add(RuleBadValue.At(p.place(header, i, "group"), "the name of a group has at most %d octets", mostGroup))
		}
		z.SendTo = p.references(c, i, "send-to", in.SendTo)
		z.FetchFrom = p.references(c, i, "fetch-from", in.FetchFrom)
		if z.WaitFor = p.references(c, i, "wait-for", in.WaitFor); z.WaitFor == nil && in.WaitFor != nil {
			z.WaitFor = []*Peer{} // nobody is waited for
		}
		p.keep(i, z, in.Keep)
		z.Parent = p.references(c, i, "parent", in.Parent)
		z.OtherSigners = p.references(c, i, "other-signers", in.Signers)
		if len(z.OtherSigners) > 0 && z.Sign == nil {
			p.diags.Add(RuleBadValue.At(p.place(header, i, "other-signers"), "%s is not signed here, so it has no other signers", name.Plain()).Suggest("give it a policy with sign, or leave other-signers out"))
		}
		if z.Takes, err = ParseTakes(in.Takes); err != nil {
			p.diags.Add(RuleBadValue.At(p.place(header, i, "parent-takes"), "%v", err))
		}
		z.FollowChildren = in.Follow
		for _, a := range in.Audiences {
			if c.Audiences[a] == nil {
				missing(p, header, i, "audiences", "audience", a, c.Audiences)
				continue
			}
			z.Audiences = append(z.Audiences, c.Audiences[a])
		}
		p.peersOfAudiences(i, z)
		c.Zones = append(c.Zones, z)
		c.byName[name.Key()] = z
	}
}

func (p *checker) references(c *Config, zone int, key string, names []string) (out []*Peer) {
	return p.peersNamed(c, "[[zone]]", zone, key, names)
}

// missing reports a reference to a section that is not there.
const secretKind = "secret" // of what secrets.toml has

func missing[T any](p *checker, header string, n int, key, kind, name string, have map[string]T) {
	d := RuleMissingReference.At(p.place(header, n, key), "there is no %s %s", kind, name)
	if meant := diag.Closest(name, slices.Collect(maps.Keys(have))); meant != "" {
		d = d.Suggest("did you mean %s?", meant)
	} else {
		where := fmt.Sprintf("[%s.%s]", kind, name)
		if kind == secretKind {
			where = fmt.Sprintf("[tsig.%s] with a secret to %s", name, SecretsFile)
		}
		d = d.Suggest("add a section %s", where)
	}
	p.diags.Add(d)
}
