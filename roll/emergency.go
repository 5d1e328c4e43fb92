package roll

import (
	"errors"
	"slices"
	"time"

	"fencepost/rr"
)

// ErrKeysOut means that there is nothing left to replace.
var ErrKeysOut = errors.New("the zone becomes unsigned, and its parent has no DS any more: the keys protect nothing; sign it again when that is done")

// EmergencyAlgorithm is the algorithm that the keys of an emergency must have: that
// of the key whose DS the parent is to have, which all caches know. ok is false where
// nobody relies on keys yet.
func (r *KeySet) EmergencyAlgorithm() (a rr.AlgorithmNumber, ok bool) {
	if r.Roll != nil && r.Roll.Kind == GoSecure && r.Roll.Step == 0 {
		return 0, false
	}
	for _, relied := range []func(*Key) bool{func(k *Key) bool { return k.DS }, (*Key).entryPoint} {
		for _, k := range r.Keys {
			if !k.Foreign && k.Publish && relied(k) {
				return k.Algorithm, true
			}
		}
	}
	return 0, false
}

// Overtake begins an emergency in the place of the rollover that is going on, at
// whatever step that is: every key there was is replaced by fresh, which are in the
// ring. What caches may rely on stays until they cannot any more, so nothing is given
// up but the plan.
func (r *KeySet) Overtake(fresh []*Key, reason string, now time.Time) error {
	running := r.Roll
	if running == nil {
		return r.Start(EmergencyAll, fresh, reason, now)
	}
	begun := !running.Entered.IsZero()
	if running.Kind == GoInsecure && running.Step > 0 {
		return ErrKeysOut
	}
	var old []*Key
	for _, k := range r.Keys {
		if !k.Foreign && !slices.Contains(fresh, k) && (k.Publish || k.SignKeys || k.SignZone || k.DS) {
			old = append(old, k)
		}
	}
	next := &Rollover{Kind: EmergencyAll, Reason: reason, Started: now, Old: tags(old), New: tags(fresh), Overtook: running.Kind}
	if all := slices.Concat(old, fresh); slices.ContainsFunc(all, func(k *Key) bool { return k.Algorithm != all[0].Algorithm }) {
		next.Kind = EmergencyMixed
	}
	if running.Kind == GoSecure && running.Step == 0 {
		// The parent has no DS: nobody relies on the keys, and they can go at once.
		for _, k := range slices.Concat(old, r.find(running.New)) {
			if !slices.Contains(fresh, k) {
				(unpublish | unsign | withdraw).apply(k)
				k.enter(Removed, now)
			}
		}
		next.Kind, next.Old = GoSecure, nil
	} else if !slices.ContainsFunc(old, func(k *Key) bool { return k.DS }) {
		// Caches that know the old keys alone need their DS beside the new one's.
		for _, k := range old {
			k.DS = k.Publish && k.entryPoint()
		}
	}
	if begun {
		running.Passed = append(running.Passed, Passed{Title: running.named(plans[running.Kind][running.Step]) + " (given up for an emergency)", Entered: running.Entered, Seen: running.Seen, Ended: now})
	}
	running.Ended = now
	r.Last, r.Roll, r.Unsigned = running, next, false
	return nil
}
