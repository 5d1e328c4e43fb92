// Package roll is the life of the keys of a zone (RFC 7583): which state each is
// in, and how one takes the place of another in the only safe order. It is pure:
// the clock, what the servers show and how long caches remember come in, and
// what the zone has to show goes out. It asks nobody and writes nothing.
//
// # How a rollover is safe
//
// A rollover is a row of steps. Each changes what the zone, or its parent, shows,
// and the next one begins only when no cache can hold anything that the change
// would contradict. That takes two things: every server has been seen in the new
// state (evidence), and since then what the old state left in caches has expired
// (time). A clock alone moves nothing.
package roll

import (
	"maps"
	"time"

	"fencepost/rr"
	"fencepost/signer"
)

// State is where a key is in its life (RFC 7583 §3.1, RFC 5011 §4).
type State string

// The states.
const (
	Generated State = "generated" // made, and used for nothing yet
	Published State = "published" // in the zone or asked of the parent; caches may not know it
	Ready     State = "ready"     // known to all caches: it can be used
	Active    State = "active"    // used: it signs, or the parent's DS names it
	Retired   State = "retired"   // another is used in its place; caches may still need it
	Dead      State = "dead"      // needed by nobody
	Removed   State = "removed"   // no longer in the zone
	Revoked   State = "revoked"   // withdrawn by the revoke flag (RFC 5011 §2.1)
)

// Lifetime is the order in which a key goes through its states.
var Lifetime = []State{Generated, Published, Ready, Active, Retired, Revoked, Dead, Removed}

// Key is a key with what the zone shows of it.
type Key struct {
	Tag       uint16
	Algorithm rr.AlgorithmNumber
	Role      signer.Role
	// Foreign keys belong to another operator of the zone (RFC 8901): they are
	// published and never sign here.
	Foreign bool

	State State
	// Since is when the key came into each state that it has been in.
	Since map[State]time.Time

	Publish  bool // its DNSKEY record is in the zone
	SignKeys bool // it signs the DNSKEY set
	SignZone bool // it signs everything else
	DS       bool // the parent is to have its DS
	// Revoked tells that its DNSKEY has the flag that says it is not to be trusted any
	// more (RFC 5011 §2.1), which gives it another tag. There is no way back.
	Revoked bool
	// Seen is since when every server of the parent has shown its DS; zero if
	// they do not.
	Seen time.Time
	// Gone is since when no server of the parent has shown its DS after it had
	// been seen; zero if that is not known.
	Gone time.Time
}

// Clone is a key that can be changed without the other.
func (k *Key) Clone() *Key {
	out := *k
	out.Since = maps.Clone(k.Since)
	return &out
}

// enter puts the key into a state.
func (k *Key) enter(s State, now time.Time) {
	if s == "" || k.State == s || s == Revoked && !k.Revoked {
		return
	}
	k.State = s
	if k.Since == nil {
		k.Since = map[State]time.Time{}
	}
	k.Since[s] = now
}

// entryPoint reports whether the parent has a DS for a key of this role.
func (k *Key) entryPoint() bool { return k.Role != signer.ZSK }

// signsZone reports whether a key of this role signs the zone's data.
func (k *Key) signsZone() bool { return k.Role != signer.KSK }

// Use puts a key to all that its role is for, at once.
func (k *Key) Use(now time.Time) {
	k.Publish, k.SignKeys, k.SignZone, k.DS = true, k.entryPoint(), k.signsZone(), k.entryPoint()
	k.enter(Active, now)
}

// PutBack has a key that left the zone sign the keys again, because the parent names it and nothing that
// is there: it leads to those in use, and goes when the parent names them. Where none of its algorithm
// signs the zone, it does that too (RFC 4035 §2.2).
func (r *KeySet) PutBack(k *Key, now time.Time) {
	k.Publish, k.SignKeys, k.DS = true, true, false
	k.SignZone = k.signsZone() && !r.others(k, func(o *Key) bool { return o.SignZone })
	if k.Gone = (time.Time{}); k.Seen.IsZero() {
		k.Seen = now
	}
	k.enter(Retired, now)
}

// Retire ends the use of a key and leaves it in the zone.
func (k *Key) Retire(now time.Time) {
	k.SignZone, k.DS = false, false
	k.enter(Retired, now)
}

// Remove takes a key out of the zone.
func (k *Key) Remove(now time.Time) {
	k.Publish, k.SignKeys, k.SignZone, k.DS = false, false, false, false
	k.enter(Removed, now)
}

// TTL is a TTL that is or was published; see TTLs.
type TTL struct {
	Seconds uint32
	// Replaced is when another took its place in the zone; zero for the present one.
	Replaced time.Time
	// Gone is when every server was known to show a later version; zero while one
	// may still be showing it.
	Gone time.Time
}

// TTLs are the TTLs that caches may still hold, the present one first. One that was
// lowered counts until it has run out everywhere (RFC 7583 §3.2.1), and that is
// counted from when the last server let go of it, not from when the file changed.
type TTLs []TTL

// Note notes the TTL that is published now and forgets those that have run out: no
// server shows an older version for longer than the zone's expire time.
func (t TTLs) Note(seconds uint32, now time.Time, expire time.Duration) TTLs {
	out := TTLs{{Seconds: seconds}}
	for i, old := range t {
		if i == 0 && old.Seconds != seconds {
			old.Replaced = now
		}
		gone := old.Gone
		if gone.IsZero() {
			gone = old.Replaced.Add(expire)
		}
		if old.Seconds > seconds && now.Before(gone.Add(time.Duration(old.Seconds)*time.Second)) {
			out = append(out, old)
		}
	}
	return out
}

// confirm notes that every server shows a version from since or later.
func (t TTLs) confirm(since, now time.Time) {
	for i := 1; i < len(t); i++ {
		if t[i].Gone.IsZero() && t[i].Replaced.Before(since) {
			t[i].Gone = now
		}
	}
}

// After is when nothing is in caches any more that was fetched until from.
func (t TTLs) After(from time.Time) time.Time {
	latest := from
	for _, ttl := range t {
		last := ttl.Gone
		if last.IsZero() {
			last = from
		}
		if end := last.Add(time.Duration(ttl.Seconds) * time.Second); end.After(latest) {
			latest = end
		}
	}
	return latest
}

// Now is the present TTL.
func (t TTLs) Now() time.Duration {
	if len(t) == 0 {
		return 0
	}
	return time.Duration(t[0].Seconds) * time.Second
}
