package signer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// Finding is something wrong with a signed zone.
type Finding struct {
	*diag.Rule
	Owner   dnsname.Name
	Type    rr.Type // of the records concerned
	Message string
}

// Proof is the result of Verify.
type Proof struct {
	Findings   []Finding // in canonical order of the owner, at most MaxFindings
	Total      int       // all findings that are errors, kept or not
	Names      int       // names looked at
	Signatures int       // signatures checked cryptographically and found right
	Unchecked  int       // signatures of algorithms that are not supported here
	Expires    time.Time // when the first signature does; zero if there is none
	Keys       []*dnssec.PublicKey
	Trusted    bool    // a DS or DNSKEY given as anchor leads to the keys
	NSEC3      *Denial // how the names are hashed; nil with NSEC
	Digests    []uint8 // hash algorithms of ZONEMD records that were found right
}

// MaxFindings bounds Proof.Findings.
const MaxFindings = 1000

// VerifyOptions of Verify.
type VerifyOptions struct {
	Workers int
	Done    func(names int)
	// Anchors are DS or DNSKEY records that the zone's keys must follow from.
	// None: the keys in the zone are taken as they are.
	Anchors []rr.Record
}

// Verify proves a signed zone at a time: every signature, the chain of NSEC
// records and what they list, and that nothing is signed that must not be.
// The error is about the run itself, such as its interruption.
func Verify(ctx context.Context, z *zone.Snapshot, now time.Time, o VerifyOptions) (*Proof, error) {
	if o.Workers == 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	v := &proving{z: z, now: now, apex: []byte(z.Apex().Key()), proof: &Proof{}}
	if !v.readKeys() {
		return v.finish(), nil
	}
	v.checkAnchors(o.Anchors)
	v.denialTTL = denialTTL(z)
	v.checkCDS()
	v.checkParams()
	if err := z.Scan(ctx, o.Workers, o.Done, v.worker); err != nil {
		return nil, err
	}
	if h := z.NSEC3(); h != nil {
		if err := h.Scan(ctx, o.Workers, o.Done, v.hashedWorker); err != nil {
			return nil, err
		}
	}
	if v.chain != nil {
		v.checkChain()
	}
	if err := v.checkZonemd(); err != nil {
		return nil, err
	}
	return v.finish(), nil
}

type proving struct {
	z     *zone.Snapshot
	now   time.Time
	maker *signing // who just signed it: then no signature is verified; or nil
	apex  []byte
	keys  []*dnssec.PublicKey
	algs  []rr.AlgorithmNumber // each must have signed everything
	nsec  bool                 // there are NSEC records
	chain *chainMaker          // with NSEC3: who must be in the chain
	mu    sync.Mutex
	proof *Proof

	denialTTL uint32 // of NSEC and NSEC3 records

	names, good, unchecked atomic.Int64
	wrongTTL               atomic.Int64 // NSEC and NSEC3 records that live longer or shorter
	earliest               atomic.Int64 // expiration, Unix seconds
}

func (v *proving) report(r *diag.Rule, owner []byte, t rr.Type, format string, args ...any) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if r.Severity == diag.Error {
		v.proof.Total++
	}
	if len(v.proof.Findings) < MaxFindings {
		name, _ := dnsname.FromWire(owner)
		v.proof.Findings = append(v.proof.Findings, Finding{r, name, t, fmt.Sprintf(format, args...)})
	}
}

func (v *proving) readKeys() bool {
	var apex zone.Node
	v.z.ApexNode(&apex)
	set, ok := apex.Find(rr.TypeDNSKEY)
	if !ok {
		v.report(RuleNotSigned, v.apex, rr.TypeDNSKEY, "the zone %s has no DNSKEY records", v.z.Apex())
		return false
	}
	for data := range set.Data {
		k, err := dnssec.ParseDNSKEY(data)
		if err != nil {
			v.report(RuleBadKey, v.apex, rr.TypeDNSKEY, "the key with tag %d cannot be used: %v", dnssec.KeyTag(data), err)
			continue
		}
		v.keys = append(v.keys, k)
		if k.IsZoneKey() && !slices.Contains(v.algs, k.Algorithm) {
			v.algs = append(v.algs, k.Algorithm)
		}
		if why := k.KeyConcern(); why != "" {
			v.report(RuleWeakKey, v.apex, rr.TypeDNSKEY, "key %d, %s of %d bits: %s", k.Tag, k.Algorithm, k.Bits(), why)
		}
	}
	v.proof.Keys = v.keys
	return true
}

