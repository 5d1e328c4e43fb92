package signer

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// Sign makes a signed version of z: DNSKEY records, proofs of what does not exist
// and signatures with every algorithm among the keys (RFC 4035 §2). What a signer
// added to the input is replaced. The same zone, keys, policy and time give the
// same octets.
func Sign(ctx context.Context, z *zone.Snapshot, keys []Key, p Policy, now time.Time) (*zone.Snapshot, Report, error) {
	out, report, err := signWhole(ctx, z, keys, p, now)
	for i := 1; errors.Is(err, ErrCollision) && i <= maxSalts; i++ { // RFC 5155 §7.1
		p.Denial.Params.Salt = otherSalt(z.Apex(), i)
		out, report, err = signWhole(ctx, z, keys, p, now)
	}
	return out, report, err
}

func signWhole(ctx context.Context, z *zone.Snapshot, keys []Key, p Policy, now time.Time) (*zone.Snapshot, Report, error) {
	z, err := withoutLeftovers(z)
	if err != nil {
		return nil, Report{}, err
	}
	job, err := newSigning(z, keys, p, now)
	if err != nil {
		return nil, Report{}, err
	}
	if job.previous != nil {
		job.prevHashed = job.previous.NSEC3()
	}
	out, err := z.Rewrite(ctx, job.p.Workers, job.p.Done, job.worker)
	if err == nil {
		out = out.WithNSEC3(nil)
		if job.p.Denial.NSEC3 {
			out, err = job.addHashed(ctx, out)
		}
	}
	if err == nil && len(job.p.Zonemd) > 0 {
		out, err = job.addDigest(out)
	}
	if err == nil {
		err = job.prove(ctx, out)
	}
	if err != nil {
		return nil, job.report(), fmt.Errorf("signing %s: %w", z.Apex(), err)
	}
	return out, job.report(), nil
}

// signing is one run of Sign or Update.
type signing struct {
	z          *zone.Snapshot
	p          Policy
	apex       []byte // canonical wire form
	apexSets   []zone.RRset
	ksks, zsks []*dnssec.Key
	// toParent signs CDS and CDNSKEY: ksks, and of algorithms that they do not have, zsks: caches may
	// have the DNSKEY set of before or after (RFC 4035 §2.2, RFC 6781 §4.1.4).
	toParent   []*dnssec.Key
	all        []*dnssec.Key // what signs the DNSKEY set: ksks, and revoked keys, which sign nothing else (RFC 5011 §2.1)
	now        time.Time
	renew      uint32 // signatures that expire before are made anew
	inception  time.Time
	expiration time.Time // of signatures made now, before jitter
	denialTTL  uint32
	previous   *zone.Snapshot       // or nil
	prevHashed *zone.Snapshot       // or nil
	sure       map[*dnssec.Key]bool // a signature with the key's tag in previous is by the key

	chain *chainMaker // with NSEC3: the names seen

	made, kept, replaced atomic.Int64
	foreign              int
	earliest             atomic.Int64 // expiration, Unix seconds; 0 before the first
}

func newSigning(z *zone.Snapshot, keys []Key, p Policy, now time.Time) (*signing, error) {
	p = p.Filled()
	if _, ok := z.SOA(); !ok {
		return nil, ErrNoSOA
	}
	j := &signing{z: z, p: p, apex: []byte(z.Apex().Key()), now: now, previous: p.Previous,
		renew: uint32(now.Add(p.Refresh).Unix()), chain: &chainMaker{z: z, d: p.Denial},
		inception: now.Add(-p.Inception).Truncate(time.Second), expiration: now.Add(p.Validity).Truncate(time.Second)}
	for _, k := range keys {
		if k.SignKeys && k.Private != nil {
			if j.all = append(j.all, k.Private); k.Flags&dnssec.FlagRevoked == 0 {
				j.ksks = append(j.ksks, k.Private)
			}
		}
		if k.SignZone && k.Private != nil {
			j.zsks = append(j.zsks, k.Private)
		}
	}
	j.toParent = slices.Clone(j.ksks)
	for _, k := range j.zsks {
		if !slices.ContainsFunc(j.ksks, func(o *dnssec.Key) bool { return o.Algorithm == k.Algorithm }) {
			j.toParent = append(j.toParent, k)
		}
	}
	if len(j.ksks) == 0 || len(j.zsks) == 0 {
		return nil, fmt.Errorf("%s: %w", z.Apex(), ErrNoKeys)
	}
	if p.Denial.NSEC3 {
		if err := j.checkNSEC3(); err != nil {
			return nil, err
		}
	}
	var apex zone.Node
	z.ApexNode(&apex)
	soaSet, _ := apex.Find(rr.TypeSOA)
	j.denialTTL = denialTTL(z)
	j.prepareApex(&apex, keys, soaSet.TTL)
	j.noteSure(keys)
	return j, nil
}

