// Package validate judges answers: whether signatures and proofs lead from a trust
// anchor to what an answer says (RFC 4033 §5, RFC 4035 §5, RFC 5155 §8, RFC 6840).
// It is pure: records, anchors and a time in, a verdict with its reason out. It asks
// nobody; what is missing makes the verdict what a resolver's would be without it.
package validate

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// Status is what can be said of data (RFC 4033 §5).
type Status uint8

// The statuses.
const (
	Indeterminate Status = iota // no anchor leads there
	Bogus                       // it should be proved and is not
	Insecure                    // it is proved that there is nothing to prove it by
	Secure
)

func (s Status) String() string {
	return [...]string{"indeterminate", "bogus", "insecure", "secure"}[s]
}

// Outcome is what an answer says.
type Outcome uint8

// The outcomes.
const (
	NoOutcome Outcome = iota
	Positive          // there are such records
	NoData            // the name exists and has none of the type
	NXDomain          // the name does not exist
)

// Verdict is a status with its reason.
type Verdict struct {
	Status  Status
	Outcome Outcome
	Reason  string // what was found wrong or missing, or why it is insecure
	EDE     uint16 // the extended error that fits (RFC 8914 §4), 0 for none
	// TTL is for how many seconds positive data may be kept: no longer than they were
	// signed for, nor than the signature lasts (RFC 4035 §5.3.3).
	TTL uint32
}

// Extended errors (RFC 8914 §4).
const (
	edeUnsupportedDigest = 2
	edeBogus             = 6
	edeExpired           = 7
	edeEarly             = 8
	edeNoKey             = 9
	edeNoSignature       = 10
	edeNoProof           = 12
	edeIterations        = 27
)

func bogus(ede uint16, format string, args ...any) Verdict {
	return Verdict{Status: Bogus, Reason: fmt.Sprintf(format, args...), EDE: ede}
}

func insecure(ede uint16, format string, args ...any) Verdict {
	return Verdict{Status: Insecure, Reason: fmt.Sprintf(format, args...), EDE: ede}
}

// set is records of one name and type with the signatures over them.
type set struct {
	name dnsname.Name
	data zone.RRset
	sigs [][]byte
	ttl  uint32 // for how long it may be kept, once it was verified
}

type setKey struct {
	name string
	typ  rr.Type
}

// RRsets is all records at hand: those of an answer, or of a whole chain, in any
// order.
type RRsets struct {
	sets  map[setKey]*set
	order []setKey // in which the sets came
	nsec  []*set   // NSEC sets
	nsec3 []*set
	// tries bounds how many signatures are checked, whoever sends many
	// (RFC 4035 §5.3.1).
	tries int
	// chain, if set, is told how a verdict comes about.
	chain *Chain
}

// maxTries is how many signatures one collection may cost: far more than any honest chain
// has, and done in the twinkling of an eye.
const maxTries = 400

// NewRRsets sorts records into sets.
func NewRRsets(records ...[]rr.Record) *RRsets {
	p := &RRsets{sets: map[setKey]*set{}, tries: maxTries}
	type raw struct {
		name dnsname.Name
		ttl  uint32
		data [][]byte
	}
	sets, sigs := map[setKey]*raw{}, map[setKey][][]byte{}
	var order []setKey
	for _, r := range slices.Concat(records...) {
		if r.Type == rr.TypeRRSIG {
			if s, err := dnssec.ParseRRSIG(r.Data); err == nil {
				k := setKey{r.Name.Key(), s.Covered}
				if !slices.ContainsFunc(sigs[k], func(d []byte) bool { return bytes.Equal(d, r.Data) }) {
					sigs[k] = append(sigs[k], r.Data)
				}
			}
			continue
		}
		k := setKey{r.Name.Key(), r.Type}
		if sets[k] == nil {
			sets[k] = &raw{name: r.Name, ttl: r.TTL}
			order = append(order, k)
		}
		sets[k].data = append(sets[k].data, r.Data)
	}
	p.order = order
	for _, k := range order {
		s := &set{name: sets[k].name, data: zone.NewRRset(k.typ, sets[k].ttl, sets[k].data), sigs: sigs[k]}
		p.sets[k] = s
		switch k.typ {
		case rr.TypeNSEC:
			p.nsec = append(p.nsec, s)
		case rr.TypeNSEC3:
			p.nsec3 = append(p.nsec3, s)
		}
	}
	return p
}

func (p *RRsets) find(name dnsname.Name, t rr.Type) *set { return p.sets[setKey{name.Key(), t}] }

// Keys are the keys of a zone that were found to be authentic.
type Keys struct {
	Zone dnsname.Name
	keys []*dnssec.PublicKey
	wire []byte
}

// errTries means that an answer would cost too much to check.
var errTries = errors.New("it has more signatures than are checked")

// verify checks a set with the keys of its zone: nil if one signature is right,
// whatever the others are (RFC 6840 §5.12). wild is true if the records came from a
// wildcard; closest are the labels of the name that the wildcard was below.
func (p *RRsets) verify(k *Keys, s *set, now time.Time) (wild bool, closest int, err error) {
	if len(s.sigs) == 0 {
		return false, 0, errNoSignature
	}
	owner := []byte(s.name.Wire())
	labels := s.name.Labels()
	if s.name.IsWildcard() {
		labels--
	}
	err = errNoSignature
	for _, sig := range s.sigs {
		rrsig, perr := dnssec.ParseRRSIG(sig)
		if perr != nil {
			continue
		}
		if p.tries--; p.tries < 0 {
			return false, 0, errTries
		}
		if _, verr := dnssec.VerifySet(nil, k.keys, k.wire, owner, s.data, sig, now); verr != nil {
			if better(verr, err) {
				err = verr
			}
			continue
		}
		s.ttl = min(s.data.TTL, rrsig.OriginalTTL, rrsig.Expiration-uint32(now.Unix()))
		if int(rrsig.Labels) < labels {
			return true, int(rrsig.Labels), nil
		}
		return false, 0, nil
	}
	return false, 0, err
}

