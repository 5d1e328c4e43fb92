package transfer

import (
	"time"

	"fencepost/rr"
)

// Bounds on what a SOA can make a secondary do, so that no zone is asked for
// all the time and none is forgotten.
const (
	minRefresh = 30 * time.Second
	minRetry   = 10 * time.Second
	maxTimer   = 28 * 24 * time.Hour
	firstRetry = time.Second     // before any version is there
	lastRetry  = 1 * time.Minute // and how far that grows
)

// Clock is the clock of one zone at a secondary: when to look for a new
// version, and until when the present one may be served (RFC 1034 §4.3.5). It is
// pure: the present time and the chance come as arguments.
type Clock struct {
	Checked time.Time // when a primary last confirmed the version we have; zero: never
	Next    time.Time // when to look again
	Failing time.Time // since when looking has failed; zero: it has not
	// Until is when the version expires where a primary said so (RFC 7314); zero: what the
	// SOA says counts from Checked on.
	Until time.Time

	refresh, retry, expire time.Duration
	tries                  int
}

// Confirmed takes note that a primary has the version we have, with these
// timers. chance, from 0 to 1, spreads the times so that not all zones are
// asked at once.
func (c *Clock) Confirmed(now time.Time, soa rr.SOA, chance float64) {
	c.Timers(soa)
	c.Checked, c.Failing, c.Until, c.tries = now, time.Time{}, time.Time{}, 0
	c.Next = now.Add(spread(c.refresh, chance))
}

// Said is what a primary says of how long the version may still be served, in seconds: it
// is itself a secondary, perhaps. The SOA bounds it. fresh is set for a version that was
// transferred just now; where the one we have was confirmed, the time that it had left
// before, until had, is not made shorter (RFC 7314 §4). It comes after Confirmed.
func (c *Clock) Said(now time.Time, seconds uint32, fresh bool, had time.Time) {
	until := now.Add(time.Duration(seconds) * time.Second)
	if !fresh && had.After(until) {
		until = had
	}
	if most := now.Add(c.expire); until.After(most) {
		until = most
	}
	c.Until = until
}

// Timers takes the timers of a version, as after a restart.
func (c *Clock) Timers(soa rr.SOA) {
	c.refresh = bound(soa.Refresh, minRefresh)
	c.retry = bound(soa.Retry, minRetry)
	c.expire = bound(soa.Expire, c.refresh+c.retry)
}

// Failed takes note that no primary could be asked.
func (c *Clock) Failed(now time.Time, chance float64) {
	if c.Failing.IsZero() {
		c.Failing = now
	}
	wait := c.retry
	if c.Checked.IsZero() {
		wait = min(firstRetry<<min(c.tries, 10), lastRetry)
	}
	c.tries++
	c.Next = now.Add(spread(wait, chance))
}

// Expires is until when the version may be served; zero if there is none.
func (c *Clock) Expires() time.Time {
	switch {
	case c.Checked.IsZero():
		return time.Time{}
	case !c.Until.IsZero():
		return c.Until
	}
	return c.Checked.Add(c.expire)
}

// Expired reports whether the version may no longer be served.
func (c *Clock) Expired(now time.Time) bool {
	return !c.Checked.IsZero() && !now.Before(c.Expires())
}

func bound(seconds uint32, least time.Duration) time.Duration {
	return min(max(time.Duration(seconds)*time.Second, least), maxTimer)
}

// spread takes up to a tenth off.
func spread(d time.Duration, chance float64) time.Duration {
	return d - time.Duration(chance*float64(d)/10)
}
