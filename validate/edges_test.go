package validate_test

import (
	"bytes"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/validate"
	"fencepost/zone"
)

// signing is a zone whose records are made and signed one by one.
type signing struct {
	t    *testing.T
	apex dnsname.Name
	key  *dnssec.Key
	out  []rr.Record
}

func newSigningByHand(t *testing.T) *signing {
	t.Helper()
	k, err := dnssec.Generate(rr.ED25519, dnssec.FlagZone|dnssec.FlagSEP, 0)
	if err != nil {
		t.Fatal(err)
	}
	return &signing{t: t, apex: dnsname.MustParse("example."), key: k}
}

// add adds a set with its signature.
func (s *signing) add(owner string, t rr.Type, data ...[]byte) {
	s.t.Helper()
	name := dnsname.MustParse(owner)
	sig, _, err := s.key.SignSet(nil, []byte(s.apex.Wire()), []byte(name.Wire()), zone.NewRRset(t, 300, data), dnssec.Times{Inception: at.Add(-time.Hour), Expiration: at.Add(time.Hour)})
	if err != nil {
		s.t.Fatal(err)
	}
	for _, d := range data {
		s.out = append(s.out, rr.Record{Name: name, Type: t, Class: rr.ClassIN, TTL: 300, Data: d})
	}
	s.out = append(s.out, rr.Record{Name: name, Type: rr.TypeRRSIG, Class: rr.ClassIN, TTL: 300, Data: sig})
}

func (s *signing) anchor() rr.Record {
	return rr.Record{Name: s.apex, Type: rr.TypeDS, Class: rr.ClassIN, Data: dnssec.DS(s.apex, s.key.Data, dnssec.DigestSHA256)}
}

// nsec is the data of an NSEC record.
func nsec(next string, types ...rr.Type) []byte {
	return rr.AppendBitmap([]byte(dnsname.MustParse(next).Wire()), types)
}

// F-06: algorithms in the DS or the DNSKEY set that sign nothing do no harm (RFC 6840 §5.11).
func TestF06(t *testing.T) {
	s := newSigningByHand(t)
	rsa := append([]byte{1, 1, 3, 8, 3, 1, 0, 1}, bytes.Repeat([]byte{0xC5}, 256)...)
	s.add("example.", rr.TypeDNSKEY, s.key.Data, rsa)
	s.add("www.example.", rr.TypeA, []byte{192, 0, 2, 1})
	idle := rr.Record{Name: s.apex, Type: rr.TypeDS, Class: rr.ClassIN, Data: dnssec.DS(s.apex, rsa, dnssec.DigestSHA256)}
	for _, anchors := range [][]rr.Record{{s.anchor()}, {idle, s.anchor()}, {s.anchor(), idle}} {
		if v := validate.NewRRsets(s.out).Validate(anchors, dnsname.MustParse("www.example."), rr.TypeA, at); v.Status != validate.Secure {
			t.Errorf("%s: %s", v.Status, v.Reason)
		}
	}
	if v := validate.NewRRsets(s.out).Validate([]rr.Record{idle}, dnsname.MustParse("www.example."), rr.TypeA, at); v.Status != validate.Bogus {
		t.Errorf("with the idle one alone: %s", v.Status)
	}
}

