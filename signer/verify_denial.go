package signer

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strconv"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// checkParams finds out how the zone denies: with NSEC, or with NSEC3 and which
// parameters.
func (v *proving) checkParams() {
	var apex zone.Node
	v.z.ApexNode(&apex)
	_, v.nsec = apex.Find(rr.TypeNSEC)
	set, ok := apex.Find(rr.TypeNSEC3PARAM)
	if !ok {
		if v.z.NSEC3() != nil {
			v.report(RuleParams, v.apex, rr.TypeNSEC3PARAM, "the zone has NSEC3 records and no NSEC3PARAM record that says how names are hashed")
		}
		v.nsec = true // what is missing is reported name by name
		return
	}
	for data := range set.Data {
		params, flags, _, err := dnssec.ParseParams(data)
		if err != nil || flags != 0 { // RFC 5155 §4.1.2
			v.report(RuleParams, v.apex, rr.TypeNSEC3PARAM, "an NSEC3PARAM record cannot be used: its flags are %d and its hash algorithm %d", data[1], data[0])
			continue
		}
		v.proof.NSEC3 = &Denial{NSEC3: true, Params: params}
	}
	if v.proof.NSEC3 != nil {
		v.proof.NSEC3.OptOut = v.anyOptOut()
		v.chain = &chainMaker{z: v.z, d: *v.proof.NSEC3, proving: true}
	}
}

func (v *proving) anyOptOut() bool {
	if v.z.NSEC3() == nil {
		return false
	}
	for n := range v.z.NSEC3().Nodes {
		set, _ := n.Find(rr.TypeNSEC3)
		for data := range set.Data {
			if len(data) > 1 && data[1]&dnssec.FlagOptOut != 0 {
				return true
			}
		}
	}
	return false
}

// hashedWorker checks the signatures over NSEC3 records.
func (v *proving) hashedWorker() zone.Visit {
	w := v.newWorker()
	return func(n, _ *zone.Node) error {
		w.owner = w.z.AppendOwner(w.owner[:0], n)
		for set := range n.RRsets {
			if set.Type == rr.TypeNSEC3 {
				w.signed(n, set)
			} else if _, there := n.Find(rr.TypeNSEC3); !there {
				w.report(RuleStraySignature, w.owner, rr.TypeNSEC3, "%s has a signature over NSEC3, which is not there", w.text())
			}
		}
		return nil
	}
}

// link is an NSEC3 record of the chain that the zone has.
type link struct {
	hash  dnssec.Hash
	owner []byte
	dnssec.NSEC3
}

// links are the NSEC3 records with the zone's parameters, in order.
func (v *proving) links() (out []link) {
	if v.z.NSEC3() == nil {
		return nil
	}
	for n := range v.z.NSEC3().Nodes {
		set, _ := n.Find(rr.TypeNSEC3)
		key := n.AppendKey(nil)
		owner := v.z.AppendOwner(nil, n)
		h, ok := dnssec.ParseHashLabel(bytes.TrimSuffix(key, []byte{0}))
		for data := range set.Data {
			rec, err := dnssec.ParseNSEC3(data)
			switch {
			case err != nil || !ok || rec.Flags&^dnssec.FlagOptOut != 0:
				v.report(RuleParams, owner, rr.TypeNSEC3, "%s is not a usable NSEC3 record", dnsname.AppendText(nil, owner))
			case !rec.Params.Equal(&v.proof.NSEC3.Params):
				v.report(RuleParams, owner, rr.TypeNSEC3, "the NSEC3 record %s has other parameters than NSEC3PARAM", dnsname.AppendText(nil, owner))
			default:
				out = append(out, link{h, owner, rec})
			}
		}
	}
	return out
}

// checkChain compares the NSEC3 records with what the names of the zone demand:
// none missing, none too many, each pointing to the next, with the right types.
func (v *proving) checkChain() {
	want, err := v.chain.ring()
	if err != nil {
		v.report(RuleParams, v.apex, rr.TypeNSEC3, "%v", err)
		return
	}
	have := v.links()
	optOut := func(i int) bool { // the span before have[i] may leave out delegations
		if len(have) == 0 {
			return false
		}
		return have[(i+len(have)-1)%len(have)].Flags&dnssec.FlagOptOut != 0
	}
	i := 0
	for _, w := range want {
		for i < len(have) && bytes.Compare(have[i].hash[:], w.Hash[:]) < 0 {
			v.stray3(have[i])
			i++
		}
		if i == len(have) || have[i].hash != w.Hash {
			if !(w.cut && optOut(i)) {
				name := v.z.AppendKeyName(nil, w.key)
				v.report(RuleNoDenial, name, rr.TypeNSEC3, "%s has no NSEC3 record: %s is missing", dnsname.AppendText(nil, name), v.hashText(&w.Hash))
			}
			continue
		}
		if !bytes.Equal(have[i].Bitmap, w.bitmap) {
			v.report(RuleBadTypes, have[i].owner, rr.TypeNSEC3, "the NSEC3 record of %s lists %v; the name has %v",
				dnsname.AppendText(nil, v.z.AppendKeyName(nil, w.key)), rr.BitmapTypes(have[i].Bitmap), rr.BitmapTypes(w.bitmap))
		}
		i++
	}
	for ; i < len(have); i++ {
		v.stray3(have[i])
	}
	for i := range have {
		if next := have[(i+1)%len(have)].hash; have[i].Next != next {
			v.report(RuleBadChain, have[i].owner, rr.TypeNSEC3, "the NSEC3 record %s points to %s; the next is %s", v.hashText(&have[i].hash), have[i].Next.AppendLabel(nil), next.AppendLabel(nil))
		}
	}
}

