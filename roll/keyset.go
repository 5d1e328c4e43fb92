package roll

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fencepost/signer"
)

// KeySet is the keys of a zone with the rollover that is going on.
type KeySet struct {
	Keys []*Key
	Roll *Rollover // nil: none
	Last *Rollover // the one before, finished or cancelled; nil: none
	// Unsigned tells that the zone went unsigned on purpose and is to stay so.
	Unsigned bool
}

// Rollover is a rollover. It is all that has to survive a restart.
type Rollover struct {
	Kind    Kind
	Reason  string // in words: why it was begun
	Started time.Time
	Old     []uint16 // tags of the keys that go
	New     []uint16 // tags of the keys that come
	Step    int
	Paused  bool
	// RollingBack tells that it was cancelled and is on its way back.
	RollingBack bool
	// Overtook is the kind of rollover whose place an emergency took; empty: none.
	Overtook Kind
	// Of the present step: when it began, the first serial that shows it and since
	// when that is served, since when every server shows it. Zero: not yet.
	Entered time.Time
	Serial  uint32
	Shown   time.Time
	Seen    time.Time
	// Relapsed tells that the parent was seen to have an old DS again in this step.
	Relapsed bool
	States   []ServerState
	Passed   []Passed // the steps that are done
	Ended    time.Time
}

// Clone is a rollover that can be changed without the other; nil of nil.
func (r *Rollover) Clone() *Rollover {
	if r == nil {
		return nil
	}
	out := *r
	out.Old, out.New, out.States, out.Passed = slices.Clone(r.Old), slices.Clone(r.New), slices.Clone(r.States), slices.Clone(r.Passed)
	return &out
}

// Passed is a step that is done.
type Passed struct {
	Title   string
	Entered time.Time
	Seen    time.Time
	Ended   time.Time
}

// Find is the key with the tag, or nil.
func (r *KeySet) Find(tag uint16) *Key {
	for _, k := range r.Keys {
		if k.Tag == tag {
			return k
		}
	}
	return nil
}

// find is the keys with the tags.
func (r *KeySet) find(tags []uint16) (out []*Key) {
	for _, t := range tags {
		if k := r.Find(t); k != nil {
			out = append(out, k)
		}
	}
	return out
}

// Signs reports whether the keys can sign a zone: some the keys, some the rest.
func (r *KeySet) Signs() bool {
	keys, zone := false, false
	for _, k := range r.Keys {
		if !k.Foreign {
			keys, zone = keys || k.SignKeys && !k.Revoked, zone || k.SignZone
		}
	}
	return keys && zone
}

// Errors of rollovers.
var (
	ErrRolling = errors.New("a rollover is under way")
	ErrNoRoll  = errors.New("no rollover is under way")
	ErrNoKey   = errors.New("there is no such key to replace")
)

// InUse are the keys in use that a kind of rollover replaces.
func (r *KeySet) InUse(kind Kind) (out []*Key) {
	for _, k := range r.Keys {
		if !k.Foreign && kind.replaces(k.Role) && (k.SignKeys || k.SignZone) && (k.State == Active || k.State == Ready || k.State == Published) {
			out = append(out, k)
		}
	}
	return out
}

// Start begins a rollover. fresh are the keys that come; they are in the ring.
func (r *KeySet) Start(kind Kind, fresh []*Key, reason string, now time.Time) error {
	if r.Roll != nil {
		return fmt.Errorf("%w: %s", ErrRolling, r.Roll.Kind.Description())
	}
	if plans[kind] == nil {
		return fmt.Errorf("there is no rollover %q", kind)
	}
	var old []*Key
	if kind != GoSecure {
		if old = r.InUse(kind); len(old) == 0 {
			return fmt.Errorf("%w: no key in use has the role", ErrNoKey)
		}
	}
	r.Unsigned = false
	r.Roll = &Rollover{Kind: kind, Reason: reason, Started: now, Old: tags(old), New: tags(fresh)}
	return nil
}

// NeedsParent reports whether the present step needs looks at the parent's servers.
func (r *KeySet) NeedsParent() bool { return r.Roll != nil && plans[r.Roll.Kind][r.Roll.Step].parent }

// ChangesDS reports whether the present step changes the DS at the parent.
func (r *KeySet) ChangesDS() bool {
	return r.NeedsParent() && !plans[r.Roll.Kind][r.Roll.Step].keeps
}

