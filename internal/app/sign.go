package app

import (
	"bufio"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// ring opens the keys of a zone: in the folder given, or in the workspace.
func (a *App) ring(zoneName dnsname.Name, dir string) (*keyring.Ring, error) {
	if dir == "" {
		c, err := a.Config()
		if err != nil {
			return nil, fmt.Errorf("%w; outside a workspace say --keys DIR", err)
		}
		dir = c.KeyDir(zoneName)
	}
	return keyring.Open(dir, zoneName)
}

// KeyOptions of NewKey and Keys.
type KeyOptions struct {
	Zone      string
	Dir       string // --keys
	Algorithm string
	Role      string
}

// NewKey makes a key.
func (a *App) NewKey(o KeyOptions) (*keyring.Entry, string, error) {
	name, err := dnsname.Parse(o.Zone, dnsname.Root)
	if err != nil {
		return nil, "", usage("the zone %q: %v", o.Zone, err)
	}
	alg, ok := rr.ParseAlgorithm(o.Algorithm)
	if !ok {
		return nil, "", usage("--algorithm %s is no DNSSEC algorithm; write ECDSAP256SHA256", o.Algorithm)
	}
	if alg != rr.ECDSAP256SHA256 {
		return nil, "", usage("keys of algorithm %s are not made here; use ECDSAP256SHA256", alg)
	}
	role, err := keyring.ParseRole(o.Role)
	if err != nil {
		return nil, "", usage("--role: %v", err)
	}
	ring, err := a.ring(name, o.Dir)
	if err != nil {
		return nil, "", err
	}
	e, err := ring.Generate(alg, role, a.Now())
	return e, ring.Dir, err
}

// Keys lists the keys of a zone.
func (a *App) Keys(o KeyOptions) (*keyring.Ring, error) {
	name, err := dnsname.Parse(o.Zone, dnsname.Root)
	if err != nil {
		return nil, usage("the zone %q: %v", o.Zone, err)
	}
	return a.ring(name, o.Dir)
}

// SignOptions of Sign.
type SignOptions struct {
	Operand string // file or zone
	Origin  string
	Keys    string // folder; empty: the workspace's
	Out     string // "-" is standard output, "" NAME.signed in the present folder
	Stdout  io.Writer
	// Progress is told of names done out of all.
	Progress func(done, all int)
}

// Signed is the result of Sign.
type Signed struct {
	Zone   dnsname.Name
	Serial uint32
	Out    string
	signer.Report
	Keys    int
	Elapsed time.Duration
	Input   *Checked
}

// zoneFileOf is zoneFile where --origin may name the zone that the file holds.
func (a *App) zoneFileOf(operand, origin string) (path string, name dnsname.Name, err error) {
	if path, name, err = a.zoneFile(operand); err == nil && origin != "" {
		name, err = givenOrigin(origin)
	}
	return path, name, err
}

// input loads the zone that an operand means for signing or proving.
func (a *App) input(operand, origin string, src *source.Set, diags *diag.List) (*zoneInput, error) {
	path, name, err := a.zoneFileOf(operand, origin)
	if err != nil {
		return nil, err
	}
	settings := a.settings()
	in, err := a.loadZone(src, diags, path, name, dnsname.Name{}, settings)
	if err == nil {
		*diags = *settings.Settle(diags, src.Files(), false)
	}
	return in, err
}

// Sign signs a zone file. A file with errors is not signed.
func (a *App) Sign(ctx context.Context, o SignOptions) (*Signed, error) {
	start := time.Now()
	in := &Checked{Source: &source.Set{}, Diags: &diag.List{}}
	zi, err := a.input(o.Operand, o.Origin, in.Source, in.Diags)
	if err != nil {
		return nil, err
	}
	if sameFile(zi.path, o.Out) {
		return nil, usage("-o %s is the zone file itself: the signed zone goes to another file, so that yours stays as it is", o.Out)
	}
	in.Diags.Sort()
	if zi.errors() > 0 {
		return &Signed{Input: in}, fmt.Errorf("nothing was signed: %w", ErrFindings)
	}
	ring, err := a.ring(zi.zone.Apex(), o.Keys)
	if err != nil {
		return nil, err
	}
	plain := strings.TrimSuffix(zi.zone.Apex().String(), ".")
	if len(ring.Keys) == 0 {
		return nil, fmt.Errorf("%w of %s in %s; make one with: fencepost key new %s%s", errNoKeys, plain, Shown(ring.Dir), plain, keysFlag(o.Keys))
	}
	p := signer.Policy{Done: progress(o.Progress, zi.zone.Names())}
	snap, report, err := signer.Sign(ctx, zi.zone.Snapshot, ring.Signers(), p, a.Now())
	if err != nil {
		return nil, err
	}
	out := o.Out
	if out == "" {
		out = plain + ".signed"
	}
	if err := writeZone(out, o.Stdout, snap); err != nil {
		return nil, err
	}
	return &Signed{Zone: snap.Apex(), Serial: snap.Serial(), Out: out, Report: report, Keys: len(ring.Keys), Elapsed: time.Since(start), Input: in}, nil
}

// sameFile tells whether two paths lead to one file.
func sameFile(a, b string) bool {
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	return errX == nil && errY == nil && os.SameFile(x, y)
}

func keysFlag(dir string) string {
	if dir == "" {
		return ""
	}
	return " --keys " + dir
}

// progress turns counts of names done into a running total. It may be called
// from several goroutines.
func progress(f func(done, all int), all int) func(int) {
	if f == nil {
		return nil
	}
	var total counter
	return func(n int) { f(total.add(n), all) }
}

// writeZone writes a zone as a master file, all or nothing.
func writeZone(path string, stdout io.Writer, z *zone.Snapshot) error {
	if path == "-" {
		w := bufio.NewWriterSize(stdout, 1<<20)
		if err := zonefile.Write(w, z); err != nil {
			return err
		}
		return w.Flush()
	}
	t, err := renameio.NewPendingFile(path, renameio.WithPermissions(0o644))
	if err != nil {
		return err
	}
	defer t.Cleanup() //nolint:errcheck // after CloseAtomicallyReplace there is nothing to clean
	w := bufio.NewWriterSize(t, 1<<20)
	if err := zonefile.Write(w, z); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return t.CloseAtomicallyReplace()
}

// VerifyOptions of Verify.
type VerifyOptions struct {
	Operand  string
	Origin   string
	Anchor   string // file with DS or DNSKEY records
	Progress func(done, all int)
}

// Verified is the result of Verify.
type Verified struct {
	Zone   dnsname.Name
	Serial uint32
	*signer.Proof
	Anchors int
	Source  *source.Set
	Diags   *diag.List
	Elapsed time.Duration
}

// Verify proves a signed zone file.
func (a *App) Verify(ctx context.Context, o VerifyOptions) (*Verified, error) {
	start := time.Now()
	res := &Verified{Source: &source.Set{}, Diags: &diag.List{}}
	path, name, err := a.zoneFileOf(o.Operand, o.Origin)
	if err != nil {
		return nil, err
	}
	f, err := readFile(res.Source, path)
	if err != nil {
		return nil, err
	}
	z := zonefile.Load(f, zonefile.Options{Origin: name, Open: a.includes(res.Source, path)}, res.Diags)
	if z == nil || res.Diags.Count(diag.Error) > 0 {
		return res, fmt.Errorf("%s cannot be read as a zone: %w", Shown(path), ErrFindings)
	}
	var anchors []rr.Record
	if o.Anchor != "" {
		if anchors, err = a.anchors(o.Anchor, res); err != nil {
			return nil, err
		}
	}
	res.Anchors = len(anchors)
	res.Proof, err = signer.Verify(ctx, z.Snapshot, a.Now(), signer.VerifyOptions{Anchors: anchors, Done: progress(o.Progress, z.Names())})
	if err != nil {
		return nil, err
	}
	res.Zone, res.Serial, res.Elapsed = z.Apex(), z.Serial(), time.Since(start)
	res.place(z)
	if res.Total > 0 {
		return res, ErrFindings
	}
	return res, nil
}

// place turns findings into diagnostics with the places of their records.
func (v *Verified) place(z *zonefile.Loaded) {
	places := map[string]source.Pos{}
	want := map[string]bool{}
	for _, f := range v.Findings {
		want[f.Owner.Key()] = true
	}
	at := 0
	for n := range z.Nodes {
		owner := z.Owner(n).Key()
		for set := range n.RRsets {
			if k := owner + set.Type.String(); want[owner] {
				places[k] = z.Positions[at]
				if _, ok := places[owner]; !ok {
					places[owner] = z.Positions[at]
				}
			}
			at += set.N
		}
	}
	for _, f := range v.Findings {
		pos, ok := places[f.Owner.Key()+f.Type.String()]
		if !ok {
			pos = places[f.Owner.Key()]
		}
		span := zonefile.LayoutAt(v.Source, pos).OwnerOrType()
		v.Diags.Add(f.Rule.At(span, "%s", f.Message))
	}
	v.Diags.Sort()
}

// anchors reads DS and DNSKEY records from a file.
func (a *App) anchors(path string, res *Verified) ([]rr.Record, error) {
	f, err := readFile(res.Source, path)
	if err != nil {
		return nil, err
	}
	var diags diag.List
	parsed := zonefile.Parse(f, zonefile.Options{}, &diags)
	var out []rr.Record
	for _, e := range parsed.Entries {
		if e.Kind == zonefile.Record && (e.Type == rr.TypeDS || e.Type == rr.TypeDNSKEY) {
			name, _ := dnsname.FromWire(e.Owner)
			out = append(out, rr.Record{Name: name, Type: e.Type, Class: rr.ClassIN, TTL: e.TTL, Data: e.Data})
		}
	}
	if len(out) == 0 {
		return nil, usage("%s holds no DS or DNSKEY record", Shown(path))
	}
	return out, nil
}

// DelegationData is what the party that runs the parent zone must be told.
type DelegationData struct {
	Zone    dnsname.Name
	Servers []ServerData
	Keys    []KeyData
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
			t, data := addressData(netip.MustParseAddr(text))
			add(dnsname.MustParse(s.Name), t, data)
		}
	}
	return out
}