func (v *proving) stray3(l link) {
	v.report(RuleStrayDenial, l.owner, rr.TypeNSEC3, "the NSEC3 record %s belongs to no name of the zone", v.hashText(&l.hash))
}

func (v *proving) hashText(h *dnssec.Hash) string { return string(h.AppendLabel(nil)) }

// checkCDS looks whether a parent that follows CDS and CDNSKEY keeps a chain of
// trust (RFC 7344 §4.1).
func (v *proving) checkCDS() {
	var apex zone.Node
	v.z.ApexNode(&apex)
	cds, hasCDS := apex.Find(rr.TypeCDS)
	cdnskeys, hasKeys := apex.Find(rr.TypeCDNSKEY)
	if !hasCDS && !hasKeys {
		return
	}
	for _, f := range CDSFaults(v.z.Apex(), v.keys, cds, cdnskeys) {
		t := rr.TypeCDS
		if !hasCDS {
			t = rr.TypeCDNSKEY
		}
		v.report(RuleCDS, v.apex, t, "%s", f)
	}
}

// IsDelete reports whether a CDS or CDNSKEY record asks to delete all DS records
// (RFC 8078 §4).
func IsDelete(t rr.Type, data []byte) bool {
	return t == rr.TypeCDS && len(data) >= 4 && data[2] == 0 || t == rr.TypeCDNSKEY && len(data) >= 4 && data[3] == 0
}

// CDSFaults says in words what is wrong with CDS and CDNSKEY sets, either of which
// may be empty, for a zone with these keys; nothing if a parent can follow them.
func CDSFaults(apex dnsname.Name, keys []*dnssec.PublicKey, cds, cdnskeys zone.RRset) (faults []string) {
	var wanted [][]byte
	deletes := 0
	for data := range cdnskeys.Data {
		if IsDelete(rr.TypeCDNSKEY, data) {
			deletes++
		}
		wanted = append(wanted, data)
	}
	for data := range cds.Data {
		if IsDelete(rr.TypeCDS, data) {
			deletes++
			continue
		}
		if cdnskeys.N > 0 && len(data) > 4 && dnssec.DigestLevel(data[3]).Validation > 0 &&
			!slices.ContainsFunc(wanted, func(k []byte) bool { return bytes.Equal(dnssec.DS(apex, k, data[3]), data) }) {
			faults = append(faults, "the CDS of key "+tagText(data)+" has no CDNSKEY beside it")
		}
	}
	if deletes > 0 {
		if deletes != cds.N+cdnskeys.N {
			return append(faults, "the request to delete all DS stands beside other records")
		}
		return faults
	}
	matched := func(yes func(k *dnssec.PublicKey) bool) bool { return slices.ContainsFunc(keys, yes) }
	for data := range cds.Data {
		if !matched(func(k *dnssec.PublicKey) bool {
			return k.IsZoneKey() && len(data) > 4 && bytes.Equal(dnssec.DS(apex, k.Data, data[3]), data)
		}) {
			faults = append(faults, "no key of the zone fits the CDS of key "+tagText(data))
		}
	}
	for data := range cdnskeys.Data {
		if !matched(func(k *dnssec.PublicKey) bool { return k.IsZoneKey() && bytes.Equal(k.Data, data) }) {
			faults = append(faults, "the CDNSKEY is of no key of the zone")
		}
	}
	return faults
}

func tagText(ds []byte) string { return strconv.Itoa(int(binary.BigEndian.Uint16(ds))) }

// checkZonemd works out the digests that the zone says it has (RFC 8976 §4).
func (v *proving) checkZonemd() error {
	var apex zone.Node
	v.z.ApexNode(&apex)
	set, ok := apex.Find(rr.TypeZONEMD)
	if !ok {
		return nil
	}
	seen := map[uint8][]byte{}
	var algs []uint8
	for data := range set.Data {
		if len(data) < 6 || data[4] != zonemdSimple || zonemdHashes[data[5]] == nil {
			continue // not ours to judge (RFC 8976 §4)
		}
		if seen[data[5]] != nil {
			v.report(RuleZonemd, v.apex, rr.TypeZONEMD, "there are two digests of hash algorithm %d", data[5])
		}
		seen[data[5]] = data
		algs = append(algs, data[5])
	}
	digests, err := Zonemd(v.z, algs)
	if err != nil {
		return err
	}
	for alg, data := range seen {
		switch {
		case binary.BigEndian.Uint32(data) != v.z.Serial():
			v.report(RuleZonemd, v.apex, rr.TypeZONEMD, "the digest is of serial %d; the zone has %d", binary.BigEndian.Uint32(data), v.z.Serial())
		case !bytes.Equal(data[6:], digests[alg]):
			v.report(RuleZonemd, v.apex, rr.TypeZONEMD, "the digest of hash algorithm %d is not that of the records", alg)
		default:
			v.proof.Digests = append(v.proof.Digests, alg)
		}
	}
	slices.Sort(v.proof.Digests)
	return nil
}
