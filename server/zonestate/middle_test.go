package zonestate

import (
	"context"
	"errors"
	"net/netip"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/netio"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

// What a signed version was made of is found again, or it is said that it is not known: where it had
// records of kinds that signers make, or is not what was noted.
func TestSourceOfSigned(t *testing.T) {
	source := zoneVersion("a.", 7, 3)
	extra := func(z *zone.Snapshot, owner string, records ...rr.Record) *zone.Snapshot {
		next, err := z.Replace([]zone.Content{{Owner: dnsname.MustParse(owner), Records: records}})
		if err != nil {
			t.Fatal(err)
		}
		return next
	}
	apex := []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(9)}, {Type: rr.TypeDNSKEY, TTL: 60, Data: make([]byte, 40)}, {Type: rr.TypeNSEC3PARAM, Data: []byte{1, 0, 0, 0, 0}}}
	var had zone.Node
	source.ApexNode(&had)
	for set := range had.RRsets {
		for data := range set.Data {
			if set.Type != rr.TypeSOA {
				apex = append(apex, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
			}
		}
	}
	soaTTL, _ := source.Find(source.Apex(), rr.TypeSOA, 0)
	apex[0].TTL, apex[0].Data = soaTTL.TTL, rr.SetSerial([]byte(string(soaTTL.First())), 9)
	signed := extra(source, "a.", apex...)
	meta := store.Meta{Source: madeOf(source, "keys"), SourceSerial: 7}
	if got := sourceOfSigned(signed, meta); got == nil || got.Serial() != 7 || got.Digest() != source.Digest() {
		t.Errorf("%v", got)
	}
	for what, m := range map[string]store.Meta{"another serial": {Source: meta.Source, SourceSerial: 8}, "never signed": {SourceSerial: 7}, "another digest": {Source: "00 " + meta.Source, SourceSerial: 7}} {
		if got := sourceOfSigned(signed, m); got != nil {
			t.Errorf("%s: something is found", what)
		}
	}
	cds := extra(source, "b.a.", rr.Record{Type: rr.TypeCDS, TTL: 60, Data: make([]byte, 36)})
	if got := sourceOfSigned(cds, store.Meta{Source: madeOf(cds, "keys"), SourceSerial: 7}); got != nil {
		t.Error("a source with records of a kind that signers make is found without them")
	}
}

// That keys cannot be used stays said while no primary answers, and after one did, until they can.
func TestKeysBeforePrimaries(t *testing.T) {
	signer := resigner()
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Signer: signer, Origin: &Primaries{}}}}
	s := New(Options{Store: store.InMemory(), Stepped: true, Net: netio.NewMemory(netio.NewVirtual(time.Unix(1_790_000_000, 0))).Host(netip.MustParseAddr("192.0.2.9"))})
	s.look = func(context.Context, *zoneState) error { return errors.New("no primary answers") }
	s.Apply(t.Context(), cfg, "")
	z := s.table.Load().zones[idOf(dnsname.MustParse("a."), "")]
	s.putInService(z, version{served: zoneVersion("a.", 1, 1), source: zoneVersion("a.", 1, 1), fingerprint: "key"})
	signer.unusable.set(errors.New("the passphrase is wrong"))
	s.Apply(t.Context(), cfg, "")
	problem := func() string {
		s.RunDue(t.Context())
		if p := s.Status().Zones[0].Problem; p != nil {
			return p.Error()
		}
		return ""
	}
	if got := problem(); got != "signing: the passphrase is wrong" {
		t.Errorf("at first: %q", got)
	}
	if err := s.confirm(z, zoneVersion("a.", 1, 1), expiry{}); err != nil || problem() != "signing: the passphrase is wrong" {
		t.Errorf("the primary has answered: %q, %v", problem(), err)
	}
	signer.unusable.set(nil)
	s.Apply(t.Context(), cfg, "")
	s.refresh(t.Context(), z)
	if got := problem(); got != "no primary answers" {
		t.Errorf("with its keys: %q", got)
	}
}
