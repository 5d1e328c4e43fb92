package answer

import (
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// Proofs of non-existence (RFC 4035 §3.1.3, RFC 5155 §7.2). Each function adds the
// records it needs with their signatures, unless they are in the response already.

// noType shows that the name asked has no set of the type; n is its node, or nil
// for an empty non-terminal.
func (r *Responder) noType(n *zone.Node) {
	switch {
	case !r.dnssec:
	case r.hashing():
		r.hashedNoType()
	case n != nil:
		r.proveNode(n)
	default:
		r.proveBefore(&r.m.Before)
	}
}

// noName shows that the name asked does not exist, nor a wildcard for it.
func (r *Responder) noName(encloser int) {
	switch {
	case !r.dnssec:
	case r.hashing():
		// With opt-out the closest encloser that can be proved counts (RFC 5155 §7.2.1).
		encloser = r.hashedEncloser(encloser)
		var buf [2*dnsname.MaxWire + 2]byte
		r.hashedCover(append(append(buf[:0], dnsname.KeyPrefix(r.key, encloser)...), '*', 0))
	default:
		r.proveBefore(&r.m.Before)
		r.proveNoWildcard(encloser)
	}
}

// noEmptyWildcard shows that the name asked does not exist, and that the wildcard for
// it has no records of its own.
func (r *Responder) noEmptyWildcard(encloser int) {
	if !r.dnssec || !r.hashing() {
		r.noName(encloser) // the NSEC before the wildcard leads to a name below it
		return
	}
	encloser = r.hashedEncloser(encloser)
	var buf [2*dnsname.MaxWire + 2]byte
	star := append(append(buf[:0], dnsname.KeyPrefix(r.key, encloser)...), '*', 0)
	if !r.hashedMatch(star) {
		r.hashedCover(star) // with opt-out, where all below it are insecure delegations
	}
}

// noCloser shows that a wildcard was right to answer: no closer name exists. The
// proof is due when all answers are written.
func (r *Responder) noCloser() {
	if !r.dnssec {
		return
	}
	d := &r.due[r.nDue]
	r.nDue++
	d.z, d.at = r.z, r.m.Before
	if r.hashing() {
		r.coverOf(dnsname.KeyPrefix(r.key, r.m.Encloser+1), &d.at)
	}
}

// settle writes the proofs that are due.
func (r *Responder) settle() {
	if r.nDue == 0 {
		return
	}
	z, n := r.z, r.nDue
	r.nDue = 0
	for i := range n {
		d := &r.due[i]
		r.z = d.z
		if !r.hashing() {
			r.proveBefore(&d.at)
			continue
		}
		if d.at.Valid() {
			d.at.Node(&r.proof)
			r.addHashed(&r.proof)
		}
	}
	r.z = z
}

// noWildcardType shows that the wildcard that stands for the name has no set of the
// type; n is the wildcard.
func (r *Responder) noWildcardType(n *zone.Node) {
	switch {
	case !r.dnssec:
	case r.hashing():
		r.hashedEncloser(r.m.Encloser)
		var buf [2 * dnsname.MaxWire]byte
		r.hashedMatch(n.AppendKey(buf[:0]))
	default:
		r.proveNode(n)
		r.proveBefore(&r.m.Before)
	}
}

// proveNode adds the NSEC of a node: it shows which types are there.
func (r *Responder) proveNode(n *zone.Node) {
	set, sig, ok := n.FindWithSig(rr.TypeNSEC)
	if !ok || r.proved(n) {
		return
	}
	r.scratch = r.z.AppendOwner(r.scratch[:0], n)
	if !r.add(message.AuthoritySection, r.scratch, set, set.TTL) || !r.add(message.AuthoritySection, r.scratch, sig, sig.TTL) {
		r.truncate = true
	}
}

// proveBefore adds the NSEC of the last name with one at or before the cursor:
// it covers what comes after.
func (r *Responder) proveBefore(c *zone.Cursor) {
	at := *c
	var n zone.Node
	for {
		at.Node(&n)
		if n.Occluded() {
			// Glue has none; its cut is further up, where it is quick to reach.
			var buf [2 * dnsname.MaxWire]byte
			at.Seek(r.z, n.OccluderKey(buf[:0]))
			at.Node(&n)
		}
		if _, ok := n.Find(rr.TypeNSEC); ok {
			r.proveNode(&n)
			return
		}
		if !at.Prev() {
			return
		}
	}
}

// proveNoWildcard adds the NSEC that shows that no wildcard could have matched.
func (r *Responder) proveNoWildcard(encloser int) {
	var buf [2*dnsname.MaxWire + 2]byte
	key := append(append(buf[:0], dnsname.KeyPrefix(r.key, encloser)...), '*', 0)
	r.z.Lookup(key, &r.wild)
	r.proveBefore(&r.wild.Before)
}

// proved reports whether the NSEC of n is in the response, and notes that it
// will be.
func (r *Responder) proved(n *zone.Node) bool {
	for i := range r.nProofs {
		if r.proofs[i].Same(n) {
			return true
		}
	}
	if r.nProofs < len(r.proofs) {
		r.proofs[r.nProofs] = *n
		r.nProofs++
	}
	return false
}
