package transfer

import (
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// The SOA of a change is found among others of the apex, and others' SOA are not taken for it.
func TestSOAOf(t *testing.T) {
	apex, below := dnsname.MustParse("a.example."), dnsname.MustParse("b.a.example.")
	set := func(owner dnsname.Name, typ rr.Type) zone.SetDelta {
		return zone.SetDelta{Owner: owner, Added: zone.NewRRset(typ, 60, [][]byte{{1}})}
	}
	d := &zone.Delta{Apex: apex, Sets: []zone.SetDelta{set(apex, rr.TypeNS), set(below, rr.TypeSOA), set(apex, rr.TypeSOA), set(below, rr.TypeA)}}
	if got := soaOf(d); got != &d.Sets[2] {
		t.Errorf("%+v", got)
	}
	d.Sets = d.Sets[:2]
	if got := soaOf(d); got != nil {
		t.Errorf("%+v", got)
	}
}
