package update

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// What stands beside what, and takes its place, of each pair of types (RFC 2136 §3.4.2.2, RFC 4035 §2.5).
func TestAddBeside(t *testing.T) {
	owner := dnsname.MustParse("a.example.")
	rec := func(t rr.Type, ttl uint32, data string) rr.Record {
		return rr.Record{Name: owner, Type: t, TTL: ttl, Data: []byte(data)}
	}
	soa := func(serial byte) string {
		return "\x00\x00\x00\x00\x00" + string(serial) + strings.Repeat("\x00\x00\x00\x01", 4)
	}
	const wks rr.Type = 11
	alias := rec(rr.TypeCNAME, 60, "\x01b\x00")
	for what, c := range map[string]struct {
		has  []rr.Record
		add  rr.Record
		want string
	}{
		"an alias to nothing":            {nil, alias, "CNAME 60"},
		"an alias to an address":         {[]rr.Record{rec(rr.TypeA, 9, "1234")}, alias, "A 9"},
		"an alias to a signature":        {[]rr.Record{rec(rr.TypeRRSIG, 9, "s")}, alias, "RRSIG 9, CNAME 60"},
		"an alias to NSEC":               {[]rr.Record{rec(rr.TypeNSEC, 9, "n")}, alias, "NSEC 9, CNAME 60"},
		"an address to an alias":         {[]rr.Record{alias}, rec(rr.TypeA, 9, "1234"), "CNAME 60"},
		"a signature to an alias":        {[]rr.Record{alias}, rec(rr.TypeRRSIG, 9, "s"), "CNAME 60, RRSIG 9"},
		"NSEC to an alias":               {[]rr.Record{alias}, rec(rr.TypeNSEC, 9, "n"), "CNAME 60, NSEC 9"},
		"an alias to an alias":           {[]rr.Record{alias}, rec(rr.TypeCNAME, 9, "\x01c\x00"), "CNAME 9"},
		"an address to another":          {[]rr.Record{rec(rr.TypeA, 9, "1234")}, rec(rr.TypeA, 7, "1235"), "A 7, A 7"},
		"the same address":               {[]rr.Record{rec(rr.TypeA, 9, "1235"), rec(rr.TypeA, 9, "1234")}, rec(rr.TypeA, 7, "1234"), "A 7, A 7"},
		"the first of two":               {[]rr.Record{rec(rr.TypeA, 9, "1234"), rec(rr.TypeA, 9, "1235")}, rec(rr.TypeA, 7, "1234"), "A 7, A 7"},
		"a DNAME to another":             {[]rr.Record{rec(rr.TypeDNAME, 9, "\x01b\x00")}, rec(rr.TypeDNAME, 7, "\x01c\x00"), "DNAME 7"},
		"services of one protocol":       {[]rr.Record{rec(wks, 9, "1234\x06\x01")}, rec(wks, 7, "1234\x06\x02\x03"), "TYPE11 7"},
		"services without a bit":         {[]rr.Record{rec(wks, 9, "1234\x06\x01")}, rec(wks, 7, "1234\x06"), "TYPE11 7"},
		"services of another protocol":   {[]rr.Record{rec(wks, 9, "1234\x06\x01")}, rec(wks, 7, "1234\x11\x01"), "TYPE11 7, TYPE11 7"},
		"texts of the length of those":   {[]rr.Record{rec(rr.TypeTXT, 9, "\x05abcde")}, rec(rr.TypeTXT, 7, "\x05abcdf"), "TXT 7, TXT 7"},
		"a newer SOA":                    {[]rr.Record{rec(rr.TypeSOA, 9, soa(5))}, rec(rr.TypeSOA, 7, soa(6)), "SOA 7"},
		"an SOA of the same serial":      {[]rr.Record{rec(rr.TypeSOA, 9, soa(5))}, rec(rr.TypeSOA, 7, soa(5)), "SOA 9"},
		"an SOA where there is none":     {[]rr.Record{rec(rr.TypeA, 9, "1234")}, rec(rr.TypeSOA, 7, soa(5)), "A 9"},
		"another type leaves TTLs as is": {[]rr.Record{rec(rr.TypeA, 9, "1234")}, rec(rr.TypeTXT, 7, "\x01x"), "A 9, TXT 7"},
	} {
		n := &name{owner: owner, now: c.has}
		n.add(&c.add)
		var got []string
		for _, x := range n.now {
			got = append(got, strings.ReplaceAll(fmt.Sprintf("%s %d", x.Type, x.TTL), "WKS", "TYPE11"))
		}
		if s := strings.Join(got, ", "); s != c.want {
			t.Errorf("%s: %s, want %s", what, s, c.want)
		}
	}
}

// A stored change that was cut off anywhere is refused.
func TestStoredChanges(t *testing.T) {
	apex := dnsname.MustParse("example.")
	c := &Change{Owner: dnsname.MustParse("a.example."), Type: rr.TypeA, Now: zone.NewRRset(rr.TypeA, 60, [][]byte{{192, 0, 2, 1}})}
	for _, by := range []string{"", "key buoys"} {
		c.By = by
		whole := c.AppendBinary(nil)
		if got, err := ParseChange(apex, whole); err != nil || got.By != by || got.Now.N != 1 || !got.Owner.Equal(c.Owner) {
			t.Errorf("%+v comes back as %+v, %v", c, got, err)
		}
		for cut := range whole {
			if got, err := ParseChange(apex, whole[:cut]); err == nil {
				t.Errorf("%d of %d octets are taken for %+v", cut, len(whole), got)
			}
		}
	}
}
