package validate

import (
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
)

// maxAliases bounds how many aliases one answer follows.
const maxAliases = 16

// Validate judges what the records say of a name and type, from anchors down: DS or
// DNSKEY records that are trusted.
func (p *RRsets) Validate(anchors []rr.Record, name dnsname.Name, t rr.Type, now time.Time) Verdict {
	worst := Verdict{Status: Secure}
	for range maxAliases {
		keys, v := p.descend(anchors, name, t, now)
		if keys == nil {
			return v
		}
		v, next := p.judge(keys, name, t, now)
		if v.Status != Secure || next.IsZero() {
			return weaker(worst, v)
		}
		worst, name = weaker(worst, v), next
	}
	return bogus(edeBogus, "the aliases do not end")
}

// Answer judges an answer from a zone whose keys are known, as from one server:
// aliases are followed as long as they stay in the zone.
func (p *RRsets) Answer(keys *Keys, name dnsname.Name, t rr.Type, now time.Time) Verdict {
	if t == rr.TypeANY {
		return p.any(keys, name, now)
	}
	worst := Verdict{Status: Secure}
	for range maxAliases {
		v, next := p.judge(keys, name, t, now)
		if v.Status != Secure || next.IsZero() || !next.AtOrBelow(keys.Zone) {
			return weaker(worst, v)
		}
		worst, name = weaker(worst, v), next
	}
	return bogus(edeBogus, "the aliases do not end")
}

// any judges an answer to ANY: each set that is there has to be proved, and none has
// to be there but one (RFC 6840 §4.2).
func (p *RRsets) any(keys *Keys, name dnsname.Name, now time.Time) Verdict {
	var out Verdict
	found := false
	for _, k := range p.order {
		s := p.sets[k]
		if !s.name.Equal(name) || k.typ == rr.TypeNSEC3 {
			continue
		}
		if v := p.positive(keys, s, now); !found || v.Status < out.Status {
			out = v
		}
		found = true
	}
	if !found {
		return p.negative(keys, name, rr.TypeANY, now)
	}
	return out
}

// weaker is the verdict on a chain of which both are parts (RFC 4035 §4).
func weaker(a, b Verdict) Verdict {
	if a.Status < b.Status {
		a.Outcome = b.Outcome
		return a
	}
	return b
}

// descend goes from the anchors down to the zone that answers for a name: keys are
// nil where the way ends, with the reason.
func (p *RRsets) descend(anchors []rr.Record, name dnsname.Name, t rr.Type, now time.Time) (*Keys, Verdict) {
	var start dnsname.Name
	for _, a := range anchors {
		if name.AtOrBelow(a.Name) && (start.IsZero() || a.Name.Labels() > start.Labels()) {
			start = a.Name
		}
	}
	if start.IsZero() {
		return nil, Verdict{Status: Indeterminate, Reason: "no trust anchor is at or above " + name.String()}
	}
	keys, v := p.TrustKeys(start, anchors, now)
	if keys == nil {
		return nil, v
	}
	for labels := start.Labels() + 1; labels <= name.Labels(); labels++ {
		cut := name
		for cut.Labels() > labels {
			cut = cut.Parent()
		}
		if t == rr.TypeDS && cut.Equal(name) { // the parent's (RFC 4035 §3.1.4.1)
			break
		}
		child, v := p.cross(keys, cut, now)
		if v.Status != Secure {
			return nil, v
		}
		if child != nil {
			keys = child
		}
	}
	return keys, Verdict{Status: Secure}
}

// cross goes from a zone into the one delegated at cut: child is nil if nothing
// says that there is a delegation.
func (p *RRsets) cross(keys *Keys, cut dnsname.Name, now time.Time) (child *Keys, v Verdict) {
	ds := p.find(cut, rr.TypeDS)
	if ds == nil {
		d := p.denier(keys, now)
		switch {
		case d.insecureCut(cut):
			v = insecure(0, "%s is delegated without DS", cut)
		case d.tooMany:
			v = insecure(edeIterations, "the hashes of %s are iterated more than %d times", keys.Zone, MaxIterations)
		default:
			return nil, Verdict{Status: Secure}
		}
		p.noteDenial(NoDS, keys, cut, rr.TypeDS, v, now)
		return nil, v
	}
	if _, _, err := p.verify(keys, ds, now); err != nil {
		v = fault(ds, err)
		p.noteSet(Delegation, keys, ds, v, now)
		return nil, v
	}
	p.noteSet(Delegation, keys, ds, Verdict{Status: Secure, Outcome: Positive, TTL: ds.ttl}, now)
	var anchors []rr.Record
	for data := range ds.data.Data {
		anchors = append(anchors, rr.Record{Name: cut, Type: rr.TypeDS, Class: rr.ClassIN, Data: data})
	}
	return p.TrustKeys(cut, anchors, now)
}

