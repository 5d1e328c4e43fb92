package roll

import (
	"slices"
	"time"

	"fencepost/signer"
)

// Kind is what a rollover does.
type Kind string

// The kinds. Those with "fast" in their name are for emergencies: everything that
// may be shown at once is, so that the old key goes as early as caches permit.
const (
	RollZSK       Kind = "zsk"       // pre-publication (RFC 7583 §3.2.1)
	RollKSK       Kind = "ksk"       // double KSK (RFC 7583 §3.3.1)
	RollAll       Kind = "keys"      // single keys, or all of them (RFC 6781 §4.1.3)
	RollAlgorithm Kind = "algorithm" // conservative (RFC 6781 §4.1.4)
	// The same for zones whose keys are followed as trust anchors: the old entry point
	// is revoked before it goes (RFC 5011 §6, RFC 7583 §3.3.4).
	RollKSKRevoke Kind = "ksk-revoke"
	RollAllRevoke Kind = "keys-revoke"
	EmergencyZSK  Kind = "zsk-fast"  // double signature (RFC 7583 §3.2.2)
	EmergencyKSK  Kind = "ksk-fast"  // double RRset (RFC 7583 §3.3.3)
	EmergencyAll  Kind = "keys-fast" // both
	// EmergencyMixed replaces keys of more than one algorithm, as there are while that is
	// changed: each has to leave the DS before the keys, and these before the
	// signatures (RFC 4035 §2.2, RFC 6781 §4.1.4).
	EmergencyMixed Kind = "keys-fast-mixed"
	GoSecure       Kind = "sign"   // an unsigned zone becomes signed (RFC 7583 §3.3.5)
	GoInsecure     Kind = "unsign" // a signed zone becomes unsigned (RFC 8078 §4)
)

// change is what a step does to a key.
type change uint8

const (
	publish   change = 1 << iota // its DNSKEY comes; entry points sign the DNSKEY set
	unpublish                    // its DNSKEY goes, and its signature over the DNSKEY set
	sign                         // it signs the zone, if that is its role
	unsign                       // it signs the zone no more
	ask                          // the parent is asked for its DS, if it is an entry point
	withdraw                     // the parent is asked to have its DS no more
	revoke                       // its DNSKEY says that it is not to be trusted, if it is an entry point
)

// cache is a kind of content of caches that a step waits for to expire.
type cache uint8

const (
	keysInCache   cache = 1 << iota // DNSKEY sets
	dataInCache                     // any data with or without signatures, and negative answers
	dsInCache                       // DS sets of the parent
	anchorsLearn                    // not caches, but those who follow trust anchors: they trust what is new
	anchorsForget                   // and have seen what is revoked
)

// step is one row of a plan.
type step struct {
	title    string
	new, old change
	parent   bool  // the parent's servers have to be seen too
	keeps    bool  // the DS was changed before: the parent has to keep it, or nothing that it named may go
	wait     cache // and then what has to expire
	// States that keys come into: when the step begins, when every server was seen,
	// and when the wait is over.
	newAt, newSeen, newDone State
	oldAt, oldSeen, oldDone State
	// back is how a rollover is cancelled during this step.
	back back
}

// back says how to go back from a step: the keys change sides, and the rollover
// goes on at a step that makes that safe.
type back struct {
	to    int // the step, after the keys changed sides
	never bool
	why   string
}

var noWayBack = func(why string) back { return back{never: true, why: why} }