// denialTTL is how long NSEC and NSEC3 records live: no longer than negative answers
// do (RFC 9077 §3).
func denialTTL(z *zone.Snapshot) uint32 {
	var apex zone.Node
	z.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeSOA)
	soa, _ := z.SOA()
	return min(set.TTL, soa.Minimum)
}

// noteSure notes for which keys the tag is enough to tell their signatures in the
// previous version: it publishes the key itself, and nobody else has the tag.
func (j *signing) noteSure(keys []Key) {
	j.sure = map[*dnssec.Key]bool{}
	if j.previous == nil || !j.p.TrustPrevious {
		return
	}
	var apex zone.Node
	j.previous.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeDNSKEY)
	for _, k := range append(slices.Clone(j.all), j.zsks...) {
		own, others := false, 0
		for data := range set.Data {
			switch same := string(data) == string(k.Data); {
			case same:
				own = true
			case dnssec.KeyTag(data) == k.Tag:
				others++
			}
		}
		for _, other := range keys {
			if other.Tag == k.Tag && string(other.Data) != string(k.Data) {
				others++
			}
		}
		j.sure[k] = own && others == 0
	}
}

// prepareApex makes the sets that a signer adds at the apex. ttl is the SOA's.
func (j *signing) prepareApex(apex *zone.Node, keys []Key, ttl uint32) {
	given := map[rr.Type][][]byte{}
	for _, t := range []rr.Type{rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY} {
		set, _ := apex.Find(t)
		for data := range set.Data {
			if ours(t, data, keys, j.z.Apex()) {
				continue
			}
			if t == rr.TypeDNSKEY {
				j.foreign++
			}
			if j.p.KeepKeys {
				given[t] = append(given[t], data)
			}
		}
	}
	add := func(t rr.Type, ttl uint32, data [][]byte) {
		if data = append(data, given[t]...); len(data) > 0 {
			j.apexSets = append(j.apexSets, zone.NewRRset(t, ttl, data))
		}
	}
	var dnskeys, cds, cdnskeys [][]byte
	for _, k := range keys {
		if k.Publish {
			dnskeys = append(dnskeys, k.Data)
		}
		if k.DS && j.p.CDS == WantDS {
			cdnskeys = append(cdnskeys, k.Data)
			for _, d := range j.p.Digests {
				cds = append(cds, dnssec.DS(j.z.Apex(), k.Data, d))
			}
		}
	}
	if j.p.CDS == DeleteAll { // RFC 8078 §4, as corrected: the last field is one zero octet
		cds, cdnskeys = [][]byte{{0, 0, 0, 0, 0}}, [][]byte{{0, 0, 3, 0, 0}}
		delete(given, rr.TypeCDS)
		delete(given, rr.TypeCDNSKEY)
	}
	add(rr.TypeDNSKEY, j.p.DNSKEYTTL, dnskeys)
	add(rr.TypeCDS, j.p.DNSKEYTTL, cds)
	add(rr.TypeCDNSKEY, j.p.DNSKEYTTL, cdnskeys)
	if j.p.Denial.NSEC3 {
		add(rr.TypeNSEC3PARAM, j.denialTTL, [][]byte{j.p.Denial.Params.ParamData()})
	}
	if len(j.p.Zonemd) > 0 {
		add(rr.TypeZONEMD, ttl, j.zonemdData(j.serial(), nil))
	}
}

// ours reports whether a record at the apex is of one of the keys.
func ours(t rr.Type, data []byte, keys []Key, apex dnsname.Name) bool {
	for _, k := range keys {
		if t != rr.TypeCDS && string(k.Data) == string(data) {
			return true
		}
		if t == rr.TypeCDS && len(data) > 4 && string(dnssec.DS(apex, k.Data, data[3])) == string(data) {
			return true
		}
	}
	return false
}

