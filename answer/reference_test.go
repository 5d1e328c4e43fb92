package answer_test

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

// The reference answerer: slow, plain, straight from RFC 1034 §4.3.2, RFC 4592, RFC
// 6672 §3.2, RFC 4035 §3.1 and RFC 5155 §7.2, over a map of records. It shares with
// package answer the choices that the standards leave open, and no code.

// refSet is a set with the signatures over it.
type refSet struct {
	name dnsname.Name
	t    rr.Type
	ttl  uint32
	data [][]byte
	sigs [][]byte
}

// refZone is a zone as a map: by name, then by type.
type refZone struct {
	apex   dnsname.Name
	sets   map[string]map[rr.Type]*refSet
	hashed []*refSet // NSEC3, in the order of the hashes
	params *dnssec.NSEC3Params
	signed bool
}

func newRefZone(z *zone.Snapshot) *refZone {
	r := &refZone{apex: z.Apex(), sets: map[string]map[rr.Type]*refSet{}}
	for n := range z.AllNodes {
		owner := z.Owner(n)
		at := map[rr.Type]*refSet{}
		get := func(t rr.Type) *refSet {
			if at[t] == nil {
				at[t] = &refSet{name: owner, t: t}
			}
			return at[t]
		}
		for set := range n.RRsets {
			for data := range set.Data {
				if set.Type == rr.TypeRRSIG {
					s := get(set.Covered())
					s.sigs = append(s.sigs, data)
					continue
				}
				s := get(set.Type)
				s.ttl, s.data = set.TTL, append(s.data, data)
			}
		}
		if s := at[rr.TypeNSEC3]; s != nil {
			r.hashed = append(r.hashed, s)
			continue
		}
		r.sets[owner.Key()] = at
	}
	sort.Slice(r.hashed, func(i, j int) bool { return r.hashed[i].name.Key() < r.hashed[j].name.Key() })
	apex := r.sets[r.apex.Key()]
	_, r.signed = apex[rr.TypeDNSKEY]
	if p := apex[rr.TypeNSEC3PARAM]; p != nil && len(r.hashed) > 0 {
		params, _, _, _ := dnssec.ParseParams(p.data[0])
		r.params = &params
	}
	return r
}

func (z *refZone) at(n dnsname.Name) map[rr.Type]*refSet { return z.sets[n.Key()] }

// exists reports whether a name has records, or a name below it has.
func (z *refZone) exists(n dnsname.Name) bool {
	for k := range z.sets {
		if o, _ := dnsname.FromWire([]byte(k)); o.AtOrBelow(n) {
			return true
		}
	}
	return false
}

// above is the topmost cut or DNAME that hides a name; the cut may be the name.
func (z *refZone) above(n dnsname.Name) (by dnsname.Name, cut, dname bool) {
	for up := n; up.AtOrBelow(z.apex); up = up.Parent() {
		at := z.at(up)
		if at[rr.TypeNS] != nil && !up.Equal(z.apex) {
			by, cut, dname = up, true, false
		} else if at[rr.TypeDNAME] != nil && !up.Equal(n) {
			by, cut, dname = up, false, true
		}
		if up.Equal(z.apex) {
			break
		}
	}
	return by, cut, dname
}

// response is what the reference answers: records once each, as text.
type response struct {
	rcode              message.Rcode
	aa                 bool
	sections           [4][]string // by message.Section
	optional           []string    // additional records that may be left out
	wanted             [][]string  // those of them that are there where there is room, by set with its signatures
	anyOf              []string    // for ANY and RRSIG over UDP: the answer is one of these
	step               int
	dos                bool
	dnameOwners, names map[string]bool
}

func (r *response) put(s message.Section, text string) {
	if !slices.Contains(r.sections[s], text) {
		r.sections[s] = append(r.sections[s], text)
	}
}

func line(owner dnsname.Name, t rr.Type, ttl uint32, data []byte) string {
	return fmt.Sprintf("%s %s %d %x", strings.ToLower(owner.String()), t, ttl, data)
}

// set writes a set, with signatures where they are wanted.
func (r *response) set(s message.Section, owner dnsname.Name, set *refSet, ttl uint32, sigs bool) {
	for _, d := range set.data {
		r.put(s, line(owner, set.t, ttl, d))
	}
	for _, d := range set.sigs {
		if sigs {
			r.put(s, line(owner, rr.TypeRRSIG, ttl, d))
		}
	}
}

// reference answers a question from zones served together.
type reference struct {
	zones []*refZone
	tcp   bool
}

