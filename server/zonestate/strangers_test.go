package zonestate

import (
	"testing"
	"time"
)

// Of each kind so many lines are written in a window, and the next says how many were
// not.
func TestStrangersLines(t *testing.T) {
	var s strangers
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for window, want := range []int{0, 15, 15} {
		written := 0
		for i := range strangersLines + 15 {
			unwritten, ok := s.allow("a", now)
			if ok {
				written++
			}
			if told := ok && i == 0; told && unwritten != want || !told && unwritten != 0 {
				t.Errorf("window %d, line %d: %d are told not to have been written", window, i, unwritten)
			}
		}
		if written != strangersLines {
			t.Errorf("window %d: %d lines", window, written)
		}
		if _, ok := s.allow("b", now); !ok {
			t.Error("another kind is bound by the first")
		}
		now = now.Add(strangersWindow)
	}
	if _, ok := s.allow("a", now.Add(-time.Hour)); !ok {
		t.Error("nothing is written after the clock was set back")
	}
}