func (j *signing) serial() uint32 {
	if j.p.Serial != 0 {
		return j.p.Serial
	}
	return j.z.Serial()
}

func (j *signing) report() Report {
	r := Report{Signatures: int(j.made.Load()), Kept: int(j.kept.Load()), Replaced: int(j.replaced.Load()), Foreign: j.foreign}
	if at := j.earliest.Load(); at != 0 {
		r.Expires = time.Unix(at, 0)
	}
	return r
}

// worker makes the transformation that one goroutine runs, with its memory.
func (j *signing) worker() zone.Transform { return j.newWorker().node }

func (j *signing) newWorker() *signWorker {
	return &signWorker{signing: j, prev: j.previous, links: j.chain.worker()}
}

// signWorker signs names one after another.
type signWorker struct {
	*signing
	prev           *zone.Snapshot // where signatures that still fit are looked for
	owner, scratch []byte
	key            []byte
	old            zone.Node // the same name in prev
	hasOld         bool
	types          []rr.Type
	count          int
	links          *chainWorker
}

// begin makes the worker ready for a name.
func (w *signWorker) begin(n *zone.Node) {
	w.owner = w.z.AppendOwner(w.owner[:0], n)
	w.types = w.types[:0]
	w.key = n.AppendKey(w.key[:0])
	w.hasOld = w.prev != nil && w.prev.Get(w.key, &w.old)
}

// node signs one name.
func (w *signWorker) node(n, next *zone.Node, out *zone.NodeWriter) error {
	w.begin(n)
	signed := false
	for set := range n.RRsets {
		if dropped(set.Type, n.IsApex()) {
			w.replaced.Add(int64(set.N))
			continue
		}
		if n.IsApex() && set.Type == rr.TypeSOA && w.p.Serial != 0 {
			set = set.With(rr.SetSerial(set.First(), w.p.Serial))
		}
		out.AddSet(set)
		if n.Occluded() || n.IsCut() && set.Type != rr.TypeNS && set.Type != rr.TypeDS {
			continue
		}
		w.types = append(w.types, set.Type)
		if n.IsCut() && set.Type == rr.TypeNS {
			continue // belongs to the child (RFC 4035 §2.2)
		}
		signed = true
		if err := w.sign(set, w.zsks, out); err != nil {
			return err
		}
	}
	if n.Occluded() {
		return nil
	}
	if n.IsApex() {
		if err := w.addApex(out); err != nil {
			return err
		}
	}
	if w.p.Denial.NSEC3 {
		if signed || n.IsApex() {
			w.types = append(w.types, rr.TypeRRSIG)
		}
		w.links.name(n, w.owner, w.key, w.types)
		return nil
	}
	return w.nsec(next, out)
}

// dropped reports whether records of a type are made anew by a signer.
func dropped(t rr.Type, apex bool) bool {
	switch t {
	case rr.TypeRRSIG, rr.TypeNSEC:
		return true
	case rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY, rr.TypeNSEC3PARAM, rr.TypeZONEMD:
		return apex
	}
	return false
}

// leftover reports whether a name has nothing but what an earlier signer put there: it
// does not exist in the zone to be signed.
func leftover(n *zone.Node) bool {
	if n.IsApex() {
		return false
	}
	for set := range n.RRsets {
		if !dropped(set.Type, false) {
			return false
		}
	}
	return true
}

// withoutLeftovers is the zone without such names.
func withoutLeftovers(z *zone.Snapshot) (*zone.Snapshot, error) {
	var gone []zone.Content
	for n := range z.Nodes {
		if leftover(n) {
			gone = append(gone, zone.Content{Owner: z.Owner(n)})
		}
	}
	if len(gone) == 0 {
		return z, nil
	}
	return z.Replace(gone)
}

// addApex adds what a signer puts at the apex, signed by the keys for it: CDS and
// CDNSKEY by those that the parent knows, at the least (RFC 7344 §4.1).
func (w *signWorker) addApex(out *zone.NodeWriter) error {
	for _, set := range w.apexSets {
		out.AddSet(set)
		w.types = append(w.types, set.Type)
		if set.Type == rr.TypeZONEMD {
			continue // signed when the digest is known
		}
		if err := w.sign(set, w.keysFor(set.Type, true), out); err != nil {
			return err
		}
	}
	return nil
}

