package roll

import (
	"fmt"
	"strings"
	"time"
)

// Phase says where a row of a time line stands.
type Phase string

// The phases.
const (
	Done Phase = "done"
	Now  Phase = "now"
	Next Phase = "next"
)

// Row is a step as people see it.
type Row struct {
	Title string
	Phase Phase
	// Begin is when it began, or begins at the earliest. Seen is when every server
	// showed it, or may at the earliest; Estimated tells that it has not been so yet.
	Begin, Seen, End time.Time
	Estimated        bool
	Waits            []string // what it waits for, in words
	For              []string // kinds of cache content that expire until End
}

// Span is a length of time for people: the two largest units that say something.
func Span(d time.Duration) string {
	units := []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "min"}, {time.Second, "s"}}
	for i, u := range units {
		if d < u.size {
			continue
		}
		text := fmt.Sprintf("%d %s", d/u.size, u.name)
		if rest := d % u.size; i+1 < len(units) && rest >= units[i+1].size {
			text += fmt.Sprintf(" %d %s", rest/units[i+1].size, units[i+1].name)
		}
		return text
	}
	return "0 s"
}

// words for what a step waits to expire.
func (c cache) words(t *Timing) (out []string) {
	for _, one := range []struct {
		cache
		ttl  time.Duration
		text string
	}{{keysInCache, t.Keys.Now(), "DNSKEY sets in caches"}, {dataInCache, t.Data.Now(), "data and signatures in caches"}, {dsInCache, t.DS.Now(), "the parent's DS in caches"}} {
		if c&one.cache != 0 {
			out = append(out, one.text+" (TTL "+Span(one.ttl)+")")
		}
	}
	for _, one := range []struct {
		cache
		long time.Duration
		text string
	}{{anchorsLearn, t.learn(), "resolvers that follow RFC 5011 to trust the new key"}, {anchorsForget, t.forget(), "resolvers that follow RFC 5011 to see that the key is revoked"}} {
		if c&one.cache != 0 && t.Followed {
			out = append(out, one.text+" ("+Span(one.long)+", RFC 5011)")
		}
	}
	if len(out) > 0 && t.Margin > 0 {
		out[len(out)-1] += " and " + Span(t.Margin) + " of margin"
	}
	return out
}

// turnedWords are what keys are called once a rollover was cancelled: those that came go.
var turnedWords = strings.NewReplacer("the old signatures", "the signatures of the keys that are given up",
	"the new keys", "the keys that stay", "the new key", "the key that stays", "the old keys", "the keys that are given up", "the old key", "the key that is given up")

// named is what a step is called.
func (r *Rollover) named(s step) string {
	if r.RollingBack {
		return turnedWords.Replace(s.title)
	}
	return s.title
}

// Timeline is the steps of a rollover: those done as they were, those to come at
// the earliest, as far as the figures in t hold.
func (r *Rollover) Timeline(now time.Time, t *Timing) (out []Row) {
	for _, p := range r.Passed {
		out = append(out, Row{Title: p.Title, Phase: Done, Begin: p.Entered, Seen: p.Seen, End: p.Ended})
	}
	if !r.Ended.IsZero() {
		return out
	}
	at := now
	for i := r.Step; i < len(plans[r.Kind]); i++ {
		s := plans[r.Kind][i]
		wait := s.wait
		if i == r.Step {
			wait = r.waitOf(s)
		}
		row := Row{Title: r.named(s), Phase: Next, Begin: at, Estimated: true, For: wait.words(t)}
		if i == r.Step {
			row.Phase = Now
			if !r.Entered.IsZero() {
				row.Begin = r.Entered
			}
			row.Waits = r.waits(s, now, t)
		}
		row.Seen = at.Add(t.ExpectServers)
		if s.parent && !s.keeps {
			row.Seen = at.Add(max(t.ExpectServers, t.ExpectParent))
		}
		if i == r.Step && !r.Seen.IsZero() {
			row.Seen, row.Estimated = r.Seen, false
		}
		row.End = t.after(wait, row.Seen)
		if row.End.Before(now) {
			row.End = now
		}
		out = append(out, row)
		at = row.End
	}
	return out
}

// waits says what the present step waits for.
func (r *Rollover) waits(s step, now time.Time, t *Timing) (out []string) {
	switch {
	case r.Paused:
		return []string{"roll resume: it is paused"}
	case r.Entered.IsZero():
		return []string{"the server to begin it"}
	case r.Shown.IsZero():
		return []string{"the zone to be signed and served"}
	}
	seen := 0
	for i := range r.States {
		if sight := &r.States[i]; sight.Problem != "" {
			out = append(out, sight.Words(r, now))
		} else {
			seen++
		}
	}
	if r.Seen.IsZero() && len(out) == 0 {
		if len(r.States) == 0 {
			out = append(out, "the servers of the zone to be looked at")
		}
		if s.parent && !anyParent(r.States) {
			out = append(out, "the servers of the parent: none is known; name them in fencepost.toml: [[zone]] parent = [...]")
		}
	}
	if !r.Seen.IsZero() {
		out = append(out, r.waitOf(s).words(t)...)
	}
	return out
}

func anyParent(sights []ServerState) bool {
	for _, s := range sights {
		if s.Parent {
			return true
		}
	}
	return false
}
