package store

import (
	"sync"

	"fencepost/dnsname"
)

// watchers are those who wait for the next version of a zone.
type watchers struct {
	mu     sync.Mutex
	byZone map[string]chan struct{} // by Meta.Zone; closed when a version is stored
}

// Changed is closed when the next version of a zone is stored. Whoever wants to miss none asks
// for it first, and then for what there is.
func (s *Store) Changed(name dnsname.Name) <-chan struct{} {
	w := &s.watchers
	w.mu.Lock()
	defer w.mu.Unlock()
	c := w.byZone[name.Key()]
	if c == nil {
		c = make(chan struct{})
		if w.byZone == nil {
			w.byZone = map[string]chan struct{}{}
		}
		w.byZone[name.Key()] = c
	}
	return c
}

// changed wakes those who wait for versions of zones.
func (w *watchers) changed(plans []*plan) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.byZone) == 0 {
		return
	}
	for _, p := range plans {
		if c := w.byZone[p.meta.Zone]; c != nil {
			close(c)
			delete(w.byZone, p.meta.Zone)
		}
	}
}
