package ops

import (
	"net/http"

	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/roll"
	"fencepost/server/zonestate"
	"fencepost/store"
	"fencepost/workspace"
)

// ControlKinds are the errors that mean the same to a command and to the server that
// carries it out. The names are part of the protocol.
var ControlKinds = []control.Kind{
	{Name: "usage", Err: edit.ErrUsage, Status: http.StatusBadRequest},
	{Name: "no-zone", Err: zonestate.ErrNoZone, Status: http.StatusNotFound},
	{Name: "no-history", Err: store.ErrNoHistory, Status: http.StatusNotFound},
	{Name: "not-secondary", Err: zonestate.ErrNotSecondary, Status: http.StatusConflict},
	{Name: "rolling", Err: roll.ErrRolling, Status: http.StatusConflict},
	{Name: "no-rollover", Err: roll.ErrNoRoll, Status: http.StatusConflict},
	{Name: "findings", Err: edit.ErrFindings, Status: http.StatusUnprocessableEntity},
}

// Client reaches the running server of a workspace.
func Client(c *workspace.Config) control.Client {
	return control.Client{Path: c.Control, Kinds: ControlKinds}
}
