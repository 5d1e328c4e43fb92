package keymanager

import (
	"context"
	"time"

	"fencepost/zone"
)

// Copy signs another version of a zone, one that only some askers see, with the keys that a Manager
// looks after for the version that everyone sees. It does nothing to them.
type Copy struct{ *Manager }

// Sign makes a signed version. Its serials are its own.
func (c Copy) Sign(ctx context.Context, j Job) (Signed, error) { return c.sign(ctx, j, false) }

// Served does nothing: what counts for rollovers is what everyone sees.
func (c Copy) Served(uint32, time.Time) error { return nil }

// Observe asks nobody.
func (c Copy) Observe(context.Context) (any, error) { return nil, nil }

// Advance does nothing.
func (c Copy) Advance(any, *zone.Snapshot, time.Time) (bool, time.Time, error) {
	return false, time.Time{}, nil
}

// State is nothing that the other version does not tell.
func (c Copy) State() State { return State{} }