// Description says what a kind does.
func (k Kind) Description() string {
	return map[Kind]string{RollZSK: "ZSK rollover", RollKSK: "KSK rollover", RollAll: "rollover of all keys", RollKSKRevoke: "KSK rollover with revocation", RollAllRevoke: "rollover of all keys with revocation", RollAlgorithm: "algorithm rollover",
		EmergencyZSK: "emergency ZSK rollover", EmergencyKSK: "emergency KSK rollover", EmergencyAll: "emergency rollover of all keys", EmergencyMixed: "emergency rollover of all keys",
		GoSecure: "first signing", GoInsecure: "going unsigned"}[k]
}

// Outcome is what Advance did.
type Outcome struct {
	// Resign tells that the zone has to show something else now: sign it, serve it,
	// and call Served.
	Resign bool
	Events []string // in words, for the log
	// Again is when to tend next; zero when nothing is to be waited for.
	Again time.Time
}

// How soon servers are looked at again.
const (
	lookSoon = time.Minute
	lookSlow = 10 * time.Minute // servers of the parent, and those that do not answer
	// lookParent is how soon the parent is looked at again while caches forget: a DS that was
	// put back meanwhile is in them too.
	lookParent = time.Hour
	// warnEvery is how often the same is told of a server that is waited for.
	warnEvery = time.Hour
)

// Advance moves the rollover on as far as time and evidence permit. looks are those
// at every server of the zone and, if the step needs them, of the parent; none is
// a look that saw nothing.
func (r *KeySet) Advance(now time.Time, looks []Observation, t *Timing) (out Outcome) {
	for r.Roll != nil && !r.Roll.Paused {
		roll := r.Roll
		s := plans[roll.Kind][roll.Step]
		if roll.Entered.IsZero() {
			r.enter(s, now, &out)
		}
		if roll.Shown.IsZero() { // the version that shows it is still to come
			out.Resign = true
			return out
		}
		out.Again = now.Add(lookSoon)
		if !r.see(s, now, looks, t, &out) {
			return out
		}
		until := t.after(roll.waitOf(s), roll.Seen)
		if now.Before(until) {
			if out.Again = until; s.parent && until.Sub(now) > lookParent {
				out.Again = now.Add(lookParent)
			}
			return out
		}
		r.leave(s, now, &out)
		looks = nil // of the next step nothing has been seen
	}
	out.Again = time.Time{}
	return out
}

// waitOf is what has to expire before a step is done.
func (r *Rollover) waitOf(s step) cache {
	if r.Relapsed {
		return s.wait | dsInCache
	}
	return s.wait
}

// pause is how long nobody looks, where a step has been waited for so long in vain: what
// has not come for hours will not come within a minute.
func pause(parent bool, waited time.Duration) time.Duration {
	if parent {
		return lookSlow
	}
	return min(max(lookSoon, waited/10), lookSlow)
}

// enter begins a step.
func (r *KeySet) enter(s step, now time.Time, out *Outcome) {
	roll := r.Roll
	roll.clear()
	roll.Entered = now
	for _, k := range r.find(roll.New) {
		s.new.apply(k)
		k.enter(s.newAt, now)
	}
	for _, k := range r.find(roll.Old) {
		s.old.apply(k)
		k.enter(s.oldAt, now)
	}
	out.Resign = true
	out.Events = append(out.Events, "began: "+roll.named(s))
}

// clear forgets what was seen of a step.
func (r *Rollover) clear() {
	r.Entered, r.Serial, r.Shown, r.Seen, r.Relapsed, r.States = time.Time{}, 0, time.Time{}, time.Time{}, false, nil
}

// Served takes note that a version that shows the present state is served.
func (r *KeySet) Served(serial uint32, now time.Time) (dirty bool) {
	if r.Roll == nil || r.Roll.Entered.IsZero() || !r.Roll.Shown.IsZero() {
		return false
	}
	r.Roll.Serial, r.Roll.Shown = serial, now
	return true
}

// leave ends a step.
func (r *KeySet) leave(s step, now time.Time, out *Outcome) {
	roll := r.Roll
	for _, k := range r.find(roll.New) {
		k.enter(s.newDone, now)
	}
	for _, k := range r.find(roll.Old) {
		k.enter(s.oldDone, now)
	}
	roll.Passed = append(roll.Passed, Passed{Title: roll.named(s), Entered: roll.Entered, Seen: roll.Seen, Ended: now})
	roll.Step++
	roll.clear()
	out.Events = append(out.Events, "done: "+roll.named(s))
	if roll.Step == len(plans[roll.Kind]) {
		r.end(now, out)
	}
}

