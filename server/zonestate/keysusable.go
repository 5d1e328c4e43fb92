package zonestate

import (
	"context"
	"errors"

	"golang.org/x/sync/errgroup"
)

// seeKeys looks whether the keys of zones that were loaded just now can be used: whoever damaged a key
// file, or forgot the passphrase, hears of it now and not when signatures are to be renewed. Of zones
// that are new here, as all are at the start, that is told a little later: very many may be protected.
func (s *Zones) seeKeys(zones []*zoneState, results []ZoneResult, isNew func(*zoneState) bool) {
	var g errgroup.Group
	g.SetLimit(max(1, cap(s.cpu)))
	for i, z := range zones {
		switch {
		case !z.role().Signs() || results[i].Err != nil || z.snap() == nil:
		case isNew(z):
			s.sched.plan(z, here, "keys "+z.id(), s.Now(), func(context.Context) { s.keysUsable(z) })
		default:
			g.Go(func() error {
				if results[i].Err = s.keysUsable(z); results[i].Err != nil && results[i].Change != Loaded {
					results[i].Change = Kept
				}
				return nil
			})
		}
	}
	_ = g.Wait() // the errors are in the results
}

// keysUsable looks whether the keys of a zone can be used, and notes what is wrong with them where
// nothing else is wrong with the zone.
func (s *Zones) keysUsable(z *zoneState) error {
	cfg := z.cfg.Load()
	if !cfg.Role().Signs() {
		return nil
	}
	err := cfg.Signer.Usable()
	if err == nil {
		if cfg.Role().Fetches() { // elsewhere each reload tells anew what is wrong
			s.noteMended(z)
		}
		return nil
	}
	err = &signingError{err}
	s.Log.Error("the keys cannot be used", "zone", z.String(), "error", err)
	z.mu.Lock()
	defer z.mu.Unlock()
	if z.problem == nil || cfg.Role().Fetches() && !z.lastGood().withdrawn { // see noteFetch
		s.setProblemLocked(z, err)
	}
	return err
}

// noteMended takes note that keys can be used again.
func (s *Zones) noteMended(z *zoneState) {
	z.mu.Lock()
	defer z.mu.Unlock()
	if _, is := errors.AsType[*signingError](z.problem); is {
		s.setProblemLocked(z, nil)
	}
}

// noteFetch takes note of whether the primaries could be asked; z.mu is held. That the zone cannot be
// signed counts for more, and is not mended by them.
func (s *Zones) noteFetch(z *zoneState, err error) {
	if _, is := errors.AsType[*signingError](z.problem); !is {
		s.setProblemLocked(z, err)
	}
}

// careError says that the keys of a zone could not be looked after.
type careError struct{ err error }

func (e *careError) Error() string { return "the keys could not be looked after: " + e.err.Error() }
func (e *careError) Unwrap() error { return e.err }

// noteCare takes note of whether the keys of a zone could be looked after. What else is wrong with the
// zone counts for more.
func (s *Zones) noteCare(z *zoneState, err error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	_, careless := errors.AsType[*careError](z.problem)
	switch {
	case err != nil && !errors.Is(err, context.Canceled) && (z.problem == nil || careless):
		s.setProblemLocked(z, &careError{err})
	case err == nil && careless:
		s.setProblemLocked(z, nil)
	}
}
