package keymanager

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sync"

	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
)

// looksAtSigners looks at the others who sign the zone, all at once: whether their DNSKEY sets have the
// keys with which we sign or are going to, and, where the DS is about to change, whether their CDS sets
// ask for what ours do (RFC 8901 §6, §8). The longest TTL of their DNSKEY sets comes back too.
func (w *Observer) looksAtSigners(ctx context.Context, signers []resolve.Server, ds bool) (out []roll.Observation, ttl uint32) {
	out = make([]roll.Observation, len(signers))
	ttls := make([]uint32, len(signers))
	var wg sync.WaitGroup
	for i, s := range signers {
		wg.Go(func() { out[i], ttls[i] = w.lookAtSigner(ctx, s, ds) })
	}
	wg.Wait()
	for _, t := range ttls {
		ttl = max(ttl, t)
	}
	return out, ttl
}

func (w *Observer) lookAtSigner(ctx context.Context, s resolve.Server, ds bool) (roll.Observation, uint32) {
	l := roll.Observation{Server: s.String() + ", another signer"}
	keys, err := w.Authoritative(ctx, s.Address, w.zone, rr.TypeDNSKEY)
	if err != nil {
		l.Err = err
		return l, 0
	}
	have, ttl := keys.Set(w.zone, rr.TypeDNSKEY)
	if l.Mismatch = w.judgeSigner(have); l.Mismatch != "" || !ds {
		return l, ttl
	}
	cds, err := w.Authoritative(ctx, s.Address, w.zone, rr.TypeCDS)
	if err != nil {
		l.Err = err
		return l, ttl
	}
	asked, _ := cds.Set(w.zone, rr.TypeCDS)
	l.Mismatch = w.judgeCDS(asked)
	return l, ttl
}

// judgeSigner says which of our keys another signer's DNSKEY set lacks, and what its operator has to
// enter; empty: none. Keys that sign nothing but keys need not be there (RFC 8901 §2.1.2).
func (w *Observer) judgeSigner(have [][]byte) string {
	for _, e := range w.ring.Keys {
		if !e.Publish || e.Foreign || e.Role == signer.KSK {
			continue
		}
		if shown := e.Shown().Data; !slices.ContainsFunc(have, func(d []byte) bool { return bytes.Equal(d, shown) }) {
			return fmt.Sprintf("its DNSKEY set does not have key %d; its operator enters it as a key of another operator: %s DNSKEY %s", e.Tag, w.zone, keyring.PublicText(shown))
		}
	}
	return ""
}

// judgeCDS says what another signer's CDS set asks for and ours does not, or the other way round. One
// that has none asks for nothing.
func (w *Observer) judgeCDS(asked [][]byte) string {
	if len(asked) == 0 {
		return ""
	}
	for _, e := range w.ring.Keys {
		switch has := slices.ContainsFunc(asked, func(ds []byte) bool { return matchesDS(w.zone, e.Public, ds) }); {
		case e.Foreign:
		case e.DS && !has:
			return fmt.Sprintf("its CDS set does not ask for the DS of key %d; its operator enters it as a key of another operator: %s DNSKEY %s", e.Tag, w.zone, keyring.PublicText(e.Public.Data))
		case !e.DS && has:
			return fmt.Sprintf("its CDS set still asks for the DS of key %d; its operator takes that back", e.Tag)
		}
	}
	return ""
}

// StillUsed says which of the other signers still has a key of its own in its DNSKEY set, and so may sign
// with it; empty: none that answers.
func (w *Observer) StillUsed(ctx context.Context, signers []resolve.Server, key *dnssec.PublicKey) string {
	for _, s := range signers {
		keys, err := w.Authoritative(ctx, s.Address, w.zone, rr.TypeDNSKEY)
		if err != nil {
			continue
		}
		have, _ := keys.Set(w.zone, rr.TypeDNSKEY)
		if slices.ContainsFunc(have, func(d []byte) bool { return bytes.Equal(d, key.Data) }) {
			return s.String()
		}
	}
	return ""
}
