package app

import (
	"fmt"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/zone"
)

// clockTolerance is how far clocks may differ without a word.
const clockTolerance = time.Hour

// clockWentBack refuses to sign at a time well before the version in service was
// signed: its successors would not be valid yet for anybody with a right clock, or
// expire too soon. Whether the clock was ahead or is behind only people can tell.
func clockWentBack(name dnsname.Name, signed *zone.Snapshot, p signer.Policy, now time.Time) error {
	if signed == nil {
		return nil
	}
	var apex zone.Node
	signed.ApexNode(&apex)
	_, sigs, _ := apex.FindWithSig(rr.TypeSOA)
	if sigs.N == 0 {
		return nil
	}
	sig, err := dnssec.ParseRRSIG(sigs.First())
	if err != nil {
		return nil
	}
	made := now.Add(time.Duration(int32(sig.Inception-uint32(now.Unix()))) * time.Second).Add(p.Filled().Inception)
	if made.Sub(now) <= clockTolerance {
		return nil
	}
	const form = "2006-01-02 15:04 UTC"
	return fmt.Errorf("the clock went back: the version of %s in service was signed on %s, and it is %s now; if it was ahead then and is right now: fencepost reload --clock-is-right (signs everything anew); if not, set the clock right",
		plainName(name), made.UTC().Format(form), now.UTC().Format(form))
}

// clockConfirmed tells whether somebody has just said that the clock is right.
func clockConfirmed(ring *keyring.Ring, now time.Time) bool {
	since := now.Sub(ring.ClockConfirmed)
	return !ring.ClockConfirmed.IsZero() && since >= 0 && since < clockTolerance
}
