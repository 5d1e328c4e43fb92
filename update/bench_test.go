package update

import (
	"fmt"
	"testing"

	"fencepost/rr"
	"fencepost/zone"
)

// What one change costs in zones of two sizes, and a full message at one name.
func BenchmarkApply(b *testing.B) {
	large := func(names int) *zone.Snapshot {
		m := start(10)
		for i := range names {
			m = append(m, rec(fmt.Sprintf("n%d.tides.example.", i), in, rr.TypeA, 60, addr))
		}
		return build(b, m)
	}
	one := &Request{Zone: apex, Prerequisites: []rr.Record{rec("n5.tides.example.", all, rr.TypeA, 0, "")},
		Changes: []rr.Record{rec("n5.tides.example.", all, rr.TypeA, 0, ""), rec("n5.tides.example.", in, rr.TypeA, 60, "\x02\x02\x02\x02")}}
	full := &Request{Zone: apex}
	for i := range 1500 {
		full.Changes = append(full.Changes, rec("n5.tides.example.", in, rr.TypeA, 60, string([]byte{10, 0, byte(i >> 8), byte(i)})))
	}
	for _, c := range []struct {
		what string
		z    *zone.Snapshot
		r    *Request
	}{{"one of 100", large(100), one}, {"one of 200000", large(200_000), one}, {"full", large(100), full}} {
		b.Run(c.what, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if no := c.r.Check(c.z); no != nil {
					b.Fatal(no)
				}
				if next, err := c.r.Apply(c.z, func(s uint32) uint32 { return s + 1 }); err != nil || next == c.z {
					b.Fatal(err)
				}
			}
		})
	}
}
