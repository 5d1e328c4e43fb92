package validate

import (
	"errors"
	"slices"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
)

// Chain is how a verdict came about: its links from the anchor down, in order. The last one
// is the one that a chain which is not secure ends at.
type Chain struct {
	Verdict
	Links []*Link
}

// LinkKind says what a link is.
type LinkKind uint8

// The kinds of links.
const (
	ZoneKeys   LinkKind = iota // the keys of a zone, which follow from an anchor or a DS
	Delegation                 // the DS of a zone below, in the zone above
	NoDS                       // the proof that a zone below has none
	Data                       // records: the answer, or an alias on the way
	Denial                     // the proof that there are none
	Nowhere                    // there is nothing to follow
)

var linkWords = [...]string{"keys", "delegation", "no DS", "data", "denial", "nothing"}

func (k LinkKind) String() string { return linkWords[k] }

// Link is one step of a chain.
type Link struct {
	Kind LinkKind
	Zone dnsname.Name // whose keys it is about, or by whose keys it is proved
	Name dnsname.Name
	Type rr.Type
	Verdict
	Keys    []KeyView   // of ZoneKeys
	DS      []DSView    // of Delegation; of ZoneKeys where the anchors are DS
	Records []rr.Record // of Data
	Proof   []rr.Record // of NoDS and Denial: NSEC and NSEC3 records whose signatures hold
	Sigs    []SigView   // over the keys, the DS or the data
	Anchor  bool        // of ZoneKeys: it is here that trust begins
}

// KeyView is a DNSKEY in a chain.
type KeyView struct {
	Tag       uint16
	Algorithm rr.AlgorithmNumber
	SEP       bool // an entry point, by its flag
	Revoked   bool
	Led       bool // a DS or an anchor leads to it
	Signs     bool // it signs the key set, and the signature holds
}

// DSView is a DS in a chain.
type DSView struct {
	Tag       uint16
	Algorithm rr.AlgorithmNumber
	Digest    uint8
	Usable    bool // algorithm and digest are known
	Leads     bool // there is such a key
	NoKeys    bool // it is not known: the keys of the zone did not come
	// Near says which fields fit which key and which do not, of one that was typed wrong; empty: no key
	// is near it.
	Near string
}

// SigView is a signature in a chain.
type SigView struct {
	Tag                   uint16
	Algorithm             rr.AlgorithmNumber
	Signer                dnsname.Name
	Inception, Expiration time.Time
	Err                   error // why it does not hold
}

// Explain judges as Validate does, and says how it came to that.
func (p *RRsets) Explain(anchors []rr.Record, name dnsname.Name, t rr.Type, now time.Time) *Chain {
	p.chain = &Chain{}
	defer func() { p.chain = nil }()
	v := p.Validate(anchors, name, t, now)
	c := p.chain
	c.Verdict = v
	if len(c.Links) == 0 || v.Status == Bogus && c.Links[len(c.Links)-1].Status != Bogus {
		c.Links = append(c.Links, &Link{Kind: Nowhere, Name: name, Type: t, Verdict: v})
	}
	return c
}

// note adds a link where somebody wants to know. The way to where an alias leads has links
// that are there already.
func (p *RRsets) note(l *Link) {
	if p.chain == nil || slices.ContainsFunc(p.chain.Links, func(o *Link) bool {
		return o.Kind == l.Kind && o.Type == l.Type && o.Status == l.Status && o.Name.Equal(l.Name) && o.Zone.Equal(l.Zone)
	}) {
		return
	}
	p.chain.Links = append(p.chain.Links, l)
}

// noteKeys adds the keys of a zone.
func (p *RRsets) noteKeys(zoneName dnsname.Name, anchors []rr.Record, v Verdict, now time.Time) {
	if p.chain == nil {
		return
	}
	l := &Link{Kind: ZoneKeys, Zone: zoneName, Name: zoneName, Type: rr.TypeDNSKEY, Verdict: v, Anchor: len(p.chain.Links) == 0}
	keys := p.Data(zoneName, rr.TypeDNSKEY)
	for _, a := range anchors {
		if a.Type == rr.TypeDS {
			l.DS = append(l.DS, dsView(a, zoneName, keys))
		}
	}
	s := p.find(zoneName, rr.TypeDNSKEY)
	strong := slices.ContainsFunc(anchors, func(a rr.Record) bool { _, is := usableAnchor(a); return is })
	all := &Keys{Zone: zoneName, wire: []byte(zoneName.Key())}
	for _, data := range keys {
		k, err := dnssec.ParseDNSKEY(data)
		if err != nil {
			continue
		}
		if k.IsZoneKey() {
			all.keys = append(all.keys, k)
		}
		l.Keys = append(l.Keys, KeyView{Tag: k.Tag, Algorithm: k.Algorithm, SEP: k.Flags&dnssec.FlagSEP != 0, Revoked: k.Flags&dnssec.FlagRevoked != 0,
			Led: slices.ContainsFunc(anchors, func(a rr.Record) bool { return leadsTo(a, zoneName, k, strong) })})
	}
	if s != nil {
		l.Sigs = sigViews(all, s, now)
	}
	for i := range l.Keys {
		k := &l.Keys[i]
		k.Signs = slices.ContainsFunc(l.Sigs, func(v SigView) bool { return v.Err == nil && v.Tag == k.Tag && v.Algorithm == k.Algorithm })
	}
	p.note(l)
}