func (f *reference) find(n dnsname.Name, above bool) (best *refZone) {
	for _, z := range f.zones {
		if n.AtOrBelow(z.apex) && !(above && n.Equal(z.apex)) && (best == nil || z.apex.Below(best.apex)) {
			best = z
		}
	}
	return best
}

func (f *reference) answer(name dnsname.Name, t rr.Type, do bool) *response {
	r := &response{dnameOwners: map[string]bool{}, names: map[string]bool{}}
	for r.step = 0; r.step < 16; r.step++ {
		z := f.find(name, t == rr.TypeDS)
		if z == nil && t == rr.TypeDS {
			z = f.find(name, false)
		}
		if z == nil {
			if r.step == 0 {
				r.rcode = message.Refused
			}
			return r
		}
		r.names[name.Key()] = true
		r.dos = do && z.signed
		next, more := f.step(r, z, name, t)
		if !more || r.names[next.Key()] {
			return r
		}
		name = next
	}
	return r
}

// step looks a name up in a zone; next is where an alias leads.
func (f *reference) step(r *response, z *refZone, name dnsname.Name, t rr.Type) (next dnsname.Name, more bool) {
	by, cut, dname := z.above(name)
	if cut && !(by.Equal(name) && t == rr.TypeDS) {
		z.referral(r, by)
		return next, false
	}
	if r.step == 0 {
		r.aa = true
	}
	if dname {
		return z.dname(r, name, by, t)
	}
	if z.at(name) != nil {
		return f.node(r, z, name, name, t)
	}
	if z.exists(name) { // an empty non-terminal
		z.negative(r)
		z.noType(r, name)
		return next, false
	}
	encloser := name
	for !z.exists(encloser) {
		encloser = encloser.Parent()
	}
	star, err := encloser.Child("*")
	switch {
	case err == nil && z.at(star) != nil:
		return f.node(r, z, name, star, t)
	case err == nil && z.exists(star):
		z.negative(r)
		z.nothing(r, name, encloser, true)
	default:
		r.rcode = message.NXDomain
		z.negative(r)
		z.nothing(r, name, encloser, false)
	}
	return next, false
}

// node answers from the records at a name, which may be a wildcard.
func (f *reference) node(r *response, z *refZone, name, at dnsname.Name, t rr.Type) (next dnsname.Name, more bool) {
	sets := z.at(at)
	wild := !name.Equal(at)
	if t == rr.TypeANY || t == rr.TypeRRSIG {
		if f.many(r, z, name, sets, t) {
			if wild {
				z.noCloser(r, name, at.Parent())
			}
			return next, false
		}
	}
	set := sets[t]
	alias := set == nil || len(set.data) == 0
	if alias {
		set = sets[rr.TypeCNAME]
	}
	if set == nil || len(set.data) == 0 {
		z.negative(r)
		if wild {
			z.noWildcardType(r, name, at)
		} else {
			z.noType(r, name)
		}
		return next, false
	}
	r.set(message.AnswerSection, name, set, set.ttl, r.dos)
	if wild {
		z.noCloser(r, name, at.Parent())
	}
	if !alias {
		f.more(r, z, name, set)
	}
	if alias {
		next, _ = dnsname.FromWire(set.data[0])
	}
	return next, alias
}

// more are the addresses of hosts that an answer names.
func (f *reference) more(r *response, z *refZone, name dnsname.Name, set *refSet) {
	at, has := map[rr.Type]int{rr.TypeMX: 2, rr.TypeSRV: 6, rr.TypeHTTPS: 2}[set.t]
	if !has {
		return
	}
	hosts := map[string]bool{}
	for _, d := range set.data {
		n, _ := dnsname.WireLen(d[at:])
		host, _ := dnsname.FromWire(d[at : at+n])
		alias := set.t == rr.TypeHTTPS && d[0] == 0 && d[1] == 0
		if host == dnsname.Root {
			if set.t != rr.TypeHTTPS || alias {
				continue
			}
			host = name
		}
		if !host.AtOrBelow(z.apex) || hosts[host.Key()] || len(hosts) == 8 {
			continue
		}
		if _, cut, dname := z.above(host); cut || dname || z.at(host) == nil {
			continue
		}
		hosts[host.Key()] = true
		types := []rr.Type{rr.TypeA, rr.TypeAAAA}
		if alias && !host.Equal(name) {
			types = append(types, rr.TypeHTTPS)
		}
		for _, t := range types {
			if s := z.at(host)[t]; s != nil && len(s.data) > 0 {
				more := &response{}
				more.set(message.AdditionalSection, host, s, s.ttl, r.dos)
				whole := more.sections[message.AdditionalSection]
				r.wanted = append(r.wanted, whole)
				r.optional = append(r.optional, whole...)
			}
		}
	}
}

