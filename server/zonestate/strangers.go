package zonestate

import (
	"sync"
	"time"
)

// What strangers cause is logged, but they do not fill the disk: so many lines of
// one kind in so long.
const (
	strangersLines  = 10
	strangersWindow = time.Minute
)

// strangers bounds what strangers can have logged, by kind.
type strangers struct {
	mu     sync.Mutex
	byKind map[string]*strangersKind
}

type strangersKind struct {
	began             time.Time
	logged, unwritten int
}

// allow reports whether a line is to be written, and how many of its kind were not
// since the last one.
func (s *strangers) allow(kind string, now time.Time) (unwritten int, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k := s.byKind[kind]
	if k == nil {
		if s.byKind == nil {
			s.byKind = map[string]*strangersKind{}
		}
		k = &strangersKind{began: now}
		s.byKind[kind] = k
	}
	if age := now.Sub(k.began); age >= strangersWindow || age < 0 {
		k.began, k.logged = now, 0
	}
	if k.logged >= strangersLines {
		k.unwritten++
		return 0, false
	}
	k.logged++
	unwritten, k.unwritten = k.unwritten, 0
	return unwritten, true
}

// logStranger logs what anybody can cause; the texts of kind are few.
func (s *Zones) logStranger(kind string, args ...any) {
	unwritten, ok := s.strange.allow(kind, s.Now())
	if !ok {
		return
	}
	if unwritten > 0 {
		args = append(args, "not_logged_before", unwritten)
	}
	s.Log.Warn(kind, args...)
}