func dsView(ds rr.Record, zoneName dnsname.Name, keys [][]byte) DSView {
	if len(ds.Data) < 5 {
		return DSView{}
	}
	v := DSView{Tag: uint16(ds.Data[0])<<8 | uint16(ds.Data[1]), Algorithm: rr.AlgorithmNumber(ds.Data[2]), Digest: ds.Data[3]}
	v.Usable, _ = usableAnchor(ds)
	v.NoKeys = len(keys) == 0
	v.Leads, v.Near = dnssec.DSMatch(zoneName, ds.Data, keys)
	return v
}

// sigViews are the signatures over a set, each judged by itself.
func sigViews(keys *Keys, s *set, now time.Time) (out []SigView) {
	const most = 32
	for _, data := range s.sigs[:min(len(s.sigs), most)] {
		sig, err := dnssec.ParseRRSIG(data)
		if err != nil {
			out = append(out, SigView{Err: err})
			continue
		}
		v := SigView{Tag: sig.KeyTag, Algorithm: sig.Algorithm, Inception: serialTime(sig.Inception, now), Expiration: serialTime(sig.Expiration, now)}
		v.Signer, _ = dnsname.FromWire(sig.Signer)
		_, v.Err = dnssec.VerifySet(nil, keys.keys, keys.wire, []byte(s.name.Wire()), s.data, data, now)
		out = append(out, v)
	}
	return out
}

// serialTime is a time of a signature, which is counted modulo 2^32 seconds, as the one
// nearest to now (RFC 4034 §3.1.5).
func serialTime(t uint32, now time.Time) time.Time {
	return now.Add(time.Duration(int32(t-uint32(now.Unix()))) * time.Second).Truncate(time.Second)
}

// noteSet adds a set that was judged by the keys of a zone.
func (p *RRsets) noteSet(kind LinkKind, keys *Keys, s *set, v Verdict, now time.Time) {
	if p.chain == nil {
		return
	}
	l := &Link{Kind: kind, Zone: keys.Zone, Name: s.name, Type: s.data.Type, Verdict: v, Sigs: sigViews(keys, s, now)}
	for data := range s.data.Data {
		rec := rr.Record{Name: s.name, Type: s.data.Type, Class: rr.ClassIN, TTL: s.data.TTL, Data: data}
		if kind == Delegation {
			l.DS = append(l.DS, dsView(rec, s.name, p.Data(s.name, rr.TypeDNSKEY)))
		} else {
			l.Records = append(l.Records, rec)
		}
	}
	p.note(l)
}

// noteDenial adds what proves that something is not there.
func (p *RRsets) noteDenial(kind LinkKind, keys *Keys, name dnsname.Name, t rr.Type, v Verdict, now time.Time) {
	if p.chain == nil {
		return
	}
	l := &Link{Kind: kind, Zone: keys.Zone, Name: name, Type: t, Verdict: v}
	for _, list := range [][]*set{p.nsec, p.nsec3} {
		for _, s := range list {
			if !s.name.AtOrBelow(keys.Zone) {
				continue
			}
			sigs := sigViews(keys, s, now)
			if holds := slices.ContainsFunc(sigs, func(v SigView) bool { return v.Err == nil }); !holds {
				if len(sigs) > 0 && errors.Is(sigs[0].Err, dnssec.ErrMismatch) {
					continue // of another zone
				}
			} else {
				l.Proof = append(l.Proof, firstOf(s))
			}
			l.Sigs = append(l.Sigs, sigs...)
		}
	}
	p.note(l)
}

func firstOf(s *set) rr.Record {
	return rr.Record{Name: s.name, Type: s.data.Type, Class: rr.ClassIN, TTL: s.data.TTL, Data: s.data.First()}
}