// plans are the steps of each kind. RFC 6781 §4.1 and RFC 7583 §3 have the figures
// that they follow.
var plans = map[Kind][]step{
	RollZSK: {
		{title: "publish the new key", new: publish, newAt: Published, newDone: Ready, wait: keysInCache, back: back{to: 2}},
		{title: "sign with the new key", new: sign, old: unsign, newAt: Active, oldAt: Retired, oldDone: Dead, wait: dataInCache, back: back{to: 1}},
		{title: "remove the old key", newAt: Active, old: unpublish, oldAt: Removed, back: noWayBack("the old key has left the zone")},
	},
	RollKSK: {
		{title: "publish the new key", new: publish, newAt: Published, newDone: Ready, wait: keysInCache, back: back{to: 2}},
		{title: "change the DS at the parent", new: ask, old: withdraw, parent: true, newSeen: Active, oldSeen: Retired, oldDone: Dead, wait: dsInCache, back: back{to: 1}},
		{title: "remove the old key", newAt: Active, old: unpublish, oldAt: Removed, back: noWayBack("the old key has left the zone")},
	},
	RollAll: {
		{title: "publish the new keys", new: publish, newAt: Published, newDone: Ready, wait: keysInCache, back: back{to: 3}},
		{title: "change the DS at the parent", new: ask, old: withdraw, parent: true, wait: dsInCache, back: back{to: 1}},
		{title: "sign with the new keys", new: sign, old: unsign, parent: true, keeps: true, newAt: Active, oldAt: Retired, oldDone: Dead, wait: dataInCache, back: back{to: 1}},
		{title: "remove the old keys", newAt: Active, old: unpublish, oldAt: Removed, back: noWayBack("the old keys have left the zone")},
	},
	RollKSKRevoke: {
		// Nobody trusts a new key before the wait is over: until then it goes as it came.
		{title: "publish the new key", new: publish, newAt: Published, newDone: Ready, wait: keysInCache | anchorsLearn, back: back{to: 3}},
		{title: "change the DS at the parent", new: ask, old: withdraw, parent: true, newSeen: Active, oldSeen: Retired, wait: dsInCache, back: back{to: 1}},
		{title: "revoke the old key", newAt: Active, old: revoke, parent: true, keeps: true, oldAt: Revoked, oldDone: Dead, wait: keysInCache | anchorsForget, back: noWayBack("the old key is revoked")},
		{title: "remove the old key", newAt: Active, old: unpublish, oldAt: Removed, back: noWayBack("the old key has left the zone")},
	},
	RollAllRevoke: {
		{title: "publish the new keys", new: publish, newAt: Published, newDone: Ready, wait: keysInCache | anchorsLearn, back: back{to: 4}},
		{title: "change the DS at the parent", new: ask, old: withdraw, parent: true, wait: dsInCache, back: back{to: 1}},
		{title: "sign with the new keys", new: sign, old: unsign, parent: true, keeps: true, newAt: Active, oldAt: Retired, wait: dataInCache, back: back{to: 1}},
		{title: "revoke the old keys", newAt: Active, old: revoke, parent: true, keeps: true, oldAt: Revoked, oldDone: Dead, wait: keysInCache | anchorsForget, back: noWayBack("the old keys are revoked")},
		{title: "remove the old keys", newAt: Active, old: unpublish, oldAt: Removed, back: noWayBack("the old keys have left the zone")},
	},
	RollAlgorithm: {
		{title: "sign with the new algorithm too", new: sign, wait: dataInCache, back: back{to: 4}},
		{title: "publish the new keys", new: publish, newAt: Published, newDone: Ready, wait: keysInCache | anchorsLearn, back: back{to: 3}},
		{title: "change the DS at the parent", new: ask, old: withdraw, parent: true, newSeen: Active, oldSeen: Retired, wait: dsInCache, back: back{to: 2}},
		{title: "take the old keys out", old: unpublish, oldDone: Dead, wait: keysInCache, back: back{to: 1}},
		{title: "remove the old signatures", newAt: Active, old: unsign, oldAt: Removed, back: noWayBack("the old keys have left the zone")},
	},
	EmergencyZSK: {
		{title: "publish and sign with the new key", new: publish | sign, newAt: Active, oldAt: Retired, oldDone: Dead, wait: keysInCache | dataInCache, back: back{to: 1}},
		{title: "remove the old key", newAt: Active, old: unpublish | unsign, oldAt: Removed, back: noWayBack("the old key has left the zone")},
	},
	EmergencyKSK: {
		{title: "publish the new key and add its DS", new: publish | ask, parent: true, newAt: Published, newSeen: Active, oldSeen: Retired, oldDone: Dead, wait: keysInCache | dsInCache, back: back{to: 1}},
		{title: "remove the old key and its DS", newAt: Active, old: unpublish | withdraw, parent: true, oldAt: Removed, back: noWayBack("the old key has left the zone")},
	},
	EmergencyAll: {
		{title: "publish the new keys, sign with them and add the DS", new: publish | sign | ask, parent: true, newAt: Active, oldSeen: Retired, oldDone: Dead, wait: keysInCache | dataInCache | dsInCache, back: back{to: 1}},
		{title: "remove the old keys and their DS", newAt: Active, old: unpublish | unsign | withdraw, parent: true, oldAt: Removed, back: noWayBack("the old keys have left the zone")},
	},
	EmergencyMixed: {
		{title: "publish the new keys, sign with them and add the DS", new: publish | sign | ask, parent: true, newAt: Active, oldSeen: Retired, wait: keysInCache | dataInCache | dsInCache, back: noWayBack("keys of several algorithms were given up")},
		{title: "remove the DS of the old keys", old: withdraw, parent: true, wait: dsInCache, back: noWayBack("keys of several algorithms were given up")},
		{title: "take the old keys out", old: unpublish, oldDone: Dead, wait: keysInCache, back: noWayBack("the old keys have left the zone")},
		{title: "remove the old signatures", newAt: Active, old: unsign, oldAt: Removed, back: noWayBack("the old keys have left the zone")},
	},
	GoSecure: {
		{title: "sign the zone", new: publish | sign, newAt: Published, newDone: Ready, wait: keysInCache | dataInCache, back: back{to: 1}},
		{title: "add the DS at the parent", new: ask, parent: true, newSeen: Active, back: back{to: 0}},
	},
	GoInsecure: {
		{title: "have the DS deleted at the parent", old: withdraw, parent: true, oldSeen: Retired, oldDone: Dead, wait: dsInCache, back: back{to: 1}},
		{title: "take keys and signatures out", old: unpublish | unsign, oldAt: Removed, back: noWayBack("the zone is unsigned already")},
	},
}

