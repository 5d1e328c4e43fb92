package sim

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// content is what can differ of a zone between servers and times.
type content struct {
	zone   *Zone
	faults []*Fault // of its content, and of delegations in it, in the order of the world
	epoch  int64    // which signatures; see signedFor
	// generation is that of the registry's entries; 0 where it is none.
	generation int
}

// signedFor is how long signatures are used before the zone is signed anew.
const signedFor = 7 * 24 * time.Hour

// key tells contents apart.
func (c *content) key() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %d", c.zone.Name.Key(), c.epoch)
	for _, f := range c.faults {
		fmt.Fprintf(&b, " %p", f)
	}
	return b.String()
}

// has is the first of the faults of a kind about a zone, or nil.
func (c *content) has(k Kind, of dnsname.Name) *Fault {
	for _, f := range c.faults {
		if f.Kind == k && (f.Zone.IsZero() || f.Zone.Equal(of)) {
			return f
		}
	}
	return nil
}

// make is the zone as it is with the faults.
func (n *Internet) make(c *content) (*zone.Snapshot, error) {
	z := c.zone
	plain, err := n.parse(z, n.text(c, nil))
	if err != nil || !z.Signed || c.has(NoSignatures, z.Name) != nil {
		if f := c.first(z.Name, Differs, Lies); err == nil && f != nil {
			return n.parse(z, n.text(c, f))
		}
		return plain, err
	}
	if f := c.has(Differs, z.Name); f != nil {
		if plain, err = n.parse(z, n.text(c, f)); err != nil {
			return nil, err
		}
	}
	at := n.began.Add(time.Duration(c.epoch) * signedFor)
	policy := signer.Policy{Workers: 1, Validity: 4 * signedFor, Denial: signer.Denial{NSEC3: z.NSEC3 != (c.has(OtherDenial, z.Name) != nil)}}
	if c.has(ExpiredSignatures, z.Name) != nil {
		at = at.Add(-policy.Validity - signedFor)
	}
	if c.has(EndingSignatures, z.Name) != nil {
		at = at.Add(-policy.Validity + 2*24*time.Hour)
	}
	keys := []signer.Key{signer.Use(n.keyOf(z, present), signer.Single)}
	if z.Rolling {
		was := signer.Use(n.keyOf(z, former), signer.KSK)
		was.DS = false
		keys = append(keys, was)
		policy.CDS, policy.Digests = signer.WantDS, []uint8{dnssec.DigestSHA256}
	}
	signed, _, err := signer.Sign(context.Background(), plain, keys, policy, at)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", z.Name.Plain(), err)
	}
	if c.has(WrongSignatures, z.Name) != nil {
		return spoil(signed)
	}
	if f := c.has(Lies, z.Name); f != nil {
		return n.lie(z, signed, f)
	}
	return signed, nil
}

func (c *content) first(of dnsname.Name, kinds ...Kind) *Fault {
	for _, k := range kinds {
		if f := c.has(k, of); f != nil {
			return f
		}
	}
	return nil
}

// spoil breaks every signature but those over the keys.
func spoil(z *zone.Snapshot) (*zone.Snapshot, error) {
	d := zone.NewDelta(z.Apex())
	for node := range z.AllNodes {
		owner := z.AppendOwner(nil, node)
		for set := range node.RRsets {
			if set.Type != rr.TypeRRSIG || set.Covered() == rr.TypeDNSKEY {
				continue
			}
			for data := range set.Data {
				wrong := slices.Clone(data)
				wrong[len(wrong)-1] ^= 1
				if err := errors.Join(d.Remove(owner, set.Type, set.TTL, data), d.Add(owner, set.Type, set.TTL, wrong)); err != nil {
					return nil, err
				}
			}
		}
	}
	return z.With(d.Delta(z.Serial(), z.Serial()))
}

