package signer_test

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/zone"
)

// rrsig is the data of a signature over A that ends at a time.
func rrsig(at time.Time) []byte {
	data := []byte{0, 1, 13, 2, 0, 0, 14, 16}
	data = binary.BigEndian.AppendUint32(data, uint32(at.Unix()))
	data = binary.BigEndian.AppendUint32(data, uint32(at.Unix()-86400))
	return append(append(data, 0, 7), "\x05tides\x07example\x00signature"...)
}

// The first end of a signature, followed from change to change, is what a look at the whole
// zone finds; also where signatures end at one time, go, and none is left.
func TestFirstExpiryAfter(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	apex := dnsname.MustParse("tides.example.")
	r := rand.New(rand.NewPCG(6, 2026))
	z, err := zone.NewBuilder(apex, false).Build().Replace(nil)
	if err != nil {
		t.Fatal(err)
	}
	at, none := signer.FirstExpiry(z, now), 0
	for step := range 2000 {
		var changes []zone.Content
		for i := range 1 + r.IntN(3) {
			c := zone.Content{Owner: dnsname.MustParse(fmt.Sprintf("h%d.tides.example.", (step+i)%6))}
			if r.IntN(3) > 0 {
				c.Records = []rr.Record{{Type: rr.TypeA, TTL: 60, Data: []byte{192, 0, 2, byte(r.IntN(9))}}}
				for range r.IntN(3) {
					c.Records = append(c.Records, rr.Record{Type: rr.TypeRRSIG, TTL: 60, Data: rrsig(now.Add(time.Duration(r.IntN(20)) * time.Hour))})
				}
			}
			changes = append(changes, c)
		}
		next, err := z.Replace(changes)
		if err != nil {
			continue // the same signature twice
		}
		at = signer.FirstExpiryAfter(at, zone.Diff(z, next), next, now)
		z = next
		if want := signer.FirstExpiry(z, now); !at.Equal(want) {
			t.Fatalf("step %d: %s, not %s", step, at, want)
		}
		if at.IsZero() {
			none++
		}
	}
	if none == 0 || none == 2000 {
		t.Errorf("%d of the versions have no signature", none)
	}
}
