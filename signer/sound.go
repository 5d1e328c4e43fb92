package signer

import (
	"context"
	"fmt"

	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// prove looks whether what was signed is whole, before it is handed out: each name
// is found where it stands, each set has one signature of each key that has to sign
// it, the chain is closed, and the counts agree. It verifies no signature, so it
// takes little beside the signing.
func (j *signing) prove(ctx context.Context, z *zone.Snapshot) error {
	if _, ok := z.SOA(); !ok {
		return fmt.Errorf("%w: it has lost its SOA record", ErrUnsound)
	}
	v := &proving{z: z, now: j.now, apex: j.apex, proof: &Proof{}, maker: j}
	v.checkParams()
	if err := z.Scan(ctx, j.p.Workers, nil, v.worker); err != nil {
		return err
	}
	if h := z.NSEC3(); h != nil {
		if err := h.Scan(ctx, j.p.Workers, nil, v.hashedWorker); err != nil {
			return err
		}
	}
	if v.chain != nil {
		v.checkChain()
	}
	proof := v.finish()
	if proof.Total > 0 {
		return fmt.Errorf("%w: %s", ErrUnsound, proof.Findings[0].Message)
	}
	if made := int(j.made.Load() + j.kept.Load()); proof.Signatures != made {
		return fmt.Errorf("%w: it has %d signatures, and %d were made or kept", ErrUnsound, proof.Signatures, made)
	}
	return nil
}

// keysFor are the keys that sign a set of the type at a name.
func (j *signing) keysFor(t rr.Type, apex bool) []*dnssec.Key {
	if apex && t == rr.TypeDNSKEY {
		return j.all
	}
	if apex && (t == rr.TypeCDS || t == rr.TypeCDNSKEY) {
		return j.toParent
	}
	return j.zsks
}

// made looks whether a set has just the signatures that were to be made.
func (w *proofWorker) made(n *zone.Node, set zone.RRset) {
	sigs, _ := n.FindSig(set.Type)
	keys := w.maker.keysFor(set.Type, n.IsApex())
	for _, k := range keys {
		found := false
		for sig := range sigs.Data {
			found = found || dnssec.MatchSet(k.PublicKey, w.apex, w.owner, set, sig, w.now) == nil
		}
		if !found {
			w.report(RuleNoSignature, w.owner, set.Type, "%s %s has no signature of key %d", w.text(), set.Type, k.Tag)
		}
	}
	if sigs.N != len(keys) {
		w.report(RuleStraySignature, w.owner, set.Type, "%s %s has %d signatures, and %d keys sign it", w.text(), set.Type, sigs.N, len(keys))
	}
	w.proving.good.Add(int64(sigs.N))
}

// found looks whether a name that a walk meets is also found by its key.
func (w *proofWorker) found(n *zone.Node) {
	var again zone.Node
	w.key = n.AppendKey(w.key[:0])
	if ok := w.z.Get(w.key, &again); !ok || !n.Same(&again) {
		w.report(RuleNotSigned, w.owner, 0, "%s stands in the zone and is not found there", w.text())
	}
}