var errNoSignature = errors.New("it has no signature")

// better reports whether an error says more than the one before.
func better(a, b error) bool {
	rank := func(err error) int {
		for i, e := range []error{errNoSignature, dnssec.ErrMismatch, dnssec.ErrNoKey, dnssec.ErrUnsupported, dnssec.ErrEarly, dnssec.ErrExpired, dnssec.ErrSignature} {
			if errors.Is(err, e) {
				return i
			}
		}
		return 0
	}
	return rank(a) > rank(b)
}

// fault turns an error of verify into a verdict.
func fault(s *set, err error) Verdict {
	ede := uint16(edeBogus)
	switch {
	case errors.Is(err, dnssec.ErrExpired):
		ede = edeExpired
	case errors.Is(err, dnssec.ErrEarly):
		ede = edeEarly
	case errors.Is(err, dnssec.ErrNoKey):
		ede = edeNoKey
	case errors.Is(err, errNoSignature):
		ede = edeNoSignature
	}
	return bogus(ede, "%s %s: %v", s.name, s.data.Type, err)
}

// TrustKeys finds the keys of a zone that follow from DS or DNSKEY records which
// are trusted: one of them has to sign the DNSKEY set (RFC 4035 §5.2). With DS
// records of which none can be used the zone is insecure (§5.2, RFC 6840 §5.2).
func (p *RRsets) TrustKeys(zoneName dnsname.Name, anchors []rr.Record, now time.Time) (*Keys, Verdict) {
	keys, v := p.trustKeys(zoneName, anchors, now)
	p.noteKeys(zoneName, anchors, v, now)
	return keys, v
}

func (p *RRsets) trustKeys(zoneName dnsname.Name, anchors []rr.Record, now time.Time) (*Keys, Verdict) {
	usable, strong := 0, false
	for _, a := range anchors {
		if ok, isStrong := usableAnchor(a); ok {
			usable++
			strong = strong || isStrong
		}
	}
	if usable == 0 {
		return nil, insecure(edeUnsupportedDigest, "no DS of %s has an algorithm and digest that is known", zoneName)
	}
	s := p.find(zoneName, rr.TypeDNSKEY)
	if s == nil {
		return nil, bogus(edeNoKey, "there is no DNSKEY set of %s", zoneName)
	}
	all := &Keys{Zone: zoneName, wire: []byte(zoneName.Key())}
	var entries []*dnssec.PublicKey
	for data := range s.data.Data {
		k, err := dnssec.ParseDNSKEY(data)
		if err != nil || !k.IsZoneKey() { // RFC 5011 §2.1: revoked ones sign nothing here
			continue
		}
		all.keys = append(all.keys, k)
		if slices.ContainsFunc(anchors, func(a rr.Record) bool { return leadsTo(a, zoneName, k, strong) }) {
			entries = append(entries, k)
		}
	}
	if len(entries) == 0 {
		return nil, bogus(edeNoKey, "no DS at the parent, or anchor, matches a key of %s", zoneName)
	}
	if _, _, err := p.verify(&Keys{Zone: zoneName, keys: entries, wire: all.wire}, s, now); err != nil {
		return nil, fault(s, fmt.Errorf("no key with a DS signs the DNSKEY set: %w", err))
	}
	return all, Verdict{Status: Secure}
}

// usableAnchor reports whether an anchor can be followed, and whether its digest is
// better than SHA-1 (RFC 4509 §3).
func usableAnchor(a rr.Record) (ok, strong bool) {
	switch {
	case a.Type == rr.TypeDNSKEY:
		return len(a.Data) > 4, true
	case a.Type != rr.TypeDS || len(a.Data) < 5:
		return false, false
	}
	alg, digest := dnssec.LevelOf(rr.AlgorithmNumber(a.Data[2])), dnssec.DigestLevel(a.Data[3])
	return alg.Validation > dnssec.Never && digest.Validation > dnssec.Never, a.Data[3] != dnssec.DigestSHA1
}

func leadsTo(a rr.Record, zoneName dnsname.Name, k *dnssec.PublicKey, strong bool) bool {
	if ok, isStrong := usableAnchor(a); !ok || strong && !isStrong || !a.Name.Equal(zoneName) {
		return false
	}
	if a.Type == rr.TypeDNSKEY {
		return string(a.Data) == string(k.Data)
	}
	return string(dnssec.DS(zoneName, k.Data, a.Data[3])) == string(a.Data)
}

// EntryKeys are the keys of a zone that anchors lead to, and no others: those that
// a parent knows. Whether they sign the DNSKEY set is for TrustKeys to have found.
func (p *RRsets) EntryKeys(zoneName dnsname.Name, anchors []rr.Record) *Keys {
	out := &Keys{Zone: zoneName, wire: []byte(zoneName.Key())}
	strong := false
	for _, a := range anchors {
		_, isStrong := usableAnchor(a)
		strong = strong || isStrong
	}
	for _, data := range p.Data(zoneName, rr.TypeDNSKEY) {
		k, err := dnssec.ParseDNSKEY(data)
		if err == nil && k.IsZoneKey() && slices.ContainsFunc(anchors, func(a rr.Record) bool { return leadsTo(a, zoneName, k, strong) }) {
			out.keys = append(out.keys, k)
		}
	}
	return out
}
