package keymanager

import (
	"time"

	"fencepost/keyring"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
)

// Policy is a way to sign and to roll keys.
type Policy struct {
	Name      string
	Algorithm rr.AlgorithmNumber
	Bits      int  // of RSA keys; 0 is the usual size
	Split     bool // a KSK and a ZSK in place of a single key
	Signing   signer.Policy
	// CDS says whether the zone tells its parent of its keys by CDS and CDNSKEY.
	CDS CDSUse
	// Renew is how long keys are used before the next take their place.
	Renew roll.Lifetimes
	// Revoke tells that others follow the zone's keys as trust anchors: new ones wait
	// until they are trusted, and old ones are revoked (RFC 5011).
	Revoke bool
	// Margin, ExpectServers and ExpectParent are those of roll.Timing.
	Margin, ExpectServers, ExpectParent time.Duration
	PassphraseFile                      string // opens protected keys; empty: none
}

// CDSUse says when CDS and CDNSKEY records are in a zone.
type CDSUse string

// The uses.
const (
	CDSKeep  CDSUse = "keep"            // as long as the parent is to have a DS
	CDSUntil CDSUse = "until-confirmed" // until the parent has been seen to have it
	CDSNever CDSUse = "never"
)

// Defaults of policies. Servers that are told follow within seconds, those that are
// not at their next refresh, of which a quarter of an hour is usual; parents take
// what they are told into their zone within hours.
const (
	defaultMargin  = 90 * time.Minute
	defaultServers = 20 * time.Minute
	defaultParent  = 3 * time.Hour
)

// DefaultPolicy is how zones are signed where nothing is said.
func DefaultPolicy() *Policy {
	return &Policy{Algorithm: rr.ECDSAP256SHA256, CDS: CDSKeep, Margin: defaultMargin, ExpectServers: defaultServers, ExpectParent: defaultParent}
}

// unknownDSTTL is how long caches are taken to hold a DS whose TTL has not been
// seen.
const unknownDSTTL = 86400

// Timing are the waits for the keys of a zone.
func (p *Policy) Timing(ring *keyring.Ring) roll.Timing {
	t := roll.Timing{Keys: ring.TTLs.Keys, Data: ring.TTLs.Data, DS: ring.TTLs.DS, Followed: p.Revoke, Margin: p.Margin, ExpectServers: p.ExpectServers, ExpectParent: p.ExpectParent}
	if len(t.DS) == 0 {
		t.DS = roll.TTLs{{Seconds: unknownDSTTL}}
	}
	if len(t.Keys) == 0 {
		t.Keys = roll.TTLs{{Seconds: signer.Default.DNSKEYTTL}}
	}
	return t
}

// CDSOf is what a zone is to tell its parent.
func (p *Policy) CDSOf(ring *keyring.Ring) signer.CDS {
	switch {
	case p.CDS == CDSNever:
		return signer.NoCDS
	case ring.Roll.Deletes():
		return signer.DeleteAll
	case p.CDS == CDSUntil && ring.Roll.Roll == nil:
		for _, e := range ring.Keys {
			if e.DS && e.Seen.IsZero() {
				return signer.WantDS
			}
		}
		return signer.NoCDS
	}
	return signer.WantDS
}

// Demanded is the rollover that brings the keys in line with the policy, where it has
// changed; empty: none.
func (p *Policy) Demanded(ring *keyring.Ring) roll.Kind {
	split := false
	for _, e := range ring.Roll.InUse(roll.RollAll) {
		if e.Algorithm != p.Algorithm {
			return roll.RollAlgorithm
		}
		split = split || e.Role != signer.Single
	}
	if ring.Roll.Signs() && split != p.Split {
		return roll.RollAll
	}
	return ""
}

// kind is how the policy does a kind of rollover.
func (p *Policy) kind(k roll.Kind) roll.Kind {
	if p.Revoke {
		return k.Revoking()
	}
	return k
}

// roles are those that keys for a kind of rollover have.
func (p *Policy) roles(kind roll.Kind) []signer.Role {
	switch kind {
	case roll.RollKSK, roll.RollKSKRevoke, roll.EmergencyKSK:
		return []signer.Role{signer.KSK}
	case roll.RollZSK, roll.EmergencyZSK:
		return []signer.Role{signer.ZSK}
	}
	if p.Split {
		return []signer.Role{signer.KSK, signer.ZSK}
	}
	return []signer.Role{signer.Single}
}

// emergency is the policy with the algorithm that fast replacements need: what caches know
// cannot be changed fast, whatever the policy says by now.
func (p *Policy) emergency(ring *keyring.Ring) *Policy {
	a, ok := ring.Roll.EmergencyAlgorithm()
	if !ok || a == p.Algorithm {
		return p
	}
	q := *p
	q.Algorithm, q.Bits = a, 0
	return &q
}
