package keymanager

import (
	"errors"
	"fmt"
	"time"

	"fencepost/keyring"
	"fencepost/roll"
	"fencepost/signer"
)

// ErrSigned means that a zone is to be signed for the first time that is signed already.
var ErrSigned = errors.New("the zone is signed already")

// Start begins a rollover on an open ring, which the caller saves. An emergency takes the
// place of a rollover that is going on: it then replaces every key as fast as caches permit.
func (p *Policy) Start(ring *keyring.Ring, kind roll.Kind, reason string, now time.Time) error {
	if kind = p.kind(kind); kind.Emergency() {
		p = p.emergency(ring)
	}
	if reason == "" {
		reason = "requested"
	}
	if ring.Roll.Roll != nil && kind.Emergency() {
		return p.overtake(ring, reason, now)
	}
	if ring.Roll.Roll != nil { // refused, in its words
		return ring.Roll.Start(kind, nil, "", now)
	}
	if kind == roll.GoSecure && ring.Roll.Signs() {
		return ErrSigned
	}
	if kind != roll.GoSecure && len(ring.Roll.InUse(kind)) == 0 { // likewise
		return ring.Roll.Start(kind, nil, "", now)
	}
	keys, err := p.freshKeys(ring, kind, now)
	if err != nil {
		return err
	}
	return ring.Roll.Start(kind, rollKeys(keys), reason, now)
}

func (p *Policy) overtake(ring *keyring.Ring, reason string, now time.Time) error {
	keys, err := p.freshKeys(ring, roll.EmergencyAll, now)
	if err != nil {
		return err
	}
	return ring.Roll.Overtake(rollKeys(keys), fmt.Sprintf("%s (all keys, instead of: %s)", reason, ring.Roll.Roll.Kind.Description()), now)
}

// startDue begins the rollover that the policy asks for, if its time has come, or
// tells when that is.
func (p *Policy) startDue(ring *keyring.Ring, now time.Time) (time.Time, error) {
	if ring.Roll.Roll != nil || ring.Roll.Unsigned {
		return time.Time{}, nil
	}
	t := p.Timing(ring)
	kind, when := ring.Roll.Due(p.Renew, &t)
	reason := "the key has been in use for as long as the policy allows"
	if k := p.Demanded(ring); k != "" {
		kind, when, reason = k, now, "the policy asks for other keys"
	}
	kind = p.kind(kind)
	if kind == "" || now.Before(when) {
		return when, nil
	}
	keys, err := p.freshKeys(ring, kind, now)
	if err != nil {
		return when, err
	}
	return time.Time{}, ring.Roll.Start(kind, rollKeys(keys), reason, now)
}

// freshKeys are keys for a rollover: those made before and used for nothing yet
// that fit, else new ones.
func (p *Policy) freshKeys(ring *keyring.Ring, kind roll.Kind, now time.Time) (out []*keyring.Entry, err error) {
	if kind == roll.GoInsecure {
		return nil, nil
	}
	if kind == roll.GoSecure { // keys made by hand say how the work is parted
		if made := ring.Unused(); len(made) > 0 && Covers(made) {
			return made, nil
		}
	}
	passphrase, err := keyring.ReadPassphrase(p.PassphraseFile)
	if err != nil {
		return nil, err
	}
	for _, role := range p.roles(kind) {
		var e *keyring.Entry
		for _, k := range ring.Unused() {
			if k.Role == role && k.Public.Algorithm == p.Algorithm {
				e = k
				break
			}
		}
		if e == nil {
			if e, err = ring.Generate(keyring.NewKey{Algorithm: p.Algorithm, Role: role, Bits: p.Bits, Passphrase: passphrase}, now); err != nil {
				return nil, err
			}
		}
		out = append(out, e)
	}
	return out, nil
}

// Covers reports whether keys can do all the work together.
func Covers(keys []*keyring.Entry) bool {
	var signsKeys, signsZone bool
	for _, e := range keys {
		signsKeys = signsKeys || e.Role != signer.ZSK
		signsZone = signsZone || e.Role != signer.KSK
	}
	return signsKeys && signsZone
}

func rollKeys(in []*keyring.Entry) (out []*roll.Key) {
	for _, e := range in {
		out = append(out, e.Key)
	}
	return out
}