// many answers ANY and RRSIG: all over TCP, one set over UDP (RFC 8482 §4.1).
func (f *reference) many(r *response, z *refZone, name dnsname.Name, sets map[rr.Type]*refSet, t rr.Type) bool {
	found := false
	for _, set := range sets {
		one := &response{}
		switch {
		case t == rr.TypeANY && len(set.data) > 0:
			one.set(message.AnswerSection, name, set, set.ttl, r.dos)
		case t == rr.TypeRRSIG && len(set.sigs) > 0:
			one.set(message.AnswerSection, name, &refSet{t: set.t, sigs: set.sigs}, set.ttl, true)
		default:
			continue
		}
		found = true
		if f.tcp {
			for _, l := range one.sections[1] {
				r.put(message.AnswerSection, l)
			}
			continue
		}
		sort.Strings(one.sections[1])
		r.anyOf = append(r.anyOf, strings.Join(one.sections[1], "\n"))
	}
	return found
}

func (z *refZone) dname(r *response, name, by dnsname.Name, t rr.Type) (next dnsname.Name, more bool) {
	set := z.at(by)[rr.TypeDNAME]
	r.set(message.AnswerSection, by, set, set.ttl, r.dos)
	head := name.Wire()[:len(name.Wire())-len(by.Wire())]
	if len(head)+len(set.data[0]) > 255 {
		r.rcode = 6 // YXDOMAIN
		return next, false
	}
	next, _ = dnsname.FromWire(append([]byte(head), set.data[0]...))
	r.put(message.AnswerSection, line(name, rr.TypeCNAME, set.ttl, []byte(next.Wire())))
	return next, t != rr.TypeCNAME
}

func (z *refZone) negative(r *response) {
	soa := z.at(z.apex)[rr.TypeSOA]
	parsed, _ := rr.ParseSOA(soa.data[0])
	r.set(message.AuthoritySection, z.apex, soa, min(soa.ttl, parsed.Minimum), r.dos)
}

func (z *refZone) referral(r *response, cut dnsname.Name) {
	sets := z.at(cut)
	r.set(message.AuthoritySection, cut, sets[rr.TypeNS], sets[rr.TypeNS].ttl, false)
	if r.dos {
		if ds := sets[rr.TypeDS]; ds != nil {
			r.set(message.AuthoritySection, cut, ds, ds.ttl, true)
		} else {
			z.noType(r, cut)
		}
	}
	for _, host := range sets[rr.TypeNS].data {
		n, _ := dnsname.FromWire(host)
		for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			set := z.at(n)[t]
			if set == nil || !n.AtOrBelow(z.apex) {
				continue
			}
			_, below, hidden := z.above(n)
			if own := !below && !hidden; own && r.dos { // the zone's own data, with signatures (RFC 4035 §3.1.1)
				more := &response{}
				more.set(message.AdditionalSection, n, set, set.ttl, true)
				r.wanted = append(r.wanted, more.sections[message.AdditionalSection])
				for _, text := range more.sections[message.AdditionalSection] {
					if !slices.Contains(r.optional, text) {
						r.optional = append(r.optional, text)
					}
				}
				continue
			}
			for _, d := range set.data {
				text := line(n, t, set.ttl, d)
				if n.AtOrBelow(cut) {
					r.put(message.AdditionalSection, text)
				} else if !slices.Contains(r.optional, text) {
					r.optional = append(r.optional, text)
				}
			}
		}
	}
}

// ---- proofs ----

// matching adds the NSEC or NSEC3 record of a name; false if it has none.
func (z *refZone) matching(r *response, n dnsname.Name) bool {
	if z.params == nil {
		set := z.at(n)[rr.TypeNSEC]
		if set != nil {
			r.set(message.AuthoritySection, n, set, set.ttl, true)
		}
		return set != nil
	}
	for _, set := range z.hashed {
		if set.name.Key() == z.hash(n) {
			r.set(message.AuthoritySection, set.name, set, set.ttl, true)
			return true
		}
	}
	return false
}

