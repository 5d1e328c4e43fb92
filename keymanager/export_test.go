package keymanager

import "fencepost/keyring"

// Observers is an Observer of the zone, as in the life of a server.
func (s *Manager) Observers(ring *keyring.Ring) *Observer { return s.observer(ring) }
