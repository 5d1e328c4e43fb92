// Package signer signs and proves whole zones. It is pure: zone, keys, policy
// and time in, zone out; it reads no clock, file or global.
package signer

import (
	"errors"
	"runtime"
	"time"

	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/zone"
)

// Role says what a key is for.
type Role uint8

// The roles: one key for everything, or one for the DNSKEY set (KSK) and one
// for the rest (ZSK) (RFC 6781 §3.1).
const (
	Single Role = iota
	KSK
	ZSK
)

// Key is a key with what the zone shows of it. During a rollover a key may be
// published and not sign yet, or sign and not be published (RFC 6781 §4.1).
type Key struct {
	*dnssec.PublicKey
	Private *dnssec.Key // nil: the key of another operator (RFC 8901), or one not needed now

	Publish  bool // its DNSKEY record is in the zone
	SignKeys bool // it signs the DNSKEY set, and CDS and CDNSKEY
	SignZone bool // it signs everything else
	DS       bool // the parent is to have its DS: CDS and CDNSKEY show it
}

// Use is a key that does all that its role is for.
func Use(k *dnssec.Key, role Role) Key {
	return Key{PublicKey: k.PublicKey, Private: k, Publish: true, SignKeys: role != ZSK, SignZone: role != KSK, DS: role != ZSK}
}

// Denial is the way to prove what does not exist.
type Denial struct {
	NSEC3  bool // else NSEC
	Params dnssec.NSEC3Params
	// OptOut leaves insecure delegations out of the chain (RFC 5155 §6).
	OptOut bool
}

// Digest types of CDS records and hash algorithms of ZONEMD are given by number.
const (
	ZonemdSHA384 uint8 = 1 // RFC 8976 §2.2.3
	ZonemdSHA512 uint8 = 2
)

// CDS says what a zone tells its parent about its keys.
type CDS uint8

// What CDS and CDNSKEY records say (RFC 7344, RFC 8078 §4).
const (
	NoCDS     CDS = iota // nothing: no records
	WantDS               // have the DS of the keys with Key.DS
	DeleteAll            // have no DS any more
)

// Policy says how a zone is signed. Zero fields take the value of Default.
type Policy struct {
	Validity  time.Duration // from now until signatures expire
	Inception time.Duration // how far before now they begin, for clocks that are behind
	Refresh   time.Duration // signatures that expire sooner than this are made anew
	Jitter    time.Duration // signatures expire up to so much earlier, each at its own time
	DNSKEYTTL uint32        // seconds

	Denial Denial
	CDS    CDS
	// Digests are the DS digest types that CDS records have; none is SHA-256 alone.
	Digests []uint8
	Zonemd  []uint8 // hash algorithms of ZONEMD records; none: no digest
	// KeepKeys keeps DNSKEY, CDS and CDNSKEY records of the input, as those of other
	// signers of the zone (RFC 8901 §2.1.2); else they are replaced.
	KeepKeys bool

	// Serial replaces the SOA's serial if not 0.
	Serial uint32
	// Previous is a signed version, with the same apex, whose signatures are kept
	// where they still fit; nil: none.
	Previous *zone.Snapshot
	// TrustPrevious says that Previous came from a signer and did not pass through
	// other hands: signatures by a key that it publishes are then kept as they are.
	// Else each is verified before it is kept.
	TrustPrevious bool
	// CheckEvery is which share of new signatures is verified at once, besides all
	// over SOA and DNSKEY: 1 is all, n one in n; 0 is one in 256.
	CheckEvery int
	// Workers is the number of goroutines; 0 is one for each processor.
	Workers int
	// Done, if set, is told how many names were finished; see zone.Scan.
	Done func(names int)
}

// Default is what holds where a Policy says nothing. Refresh and Jitter follow
// from the validity: 15 days and 2 days of 28. A secondary that loses its primary
// goes on for its SOA expire, 14 days where we write the SOA; the signatures that it
// holds then have 15 days left at least, so that it stops answering before they
// end. The 11 days between are two Mondays: a renewal that fails is seen by people
// before it matters.
var Default = Policy{Validity: 28 * 24 * time.Hour, Inception: time.Hour, DNSKEYTTL: 7200, CheckEvery: 256}

// Filled is the policy with Default where it says nothing.
func (p Policy) Filled() Policy {
	or := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	or(&p.Validity, Default.Validity)
	or(&p.Inception, Default.Inception)
	or(&p.Refresh, p.Validity*15/28)
	or(&p.Jitter, p.Validity/14)
	if p.DNSKEYTTL == 0 {
		p.DNSKEYTTL = Default.DNSKEYTTL
	}
	if p.CheckEvery == 0 {
		p.CheckEvery = Default.CheckEvery
	}
	if p.Workers == 0 {
		p.Workers = runtime.GOMAXPROCS(0)
	}
	if len(p.Digests) == 0 {
		p.Digests = []uint8{dnssec.DigestSHA256}
	}
	return p
}

// Report tells what signing did.
type Report struct {
	Signatures int // made
	Kept       int // of the previous version
	Replaced   int // signatures, NSEC and DNSKEY records of the input that were dropped
	// Foreign are DNSKEY records of the input that are not ours: dropped, or kept
	// with KeepKeys.
	Foreign int
	Expires time.Time // when the first signature does
}

// Errors of signing.
var (
	ErrNoKeys = errors.New("there is no key to sign with")
	ErrNoSOA  = errors.New("the zone has no SOA record")
	// ErrSelfCheck means that a signature just made does not verify: nothing is
	// handed out (a fault of the machine, or of this program).
	ErrSelfCheck = errors.New("a signature that was just made does not verify")
	// ErrUnsound means that the signed zone is not whole: nothing is handed out.
	ErrUnsound = errors.New("the signed zone is not whole (a fault of this program); nothing was handed out")
	// ErrNSEC3 is wrapped when the zone cannot have NSEC3 records.
	ErrNSEC3 = errors.New("the zone cannot have NSEC3 records")
)

// denialBits are the types that a signed name has besides its data.
var denialBits = [...]rr.Type{rr.TypeNSEC, rr.TypeRRSIG}
