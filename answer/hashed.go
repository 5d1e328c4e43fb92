package answer

import (
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// Proofs with NSEC3 (RFC 5155 §7.2). Names are given by their keys.

// hashing reports whether the zone proves with NSEC3.
func (r *Responder) hashing() bool { return r.z.HashParams() != nil }

// hashKey is the key of the hashed owner for a name.
func (r *Responder) hashKey(dst, key []byte) []byte {
	p, _, _, err := dnssec.ParseParams(r.z.HashParams())
	if err != nil {
		return dst
	}
	var buf [2 * dnsname.MaxWire]byte
	h := p.Hash(r.z.AppendKeyName(buf[:0], key))
	return append(h.AppendLabel(dst), 0)
}

// hashedMatch adds the record of a name; false if it has none, as with opt-out.
func (r *Responder) hashedMatch(key []byte) bool {
	var buf [dnssec.HashLabel + 1]byte
	var n zone.Node
	if !r.z.NSEC3().Get(r.hashKey(buf[:0], key), &n) {
		return false
	}
	r.addHashed(&n)
	return true
}

// hashedCover adds the record whose span a name falls into: the last before its
// hash, or the last of all.
func (r *Responder) hashedCover(key []byte) {
	if r.coverOf(key, &r.cover); r.cover.Valid() {
		r.cover.Node(&r.proof)
		r.addHashed(&r.proof)
	}
}

// coverOf puts a cursor on that record.
func (r *Responder) coverOf(key []byte, c *zone.Cursor) {
	var buf [dnssec.HashLabel + 1]byte
	h := r.z.NSEC3()
	if c.Seek(h, r.hashKey(buf[:0], key)); !c.Valid() {
		c.Seek(h, lastHash)
	}
}

// lastHash is a key behind those of all hashes.
var lastHash = []byte{0xff, 0xff}

// hashedEncloser adds the proof that encloser, so many labels of the name, is its
// closest encloser: the record of that and the one that covers the next closer name
// (RFC 5155 §7.2.1). With opt-out the closest one with a record is taken and
// returned.
func (r *Responder) hashedEncloser(encloser int) int { return r.encloserOf(r.key, encloser) }

func (r *Responder) encloserOf(key []byte, encloser int) int {
	for ; encloser > 0; encloser-- {
		if r.hashedMatch(dnsname.KeyPrefix(key, encloser)) {
			break
		}
	}
	if encloser == 0 {
		r.hashedMatch(nil)
	}
	r.hashedCover(dnsname.KeyPrefix(key, encloser+1))
	return encloser
}

// hashedNoType shows which types the name asked has (RFC 5155 §7.2.3), or that it
// lies in an opt-out span (§7.2.4).
func (r *Responder) hashedNoType() { r.hashedNoDS(r.key) }

// hashedNoDS shows that a name has no DS or no other type (RFC 5155 §7.2.4, §7.2.7).
func (r *Responder) hashedNoDS(key []byte) {
	if !r.hashedMatch(key) {
		r.encloserOf(key, dnsname.KeyLabels(key)-1)
	}
}

// addHashed adds an NSEC3 record with its signature.
func (r *Responder) addHashed(n *zone.Node) {
	set, sig, ok := n.FindWithSig(rr.TypeNSEC3)
	if !ok || r.proved(n) {
		return
	}
	var buf [dnsname.MaxWire]byte
	owner := r.z.AppendOwner(buf[:0], n)
	if !r.add(message.AuthoritySection, owner, set, set.TTL) || !r.add(message.AuthoritySection, owner, sig, sig.TTL) {
		r.truncate = true
	}
}
