package validate

import (
	"slices"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
)

// AnchorState is where a trust anchor is in its life (RFC 5011 §4.2), as one look at the zone's
// keys shows it.
type AnchorState string

// The states. Start and Removed are not seen.
const (
	AnchorValid   AnchorState = "valid"   // the zone has the key
	AnchorMissing AnchorState = "missing" // it has not, and has not revoked it
	AnchorRevoked AnchorState = "revoked" // it says that the key is not to be trusted any more
	AnchorPending AnchorState = "pending" // an entry point of the zone that is no anchor yet
)

// AnchorView is a trust anchor, or a key that may become one.
type AnchorView struct {
	Tag       uint16
	Algorithm rr.AlgorithmNumber
	State     AnchorState
}

// Anchors are the states of the anchors of a zone and of entry points in its key set that are
// none, by the keys that came.
func (p *RRsets) Anchors(zone dnsname.Name, anchors []rr.Record) (out []AnchorView) {
	var keys []*dnssec.PublicKey
	for _, data := range p.Data(zone, rr.TypeDNSKEY) {
		if k, err := dnssec.ParseDNSKEY(data); err == nil {
			keys = append(keys, k)
		}
	}
	led := map[*dnssec.PublicKey]bool{}
	for _, a := range anchors {
		if !a.Name.Equal(zone) || len(a.Data) < 4 {
			continue
		}
		v := AnchorView{State: AnchorMissing}
		if a.Type == rr.TypeDS {
			v.Tag, v.Algorithm = uint16(a.Data[0])<<8|uint16(a.Data[1]), rr.AlgorithmNumber(a.Data[2])
		} else {
			v.Tag, v.Algorithm = dnssec.KeyTag(a.Data), rr.AlgorithmNumber(a.Data[3])
		}
		for _, k := range keys {
			if !leadsTo(a, zone, unrevoked(k), false) {
				continue
			}
			led[k] = true
			if v.State = AnchorValid; k.Flags&dnssec.FlagRevoked != 0 {
				v.State = AnchorRevoked
				break // RFC 5011 §2.1: that is for ever
			}
		}
		if !slices.Contains(out, v) { // two digests of one key
			out = append(out, v)
		}
	}
	for _, k := range keys {
		if !led[k] && k.IsZoneKey() && k.Flags&dnssec.FlagSEP != 0 {
			out = append(out, AnchorView{dnssec.KeyTag(k.Data), k.Algorithm, AnchorPending})
		}
	}
	return out
}

// unrevoked is a key as it was before it was revoked: the flag is part of what its tag and
// digest are made of (RFC 5011 §2.1, RFC 4034 appendix B).
func unrevoked(k *dnssec.PublicKey) *dnssec.PublicKey {
	if k.Flags&dnssec.FlagRevoked == 0 {
		return k
	}
	data := slices.Clone(k.Data)
	data[1] &^= byte(dnssec.FlagRevoked)
	before, err := dnssec.ParseDNSKEY(data)
	if err != nil {
		return k
	}
	return before
}
