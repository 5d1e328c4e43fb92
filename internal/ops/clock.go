package ops

import (
	"fmt"
	"sync"
	"time"
)

// Clock goes on from a time that is set, as fast as the real one. It can be set
// forward and never back: what was signed would be of the future.
type Clock struct {
	mu    sync.Mutex
	at    time.Time // what it was set to
	since time.Time // when that was
}

// NewClock is a clock that says at now.
func NewClock(at time.Time) *Clock { return &Clock{at: at, since: time.Now()} }

// Now is what the clock says.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.at.Add(time.Since(c.since))
}

// Set sets the clock forward. A time that it has just passed is no step back.
func (c *Clock) Set(t time.Time) error {
	const just = time.Minute
	now := c.Now()
	switch {
	case t.Before(now) && now.Sub(t) < just:
		return nil
	case t.Before(now):
		return fmt.Errorf("the clock says %s already and cannot go back to %s", now.UTC().Format(time.RFC3339), t.UTC().Format(time.RFC3339))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at, c.since = t, time.Now()
	return nil
}