func (v *proving) finish() *Proof {
	p := v.proof
	if n := v.wrongTTL.Load(); n > 0 {
		v.report(RuleDenialTTL, v.apex, rr.TypeSOA, "%d NSEC or NSEC3 records do not live for the %d seconds that negative answers do", n, v.denialTTL)
	}
	p.Names, p.Signatures, p.Unchecked = int(v.names.Load()), int(v.good.Load()), int(v.unchecked.Load())
	if e := v.earliest.Load(); e != 0 {
		p.Expires = time.Unix(e, 0).UTC()
	}
	slices.SortStableFunc(p.Findings, func(a, b Finding) int {
		if c := a.Owner.Compare(b.Owner); c != 0 {
			return c
		}
		return strings.Compare(a.Code+a.Message, b.Code+b.Message)
	})
	return p
}

func (v *proving) worker() zone.Visit {
	w := v.newWorker()
	if v.chain != nil {
		w.chainWorker = v.chain.worker()
	}
	return w.node
}

func (v *proving) newWorker() *proofWorker {
	return &proofWorker{proving: v, good: map[rr.AlgorithmNumber]bool{}}
}

type proofWorker struct {
	*proving
	chainWorker         *chainWorker // or nil
	owner, key, scratch []byte
	types               []rr.Type
	good                map[rr.AlgorithmNumber]bool
}

func (w *proofWorker) node(n, next *zone.Node) error {
	w.names.Add(1)
	w.owner = w.z.AppendOwner(w.owner[:0], n)
	w.types = w.types[:0]
	if w.maker != nil {
		w.found(n)
	}
	signed := false
	for set := range n.RRsets {
		if set.Type == rr.TypeRRSIG {
			signed = true
			w.stray(n, set)
			continue
		}
		if n.Occluded() {
			if set.Type == rr.TypeNSEC {
				w.report(RuleStrayDenial, w.owner, rr.TypeNSEC, "%s lies below a delegation and has an NSEC record", w.text())
			}
			continue
		}
		if n.IsCut() && set.Type != rr.TypeNS && set.Type != rr.TypeDS && set.Type != rr.TypeNSEC {
			continue // occluded
		}
		w.types = append(w.types, set.Type)
		if !(n.IsCut() && set.Type == rr.TypeNS) {
			w.signed(n, set)
		}
	}
	if n.Occluded() {
		return nil
	}
	if w.chainWorker != nil {
		if w.key = n.AppendKey(w.key[:0]); signed {
			w.types = append(w.types, rr.TypeRRSIG)
		}
		w.chainWorker.name(n, w.owner, w.key, w.types)
	}
	if w.nsec {
		w.nsecOf(n, next, signed)
	}
	return nil
}

func (w *proofWorker) text() string { return string(dnsname.AppendText(nil, w.owner)) }

// signed checks that a set has a good signature with each algorithm.
func (w *proofWorker) signed(n *zone.Node, set zone.RRset) {
	if w.maker != nil {
		w.made(n, set)
		return
	}
	sigs, _ := n.FindSig(set.Type)
	if (set.Type == rr.TypeNSEC || set.Type == rr.TypeNSEC3) && set.TTL != w.denialTTL {
		w.wrongTTL.Add(1)
	}
	clear(w.good)
	failed := false
	for sig := range sigs.Data {
		var err error
		s, _ := dnssec.ParseRRSIG(sig)
		w.scratch, err = dnssec.VerifySet(w.scratch, w.keys, w.apex, w.owner, set, sig, w.now)
		if s.OriginalTTL != set.TTL || sigs.TTL != set.TTL { // RFC 4034 §3, §3.1.4
			w.report(RuleTTL, w.owner, set.Type, "%s %s lives %d seconds, its signature %d, and %d were signed", w.text(), set.Type, set.TTL, sigs.TTL, s.OriginalTTL)
		}
		switch {
		case err == nil:
			w.proving.good.Add(1)
			w.good[s.Algorithm] = true
			w.expires(s.Expiration)
		case errors.Is(err, dnssec.ErrUnsupported):
			w.unchecked.Add(1)
			w.good[s.Algorithm] = true
		case errors.Is(err, dnssec.ErrNoKey):
			w.report(RuleNoKey, w.owner, set.Type, "%s %s: no key of the zone has tag %d and algorithm %s", w.text(), set.Type, s.KeyTag, s.Algorithm)
		default:
			failed = true
			w.report(faultRule(err), w.owner, set.Type, "%s %s: %v (key tag %d)", w.text(), set.Type, err, s.KeyTag)
		}
	}
	for _, a := range w.algs {
		if !w.good[a] && !failed {
			w.report(RuleNoSignature, w.owner, set.Type, "%s %s has no signature of algorithm %s", w.text(), set.Type, a)
		}
	}
}