// judge looks what the records say of a name in its zone. next is where an alias
// leads.
func (p *RRsets) judge(keys *Keys, name dnsname.Name, t rr.Type, now time.Time) (v Verdict, next dnsname.Name) {
	if s := p.find(name, t); s != nil {
		return p.positive(keys, s, now), next
	}
	if s := p.find(name, rr.TypeCNAME); s != nil && len(s.sigs) > 0 {
		if v = p.positive(keys, s, now); v.Status == Secure {
			next, _ = dnsname.FromWire(s.data.First())
		}
		return v, next
	}
	for up := name.Parent(); up.AtOrBelow(keys.Zone); up = up.Parent() {
		if s := p.find(up, rr.TypeDNAME); s != nil {
			if v = p.positive(keys, s, now); v.Status != Secure {
				return v, next
			}
			return p.substitute(name, up, s, v)
		}
		if up.Labels() == 0 {
			break
		}
	}
	return p.negative(keys, name, t, now), next
}

// substitute checks a CNAME that was made from a DNAME against it: no signature
// covers it (RFC 6672 §5.3.1).
func (p *RRsets) substitute(name, owner dnsname.Name, dname *set, v Verdict) (Verdict, dnsname.Name) {
	wire := name.Wire()
	target, err := dnsname.FromWire(append([]byte(wire[:len(wire)-len(owner.Wire())]), dname.data.First()...))
	if err != nil {
		return bogus(edeBogus, "the name that DNAME makes of %s is too long", name), dnsname.Name{}
	}
	if s := p.find(name, rr.TypeCNAME); s != nil {
		if given, _ := dnsname.FromWire(s.data.First()); !given.Equal(target) {
			return bogus(edeBogus, "the CNAME of %s is not what its DNAME makes of it", name), dnsname.Name{}
		}
	}
	return v, target
}

// positive judges records that are there. Those from a wildcard need the proof that
// no closer name exists (RFC 4035 §5.3.4).
func (p *RRsets) positive(keys *Keys, s *set, now time.Time) Verdict {
	v := p.judgeSet(keys, s, now)
	p.noteSet(Data, keys, s, v, now)
	return v
}

func (p *RRsets) judgeSet(keys *Keys, s *set, now time.Time) Verdict {
	wild, labels, err := p.verify(keys, s, now)
	if err != nil {
		return fault(s, err)
	}
	v := Verdict{Status: Secure, Outcome: Positive, TTL: s.ttl}
	if !wild {
		return v
	}
	d := p.denier(keys, now)
	proved, optOut := d.noCloser(s.name, labels)
	switch {
	case !proved && d.tooMany:
		v = insecure(edeIterations, "the hashes of %s are iterated more than %d times", keys.Zone, MaxIterations)
	case !proved:
		v = bogus(edeNoProof, "%s is expanded from a wildcard, and nothing proves that no closer name exists", s.name)
	case optOut:
		v = insecure(0, "the name may be below an insecure delegation (opt-out)")
	}
	v.Outcome, v.TTL = Positive, s.ttl
	return v
}

func (p *RRsets) negative(keys *Keys, name dnsname.Name, t rr.Type, now time.Time) Verdict {
	v := p.judgeDenial(keys, name, t, now)
	p.noteDenial(Denial, keys, name, t, v, now)
	return v
}

func (p *RRsets) judgeDenial(keys *Keys, name dnsname.Name, t rr.Type, now time.Time) Verdict {
	d := p.denier(keys, now)
	shown := d.deny(name, t)
	switch {
	case shown.outcome == NoOutcome && d.tooMany:
		return insecure(edeIterations, "the hashes of %s are iterated more than %d times", keys.Zone, MaxIterations)
	case shown.outcome == NoOutcome:
		return bogus(edeNoProof, "nothing proves that %s has no %s", name, t)
	case shown.optOut: // RFC 5155 §9.2
		v := insecure(0, "an insecure delegation may be there (opt-out)")
		v.Outcome = shown.outcome
		return v
	}
	return Verdict{Status: Secure, Outcome: shown.outcome}
}

// Set judges one set of a zone whose keys are known, as NS or CDS records.
func (p *RRsets) Set(keys *Keys, name dnsname.Name, t rr.Type, now time.Time) Verdict {
	s := p.find(name, t)
	if s == nil {
		return p.negative(keys, name, t, now)
	}
	return p.positive(keys, s, now)
}

// Data is the data of a set among the records.
func (p *RRsets) Data(name dnsname.Name, t rr.Type) (out [][]byte) {
	if s := p.find(name, t); s != nil {
		for d := range s.data.Data {
			out = append(out, d)
		}
	}
	return out
}
