package update

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// zoneOf is a zone of records, with SOA and NS.
func zoneOf(t *testing.T, apex dnsname.Name, records ...rr.Record) *zone.Snapshot {
	t.Helper()
	b := zone.NewBuilder(apex, false)
	soa := "\x02ns\x00\x01h\x00" + strings.Repeat("\x00\x00\x00\x09", 5)
	for _, r := range append([]rr.Record{rec(apex.String(), rr.ClassIN, rr.TypeSOA, 60, soa), rec(apex.String(), rr.ClassIN, rr.TypeNS, 60, "\x02ns\x00")}, records...) {
		if err := b.AddRecord(r); err != nil {
			t.Fatal(err)
		}
	}
	return b.Build().Snapshot
}

// What a zone must not become is refused with the reason, and nothing else is: sets, names and zones at
// their limits, what the signer makes, what stands above a zone or beside a cut.
func TestForbidden(t *testing.T) {
	apex := dnsname.MustParse("tides.example.")
	z := zoneOf(t, apex, rec("www.tides.example.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x01"), rec("www.tides.example.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x02"),
		rec("cut.tides.example.", rr.ClassIN, rr.TypeNS, 60, "\x02ns\x00"), rec("hop.tides.example.", rr.ClassIN, rr.TypeDNAME, 60, "\x01x\x00"),
		rec("big.tides.example.", rr.ClassIN, rr.TypeTXT, 60, "\x01a"), rec("big.tides.example.", rr.ClassIN, rr.TypeTXT, 60, "\x01b"), rec("big.tides.example.", rr.ClassIN, rr.TypeTXT, 60, "\x01c"), rec("big.tides.example.", rr.ClassIN, rr.TypeTXT, 60, "\x01d"))
	l := Limits{Set: 3, Name: 4, Zone: 13}
	in := func(owner string, t rr.Type, data string) rr.Record { return rec(owner, rr.ClassIN, t, 60, data) }
	a := func(n int) rr.Record { return in("www.tides.example.", rr.TypeA, fmt.Sprintf("\xc0\x00\x02%c", n)) }
	txt := func(s string) rr.Record { return in("big.tides.example.", rr.TypeTXT, string(rune(len(s)))+s) }
	for _, c := range []struct {
		what    string
		changes []rr.Record
		why     string // part of; empty: it may
	}{
		{"one more", []rr.Record{a(3)}, ""},
		{"one too many", []rr.Record{a(3), a(4)}, "the set would have 4 records"},
		{"a set that was too large shrinks", []rr.Record{rec("big.tides.example.", rr.ClassNone, rr.TypeTXT, 0, "\x01a")}, ""},
		{"and does not grow", []rr.Record{txt("e")}, "the set would have 5 records"},
		{"a name", []rr.Record{a(3), in("www.tides.example.", rr.TypeTXT, "\x01x"), in("www.tides.example.", rr.TypeMX, "\x00\x01\x00")}, "would have 5 records"},
		{"the zone", []rr.Record{in("a.tides.example.", rr.TypeA, "\xc0\x00\x02\x04"), in("b.tides.example.", rr.TypeA, "\xc0\x00\x02\x04"), in("c.tides.example.", rr.TypeA, "\xc0\x00\x02\x04"), in("d.tides.example.", rr.TypeA, "\xc0\x00\x02\x04")}, "the zone would have"},
		{"DNSKEY", []rr.Record{in("tides.example.", rr.TypeDNSKEY, "\x01\x01\x03\x0d"+strings.Repeat("k", 64))}, "follows from the keys"},
		{"CDS", []rr.Record{in("tides.example.", rr.TypeCDS, "\x00\x01\x0d\x02"+strings.Repeat("d", 32))}, "follows from the keys"},
		{"CDS elsewhere", []rr.Record{in("x.tides.example.", rr.TypeCDS, "\x00\x01\x0d\x02"+strings.Repeat("d", 32))}, ""},
		{"NSEC3PARAM", []rr.Record{in("tides.example.", rr.TypeNSEC3PARAM, "\x01\x00\x00\x00\x00")}, "follows from the keys"},
		{"a DS at the apex", []rr.Record{in("tides.example.", rr.TypeDS, "\x00\x01\x0d\x02"+strings.Repeat("d", 32))}, "stands in its parent"},
		{"a DS at a cut", []rr.Record{in("cut.tides.example.", rr.TypeDS, "\x00\x01\x0d\x02"+strings.Repeat("d", 32))}, ""},
		{"a DNAME at a cut", []rr.Record{in("cut.tides.example.", rr.TypeDNAME, "\x01x\x00")}, "does not stand beside NS"},
		{"NS at a DNAME", []rr.Record{in("hop.tides.example.", rr.TypeNS, "\x01x\x00")}, "does not stand beside NS"},
		{"a DNAME at the apex", []rr.Record{in("tides.example.", rr.TypeDNAME, "\x01x\x00")}, ""},
	} {
		r := &Request{Zone: apex, Changes: c.changes}
		next, err := r.Apply(z, func(s uint32) uint32 { return s + 1 })
		if err != nil {
			t.Fatal(err)
		}
		no := r.Forbidden(z, next, l)
		if c.why == "" && no != nil || c.why != "" && (no == nil || !strings.Contains(no.Why, c.why)) {
			t.Errorf("%s: %v, want %q", c.what, no, c.why)
		}
		if none := r.Forbidden(z, next, Limits{}); c.why != "" && strings.Contains(c.why, "would have") && none != nil {
			t.Errorf("%s: without limits: %v", c.what, none)
		}
	}
	var many []rr.Record
	for i := range 5000 {
		many = append(many, in("many.tides.example.", rr.TypeA, fmt.Sprintf("\x0a\x00%c%c", i>>7&127, i&127)))
	}
	r := &Request{Zone: apex, Changes: many}
	next, err := r.Apply(z, func(s uint32) uint32 { return s + 1 })
	if err != nil {
		t.Fatal(err)
	}
	if no := r.Forbidden(z, next, Limits{}); no == nil || !strings.Contains(no.Why, "too many for an answer") {
		t.Errorf("5,000 addresses: %v", no)
	}
}