// turned is the kind of a rollover after it was cancelled.
func (k Kind) turned() Kind {
	switch k {
	case GoSecure:
		return GoInsecure
	case GoInsecure:
		return GoSecure
	}
	return k
}

// apply changes a key.
func (c change) apply(k *Key) {
	if c&publish != 0 {
		k.Publish, k.SignKeys = true, k.entryPoint()
	}
	if c&unpublish != 0 {
		k.Publish, k.SignKeys = false, false
	}
	if c&sign != 0 {
		k.SignZone = k.signsZone()
	}
	if c&unsign != 0 {
		k.SignZone = false
	}
	if c&ask != 0 {
		k.DS = k.entryPoint()
	}
	if c&withdraw != 0 {
		k.DS = false
	}
	if c&revoke != 0 && k.entryPoint() {
		k.Revoked = true
	}
}

// Timing is how long things take and stay in caches.
type Timing struct {
	Keys TTLs // of the DNSKEY set
	Data TTLs // the longest in the zone, negative answers included
	DS   TTLs // of the DS set at the parent
	// Followed tells that some follow the zone's keys as trust anchors (RFC 5011).
	Followed bool
	// Margin is added to each wait.
	Margin time.Duration
	// Figures for looking ahead only; what really happens is seen. ExpectServers is
	// how long the servers take to follow, ExpectParent how long the parent takes to
	// change a DS (RFC 7583 §2: Dprp, Dreg).
	ExpectServers, ExpectParent time.Duration
}

// after is when what a step waits for has left all caches, counted from when every
// server was seen.
func (t *Timing) after(c cache, from time.Time) time.Time {
	latest := from
	for _, one := range []struct {
		cache
		TTLs
	}{{keysInCache, t.Keys}, {dataInCache, t.Data}, {dsInCache, t.DS}} {
		if c&one.cache != 0 {
			if end := one.After(from).Add(t.Margin); end.After(latest) {
				latest = end
			}
		}
	}
	for _, one := range []struct {
		cache
		time.Duration
	}{{anchorsLearn, t.learn()}, {anchorsForget, t.forget()}} {
		if end := from.Add(one.Duration + t.Margin); c&one.cache != 0 && t.Followed && end.After(latest) {
			latest = end
		}
	}
	return latest
}

// holdDown is how long a key has to be seen before it is trusted, and how long one that
// is revoked stays in the zone (RFC 5011 §2.4).
const holdDown = 30 * 24 * time.Hour

// query is how often those who follow trust anchors ask at the least (RFC 7583 §3.3.4.1).
func (t *Timing) query() time.Duration {
	longest := uint32(0)
	for _, ttl := range t.Keys {
		longest = max(longest, ttl.Seconds)
	}
	return max(time.Hour, min(15*24*time.Hour, time.Duration(longest)*time.Second/2))
}

// learn is how long it takes until all who follow trust anchors trust a new key.
func (t *Timing) learn() time.Duration { return holdDown + 2*t.query() }

// forget is how long a revoked key stays.
func (t *Timing) forget() time.Duration { return holdDown + t.query() }

// tags are the tags of keys.
func tags(keys []*Key) (out []uint16) {
	for _, k := range keys {
		out = append(out, k.Tag)
	}
	slices.Sort(out)
	return out
}

// Emergency reports whether a kind may take the place of a rollover that is going on.
func (k Kind) Emergency() bool {
	return k == EmergencyZSK || k == EmergencyKSK || k == EmergencyAll
}

// Revoking is the kind that does the same and revokes the old keys; k where there is none.
func (k Kind) Revoking() Kind {
	switch k {
	case RollKSK:
		return RollKSKRevoke
	case RollAll:
		return RollAllRevoke
	}
	return k
}

// roles that a kind replaces.
func (k Kind) replaces(r signer.Role) bool {
	switch k {
	case RollZSK, EmergencyZSK:
		return r == signer.ZSK
	case RollKSK, RollKSKRevoke, EmergencyKSK:
		return r == signer.KSK
	}
	return true
}
