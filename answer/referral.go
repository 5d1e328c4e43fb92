package answer

import (
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// referral points to the servers of the zone below the cut r.m.Node.
func (r *Responder) referral(step int) {
	cut := &r.m.Node
	r.trace(Step{Kind: Referral, Zone: r.z, Node: cut})
	r.settle()
	r.scratch = r.z.AppendOwner(r.scratch[:0], cut)
	owner := r.scratch
	if step == 0 && len(owner) == len(r.q.Name) {
		owner = message.QName
	}
	servers, _ := cut.Find(rr.TypeNS)
	if !r.addServers(owner, servers, step == 0) {
		r.truncate = true
		return
	}
	if r.dnssec {
		ds, sig, ok := cut.FindWithSig(rr.TypeDS)
		if !ok && r.hashing() {
			var buf [2 * dnsname.MaxWire]byte
			r.hashedNoDS(cut.AppendKey(buf[:0]))
			if r.truncate {
				return
			}
		} else if !ok {
			ds, sig, _ = cut.FindWithSig(rr.TypeNSEC)
		}
		if !r.add(message.AuthoritySection, owner, ds, ds.TTL) || !r.add(message.AuthoritySection, owner, sig, sig.TTL) {
			r.truncate = true
			return
		}
	}
	r.glue(servers, cut)
}

// addServers writes the NS set of a referral; asked tells that the cut is the name
// asked or above it, so that a pointer into the question is its owner.
func (r *Responder) addServers(owner []byte, servers zone.RRset, asked bool) bool {
	if !asked || owner == nil {
		return r.add(message.AuthoritySection, owner, servers, servers.TTL)
	}
	mark := r.b.Mark()
	var data []byte
	for ttl := servers.TTL; servers.N > 0; {
		data, servers = servers.Next()
		if !r.b.SuffixOwner(message.AuthoritySection, len(owner), rr.TypeNS, ttl, data) {
			r.b.Rollback(mark)
			return false
		}
	}
	return true
}

// glue adds the addresses of the servers that lie in this zone. Those below the
// cut come first: they are needed, and TC says if they do not fit (RFC 9471 §3.1);
// those elsewhere may be left out (§3.2).
func (r *Responder) glue(servers zone.RRset, cut *zone.Node) {
	var cutBuf [2 * dnsname.MaxWire]byte
	cutKey := cut.AppendKey(cutBuf[:0])
	for _, needed := range [2]bool{true, false} {
		if !r.glueOf(servers, cutKey, needed) {
			r.truncate = r.truncate || needed
			return
		}
	}
}

// glueOf adds the addresses of the servers below the cut, or of the others;
// false when one does not fit.
func (r *Responder) glueOf(servers zone.RRset, cutKey []byte, below bool) bool {
	var keyBuf [2 * dnsname.MaxWire]byte
	var n zone.Node
	var host []byte
	for servers.N > 0 {
		host, servers = servers.Next()
		key, ok := r.z.AppendKey(keyBuf[:0], host)
		if !ok || below != (len(key) >= len(cutKey) && string(key[:len(cutKey)]) == string(cutKey)) || !r.z.Get(key, &n) {
			continue
		}
		signed := r.dnssec && !below && !n.Occluded() && !n.IsCut() // these are the zone's own data (RFC 4035 §3.1.1)
		for _, t := range [2]rr.Type{rr.TypeA, rr.TypeAAAA} {
			set, sig, ok := n.FindWithSig(t)
			if !ok {
				continue
			}
			mark := r.b.Mark()
			if !r.add(message.AdditionalSection, host, set, set.TTL) {
				return false
			}
			if signed && !r.add(message.AdditionalSection, host, sig, sig.TTL) {
				r.b.Rollback(mark)
				return false
			}
		}
	}
	return true
}