// lie puts records in the place of others and leaves the signatures.
func (n *Internet) lie(z *Zone, signed *zone.Snapshot, f *Fault) (*zone.Snapshot, error) {
	untrue, err := n.parse(z, head+"@ SOA . . 1 1 1 1 1\n"+f.Records)
	if err != nil {
		return nil, err
	}
	var out []zone.Content
	for node := range untrue.Nodes {
		if node.IsApex() {
			continue
		}
		c := zone.Content{Owner: untrue.Owner(node)}
		var was zone.Node
		signed.GetName(c.Owner, &was)
		for set := range was.RRsets {
			if _, replaced := node.Find(set.Type); replaced {
				continue
			}
			for data := range set.Data {
				c.Records = append(c.Records, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
			}
		}
		for set := range node.RRsets {
			for data := range set.Data {
				c.Records = append(c.Records, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
			}
		}
		out = append(out, c)
	}
	return signed.Replace(out)
}

// parse reads the text of a zone; whatever is wrong with the syntax is an error.
func (n *Internet) parse(z *Zone, text string) (*zone.Snapshot, error) {
	var src source.Set
	var diags diag.List
	f, err := src.Add(z.Name.Plain(), []byte(text))
	if err != nil {
		return nil, err
	}
	loaded := zonefile.Load(f, zonefile.Options{Origin: z.Name}, &diags)
	for _, d := range diags.All {
		if d.Severity == diag.Error {
			return nil, fmt.Errorf("%w: the records of %s, line %d: %s", ErrWorld, z.Name.Plain(), src.Position(d.Span.Start).Line-strings.Count(head, "\n"), d.Message)
		}
	}
	if loaded == nil {
		return nil, errors.New("a zone without a name")
	}
	return loaded.Snapshot, nil
}

// head begins the text of each zone.
const head = "$TTL 3600\n"

// text is the master file of a zone. instead, if it is there, has lines in the place of those
// of the same names and types.
func (n *Internet) text(c *content, instead *Fault) string {
	z := c.zone
	var b strings.Builder
	b.WriteString(head)
	records := z.Records
	if instead != nil {
		records = replaced(records, instead.Records)
	}
	if c.has(Stale, z.Name) != nil {
		records = ""
	}
	b.WriteString(records + "\n$ORIGIN " + z.Name.String() + "\n")
	if !strings.Contains(records, " SOA ") {
		serial := max(z.Serial, 1) + uint32(c.generation)
		if c.has(Stale, z.Name) != nil {
			serial--
		}
		fmt.Fprintf(&b, "@ SOA %s hostmaster %d 7200 900 1209600 300\n", z.Servers[0], serial)
	}
	own := z.OwnNS
	if len(own) == 0 {
		own = z.Servers
	}
	for _, s := range own {
		fmt.Fprintf(&b, "@ NS %s\n", s)
	}
	for _, s := range n.world.Servers {
		if home := n.zoneOf(s.Name); home != nil && home.Name.Equal(z.Name) {
			writeAddrs(&b, s.Name, s.Addrs)
		}
	}
	for i := range n.world.Zones {
		if child := &n.world.Zones[i]; !child.Name.Equal(z.Name) && n.parentOf(child) == z {
			n.delegate(&b, c, child)
		}
	}
	n.undeclared(&b, z)
	return b.String()
}

// undeclared writes the delegations that a registry has entered of zones that the world does
// not have.
func (n *Internet) undeclared(b *strings.Builder, z *Zone) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, k := range slices.Sorted(maps.Keys(n.entered)) {
		child, err := dnsname.FromWire([]byte(k))
		if err == nil && n.zones[k] == nil && n.zoneOf(child.Parent()) == z {
			n.write(b, z, n.entered[k])
		}
	}
}

// write writes what a registry has entered, but for addresses that the zone has already.
func (n *Internet) write(b *strings.Builder, z *Zone, records []rr.Record) {
	for _, r := range records {
		if r.Type == rr.TypeA || r.Type == rr.TypeAAAA {
			if home := n.zoneOf(r.Name); !r.Name.AtOrBelow(z.Name) || home == z && len(n.addrsOf(r.Name)) > 0 {
				continue
			}
		}
		fmt.Fprintf(b, "%s %d %s %s\n", r.Name, r.TTL, r.Type, rr.DataText(r.Type, r.Data))
	}
}

// replaced is lines without those of the owners and types that others have, and the others.
func replaced(lines, others string) string {
	what := func(line string) string {
		fields := strings.Fields(line)
		if len(fields) > 2 && fields[1][0] >= '0' && fields[1][0] <= '9' { // a TTL
			fields = append(fields[:1:1], fields[2:]...)
		}
		if len(fields) < 2 {
			return ""
		}
		return fields[0] + " " + fields[1]
	}
	gone := map[string]bool{}
	for _, l := range strings.Split(others, "\n") {
		gone[what(l)] = true
	}
	var out []string
	for _, l := range strings.Split(lines, "\n") {
		if w := what(l); w == "" || !gone[w] {
			out = append(out, l)
		}
	}
	return strings.Join(append(out, others), "\n")
}

func writeAddrs(b *strings.Builder, host dnsname.Name, addrs []netip.Addr) {
	for _, a := range addrs {
		t := "AAAA"
		if a.Is4() {
			t = "A"
		}
		fmt.Fprintf(b, "%s %s %s\n", host, t, a)
	}
}

// delegate writes what a zone says of one below it.
func (n *Internet) delegate(b *strings.Builder, c *content, child *Zone) {
	if c.has(NoDelegation, child.Name) != nil {
		return
	}
	n.mu.Lock()
	entered, told := n.entered[child.Name.Key()]
	n.mu.Unlock()
	if told {
		n.write(b, c.zone, entered)
		return
	}
	servers := child.Servers
	if f := c.has(WrongNS, child.Name); f != nil {
		servers = f.NS
	}
	for _, s := range servers {
		fmt.Fprintf(b, "%s NS %s\n", child.Name, s)
		home := n.zoneOf(s)
		here := home != nil && home.Name.Equal(c.zone.Name) // then its address is there already
		if !s.AtOrBelow(c.zone.Name) || here || c.has(NoGlue, child.Name) != nil {
			continue
		}
		addrs := n.addrsOf(s)
		if f := c.has(WrongGlue, child.Name); f != nil && f.Host.Equal(s) {
			addrs = f.Glue
		}
		writeAddrs(b, s, addrs)
	}
	if !child.Signed || c.has(NoDS, child.Name) != nil {
		return
	}
	which := present
	if child.Rolling || c.has(OldDS, child.Name) != nil {
		which = former
	}
	ds := dnssec.DS(child.Name, n.keyOf(child, which).Data, dnssec.DigestSHA256)
	if c.has(DSAlone, child.Name) != nil {
		const unknown = 100 // unassigned in the registry of algorithms
		ds[2] = unknown
	}
	fmt.Fprintf(b, "%s DS %s\n", child.Name, rr.DataText(rr.TypeDS, ds))
}

// parentOf is the zone above one, itself for the root.
func (n *Internet) parentOf(z *Zone) *Zone {
	if z.Name == dnsname.Root {
		return z
	}
	return n.zoneOf(z.Name.Parent())
}

// zoneOf is the zone that a name lies in.
func (n *Internet) zoneOf(name dnsname.Name) *Zone {
	for {
		if z := n.zones[name.Key()]; z != nil {
			return z
		}
		if name == dnsname.Root {
			return nil
		}
		name = name.Parent()
	}
}

func (n *Internet) addrsOf(host dnsname.Name) []netip.Addr {
	for i := range n.world.Servers {
		if s := &n.world.Servers[i]; s.Name.Equal(host) {
			return s.Addrs
		}
	}
	return nil
}

// generation says which of a zone's keys.
type generation string

const (
	present generation = "present"
	former  generation = "former"
)

// keyOf is a key of a zone, which follows from the seed of the world.
func (n *Internet) keyOf(z *Zone, which generation) *dnssec.Key {
	id := z.Name.Key() + " " + string(which)
	n.mu.Lock()
	defer n.mu.Unlock()
	if k := n.keys[id]; k != nil {
		return k
	}
	seed := sha256.Sum256([]byte(n.world.Seed + " " + id))
	var key *dnssec.Key
	var err error
	if z.Algorithm == ed25519Number {
		key, err = dnssec.NewKey(ed25519.NewKeyFromSeed(seed[:]), z.Algorithm, dnssec.FlagZone|dnssec.FlagSEP)
	} else {
		seed[0] = 0 // less than the order of the curve
		private, perr := ecdsa.ParseRawPrivateKey(elliptic.P256(), seed[:])
		if perr != nil {
			panic(perr) // only a seed of zeros would do that
		}
		key, err = dnssec.NewKey(private, ecdsaNumber, dnssec.FlagZone|dnssec.FlagSEP)
	}
	if err != nil {
		panic(err) // both algorithms are known
	}
	n.keys[id] = key
	return key
}

// Algorithm numbers (RFC 6605, RFC 8080).
const (
	ecdsaNumber   = 13
	ed25519Number = 15
)
