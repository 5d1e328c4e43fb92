package validate_test

import (
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/validate"
)

// FuzzValidate: no answer, however malformed, makes a validator stumble, and none that
// was not signed with the zone's key is secure.
func FuzzValidate(f *testing.F) {
	zs, _ := zones(f)
	for _, z := range zs {
		for _, name := range []string{"www.example.", "nosuch.example.", "x.wild.example."} {
			m := ask(f, z, dnsname.MustParse(name), rr.TypeA)
			for _, r := range m.Authority {
				f.Add(r.Data, uint16(r.Type), []byte(r.Name.Wire()))
			}
		}
	}
	other, anchors := zones(f)
	z := other["NSEC3"]
	keys := ask(f, z, z.Apex(), rr.TypeDNSKEY).Answer
	var proof []rr.Record
	f.Fuzz(func(t *testing.T, data []byte, typ uint16, owner []byte) {
		name, err := dnsname.FromWire(owner)
		if err != nil || rr.Validate(rr.Type(typ), data) != nil {
			return
		}
		if proof == nil {
			var m *message.Message = ask(t, z, dnsname.MustParse("nosuch.example."), rr.TypeA)
			for _, r := range m.Authority {
				if r.Type == rr.TypeRRSIG {
					proof = append(proof, r)
				}
			}
		}
		forged := []rr.Record{{Name: name, Type: rr.Type(typ), Class: rr.ClassIN, Data: data}}
		p := validate.NewRRsets(keys, forged, proof) // signatures of other records beside it
		if v := p.Validate(anchors, dnsname.MustParse("nosuch.example."), rr.TypeA, at); v.Status == validate.Secure {
			t.Errorf("a forged %s is believed: %+v", rr.Type(typ), v)
		}
	})
}
