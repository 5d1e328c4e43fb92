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
	Total      int       // all findings, kept or not
	Names      int       // names looked at
	Signatures int       // signatures checked cryptographically and found right
	Unchecked  int       // signatures of algorithms that are not supported here
	Expires    time.Time // when the first signature does; zero if there is none
	Keys       []*dnssec.PublicKey
	Trusted    bool // a DS or DNSKEY given as anchor leads to the keys
}

// MaxFindings bounds Proof.Findings.
const MaxFindings = 1000

// Rules of signed zones.
var (
	RuleNotSigned = &diag.Rule{Code: "not-signed", Severity: diag.Error, Title: "the zone has no DNSKEY records", Ref: "RFC 4035 §2.1",
		Doc: "A signed zone publishes its public keys at its own name. Sign the zone with `fencepost sign`."}
	RuleBadKey = &diag.Rule{Code: "bad-key", Severity: diag.Error, Title: "a DNSKEY record cannot be used", Ref: "RFC 4034 §2.1",
		Doc: "The key is malformed, or its flags do not make it a key of the zone. Make it again or copy it again."}
	RuleNoSignature = &diag.Rule{Code: "missing-signature", Severity: diag.Error, Title: "records that must be signed are not", Ref: "RFC 4035 §2.2",
		Doc: "Every set of records the zone is responsible for needs a signature with each algorithm among its keys. Sign the zone again."}
	RuleBadSignature = &diag.Rule{Code: "bad-signature", Severity: diag.Error, Title: "a signature does not fit its records", Ref: "RFC 4035 §5.3",
		Doc: "The records were changed after signing, or the signature belongs to other records or keys. Validating resolvers reject the answer. Sign the zone again."}
	RuleExpired = &diag.Rule{Code: "signature-expired", Severity: diag.Error, Title: "a signature has expired", Ref: "RFC 4034 §3.1.5",
		Doc: "Validating resolvers reject it from that moment on. Sign the zone again; a server that signs by itself does so in time."}
	RuleEarly = &diag.Rule{Code: "signature-not-yet-valid", Severity: diag.Error, Title: "a signature is not valid yet", Ref: "RFC 4034 §3.1.5",
		Doc: "Its time of inception lies in the future. Look at the clock of the machine that signed."}
	RuleStraySignature = &diag.Rule{Code: "stray-signature", Severity: diag.Error, Title: "a signature stands where none belongs", Ref: "RFC 4035 §2.2",
		Doc: "NS records of a delegation, glue and signatures themselves are not signed, and a signature without its records has no use."}
	RuleNoDenial = &diag.Rule{Code: "missing-nsec", Severity: diag.Error, Title: "a name has no NSEC record", Ref: "RFC 4035 §2.3",
		Doc: "Each name the zone is responsible for has an NSEC, so that what does not exist can be proved not to. Sign the zone again."}
	RuleBadChain = &diag.Rule{Code: "broken-nsec-chain", Severity: diag.Error, Title: "an NSEC record does not point to the next name", Ref: "RFC 4034 §4.1.1",
		Doc: "The NSEC records form a ring through all names in canonical order. A gap or a detour makes names vanish or appear. Sign the zone again."}
	RuleBadTypes = &diag.Rule{Code: "wrong-nsec-types", Severity: diag.Error, Title: "an NSEC record lists other types than the name has", Ref: "RFC 4034 §4.1.2",
		Doc: "A type that is not listed can be proved not to exist although it does. Sign the zone again."}
	RuleStrayDenial = &diag.Rule{Code: "stray-nsec", Severity: diag.Error, Title: "an NSEC record stands where none belongs", Ref: "RFC 4035 §2.3",
		Doc: "Names below a delegation have no NSEC: they belong to the child zone."}
	RuleNoAnchor = &diag.Rule{Code: "untrusted-keys", Severity: diag.Error, Title: "no DS or key given as anchor leads to the zone's keys", Ref: "RFC 4035 §5.2",
		Doc: "A DS in the parent must be the digest of a key of the zone that signs its DNSKEY set. If it is not, validating resolvers reject the whole zone."}
)

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{RuleNotSigned, RuleBadKey, RuleNoSignature, RuleBadSignature, RuleExpired, RuleEarly,
	RuleStraySignature, RuleNoDenial, RuleBadChain, RuleBadTypes, RuleStrayDenial, RuleNoAnchor}

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
	v.earliest.Store(1 << 62)
	if !v.readKeys() {
		return v.finish(), nil
	}
	v.checkAnchors(o.Anchors)
	if err := z.Scan(ctx, o.Workers, o.Done, v.worker); err != nil {
		return nil, err
	}
	return v.finish(), nil
}

type proving struct {
	z     *zone.Snapshot
	now   time.Time
	apex  []byte
	keys  []*dnssec.PublicKey
	algs  []rr.AlgorithmNumber // each must have signed everything
	soa   rr.SOA
	mu    sync.Mutex
	proof *Proof

	names, good, unchecked atomic.Int64
	earliest               atomic.Int64 // expiration, Unix seconds
}

