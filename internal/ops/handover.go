package ops

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"fencepost/childsync"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/edit"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zone"
)

// DelegationData is what the party that runs the parent zone must be told.
type DelegationData struct {
	Zone    dnsname.Name
	Servers []ServerData
	Keys    []KeyData
	// Notes say what to know before it is entered.
	Notes []string
	// NotYet tells that the DS must not be entered yet, Unsigning that it has to be
	// deleted.
	NotYet, Unsigning bool
}

// ServerData is one name server; the addresses are needed where it lies in the
// zone (glue).
type ServerData struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses,omitempty"`
}

// KeyData is one key as a DS record, in fields as registrars' forms have them.
type KeyData struct {
	KeyTag        uint16 `json:"key_tag"`
	Algorithm     uint8  `json:"algorithm"`
	AlgorithmName string `json:"algorithm_name"`
	DigestType    uint8  `json:"digest_type"`
	DigestName    string `json:"digest_name"`
	Digest        string `json:"digest"`
	Flags         uint16 `json:"flags"`
	PublicKey     string `json:"public_key"`

	key *dnssec.PublicKey
}

// Records is what goes into the parent zone, as records.
func (d *DelegationData) Records() (out []rr.Record) {
	add := func(owner dnsname.Name, t rr.Type, data []byte) {
		out = append(out, rr.Record{Name: owner, Type: t, Class: rr.ClassIN, TTL: parentTTL, Data: data})
	}
	for _, s := range d.Servers {
		n := dnsname.MustParse(s.Name)
		add(d.Zone, rr.TypeNS, []byte(n.Wire()))
	}
	for _, k := range d.Keys {
		digest, _ := hex.DecodeString(k.Digest)
		add(d.Zone, rr.TypeDS, append([]byte{byte(k.KeyTag >> 8), byte(k.KeyTag), k.Algorithm, k.DigestType}, digest...))
	}
	for _, s := range d.Servers {
		for _, text := range s.Addresses {
			t, data := edit.AddressData(netip.MustParseAddr(text))
			add(dnsname.MustParse(s.Name), t, data)
		}
	}
	return out
}

// Signals are the records that vouch for the zone's first keys below the names of
// its servers that lie elsewhere (RFC 9615 §3): for the zones of those.
func (d *DelegationData) Signals() (out []rr.Record, err error) {
	for _, s := range d.Servers {
		host := dnsname.MustParse(s.Name)
		if host.AtOrBelow(d.Zone) {
			continue
		}
		name, err := childsync.SignalName(d.Zone, host)
		if err != nil {
			return nil, fmt.Errorf("the signalling name below %s: %w", s.Name, err)
		}
		for _, r := range d.Records() {
			if r.Type == rr.TypeDS {
				out = append(out, rr.Record{Name: name, Type: rr.TypeCDS, Class: rr.ClassIN, TTL: parentTTL, Data: r.Data})
			}
		}
		seen := map[uint16]bool{}
		for _, k := range d.Keys {
			if !seen[k.KeyTag] {
				seen[k.KeyTag] = true
				out = append(out, rr.Record{Name: name, Type: rr.TypeCDNSKEY, Class: rr.ClassIN, TTL: parentTTL, Data: k.key.Data})
			}
		}
	}
	return out, nil
}

// parentTTL is the TTL in the records shown; the parent's operator chooses it.
const parentTTL = 3600

// HandoverOptions of Handover.
type HandoverOptions struct {
	Operand, Origin, Keys string
	// Takes is what the party that runs the parent supports, such as
	// "algorithms=8,13 digests=1,2"; empty: everything.
	Takes string
	// Digests are the DS digest types wanted; none: as the policy says, else SHA-256.
	Digests []uint8
}

// Handover works out what the parent must be told about a zone.
func (a *App) Handover(o HandoverOptions) (*DelegationData, error) {
	src, diags := &source.Set{}, &diag.List{}
	in, err := a.input(o.Operand, o.Origin, src, diags)
	if err != nil {
		return nil, err
	}
	if in.Zone == nil || in.Errors() > 0 {
		return nil, &edit.RejectedError{Source: src, Diags: diags}
	}
	z := in.Zone
	d := &DelegationData{Zone: z.Apex(), Servers: serversOf(z.Snapshot)}
	public, notes, err := a.publicKeys(z.Snapshot, o.Keys)
	if err != nil {
		return nil, err
	}
	d.Notes = notes.words
	d.NotYet, d.Unsigning = notes.notYet, notes.unsigning
	digests := o.Digests
	if pol := a.policyOf(z.Apex()); len(digests) == 0 && pol != nil {
		digests = pol.Signing.Digests
	}
	if len(digests) == 0 {
		digests = []uint8{dnssec.DigestSHA256}
	}
	takes, err := a.takesOf(z.Apex(), o.Takes)
	if err != nil {
		return nil, err
	}
	keys, digests, err := takes.choose(public, digests, len(o.Digests) > 0)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		for _, digest := range digests {
			ds := dnssec.DS(z.Apex(), k.Data, digest)
			d.Keys = append(d.Keys, KeyData{KeyTag: k.Tag, Algorithm: uint8(k.Algorithm), AlgorithmName: k.Algorithm.String(),
				DigestType: digest, DigestName: dnssec.DigestName(digest), Digest: strings.ToUpper(hex.EncodeToString(ds[4:])),
				Flags: k.Flags, PublicKey: rr.DataText(rr.TypeDNSKEY, k.Data), key: k})
		}
	}
	return d, nil
}