// F-19: hashes that are iterated too often make a denial insecure, and that is said; up to the
// limit they are worked out (RFC 9276 §3.2).
func TestF19(t *testing.T) {
	for iterations, want := range map[uint16]validate.Status{0: validate.Secure, validate.MaxIterations: validate.Secure, validate.MaxIterations + 1: validate.Insecure, 500: validate.Insecure} {
		s := newSigningByHand(t)
		s.add("example.", rr.TypeDNSKEY, s.key.Data)
		p := dnssec.NSEC3Params{Iterations: iterations}
		h := p.Hash([]byte(s.apex.Wire()))
		data := append([]byte{1, 0, byte(iterations >> 8), byte(iterations), 0, byte(len(h))}, h[:]...) // the only one leads to itself
		s.add(string(h.AppendLabel(nil))+".example.", rr.TypeNSEC3, rr.AppendBitmap(data, []rr.Type{rr.TypeNS, rr.TypeSOA, rr.TypeDNSKEY}))
		anchors, records, name := []rr.Record{s.anchor()}, s.out, dnsname.MustParse("nosuch.example.")
		v := validate.NewRRsets(records).Validate(anchors, name, rr.TypeA, at)
		if v.Status != want || (v.EDE == 27) != (want == validate.Insecure) {
			t.Errorf("%d iterations: %s, extended error %d (%s)", iterations, v.Status, v.EDE, v.Reason)
		}
		spoilt := append([]rr.Record(nil), records...)
		for i := range spoilt {
			if spoilt[i].Type == rr.TypeRRSIG && rr.Type(spoilt[i].Data[1]) == rr.TypeNSEC3 {
				spoilt[i].Data = bytes.Clone(spoilt[i].Data)
				spoilt[i].Data[len(spoilt[i].Data)-1] ^= 1
			}
		}
		if v := validate.NewRRsets(spoilt).Validate(anchors, name, rr.TypeA, at); v.Status != validate.Bogus {
			t.Errorf("%d iterations with wrong signatures: %s", iterations, v.Status)
		}
	}
}

// F-20: whether the bits of NSEC and RRSIG are set in a bitmap changes nothing (RFC 4035 §5.4).
func TestF20(t *testing.T) {
	for _, extra := range [][]rr.Type{nil, {rr.TypeRRSIG}, {rr.TypeNSEC}, {rr.TypeRRSIG, rr.TypeNSEC}} {
		s := newSigningByHand(t)
		s.add("example.", rr.TypeDNSKEY, s.key.Data)
		s.add("example.", rr.TypeNSEC, nsec("www.example.", append([]rr.Type{rr.TypeNS, rr.TypeSOA, rr.TypeDNSKEY}, extra...)...))
		s.add("www.example.", rr.TypeNSEC, nsec("example.", append([]rr.Type{rr.TypeA}, extra...)...))
		sets := validate.NewRRsets(s.out)
		for _, c := range []struct {
			name    string
			typ     rr.Type
			outcome validate.Outcome
		}{{"www.example.", rr.TypeTXT, validate.NoData}, {"nosuch.example.", rr.TypeA, validate.NXDomain}, {"zz.example.", rr.TypeA, validate.NXDomain}} {
			if v := sets.Validate([]rr.Record{s.anchor()}, dnsname.MustParse(c.name), c.typ, at); v.Status != validate.Secure || v.Outcome != c.outcome {
				t.Errorf("with %v %s %s: %s, outcome %d (%s)", extra, c.name, c.typ, v.Status, v.Outcome, v.Reason)
			}
		}
		if v := sets.Validate([]rr.Record{s.anchor()}, dnsname.MustParse("www.example."), rr.TypeA, at); v.Status != validate.Bogus {
			t.Errorf("with %v: an A record that is there is proved away: %s", extra, v.Status)
		}
	}
}

// F-21: a compact answer says that a name does not exist by the bit of NXNAME, though its code is
// NOERROR; without the bit the name is there, and has nothing of the type (RFC 9824 §2, §3).
func TestF21(t *testing.T) {
	const nxname rr.Type = 128
	for _, c := range []struct {
		types   []rr.Type
		outcome validate.Outcome
	}{{[]rr.Type{rr.TypeRRSIG, rr.TypeNSEC, nxname}, validate.NXDomain}, {[]rr.Type{rr.TypeRRSIG, rr.TypeNSEC}, validate.NoData}} {
		s := newSigningByHand(t)
		s.add("example.", rr.TypeDNSKEY, s.key.Data)
		s.add("nosuch.example.", rr.TypeNSEC, nsec(`\000.nosuch.example.`, c.types...))
		if v := validate.NewRRsets(s.out).Validate([]rr.Record{s.anchor()}, dnsname.MustParse("nosuch.example."), rr.TypeA, at); v.Status != validate.Secure || v.Outcome != c.outcome {
			t.Errorf("%v: %s, outcome %d (%s)", c.types, v.Status, v.Outcome, v.Reason)
		}
		if v := validate.NewRRsets(s.out).Validate([]rr.Record{s.anchor()}, dnsname.MustParse("other.example."), rr.TypeA, at); v.Status != validate.Bogus {
			t.Errorf("%v, another name: %s", c.types, v.Status)
		}
	}
}