func faultRule(err error) *diag.Rule {
	switch {
	case errors.Is(err, dnssec.ErrExpired):
		return RuleExpired
	case errors.Is(err, dnssec.ErrEarly):
		return RuleEarly
	}
	return RuleBadSignature
}

func (w *proofWorker) expires(at uint32) { earlier(&w.earliest, at, w.now) }

// stray looks for signatures over what is not there or must not be signed.
func (w *proofWorker) stray(n *zone.Node, sigs zone.RRset) {
	covered := sigs.Covered()
	_, there := n.Find(covered)
	notOurs := n.Occluded() || n.IsCut() && covered != rr.TypeDS && covered != rr.TypeNSEC
	if !there || notOurs {
		w.report(RuleStraySignature, w.owner, covered, "%s has a signature over %s, which must have none there", w.text(), covered)
	}
}

// nsecOf checks the NSEC of a name.
func (w *proofWorker) nsecOf(n, next *zone.Node, signed bool) {
	set, ok := n.Find(rr.TypeNSEC)
	if !ok {
		w.report(RuleNoDenial, w.owner, rr.TypeNSEC, "%s has no NSEC record", w.text())
		return
	}
	data := set.First()
	size, err := dnsname.WireLen(data)
	if err != nil || set.N != 1 {
		w.report(RuleBadChain, w.owner, rr.TypeNSEC, "%s has a malformed NSEC set", w.text())
		return
	}
	var buf [dnsname.MaxWire]byte
	want := w.z.AppendOwner(buf[:0], next)
	if !dnsname.EqualWire(data[:size], want) {
		w.report(RuleBadChain, w.owner, rr.TypeNSEC, "the NSEC of %s points to %s; the next name is %s",
			w.text(), dnsname.AppendText(nil, data[:size]), dnsname.AppendText(nil, want))
	}
	if signed && !slices.Contains(w.types, rr.TypeRRSIG) {
		w.types = append(w.types, rr.TypeRRSIG)
	}
	if bitmap := rr.AppendBitmap(w.scratch[:0], w.types); !bytes.Equal(bitmap, data[size:]) {
		w.report(RuleBadTypes, w.owner, rr.TypeNSEC, "the NSEC of %s lists %v; the name has %v",
			w.text(), rr.BitmapTypes(data[size:]), rr.BitmapTypes(bitmap))
	}
}

// EntryPoints are the zone keys marked as secure entry points, which a parent's
// DS records stand for; all zone keys if none is marked (RFC 4034 §2.1.1).
func EntryPoints(keys []*dnssec.PublicKey) (out []*dnssec.PublicKey) {
	var all []*dnssec.PublicKey
	for _, k := range keys {
		if !k.IsZoneKey() {
			continue
		}
		all = append(all, k)
		if k.Flags&dnssec.FlagSEP != 0 {
			out = append(out, k)
		}
	}
	if len(out) == 0 {
		return all
	}
	return out
}

// FirstExpiryAfter is FirstExpiry of a version that came by a change from one for which it
// was was. Only where signatures went that were the first to end is the whole zone looked at.
func FirstExpiryAfter(was time.Time, d *zone.Delta, z *zone.Snapshot, now time.Time) time.Time {
	var gone, come atomic.Int64
	for i := range d.Sets {
		c := &d.Sets[i]
		if c.Type() != rr.TypeRRSIG {
			continue
		}
		for _, part := range []struct {
			set   zone.RRset
			least *atomic.Int64
		}{{c.Removed, &gone}, {c.Added, &come}} {
			for data := range part.set.Data {
				if s, err := dnssec.ParseRRSIG(data); err == nil {
					earlier(part.least, s.Expiration, now)
				}
			}
		}
	}
	if at := gone.Load(); at != 0 && (was.IsZero() || at <= was.Unix()) {
		return FirstExpiry(z, now)
	}
	if at := come.Load(); at != 0 && (was.IsZero() || at < was.Unix()) {
		return time.Unix(at, 0).UTC()
	}
	return was
}

// FirstExpiry is when the first signature of a zone ends, as its RRSIG records say;
// zero where there is none.
func FirstExpiry(z *zone.Snapshot, now time.Time) time.Time {
	var least atomic.Int64
	for n := range z.AllNodes {
		for set := range n.RRsets {
			if set.Type != rr.TypeRRSIG {
				continue
			}
			for data := range set.Data {
				if s, err := dnssec.ParseRRSIG(data); err == nil {
					earlier(&least, s.Expiration, now)
				}
			}
		}
	}
	if at := least.Load(); at != 0 {
		return time.Unix(at, 0).UTC()
	}
	return time.Time{}
}