// nsec adds the NSEC record (RFC 4034 §4, RFC 4035 §2.3).
func (w *signWorker) nsec(next *zone.Node, out *zone.NodeWriter) error {
	w.types = append(w.types, denialBits[:]...)
	data := w.z.AppendOwner(make([]byte, 0, dnsname.MaxWire+16), next)
	data = rr.AppendBitmap(data, w.types)
	set := zone.NewRRset(rr.TypeNSEC, w.denialTTL, [][]byte{data})
	out.AddSet(set)
	return w.sign(set, w.zsks, out)
}

// sign adds the signatures of a set, kept ones where they still fit.
func (w *signWorker) sign(set zone.RRset, keys []*dnssec.Key, out *zone.NodeWriter) error {
	old, oldSigs, same := zone.RRset{}, zone.RRset{}, false
	if w.hasOld {
		if old, oldSigs, same = w.old.FindWithSig(set.Type); same {
			same = old.Equal(set)
		}
	}
	for _, k := range keys {
		if same {
			if data := w.reusable(oldSigs, set, k); data != nil {
				w.kept.Add(1)
				out.Add(rr.TypeRRSIG, set.TTL, data)
				continue
			}
		}
		if err := w.makeSig(set, k, out); err != nil {
			return err
		}
	}
	return nil
}

// reusable is the signature of the key among old ones if it need not be renewed.
func (w *signWorker) reusable(sigs, set zone.RRset, k *dnssec.Key) []byte {
	for data := range sigs.Data {
		s, err := dnssec.ParseRRSIG(data)
		if err != nil || s.KeyTag != k.Tag || s.Algorithm != k.Algorithm || s.OriginalTTL != set.TTL {
			continue
		}
		now := uint32(w.now.Unix())
		if int32(s.Expiration-w.renew) <= 0 || int32(now-s.Inception) < 0 {
			continue
		}
		if !w.sure[k] {
			if w.scratch, err = dnssec.VerifySet(w.scratch, []*dnssec.PublicKey{k.PublicKey}, w.apex, w.owner, set, data, w.now); err != nil {
				continue
			}
		}
		w.expires(s.Expiration)
		return data
	}
	return nil
}

func (w *signWorker) makeSig(set zone.RRset, k *dnssec.Key, out *zone.NodeWriter) error {
	times := dnssec.Times{Inception: w.inception, Expiration: w.expiration.Add(-w.jitter(set.Type))}
	data, scratch, err := k.SignSet(w.scratch, w.apex, w.owner, set, times)
	w.scratch = scratch
	if err != nil {
		return err
	}
	w.count++
	if w.p.CheckEvery == 1 || w.count%w.p.CheckEvery == 1 || set.Type == rr.TypeSOA || set.Type == rr.TypeDNSKEY {
		sig, _ := dnssec.ParseRRSIG(data)
		if err := k.Verify(scratch, sig.Signature); err != nil {
			return fmt.Errorf("%w: %s at %s", ErrSelfCheck, set.Type, dnsname.AppendText(nil, w.owner))
		}
	}
	w.made.Add(1)
	w.expires(uint32(times.Expiration.Unix()))
	out.Add(rr.TypeRRSIG, set.TTL, data)
	return nil
}

// jitter is how much earlier the signatures of a set at the present name expire,
// so that they do not all fall due together: a fixed share for each set.
func (w *signWorker) jitter(t rr.Type) time.Duration {
	h := (fnv(w.key) ^ uint64(t)) * fnvPrime
	// What is hashed last hardly reaches the upper bits, and names often differ at their end alone:
	// each bit has to reach all others.
	h = (h ^ h>>33) * 0xff51afd7ed558ccd
	h = (h ^ h>>33) * 0xc4ceb9fe1a85ec53
	h ^= h >> 33
	return time.Duration(float64(h>>32) / (1 << 32) * float64(w.p.Jitter)).Truncate(time.Second)
}

func (j *signing) expires(at uint32) { earlier(&j.earliest, at, j.now) }

// earlier notes an expiration. Serial arithmetic around now gives the full time
// (RFC 4034 §3.1.5).
func earlier(least *atomic.Int64, at uint32, now time.Time) {
	t := now.Unix() + int64(int32(at-uint32(now.Unix())))
	for {
		old := least.Load()
		if old != 0 && t >= old || least.CompareAndSwap(old, t) {
			return
		}
	}
}
