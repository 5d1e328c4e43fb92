package zonestate

import (
	"context"
	"time"
)

// Next is when the server has to do something next of its own accord; ok is false where
// nothing is planned.
func (s *Zones) Next() (at time.Time, ok bool) { return s.sched.next() }

// RunDue does what is due and what follows from it, one thing after another, and reports
// whether there was anything. It is for servers with Options.Stepped, whose clock somebody
// moves from one Next to the other.
func (s *Zones) RunDue(ctx context.Context) bool { return s.sched.step(ctx) }