func (v *proving) report(r *diag.Rule, owner []byte, t rr.Type, format string, args ...any) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.proof.Total++
	if len(v.proof.Findings) < MaxFindings {
		name, _ := dnsname.FromWire(owner)
		v.proof.Findings = append(v.proof.Findings, Finding{r, name, t, fmt.Sprintf(format, args...)})
	}
}

func (v *proving) readKeys() bool {
	var apex zone.Node
	v.z.ApexNode(&apex)
	v.soa, _ = v.z.SOA()
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
	}
	v.proof.Keys = v.keys
	return true
}

// checkAnchors looks for a key that follows from an anchor and signs the
// DNSKEY set (RFC 4035 §5.2).
func (v *proving) checkAnchors(anchors []rr.Record) {
	if len(anchors) == 0 {
		return
	}
	var apex zone.Node
	v.z.ApexNode(&apex)
	set, sigs, _ := apex.FindWithSig(rr.TypeDNSKEY)
	for _, k := range v.keys {
		if !k.IsZoneKey() || !v.anchored(k, anchors) {
			continue
		}
		for sig := range sigs.Data {
			if _, err := dnssec.VerifySet(nil, []*dnssec.PublicKey{k}, v.apex, v.apex, set, sig, v.now); err == nil {
				v.proof.Trusted = true
				return
			}
		}
	}
	v.report(RuleNoAnchor, v.apex, rr.TypeDNSKEY, "none of the %d anchors leads to a key that signs the DNSKEY set", len(anchors))
}

func (v *proving) anchored(k *dnssec.PublicKey, anchors []rr.Record) bool {
	for _, a := range anchors {
		switch {
		case !a.Name.Equal(v.z.Apex()):
		case a.Type == rr.TypeDNSKEY && bytes.Equal(a.Data, k.Data):
			return true
		case a.Type == rr.TypeDS && len(a.Data) > 4 && bytes.Equal(dnssec.DS(v.z.Apex(), k.Data, a.Data[3]), a.Data):
			return true
		}
	}
	return false
}

func (v *proving) finish() *Proof {
	p := v.proof
	p.Names, p.Signatures, p.Unchecked = int(v.names.Load()), int(v.good.Load()), int(v.unchecked.Load())
	if e := v.earliest.Load(); e < 1<<62 {
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
	w := &proofWorker{proving: v, good: map[rr.AlgorithmNumber]bool{}}
	return w.node
}

type proofWorker struct {
	*proving
	owner, scratch []byte
	types          []rr.Type
	good           map[rr.AlgorithmNumber]bool
}

func (w *proofWorker) node(n, next *zone.Node) error {
	w.names.Add(1)
	w.owner = w.z.AppendOwner(w.owner[:0], n)
	w.types = w.types[:0]
	for set := range n.RRsets {
		if set.Type == rr.TypeRRSIG {
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
	if !n.Occluded() {
		w.chain(n, next)
	}
	return nil
}

func (w *proofWorker) text() string { return string(dnsname.AppendText(nil, w.owner)) }

// signed checks that a set has a good signature with each algorithm.
func (w *proofWorker) signed(n *zone.Node, set zone.RRset) {
	sigs, _ := n.FindSig(set.Type)
	clear(w.good)
	failed := false
	for sig := range sigs.Data {
		var err error
		s, _ := dnssec.ParseRRSIG(sig)
		w.scratch, err = dnssec.VerifySet(w.scratch, w.keys, w.apex, w.owner, set, sig, w.now)
		switch {
		case err == nil:
			w.proving.good.Add(1)
			w.good[s.Algorithm] = true
			w.expires(s.Expiration)
		case errors.Is(err, dnssec.ErrUnsupported):
			w.unchecked.Add(1)
			w.good[s.Algorithm] = true
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

func (w *proofWorker) expires(at uint32) {
	// Serial arithmetic around now gives the full time (RFC 4034 §3.1.5).
	t := w.now.Unix() + int64(int32(at-uint32(w.now.Unix())))
	for {
		old := w.earliest.Load()
		if t >= old || w.earliest.CompareAndSwap(old, t) {
			return
		}
	}
}

// stray looks for signatures over what is not there or must not be signed.
func (w *proofWorker) stray(n *zone.Node, sigs zone.RRset) {
	covered := sigs.Covered()
	_, there := n.Find(covered)
	notOurs := n.Occluded() || n.IsCut() && covered != rr.TypeDS && covered != rr.TypeNSEC
	if !there || notOurs {
		w.report(RuleStraySignature, w.owner, covered, "%s has a signature over %s, which must have none there", w.text(), covered)
	}
}

// chain checks the NSEC of a name.
func (w *proofWorker) chain(n, next *zone.Node) {
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
	if sigs, ok := n.FindSig(rr.TypeNSEC); ok && sigs.N > 0 {
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
