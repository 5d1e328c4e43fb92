package zonestate

import (
	"strings"

	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

// sourceOfSigned is what a stored version was made of, which a signer in the middle has fetched and does
// not store: the version without what signers make, under the serial that it had. Nil: what comes out
// is not that, by its digest, so it has to be fetched again.
func sourceOfSigned(signed *zone.Snapshot, meta store.Meta) *zone.Snapshot {
	digest, _, ok := strings.Cut(meta.Source, " ")
	if !ok {
		return nil
	}
	b := zone.NewBuilder(signed.Apex(), false)
	for n := range signed.Nodes {
		owner := []byte(signed.Owner(n).Wire())
		for set := range n.RRsets {
			if rr.MadeBySigner(set.Type) {
				continue
			}
			for data := range set.Data {
				if set.Type == rr.TypeSOA {
					data = rr.SetSerial([]byte(string(data)), meta.SourceSerial)
				}
				if err := b.Add(owner, set.Type, set.TTL, data, 0); err != nil {
					return nil
				}
			}
		}
	}
	source := b.Build().Snapshot
	if source.Digest() == digest {
		return source
	}
	return nil
}
