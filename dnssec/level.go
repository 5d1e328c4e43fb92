package dnssec

import (
	"errors"

	"fencepost/rr"
)

// ErrWeak is wrapped when a key is refused for what it is, not for a fault.
var ErrWeak = errors.New("not to be used for new keys")

// Use says how far an algorithm may be used for one purpose. Higher is better.
type Use uint8

// The uses, after the words of RFC 8624 §3.
const (
	Never       Use = iota // MUST NOT: neither signed with nor relied on
	Legacy                 // keeps existing zones going, with a warning; no new keys
	Discouraged            // NOT RECOMMENDED
	Allowed                // MAY
	Recommended            // RECOMMENDED or MUST
)

// Level is what the standards say of an algorithm or digest.
type Level struct {
	Signing    Use // for keys and signatures; for digests, making DS records
	Validation Use
	Reason     string // why it is not recommended, with the RFC; empty where it is
}

// levels follow RFC 8624 §3.1 as changed by RFC 9904 to 9906, which forbid
// signing with SHA-1 and GOST.
var levels = map[rr.AlgorithmNumber]Level{
	rr.RSAMD5:          {Never, Never, "RSAMD5 is broken (RFC 8624 §3.1)"},
	rr.DSA:             {Never, Never, "DSA gives its key away when the random numbers are weak (RFC 8624 §3.1)"},
	rr.DSANSEC3:        {Never, Never, "DSA gives its key away when the random numbers are weak (RFC 8624 §3.1)"},
	rr.RSASHA1:         {Legacy, Legacy, "SHA-1 can be forged; nothing new is signed with it (RFC 9905)"},
	rr.RSASHA1NSEC3:    {Legacy, Legacy, "SHA-1 can be forged; nothing new is signed with it (RFC 9905)"},
	rr.ECCGOST:         {Never, Never, "GOST R 34.10-2001 has been withdrawn (RFC 9906)"},
	rr.RSASHA256:       {Recommended, Recommended, ""},
	rr.RSASHA512:       {Discouraged, Recommended, "RSASHA512 is no stronger than RSASHA256 and less supported (RFC 8624 §3.1)"},
	rr.ECDSAP256SHA256: {Recommended, Recommended, ""},
	rr.ECDSAP384SHA384: {Allowed, Recommended, ""},
	rr.ED25519:         {Recommended, Recommended, ""},
	rr.ED448:           {Allowed, Recommended, ""},
}

// LevelOf is what the standards say of an algorithm. One that is not known here
// can be used for nothing.
func LevelOf(a rr.AlgorithmNumber) Level {
	if l, ok := levels[a]; ok {
		return l
	}
	return Level{Never, Never, "there is no such algorithm here; write ECDSAP256SHA256"}
}

// digestLevels follow RFC 8624 §3.3 and RFC 9905.
var digestLevels = map[uint8]Level{
	DigestSHA1:   {Never, Legacy, "SHA-1 can be forged (RFC 9905)"},
	DigestSHA256: {Recommended, Recommended, ""},
	3:            {Never, Never, "GOST R 34.11-94 has been withdrawn (RFC 9906)"},
	DigestSHA384: {Allowed, Recommended, ""},
}

// DigestLevel is what the standards say of a DS digest type.
func DigestLevel(t uint8) Level {
	if l, ok := digestLevels[t]; ok {
		return l
	}
	return Level{Never, Never, "there is no such digest type here; write 2 (SHA-256)"}
}

// DigestName is the usual name of a DS digest type.
func DigestName(t uint8) string {
	return map[uint8]string{DigestSHA1: "SHA-1", DigestSHA256: "SHA-256", 3: "GOST R 34.11-94", DigestSHA384: "SHA-384"}[t]
}

// KeyConcern says in words what is wrong with signing with a key; empty where
// there is nothing. Its signatures are still checked.
func (k *PublicKey) KeyConcern() string {
	if l := LevelOf(k.Algorithm); l.Signing < Allowed {
		return l.Reason
	}
	switch bits := k.Bits(); k.Algorithm {
	case rr.RSASHA256, rr.RSASHA512:
		if bits < MinRSABits {
			return "RSA keys under 2048 bits can be broken by now (RFC 6781 §3.4.2)"
		}
	}
	return ""
}