// parentTTL is the TTL in the records shown; the parent's operator chooses it.
const parentTTL = 3600

// Handover works out what the parent must be told about a zone.
func (a *App) Handover(operand, origin, keys string) (*DelegationData, error) {
	src, diags := &source.Set{}, &diag.List{}
	in, err := a.input(operand, origin, src, diags)
	if err != nil {
		return nil, err
	}
	if in.zone == nil || in.errors() > 0 {
		return nil, &RejectedError{src, diags}
	}
	z := in.zone
	d := &DelegationData{Zone: z.Apex()}
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
		d.Servers = append(d.Servers, s)
	}
	public, err := a.publicKeys(z.Snapshot, keys)
	if err != nil {
		return nil, err
	}
	for _, k := range public {
		ds := dnssec.DS(z.Apex(), k.Data, dnssec.DigestSHA256)
		d.Keys = append(d.Keys, KeyData{KeyTag: k.Tag, Algorithm: uint8(k.Algorithm), AlgorithmName: k.Algorithm.String(),
			DigestType: dnssec.DigestSHA256, DigestName: "SHA-256", Digest: strings.ToUpper(hex.EncodeToString(ds[4:])),
			Flags: k.Flags, PublicKey: rr.DataText(rr.TypeDNSKEY, k.Data)})
	}
	return d, nil
}

// publicKeys finds the entry points of a zone: in the file if it is signed,
// else among the keys kept for it.
func (a *App) publicKeys(z *zone.Snapshot, dir string) ([]*dnssec.PublicKey, error) {
	var all []*dnssec.PublicKey
	var apex zone.Node
	z.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeDNSKEY)
	for data := range set.Data {
		if k, err := dnssec.ParseDNSKEY(data); err == nil && k.IsZoneKey() {
			all = append(all, k)
		}
	}
	if len(all) == 0 {
		ring, err := a.ring(z.Apex(), dir)
		if err != nil {
			if dir == "" {
				return nil, nil // a bare file, unsigned: nothing to say about keys
			}
			return nil, err
		}
		for _, e := range ring.Keys {
			all = append(all, e.Key.PublicKey)
		}
	}
	return signer.EntryPoints(all), nil
}
