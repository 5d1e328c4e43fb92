package zonestate

import (
	"context"
	"time"
)

// lapseWarning is how long before their end signatures are told of that we do not
// renew ourselves: whoever does has had their usual time by then.
const lapseWarning = 3 * 24 * time.Hour

func lapseID(z *zoneState) string { return "lapse " + z.id() }

// planLapse plans to tell of signatures that end: of a zone that was transferred
// signed, or whose renewal fails.
func (s *Zones) planLapse(z *zoneState) {
	ends, snap := z.lastGood().expires, z.snap()
	if ends.IsZero() {
		s.sched.cancel(lapseID(z))
		return
	}
	tell := func(at time.Time, what string, then func()) {
		s.sched.plan(z, here, lapseID(z), at, func(context.Context) {
			if z.snap() == snap && snap != nil {
				s.Log.Error(what, "zone", z.String(), "serial", snap.Serial(), "end", ends.UTC().Format(time.RFC3339))
				then()
			}
		})
	}
	over := func() {
		tell(ends, "signatures have expired: validating resolvers reject the zone", func() {})
	}
	if soon := ends.Add(-lapseWarning); soon.After(s.Now()) {
		tell(soon, "signatures expire soon and have not been renewed", over)
	} else {
		over()
	}
}