func (r *KeySet) end(now time.Time, out *Outcome) {
	r.Roll.Ended = now
	if r.Roll.Kind == GoInsecure {
		r.Unsigned = true
	}
	out.Events = append(out.Events, "finished: "+r.Roll.Kind.Description())
	r.Last, r.Roll = r.Roll, nil
}

// Pause stops the rollover where it is, or lets it go on.
func (r *KeySet) Pause(paused bool) error {
	if r.Roll == nil {
		return ErrNoRoll
	}
	r.Roll.Paused = paused
	return nil
}

// NoWayBackError says why a rollover cannot be cancelled any more.
type NoWayBackError struct{ Why string }

func (e *NoWayBackError) Error() string { return "there is no way back: " + e.Why }

// Cancel turns the rollover round: the keys change sides, and it goes on from
// where that is safe.
func (r *KeySet) Cancel(now time.Time) error {
	roll := r.Roll
	if roll == nil {
		return ErrNoRoll
	}
	if roll.Overtook != "" {
		return &NoWayBackError{"the emergency replaced another rollover, whose keys are dropped"}
	}
	s := plans[roll.Kind][roll.Step]
	if roll.Entered.IsZero() && roll.Step == 0 {
		roll.Ended, roll.RollingBack = now, true
		r.Last, r.Roll = roll, nil
		return nil
	}
	if roll.Entered.IsZero() { // this step has not begun: go back from the one before
		s = plans[roll.Kind][roll.Step-1]
	}
	if s.back.never {
		return &NoWayBackError{s.back.why}
	}
	if !roll.Entered.IsZero() {
		roll.Passed = append(roll.Passed, Passed{Title: roll.named(s) + " (cancelled)", Entered: roll.Entered, Seen: roll.Seen, Ended: now})
	}
	roll.Kind, roll.Step, roll.RollingBack, roll.Paused = roll.Kind.turned(), s.back.to, !roll.RollingBack, false
	roll.Old, roll.New = roll.New, roll.Old
	roll.clear()
	return nil
}

// Deletes reports whether the zone asks its parent to have no DS.
func (r *KeySet) Deletes() bool {
	return r.Roll != nil && r.Roll.Kind == GoInsecure && r.Roll.Step == 0 && !r.Roll.Entered.IsZero()
}

// Lifetimes are how long keys of a role are used; 0 is for ever.
type Lifetimes struct{ Single, KSK, ZSK time.Duration }

func (l *Lifetimes) of(r signer.Role) (time.Duration, Kind) {
	switch r {
	case signer.KSK:
		return l.KSK, RollKSK
	case signer.ZSK:
		return l.ZSK, RollZSK
	}
	return l.Single, RollAll
}

// Due is the rollover that lifetimes ask for next, and when it has to begin so
// that the new key is in use when the old one's time is over.
func (r *KeySet) Due(l Lifetimes, t *Timing) (kind Kind, when time.Time) {
	for _, k := range r.Keys {
		life, what := l.of(k.Role)
		began, active := k.Since[Active]
		if k.Foreign || k.State != Active || !active || life == 0 {
			continue
		}
		at := began.Add(life).Add(-t.ExpectServers - t.Margin - t.Keys.Now())
		if t.Followed && k.entryPoint() {
			at = at.Add(t.Keys.Now() - t.learn())
		}
		if when.IsZero() || at.Before(when) {
			kind, when = what, at
		}
	}
	return kind, when
}

// Names lists tags for people.
func Names(tags []uint16) string {
	words := make([]string, len(tags))
	for i, t := range tags {
		words[i] = fmt.Sprint(t)
	}
	return strings.Join(words, ", ")
}

// Check tells why a ring that was read cannot be used.
func (r *KeySet) Check() error {
	for _, one := range []*Rollover{r.Roll, r.Last} {
		if one == nil {
			continue
		}
		steps := plans[one.Kind]
		if steps == nil || one.Step < 0 || one.Step > len(steps) || one == r.Roll && one.Step == len(steps) {
			return fmt.Errorf("the rollover %q has no step %d", one.Kind, one.Step)
		}
	}
	return nil
}