// serversOf are the name servers of a zone with the addresses that lie in it.
func serversOf(z *zone.Snapshot) (out []ServerData) {
	var apex zone.Node
	z.ApexNode(&apex)
	ns, _ := apex.Find(rr.TypeNS)
	for data := range ns.Data {
		name, _ := dnsname.FromWire(data)
		s := ServerData{Name: name.String()}
		var host zone.Node
		if name.AtOrBelow(z.Apex()) && z.GetName(name, &host) {
			for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
				set, _ := host.Find(t)
				for ip := range set.Data {
					s.Addresses = append(s.Addresses, rr.DataText(t, ip))
				}
			}
		}
		out = append(out, s)
	}
	return out
}

// takes is what a party supports.
type takes struct{ workspace.Takes }

// takesOf is what the party above a zone supports: as said by hand, else as the
// workspace says.
func (a *App) takesOf(zone dnsname.Name, byHand string) (t takes, err error) {
	if byHand != "" {
		if t.Takes, err = workspace.ParseTakes(byHand); err != nil {
			return t, edit.Usage("--party-takes: %v", err)
		}
		return t, nil
	}
	if c, err := a.Config(); err == nil {
		if z := c.Find(zone); z != nil {
			t.Takes = z.Takes
		}
	}
	return t, nil
}

// preferredDigests in the order in which they are offered (RFC 8624 §3.3).
var preferredDigests = []uint8{dnssec.DigestSHA256, dnssec.DigestSHA384}

// choose picks the keys and digests that the party supports. asked tells that the
// digests were asked for by hand.
func (t *takes) choose(keys []*dnssec.PublicKey, digests []uint8, asked bool) ([]*dnssec.PublicKey, []uint8, error) {
	for _, d := range digests {
		if l := dnssec.DigestLevel(d); l.Signing < dnssec.Allowed {
			return nil, nil, edit.Usage("no DS of digest type %d is made: %s; write 2 or 4", d, l.Reason)
		}
	}
	if len(t.Digests) > 0 && len(keys) > 0 {
		var common []uint8
		for _, d := range preferredDigests {
			if slices.Contains(t.Digests, d) && (!asked || slices.Contains(digests, d)) {
				common = append(common, d)
			}
		}
		if len(common) == 0 {
			return nil, nil, fmt.Errorf("there is no common ground: the party takes digest types %s; here 2 (SHA-256) and 4 (SHA-384) are made, for SHA-1 can be forged (RFC 9905). Ask the party to take type 2, which RFC 8624 §3.3 demands", numbers(t.Digests))
		}
		digests = common[:1]
	}
	if len(t.Algorithms) == 0 || len(keys) == 0 {
		return keys, digests, nil
	}
	var fit []*dnssec.PublicKey
	var have []uint8
	for _, k := range keys {
		have = append(have, uint8(k.Algorithm))
		if slices.Contains(t.Algorithms, uint8(k.Algorithm)) {
			fit = append(fit, k)
		}
	}
	if len(fit) > 0 {
		return fit, digests, nil
	}
	advice := "none of these is made here"
	for _, a := range []rr.AlgorithmNumber{rr.ECDSAP256SHA256, rr.ED25519, rr.RSASHA256, rr.ECDSAP384SHA384, rr.ED448, rr.RSASHA512} {
		if slices.Contains(t.Algorithms, uint8(a)) {
			advice = fmt.Sprintf("roll to one that it takes: write algorithm = %q in the policy, then reload", a)
			break
		}
	}
	return nil, nil, fmt.Errorf("there is no common ground: the party takes algorithms %s, the zone's keys are of %s; %s", numbers(t.Algorithms), numbers(have), advice)
}

func numbers(list []uint8) string {
	var words []string
	for _, n := range list {
		words = append(words, strconv.Itoa(int(n)))
	}
	return strings.Join(words, ", ")
}

// handoverNotes are what to know before anything is entered.
type handoverNotes struct {
	words             []string
	notYet, unsigning bool
}

// publicKeys finds the keys that the parent is to have a DS of: those that the
// zone's keys say, where they are kept; else the entry points in a signed file.
func (a *App) publicKeys(z *zone.Snapshot, dir string) (out []*dnssec.PublicKey, notes handoverNotes, err error) {
	var inZone []*dnssec.PublicKey
	var apex zone.Node
	z.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeDNSKEY)
	for data := range set.Data {
		if k, err := dnssec.ParseDNSKEY(data); err == nil && k.IsZoneKey() {
			inZone = append(inZone, k)
		}
	}
	if len(inZone) > 0 {
		return signer.EntryPoints(inZone), notes, nil
	}
	ring, err := a.ring(z.Apex(), dir)
	if err != nil {
		if dir == "" && !errors.Is(err, fs.ErrPermission) {
			return nil, notes, nil // a bare file, unsigned: nothing to say about keys
		}
		return nil, notes, err
	}
	var wanted, coming []*dnssec.PublicKey
	for _, e := range ring.Keys {
		switch {
		case e.DS:
			wanted = append(wanted, e.Public)
		case e.EntryPoint() && (e.SignKeys || e.State == roll.Generated):
			coming = append(coming, e.Public)
		}
	}
	r := ring.Roll.Roll
	if r != nil && r.Kind == roll.GoSecure && r.Step == 0 {
		t := a.timingOf(ring)
		rows := r.Timeline(a.Now(), &t)
		notes.notYet = true
		notes.words = append(notes.words, "do not enter the DS yet: the signed zone has to reach all servers and caches first, on "+
			rows[0].End.UTC().Format("2006-01-02 15:04 UTC")+" at the earliest; see: fencepost roll "+z.Apex().Plain())
	}
	if r != nil && r.Kind == roll.GoInsecure {
		notes.unsigning = true
		notes.words = append(notes.words, "the zone is on its way to being unsigned: have all DS deleted")
		return nil, notes, nil
	}
	if len(wanted) > 0 {
		return wanted, notes, nil
	}
	return coming, notes, nil
}
