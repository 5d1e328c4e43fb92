package validate_test

import (
	"slices"
	"testing"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/validate"
)

// The states of anchors as one look shows them, for DS and DNSKEY anchors alike.
func TestAnchorStates(t *testing.T) {
	zone := dnsname.MustParse("tides.example.")
	key := func(flags uint16, n byte) []byte {
		return append([]byte{byte(flags >> 8), byte(flags), 3, 15}, slices.Repeat([]byte{n}, 32)...)
	}
	record := func(typ rr.Type, data []byte) rr.Record {
		return rr.Record{Name: zone, Type: typ, Class: rr.ClassIN, TTL: 60, Data: data}
	}
	ds := func(k []byte) rr.Record { return record(rr.TypeDS, dnssec.DS(zone, k, dnssec.DigestSHA256)) }
	dnskey := func(k []byte) rr.Record { return record(rr.TypeDNSKEY, k) }
	one, two, three, zsk := key(0x101, 1), key(0x101, 2), key(0x101, 3), key(0x100, 4)
	view := func(k []byte, s validate.AnchorState) validate.AnchorView {
		return validate.AnchorView{Tag: dnssec.KeyTag(k), Algorithm: 15, State: s}
	}
	for what, c := range map[string]struct {
		anchors []rr.Record
		keys    [][]byte
		want    []validate.AnchorView
	}{
		"valid":         {[]rr.Record{ds(one)}, [][]byte{one, zsk}, []validate.AnchorView{view(one, validate.AnchorValid)}},
		"as DNSKEY":     {[]rr.Record{dnskey(one)}, [][]byte{one}, []validate.AnchorView{view(one, validate.AnchorValid)}},
		"two digests":   {[]rr.Record{ds(one), record(rr.TypeDS, dnssec.DS(zone, one, dnssec.DigestSHA1))}, [][]byte{one}, []validate.AnchorView{view(one, validate.AnchorValid)}},
		"missing":       {[]rr.Record{ds(one), ds(two)}, [][]byte{one}, []validate.AnchorView{view(one, validate.AnchorValid), view(two, validate.AnchorMissing)}},
		"revoked":       {[]rr.Record{ds(one), dnskey(two)}, [][]byte{key(0x181, 1), key(0x181, 2), three}, []validate.AnchorView{view(one, validate.AnchorRevoked), view(two, validate.AnchorRevoked), view(three, validate.AnchorPending)}},
		"revoked twice": {[]rr.Record{ds(one)}, [][]byte{one, key(0x181, 1)}, []validate.AnchorView{view(one, validate.AnchorRevoked)}},
		"pending":       {[]rr.Record{ds(one)}, [][]byte{one, two, zsk}, []validate.AnchorView{view(one, validate.AnchorValid), view(two, validate.AnchorPending)}},
		"another zone":  {[]rr.Record{{Name: dnsname.Root, Type: rr.TypeDNSKEY, Data: one}}, [][]byte{zsk}, nil},
		"nothing came":  {[]rr.Record{ds(one)}, nil, []validate.AnchorView{view(one, validate.AnchorMissing)}},
	} {
		var records []rr.Record
		for _, k := range c.keys {
			records = append(records, dnskey(k))
		}
		got := validate.NewRRsets(records).Anchors(zone, c.anchors)
		byTag := func(a, b validate.AnchorView) int { return int(a.Tag) - int(b.Tag) }
		slices.SortFunc(got, byTag)
		slices.SortFunc(c.want, byTag)
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", what, got, c.want)
		}
	}
}
