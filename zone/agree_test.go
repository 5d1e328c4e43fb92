package zone_test

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Of two versions that were built apart and differ in a few names, most pages are alike octet
// for octet, whatever the names and however much they have: what follows a change is cut as
// before after a page or two.
func TestPagesAgree(t *testing.T) {
	for _, name := range []string{"h%06d", "%d.a", "x%x"} {
		for _, octets := range []int{4, 120, 900} {
			r := rand.New(rand.NewPCG(uint64(octets), 2026))
			const names = 6000
			build := func(without map[int]bool) *zone.Snapshot {
				apex := dnsname.MustParse("tides.example.")
				b := zone.NewBuilder(apex, false)
				for i := range names {
					if without[i] {
						continue
					}
					data := binary.BigEndian.AppendUint32([]byte{byte(octets - 1)}, uint32(i))[:min(5, octets)]
					record := rr.Record{Name: dnsname.MustParse(fmt.Sprintf(name+".tides.example.", i)), Type: rr.TypeNULL, TTL: 60, Data: append(data, make([]byte, octets)...)}
					if err := b.AddRecord(record); err != nil {
						t.Fatal(err)
					}
				}
				return b.Build().Snapshot
			}
			gone := map[int]bool{}
			for range 5 {
				gone[r.IntN(names)] = true
			}
			one, two := pagesOf(build(nil)), pagesOf(build(gone))
			have := map[string]bool{}
			for _, p := range one {
				have[string(p)] = true
			}
			same := 0
			for _, p := range two {
				if have[string(p)] {
					same++
				}
			}
			if apart := len(two) - same; apart > 80 || len(one) < 60 {
				t.Errorf("%s with %d octets: %d of %d pages are alike", name, octets, same, len(two))
			}
		}
	}
}
