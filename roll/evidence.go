package roll

import (
	"fmt"
	"slices"
	"time"
)

// ServerState is what is known of one server in the present step.
type ServerState struct {
	Server   string
	Parent   bool
	Seen     time.Time // when it last showed what it should; zero: never
	Answered time.Time // when it last answered at all; zero: never
	Tried    time.Time // when it was last asked
	Problem  string    // what is wrong with its last answer; empty: nothing
	Warned   time.Time // when a problem was last told
}

// Observation is one look at a server.
type Observation struct {
	Server string
	Parent bool
	// Err is why it could not be asked; it may come back in any state.
	Err error
	// Mismatch says what it shows that it should not, or not yet; empty: all is as it
	// should be.
	Mismatch string
	// DS are the tags of those of our keys that a server of the parent has a DS of.
	DS []uint16
}

func (l *Observation) good() bool { return l.Err == nil && l.Mismatch == "" }

// see takes note of looks and reports whether every server shows the step now.
func (r *KeySet) see(s step, now time.Time, looks []Observation, t *Timing, out *Outcome) bool {
	roll := r.Roll
	good, zone, parent := true, false, false
	for i := range looks {
		l := &looks[i]
		if l.Parent && !s.parent {
			continue
		}
		zone, parent = zone || !l.Parent, parent || l.Parent
		good = good && l.good()
		r.note(l, now, out)
	}
	if good = good && zone && (parent || !s.parent); !good {
		for i := range looks {
			// Caches may have taken the old state from it again.
			l := &looks[i]
			if l.Err != nil || l.Mismatch == "" || l.Parent && !s.parent {
				continue
			}
			if l.Parent && s.keeps && !roll.Relapsed {
				r.relapse(l, now, out)
			}
			if !roll.Seen.IsZero() {
				roll.Seen = time.Time{}
				out.Events = append(out.Events, l.Server+" shows the old state again: "+l.Mismatch)
			}
		}
		out.Again = now.Add(pause(s.parent, now.Sub(roll.Shown)))
		return false
	}
	if roll.Seen.IsZero() {
		roll.Seen = now
		t.Keys.confirm(roll.Shown, now)
		t.Data.confirm(roll.Shown, now)
		for _, k := range r.find(roll.New) {
			k.enter(s.newSeen, now)
		}
		for _, k := range r.find(roll.Old) {
			k.enter(s.oldSeen, now)
		}
		if s.parent {
			r.noteDS(now)
		}
		out.Events = append(out.Events, "every server shows it: "+roll.named(s))
	}
	return true
}

// relapse notes that the parent does not have the DS any more for which the rollover went on: what
// it had before may be there again, and in caches (a restored backup does that).
func (r *KeySet) relapse(l *Observation, now time.Time, out *Outcome) {
	r.Roll.Relapsed = true
	for _, k := range r.find(r.Roll.Old) {
		if k.Gone = (time.Time{}); k.Seen.IsZero() && slices.Contains(l.DS, k.Tag) {
			k.Seen = now
		}
	}
	out.Events = append(out.Events, "the DS at the parent was right and is not any more, and the old keys stay until it is: "+l.Server+": "+l.Mismatch)
}

// noteDS notes that every server of the parent has just what is asked of it.
func (r *KeySet) noteDS(now time.Time) {
	for _, k := range r.Keys {
		if k.DS {
			k.Seen, k.Gone = now, time.Time{}
		} else if !k.Seen.IsZero() && k.Gone.IsZero() {
			k.Gone = now
		}
	}
}

// Unseen reports whether the parent has not been seen to have the DS of a key that it
// is to have.
func (r *KeySet) Unseen() bool {
	return slices.ContainsFunc(r.Keys, func(k *Key) bool { return k.DS && k.Seen.IsZero() })
}

// Lingers reports whether the parent was seen to have the DS of a key, is to have it no more, and has not
// been seen without it.
func (r *KeySet) Lingers() bool {
	return slices.ContainsFunc(r.Keys, func(k *Key) bool { return !k.DS && !k.Seen.IsZero() && k.Gone.IsZero() })
}

// NoteParent takes note of looks at all servers of the parent outside rollovers, and
// reports whether they show just what is wanted.
func (r *KeySet) NoteParent(looks []Observation, now time.Time) bool {
	for i := range looks {
		if !looks[i].good() {
			return false
		}
	}
	if len(looks) == 0 {
		return false
	}
	r.noteDS(now)
	return true
}

// note keeps what a look saw.
func (r *KeySet) note(l *Observation, now time.Time, out *Outcome) {
	i := slices.IndexFunc(r.Roll.States, func(s ServerState) bool { return s.Server == l.Server && s.Parent == l.Parent })
	if i < 0 {
		r.Roll.States = append(r.Roll.States, ServerState{Server: l.Server, Parent: l.Parent})
		i = len(r.Roll.States) - 1
	}
	s := &r.Roll.States[i]
	problem := l.Mismatch
	if l.Err != nil {
		problem = l.Err.Error()
	} else {
		s.Answered = now
	}
	told := problem == s.Problem && now.Sub(s.Warned) < warnEvery
	s.Tried, s.Problem = now, problem
	if l.good() {
		s.Seen = now
		return
	}
	if !told {
		s.Warned = now
		out.Events = append(out.Events, s.Words(r.Roll, now))
	}
}

// Words says what keeps a server from counting as seen, and since when.
func (s *ServerState) Words(roll *Rollover, now time.Time) string {
	last := s.Answered
	if last.IsZero() {
		last = roll.Shown
	}
	if s.Problem == "" {
		return s.Server + " shows it"
	}
	if s.Answered.Equal(s.Tried) {
		return s.Server + ": " + s.Problem
	}
	if gone := now.Sub(last); gone >= time.Second {
		return fmt.Sprintf("nothing has been seen of %s for %s: %s", s.Server, Span(gone.Round(min(time.Minute, max(time.Second, gone/60)))), s.Problem)
	}
	return fmt.Sprintf("nothing is seen of %s: %s", s.Server, s.Problem)
}
