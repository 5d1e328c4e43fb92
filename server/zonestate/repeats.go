package zonestate

import (
	"sync"
	"time"

	"fencepost/message"
	"fencepost/server/request"
	"fencepost/store"
	"fencepost/update"
)

// Limits of requests that come more than once.
const (
	mostRepeats  = 65536 // that are known again when they come once more, of all zones
	mostRepeated = 16    // how often one request may wait
)

// repeats are the requests that came lately, by their digests: one that is repeated, because its
// answer was lost or by somebody who listens, has no second effect and the same answer.
type repeats struct {
	mu   sync.Mutex
	seen map[[16]byte]*outcome
	ring [][16]byte // in the order in which they ended
	at   int
}

// outcome is what came of a request.
type outcome struct {
	ended   bool
	no      *update.Refusal
	waiting []func(*update.Refusal)
}

// knows adds a request that was answered before the server was started.
func (r *repeats) knows(a store.Answered) {
	o := &outcome{ended: true}
	if code := message.Rcode(a.Code); code != message.NoError {
		o.no = &update.Refusal{Code: code, Why: "it was refused before"}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.seen == nil {
		r.seen = map[[16]byte]*outcome{}
	}
	if r.seen[a.Digest] == nil {
		r.seen[a.Digest] = o
		r.keep(a.Digest)
	}
}

// begins is true for a request that did not come before. Others are told what came of it, or will
// come.
func (r *repeats) begins(d [16]byte, done func(*update.Refusal)) bool {
	r.mu.Lock()
	o := r.seen[d]
	if o == nil {
		if r.seen == nil {
			r.seen = map[[16]byte]*outcome{}
		}
		r.seen[d] = &outcome{waiting: []func(*update.Refusal){done}}
		r.mu.Unlock()
		return true
	}
	ended, no := o.ended, o.no
	if !ended && len(o.waiting) < mostRepeated {
		o.waiting = append(o.waiting, done)
		done = nil
	}
	r.mu.Unlock()
	switch {
	case ended:
		done(no)
	case done != nil:
		done(failed("this change waits already"))
	}
	return false
}

// ended tells what came of a request, and keeps that unless it is to be tried again.
func (r *repeats) ended(d [16]byte, no *update.Refusal) {
	r.mu.Lock()
	o := r.seen[d]
	tell := o.waiting
	o.ended, o.no, o.waiting = true, no, nil
	if no != nil && no.Code == message.ServFail {
		delete(r.seen, d)
	} else {
		r.keep(d)
	}
	r.mu.Unlock()
	for _, done := range tell {
		done(no)
	}
}

// keep makes room for what ended by forgetting the oldest. The lock is held.
func (r *repeats) keep(d [16]byte) {
	if len(r.ring) < mostRepeats {
		r.ring = append(r.ring, d)
		return
	}
	delete(r.seen, r.ring[r.at])
	r.ring[r.at] = d
	r.at = (r.at + 1) % len(r.ring)
}

// mayRepeat is how long a signed request can be sent again: by the largest difference of clocks that
// one can name (RFC 8945 §4.2).
const mayRepeat = (1<<16 - 1) * time.Second

// noteAnswered keeps what came of a request over a restart, unless it is to be tried again.
func (s *Zones) noteAnswered(u *request.Update, no *update.Refusal) {
	if s.Store == nil || u.By != "" || no != nil && no.Code == message.ServFail {
		return
	}
	a := store.Answered{Digest: u.Digest, At: s.Now()}
	if no != nil {
		a.Code = uint16(no.Code)
	}
	if err := s.Store.NoteAnswered(a); err != nil {
		s.Log.Warn("a change was answered that will not be known again after a restart", "error", err)
	}
}

// knowAnswered takes up what was answered before the server was started.
func (s *Zones) knowAnswered() {
	if s.Store == nil {
		return
	}
	list, err := s.Store.AnsweredSince(s.Now().Add(-mayRepeat))
	if err != nil {
		s.Log.Warn("changes that were answered before the start are not known again", "error", err)
	}
	for _, a := range list {
		s.repeats.knows(a)
	}
}