func (z *refZone) hash(n dnsname.Name) string {
	h := z.params.Hash([]byte(n.Key()))
	label := h.AppendLabel(nil)
	return string(append([]byte{byte(len(label))}, label...)) + z.apex.Key()
}

// covering adds the record whose span a name falls into.
func (z *refZone) covering(r *response, n dnsname.Name) {
	if z.params != nil {
		best := z.hashed[len(z.hashed)-1]
		for _, set := range z.hashed {
			if set.name.Key() <= z.hash(n) {
				best = set
			}
		}
		r.set(message.AuthoritySection, best.name, best, best.ttl, true)
		return
	}
	var best *refSet
	for _, sets := range z.sets {
		if set := sets[rr.TypeNSEC]; set != nil && set.name.Compare(n) <= 0 && (best == nil || set.name.Compare(best.name) > 0) {
			best = set
		}
	}
	r.set(message.AuthoritySection, best.name, best, best.ttl, true)
}

// closest proves the closest encloser of a name with NSEC3 (RFC 5155 §7.2.1): the
// closest ancestor that has a record, and the next closer name covered.
func (z *refZone) closest(r *response, n dnsname.Name) dnsname.Name {
	closer, up := n, n.Parent()
	for !z.matching(r, up) {
		closer, up = up, up.Parent()
	}
	z.covering(r, closer)
	return up
}

func (z *refZone) noType(r *response, n dnsname.Name) {
	switch {
	case !r.dos:
	case z.matching(r, n):
	case z.params == nil: // an empty non-terminal
		z.covering(r, n)
	default:
		z.closest(r, n)
	}
}

// nothing shows that a name does not exist, nor records at a wildcard for it.
func (z *refZone) nothing(r *response, n, encloser dnsname.Name, starExists bool) {
	switch {
	case !r.dos:
	case z.params == nil:
		z.covering(r, n)
		star, err := encloser.Child("*")
		if err == nil {
			z.covering(r, star)
		}
	default:
		star, _ := z.closest(r, n).Child("*")
		if !starExists || !z.matching(r, star) {
			z.covering(r, star)
		}
	}
}

func (z *refZone) noCloser(r *response, n, encloser dnsname.Name) {
	switch {
	case !r.dos:
	case z.params == nil:
		z.covering(r, n)
	default:
		for n.Labels() > encloser.Labels()+1 {
			n = n.Parent()
		}
		z.covering(r, n)
	}
}

func (z *refZone) noWildcardType(r *response, n, star dnsname.Name) {
	switch {
	case !r.dos:
	case z.params == nil:
		z.matching(r, star)
		z.covering(r, n)
	default:
		z.closest(r, n)
		z.matching(r, star)
	}
}

// ---- comparing ----

func lines(records []rr.Record) (out []string) {
	for _, r := range records {
		out = append(out, line(r.Name, r.Type, r.TTL, r.Data))
	}
	sort.Strings(out)
	return out
}

// differs says how a message differs from what the reference answers; empty if it
// does not. A record must not stand twice.
func (r *response) differs(m *message.Message) string {
	if m.ExtendedRcode != r.rcode || (m.Flags&message.FlagAA != 0) != r.aa {
		return fmt.Sprintf("it is %s, AA %v; want %s, %v", m.ExtendedRcode, m.Flags&message.FlagAA != 0, r.rcode, r.aa)
	}
	for s, got := range map[int][]string{1: lines(m.Answer), 2: lines(m.Authority), 3: lines(m.Additional)} {
		want := slices.Clone(r.sections[s])
		if s == 3 {
			for _, o := range r.optional {
				if slices.Contains(got, o) && !slices.Contains(want, o) {
					want = append(want, o)
				}
			}
		}
		sort.Strings(want)
		if s == 1 && len(r.anyOf) > 0 {
			rest := slices.DeleteFunc(slices.Clone(got), func(l string) bool { return slices.Contains(want, l) })
			fits := slices.ContainsFunc(r.anyOf, func(set string) bool {
				more := slices.DeleteFunc(strings.Split(set, "\n"), func(l string) bool { return slices.Contains(want, l) })
				return slices.Equal(more, rest)
			})
			if !fits || len(slices.Compact(slices.Clone(got))) != len(got) {
				return fmt.Sprintf("section 1 has %q; besides %q want one of %q", got, want, r.anyOf)
			}
			continue
		}
		if !slices.Equal(got, want) {
			return fmt.Sprintf("section %d has\n  %s\nwant\n  %s", s, strings.Join(got, "\n  "), strings.Join(want, "\n  "))
		}
	}
	return ""
}
