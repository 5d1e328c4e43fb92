package zonestate

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"fencepost/resolve"
)

// health knows which peers are silent, for all zones together: one that does not answer
// is tried by one of them now and then, and not by each of a thousand.
type health struct {
	mu     sync.Mutex
	silent map[netip.AddrPort]*silence
}

type silence struct {
	since time.Time // when it was first not heard
	next  time.Time // when it may be tried again
	tries int
}

// Bounds of how long a silent peer is left alone; the time doubles with each try.
const (
	firstRest = time.Second
	longRest  = time.Minute
)

// may reports whether a peer may be tried now: then resting is nil. Of those who ask at
// the end of a rest one may.
func (h *health) may(at netip.AddrPort, now time.Time) (resting *errResting) {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.silent[at]
	if s == nil {
		return nil
	}
	if wait := s.next.Sub(now); wait > 0 && wait <= longRest { // more after a clock that was set back
		return &errResting{s.since, wait, s.tries}
	}
	s.next = now.Add(s.rest())
	return nil
}

func (s *silence) rest() time.Duration { return min(firstRest<<min(s.tries, 10), longRest) }

// note books what came of trying a peer.
func (h *health) note(at netip.AddrPort, now time.Time, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !isSilence(err) {
		delete(h.silent, at)
		return
	}
	s := h.silent[at]
	if s == nil {
		s = &silence{since: now}
		if h.silent == nil {
			h.silent = map[netip.AddrPort]*silence{}
		}
		h.silent[at] = s
	}
	s.next = now.Add(s.rest())
	s.tries++
}

// heard books a sign of life.
func (h *health) heard(at netip.AddrPort) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.silent, at)
}

// isSilence reports whether an error means that nobody answered.
func isSilence(err error) bool {
	var late net.Error
	return errors.Is(err, resolve.ErrNoAnswer) || errors.Is(err, resolve.ErrUnreachable) || errors.As(err, &late) && late.Timeout()
}

// errResting means that a peer was silent lately and is not asked again yet.
type errResting struct {
	since time.Time
	wait  time.Duration // until it may be asked
	tries int           // so far, all in vain
}

func (e *errResting) Error() string {
	return fmt.Sprintf("it has not answered since %s, and is asked again in a moment", e.since.UTC().Format("2006-01-02 15:04:05 UTC"))
}
