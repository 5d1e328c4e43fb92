package validate

import (
	"bytes"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
)

// Proofs that something does not exist. A proof is what records that were found to
// be authentic, of the right zone, show; those that are not are passed over.

// MaxIterations is how many further iterations of NSEC3 hashes are worked out: with
// more an answer is insecure (RFC 9276 §3.2).
const MaxIterations = 100

// span is an NSEC record: from its owner to the next name.
type span struct {
	owner, next dnsname.Name
	types       []byte
}

func (s *span) has(t rr.Type) bool { return rr.BitmapHas(s.types, t) }

// parentSide reports whether the record is of a delegation: it says nothing about
// names below, nor about other types than DS at it (RFC 6840 §4.1).
func (s *span) parentSide() bool { return s.has(rr.TypeNS) && !s.has(rr.TypeSOA) }

// covers reports whether a name falls between the owner and the next name, and the
// owner does not hide it.
func (s *span) covers(name dnsname.Name) bool {
	if name.Below(s.owner) && (s.parentSide() || s.has(rr.TypeDNAME)) { // RFC 6840 §4.1, RFC 6672 §5.3.4
		return false
	}
	after, before := s.owner.Compare(name) < 0, name.Compare(s.next) < 0
	if s.owner.Compare(s.next) < 0 {
		return after && before
	}
	return after || before // the last one, which leads back to the apex
}

// hashSpan is an NSEC3 record.
type hashSpan struct {
	owner dnssec.Hash
	dnssec.NSEC3
}

func (h *hashSpan) has(t rr.Type) bool { return rr.BitmapHas(h.Bitmap, t) }

func (h *hashSpan) covers(x dnssec.Hash) bool {
	after, before := bytes.Compare(h.owner[:], x[:]) < 0, bytes.Compare(x[:], h.Next[:]) < 0
	if bytes.Compare(h.owner[:], h.Next[:]) < 0 {
		return after && before
	}
	return after || before
}

// denier is the authentic proofs of one zone.
type denier struct {
	keys   *Keys
	spans  []span
	hashes []hashSpan
	params dnssec.NSEC3Params
	// tooMany tells that there were records with too many iterations.
	tooMany bool
}

func (p *RRsets) denier(k *Keys, now time.Time) *denier {
	d := &denier{keys: k}
	for _, s := range p.nsec {
		if !s.name.AtOrBelow(k.Zone) || s.data.N != 1 {
			continue
		}
		if wild, _, err := p.verify(k, s, now); err != nil || wild {
			continue
		}
		data := s.data.First()
		if n, err := dnsname.WireLen(data); err == nil {
			next, _ := dnsname.FromWire(data[:n])
			d.spans = append(d.spans, span{s.name, next, data[n:]})
		}
	}
	for _, s := range p.nsec3 {
		if !s.name.Parent().Equal(k.Zone) {
			continue
		}
		if _, _, err := p.verify(k, s, now); err != nil {
			continue
		}
		d.addHash(s)
	}
	return d
}

func (d *denier) addHash(s *set) {
	owner, ok := dnssec.ParseHashLabel([]byte(s.name.Wire()[1 : 1+s.name.Wire()[0]]))
	for data := range s.data.Data {
		n, err := dnssec.ParseNSEC3(data)
		if err != nil || !ok || n.Flags&^dnssec.FlagOptOut != 0 { // RFC 5155 §8.1, §8.2
			continue
		}
		if n.Params.Iterations > MaxIterations {
			d.tooMany = true
			continue
		}
		if len(d.hashes) == 0 {
			d.params = n.Params
		}
		if n.Params.Equal(&d.params) {
			d.hashes = append(d.hashes, hashSpan{owner, n})
		}
	}
}

// match is the NSEC3 record of a name, cover the one whose span it falls into.
func (d *denier) match(name dnsname.Name) *hashSpan {
	h := d.params.Hash([]byte(name.Wire()))
	for i := range d.hashes {
		if d.hashes[i].owner == h {
			return &d.hashes[i]
		}
	}
	return nil
}

func (d *denier) cover(name dnsname.Name) *hashSpan {
	h := d.params.Hash([]byte(name.Wire()))
	for i := range d.hashes {
		if d.hashes[i].covers(h) {
			return &d.hashes[i]
		}
	}
	return nil
}

// encloser finds the closest encloser of a name that is proved, and the record that
// covers the next closer name (RFC 5155 §8.3).
func (d *denier) encloser(name dnsname.Name) (closest dnsname.Name, next *hashSpan, ok bool) {
	child := name
	for up := name.Parent(); up.AtOrBelow(d.keys.Zone); child, up = up, up.Parent() {
		if m := d.match(up); m != nil {
			if m.has(rr.TypeDNAME) || m.has(rr.TypeNS) && !m.has(rr.TypeSOA) {
				return up, nil, false
			}
			next = d.cover(child)
			return up, next, next != nil
		}
		if up.Labels() == 0 {
			break
		}
	}
	return dnsname.Name{}, nil, false
}

// proof is what the proofs show of a name and type.
type proof struct {
	outcome Outcome
	optOut  bool // only that it may be an insecure delegation
}

