package roll

import "time"

// clamp brings a time that has not come yet back to now.
func clamp(t *time.Time, now time.Time) {
	if t.After(now) {
		*t = now
	}
}

// NotAfter brings back to now whatever is noted of a time still to come, as after a
// clock that was ahead: what has to be waited for is counted from now.
func (r *KeySet) NotAfter(now time.Time) {
	for _, k := range r.Keys {
		clamp(&k.Seen, now)
		clamp(&k.Gone, now)
		for s, at := range k.Since {
			clamp(&at, now)
			k.Since[s] = at
		}
	}
	for _, roll := range []*Rollover{r.Roll, r.Last} {
		if roll != nil {
			roll.notAfter(now)
		}
	}
}

func (r *Rollover) notAfter(now time.Time) {
	times := []*time.Time{&r.Started, &r.Entered, &r.Shown, &r.Seen, &r.Ended}
	for i := range r.States {
		s := &r.States[i]
		times = append(times, &s.Seen, &s.Answered, &s.Tried, &s.Warned)
	}
	for i := range r.Passed {
		p := &r.Passed[i]
		times = append(times, &p.Entered, &p.Seen, &p.Ended)
	}
	for _, t := range times {
		clamp(t, now)
	}
}

// NotAfter is KeySet.NotAfter for the times at which TTLs were replaced.
func (t TTLs) NotAfter(now time.Time) {
	for i := range t {
		clamp(&t[i].Replaced, now)
		clamp(&t[i].Gone, now)
	}
}
