package ops

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// VerifyOptions of Verify.
type VerifyOptions struct {
	Operand  string
	Origin   string
	Anchor   string        // file with DS or DNSKEY records
	DS       []string      // data of DS records
	Within   time.Duration // a signature that ends so soon is a fault; 0: only one that has ended
	Progress func(done, all int)
}

// RuleExpiresSoon is a signature that ends within the time that was asked about.
var RuleExpiresSoon = &diag.Rule{Code: "signature-expires-soon", Severity: diag.Error, Title: "a signature ends within the time that was asked about", Ref: "RFC 4034 §3.1.5, RFC 6781 §4.4.1",
	Doc: "`fencepost verify --expires-within TIME` reports it: the signer may have stopped. Sign the zone again, or see why its signer does not."}

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
	t, err := a.Reader().Open(res.Source, path, name)
	if err != nil {
		return nil, err
	}
	z, err := a.Reader().Read(t, res.Diags)
	if err != nil || res.Diags.Count(diag.Error) > 0 {
		return res, fmt.Errorf("%s cannot be read as a zone: %w", edit.Shown(path), edit.ErrFindings)
	}
	var anchors []rr.Record
	if o.Anchor != "" {
		if anchors, err = a.anchors(o.Anchor, res); err != nil {
			return nil, err
		}
	}
	for _, text := range o.DS {
		ds, err := parseDS(z.Apex(), text)
		if err != nil {
			return nil, err
		}
		anchors = append(anchors, ds)
	}
	res.Anchors = len(anchors)
	res.Proof, err = signer.Verify(ctx, z.Snapshot, a.Now(), signer.VerifyOptions{Anchors: anchors, Done: progress(o.Progress, z.Names())})
	if err != nil {
		return nil, err
	}
	res.Zone, res.Serial, res.Elapsed = z.Apex(), z.Serial(), time.Since(start)
	if o.Within > 0 && !res.Expires.IsZero() && res.Expires.Before(a.Now().Add(o.Within)) && res.Expires.After(a.Now()) {
		res.Findings = append(res.Findings, signer.Finding{Rule: RuleExpiresSoon, Owner: z.Apex(), Type: rr.TypeSOA, Message: "the first signature ends " + res.Expires.UTC().Format("2006-01-02 15:04 UTC")})
		res.Total++
	}
	res.place(z)
	if res.Total > 0 {
		return res, edit.ErrFindings
	}
	return res, nil
}

// Denial says how the zone proves what does not exist.
func (v *Verified) Denial() string {
	switch {
	case v.NSEC3 == nil:
		return "NSEC"
	case v.NSEC3.OptOut:
		return "NSEC3, opt-out"
	}
	return "NSEC3"
}

// parseDS reads the data of a DS record as people give it.
func parseDS(zone dnsname.Name, text string) (rr.Record, error) {
	var words []rr.Token
	for _, w := range strings.Fields(text) {
		words = append(words, rr.Token{Text: []byte(w)})
	}
	p := rr.Parser{}
	data, err := p.Data(nil, rr.TypeDS, words)
	if err != nil {
		return rr.Record{}, edit.Usage("--ds %q is not a DS record: write key tag, algorithm, digest type and digest", text)
	}
	return rr.Record{Name: zone, Type: rr.TypeDS, Class: rr.ClassIN, Data: data}, nil
}

// place turns findings into diagnostics with the places of their records.
func (v *Verified) place(z *zonefile.Loaded) {
	places := map[string]source.Pos{}
	want := map[string]bool{}
	for _, f := range v.Findings {
		want[f.Owner.Key()] = true
	}
	mark := func(b *zone.Built) {
		at := 0
		for n := range b.Nodes {
			owner := b.Owner(n).Key()
			for set := range n.RRsets {
				if k := owner + set.Type.String(); want[owner] {
					places[k] = b.Positions[at]
					if _, ok := places[owner]; !ok {
						places[owner] = b.Positions[at]
					}
				}
				at += set.N
			}
		}
	}
	mark(z.Built)
	if z.Hashed != nil {
		mark(z.Hashed)
	}
	at := func(f *signer.Finding) source.Pos {
		if pos, ok := places[f.Owner.Key()+f.Type.String()]; ok {
			return pos
		}
		return places[f.Owner.Key()]
	}
	for _, group := range grouped(v.Findings) {
		first := &group[0]
		d := first.Rule.At(zonefile.LayoutAt(v.Source, at(first)).OwnerOrType(), "%s", first.Message)
		if more := len(group) - 1; more > 0 {
			var names []string
			for i := range group {
				d.Places = append(d.Places, at(&group[i]))
				if n := group[i].Owner.String(); len(names) < fewFaults && i > 0 && !slices.Contains(names, n) {
					names = append(names, n)
				}
			}
			d.Message += fmt.Sprintf("; and %d more of the kind, which most likely have the same cause, at %s ...", more, strings.Join(names, ", "))
		}
		v.Diags.Add(d)
	}
	v.Diags.Sort()
}

// fewFaults is how many faults of a kind are told one by one.
const fewFaults = 3

// grouped puts faults together that most likely have one cause: many of a kind. Where
// the parameters of NSEC3 are wrong no hash fits, and what follows from that is left out.
func grouped(faults []signer.Finding) (out [][]signer.Finding) {
	byRule := map[*diag.Rule][]signer.Finding{}
	var order []*diag.Rule
	for _, f := range faults {
		if byRule[f.Rule] == nil {
			order = append(order, f.Rule)
		}
		byRule[f.Rule] = append(byRule[f.Rule], f)
	}
	for _, r := range order {
		group := byRule[r]
		if byRule[signer.RuleParams] != nil && (r == signer.RuleNoDenial || r == signer.RuleStrayDenial) {
			continue
		}
		if len(group) > fewFaults {
			out = append(out, group)
			continue
		}
		for i := range group {
			out = append(out, group[i:i+1])
		}
	}
	return out
}

// anchors reads DS and DNSKEY records from a file.
func (a *App) anchors(path string, res *Verified) ([]rr.Record, error) {
	f, err := a.Reader().File(res.Source, path)
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
		return nil, edit.Usage("%s holds no DS or DNSKEY record", edit.Shown(path))
	}
	return out, nil
}
