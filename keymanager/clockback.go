package keymanager

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

// ClockBackError says that the clock went back.
type ClockBackError struct {
	Zone        dnsname.Name
	Signed, Now time.Time // when the version in service was signed
}

func (e *ClockBackError) Error() string {
	const form = "2006-01-02 15:04 UTC"
	return fmt.Sprintf("the clock went back: the version of %s in service was signed on %s, and it is %s now", e.Zone.Plain(), e.Signed.UTC().Format(form), e.Now.UTC().Format(form))
}

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
	return &ClockBackError{Zone: name, Signed: made, Now: now}
}

// clockConfirmed reports whether somebody has just said that the clock is right.
func clockConfirmed(ring *keyring.Ring, now time.Time) bool {
	since := now.Sub(ring.ClockConfirmed)
	return !ring.ClockConfirmed.IsZero() && since >= 0 && since < clockTolerance
}