// deny works out what is proved: that the name does not exist, that it has no such
// type, or nothing.
func (d *denier) deny(name dnsname.Name, t rr.Type) proof {
	if p := d.denyNSEC(name, t); p.outcome != NoOutcome {
		return p
	}
	return d.denyNSEC3(name, t)
}

// lacks reports whether a bitmap shows that a name has no set of a type that an
// answer could be made of (RFC 6840 §4.3, RFC 4035 §5.2).
func lacks(has func(rr.Type) bool, name, apex dnsname.Name, t rr.Type) bool {
	switch {
	case has(t) || has(rr.TypeCNAME) && t != rr.TypeNSEC:
		return false
	case t == rr.TypeDS:
		return !has(rr.TypeSOA) || name.Labels() == 0 // of the parent, not of the child
	}
	return !has(rr.TypeNS) || has(rr.TypeSOA)
}

// nxname marks a name that does not exist in compact answers (RFC 9824 §2).
const nxname rr.Type = 128

func (d *denier) denyNSEC(name dnsname.Name, t rr.Type) proof {
	for i := range d.spans {
		s := &d.spans[i]
		switch {
		case s.owner.Equal(name) && s.has(nxname):
			return proof{outcome: NXDomain}
		case s.owner.Equal(name) && lacks(s.has, name, d.keys.Zone, t):
			return proof{outcome: NoData}
		case s.covers(name) && s.next.Below(name): // an empty non-terminal
			return proof{outcome: NoData}
		}
	}
	for i := range d.spans {
		s := &d.spans[i]
		if !s.covers(name) {
			continue
		}
		// The closest encloser is the longest name shared with either end.
		closest := longer(shared(name, s.owner), shared(name, s.next))
		star, err := closest.Child("*")
		if err != nil {
			return proof{}
		}
		for j := range d.spans {
			w := &d.spans[j]
			if w.covers(star) {
				return proof{outcome: NXDomain}
			}
			if w.owner.Equal(star) && lacks(w.has, star, d.keys.Zone, t) {
				return proof{outcome: NoData}
			}
		}
	}
	return proof{}
}

// shared is the longest name that both are at or below.
func shared(a, b dnsname.Name) dnsname.Name {
	for !b.AtOrBelow(a) {
		a = a.Parent()
	}
	return a
}

func longer(a, b dnsname.Name) dnsname.Name {
	if b.Labels() > a.Labels() {
		return b
	}
	return a
}

func (d *denier) denyNSEC3(name dnsname.Name, t rr.Type) proof {
	if len(d.hashes) == 0 {
		return proof{}
	}
	if m := d.match(name); m != nil {
		if lacks(m.has, name, d.keys.Zone, t) {
			return proof{outcome: NoData}
		}
		return proof{}
	}
	closest, next, ok := d.encloser(name)
	if !ok {
		return proof{}
	}
	optOut := next.Flags&dnssec.FlagOptOut != 0
	if t == rr.TypeDS && optOut { // RFC 5155 §8.6
		return proof{outcome: NoData, optOut: true}
	}
	// An empty non-terminal above insecure delegations alone has no record with
	// opt-out (RFC 5155 §7.1), so the span says no more than that either.
	fallback := proof{}
	if optOut {
		fallback = proof{outcome: NoData, optOut: true}
	}
	star, err := closest.Child("*")
	if err != nil {
		return proof{}
	}
	if m := d.match(star); m != nil {
		if lacks(m.has, star, d.keys.Zone, t) {
			return proof{outcome: NoData, optOut: optOut}
		}
		return proof{}
	}
	if d.cover(star) != nil {
		return proof{outcome: NXDomain, optOut: optOut}
	}
	return fallback
}

// noCloser reports whether it is proved that no name between name and its encloser,
// of so many labels, exists: then a wildcard there may stand for it.
func (d *denier) noCloser(name dnsname.Name, labels int) (proved, optOut bool) {
	next := name
	for next.Labels() > labels+1 {
		next = next.Parent()
	}
	for i := range d.spans {
		if d.spans[i].covers(name) && !d.spans[i].next.AtOrBelow(next) && !d.spans[i].owner.AtOrBelow(next) {
			return true, false
		}
	}
	if len(d.hashes) > 0 {
		if c := d.cover(next); c != nil {
			return true, c.Flags&dnssec.FlagOptOut != 0
		}
	}
	return false, false
}

// insecureCut reports whether it is proved that a name is a delegation without DS
// (RFC 6840 §4.4, RFC 5155 §8.9).
func (d *denier) insecureCut(name dnsname.Name) bool {
	cut := func(has func(rr.Type) bool) bool { return has(rr.TypeNS) && !has(rr.TypeDS) && !has(rr.TypeSOA) }
	for i := range d.spans {
		if d.spans[i].owner.Equal(name) && cut(d.spans[i].has) {
			return true
		}
	}
	if len(d.hashes) == 0 {
		return false
	}
	if m := d.match(name); m != nil {
		return cut(m.has)
	}
	_, next, ok := d.encloser(name)
	return ok && next.Flags&dnssec.FlagOptOut != 0
}
