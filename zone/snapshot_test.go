package zone_test

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
)

// Names are hashed as an NSEC3PARAM record without flags says; others are not for
// servers (RFC 5155 §4.1.2).
func TestHashParams(t *testing.T) {
	hashed := rr.Record{Name: dnsname.MustParse("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom." + apex.String()), Type: rr.TypeNSEC3, TTL: 1, Data: []byte("\x01\x00\x00\x00\x00\x01a\x00")}
	for text, want := range map[string]string{"": "", "\x01\x00\x00\x05\x00": "\x01\x00\x00\x05\x00", "\x01\x01\x00\x05\x00": "", "\x01\x80\x00\x05\x00|\x01\x00\x00\x07\x01a": "\x01\x00\x00\x07\x01a"} {
		records := []rr.Record{{Name: apex, Type: rr.TypeSOA, TTL: 1, Data: []byte(soaData)}, hashed}
		for _, data := range strings.Split(text, "|") {
			if data != "" {
				records = append(records, rr.Record{Name: apex, Type: rr.TypeNSEC3PARAM, TTL: 1, Data: []byte(data)})
			}
		}
		if got := build(t, records).HashParams(); string(got) != want {
			t.Errorf("with %q names are hashed by %q, want %q", text, got, want)
		}
	}
}

// A chain of hashed names that comes or goes is a difference like any other.
func TestDiffOfHashed(t *testing.T) {
	apexSOA := rr.Record{Name: apex, Type: rr.TypeSOA, TTL: 1, Data: []byte(soaData)}
	hashed := rr.Record{Name: dnsname.MustParse("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom." + apex.String()), Type: rr.TypeNSEC3, TTL: 1, Data: []byte("\x01\x00\x00\x00\x00\x01a\x00")}
	plain, with := build(t, []rr.Record{apexSOA}), build(t, []rr.Record{apexSOA, hashed})
	for _, c := range []struct {
		from, to *zone.Snapshot
		comes    int
	}{{plain, with, 1}, {with, plain, -1}, {with, with, 0}} {
		delta := zone.Diff(c.from, c.to)
		if gone, came := delta.Records(); came-gone != c.comes {
			t.Errorf("%d records of hashed names come, want %d", came-gone, c.comes)
		}
		if next, err := c.from.With(delta); err != nil || !zone.Equal(next, c.to) || next.Digest() != c.to.Digest() {
			t.Errorf("the delta leads elsewhere: %v", err)
		}
		parts(t, c.to)
	}
}

// Each record keeps its position, however many goroutines build the zone.
func TestPositionsOfMany(t *testing.T) {
	zone.Shrink(t, 4, 64, 10)
	const n = 3000
	b := zone.NewBuilder(apex, true)
	at := map[string]source.Pos{}
	for i := range n {
		owner := dnsname.MustParse(fmt.Sprintf("h%d.%s", i*7919%n, apex))
		at[owner.Key()] = source.Pos(i + 1)
		if err := b.Add([]byte(owner.Wire()), rr.TypeA, 1, []byte{192, 0, 2, 1}, source.Pos(i+1)); err != nil {
			t.Fatal(err)
		}
	}
	built := b.Build()
	if len(built.Positions) != n {
		t.Fatalf("%d positions of %d records", len(built.Positions), n)
	}
	i := 0
	for node := range built.Nodes {
		if want := at[built.Owner(node).Key()]; built.Positions[i] != want {
			t.Fatalf("record %d has position %d, not %d", i, built.Positions[i], want)
		}
		i++
	}
}
