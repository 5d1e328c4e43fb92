package signer

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// checkAnchors looks whether an anchor leads to a key that signs the DNSKEY set
// (RFC 4035 §5.2), and says of each why it does not.
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
	var why []string
	for _, a := range anchors {
		if words := v.anchorFault(a); !slices.Contains(why, words) {
			why = append(why, words)
		}
	}
	v.report(RuleNoAnchor, v.apex, rr.TypeDNSKEY, "no anchor matches a key that signs the DNSKEY set: %s", strings.Join(why, "; "))
}

func (v *proving) anchored(k *dnssec.PublicKey, anchors []rr.Record) bool {
	return slices.ContainsFunc(anchors, func(a rr.Record) bool { return v.fits(a, k) })
}

// fits reports whether an anchor is of a key.
func (v *proving) fits(a rr.Record, k *dnssec.PublicKey) bool {
	switch {
	case !a.Name.Equal(v.z.Apex()):
		return false
	case a.Type == rr.TypeDNSKEY:
		return bytes.Equal(a.Data, k.Data)
	}
	return a.Type == rr.TypeDS && len(a.Data) > 4 && bytes.Equal(dnssec.DS(v.z.Apex(), k.Data, a.Data[3]), a.Data)
}

// anchorFault says why an anchor leads nowhere: a DS that was mistyped is told from one
// of a key that the zone does not have.
func (v *proving) anchorFault(a rr.Record) string {
	if !a.Name.Equal(v.z.Apex()) {
		return fmt.Sprintf("the %s is of %s, not of this zone", a.Type, a.Name)
	}
	for _, k := range v.keys {
		if v.fits(a, k) {
			return fmt.Sprintf("key %d, which it is of, does not sign the DNSKEY set", k.Tag)
		}
	}
	if a.Type == rr.TypeDNSKEY {
		return fmt.Sprintf("the zone has no such key (tag %d)", dnssec.KeyTag(a.Data))
	}
	if len(a.Data) < 5 {
		return "the DS is cut off"
	}
	tag, digest := binary.BigEndian.Uint16(a.Data), a.Data[4:]
	for _, k := range v.keys {
		right := dnssec.DS(v.z.Apex(), k.Data, a.Data[3])
		if right == nil {
			return fmt.Sprintf("digest type %d is not known here", a.Data[3])
		}
		same := bytes.Equal(right[4:], digest)
		if same || k.Tag == tag {
			what := "key tag or algorithm"
			if !same {
				what = "digest"
			}
			return fmt.Sprintf("the DS of key %d is mistyped in its %s: it has to be %s", k.Tag, what, rr.DataText(rr.TypeDS, right))
		}
	}
	return fmt.Sprintf("the DS is of key %d, which the zone does not have", tag)
}