// To put a CNAME in the place of another takes that away; one's own address is believed where it is proven.
func TestAllowInPlace(t *testing.T) {
	apex, key := dnsname.MustParse("tides.example."), dnsname.MustParse("buoy.")
	z := zoneOf(t, apex, rec("alias.tides.example.", rr.ClassIN, rr.TypeCNAME, 60, "\x03old\x05other\x00"))
	from := netip.MustParseAddr("192.0.2.77")
	alias := rec("alias.tides.example.", rr.ClassIN, rr.TypeCNAME, 60, "\x03new\x00")
	same := rec("alias.tides.example.", rr.ClassIN, rr.TypeCNAME, 60, "\x03OLD\x05other\x00")
	other := rec("free.tides.example.", rr.ClassIN, rr.TypeCNAME, 60, "\x03new\x00")
	own := rec("b.tides.example.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x4d")
	for _, c := range []struct {
		what   string
		grant  Grant
		x      rr.Record
		proven bool
		want   bool
	}{
		{"another CNAME, adding alone", Grant{Add: true}, alias, true, false}, {"and removing", Grant{Add: true, Remove: true}, alias, true, true},
		{"the same CNAME", Grant{Add: true}, same, true, true}, {"a CNAME where there is none", Grant{Add: true}, other, true, true},
		{"one's own address, proven", Grant{Add: true, OwnAddress: true}, own, true, true}, {"and not", Grant{Add: true, OwnAddress: true}, own, false, false},
		{"any address, not proven", Grant{Add: true}, own, false, true},
	} {
		c.grant.Key = key
		if no := (Grants{c.grant}).Allow(&Request{Zone: apex, Changes: []rr.Record{c.x}}, z, Asker{from, c.proven}); (no == nil) != c.want {
			t.Errorf("%s: %v", c.what, no)
		}
	}
}
