package ops

import (
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"syscall"

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
	{Name: "not-allowed", Err: ErrNotAllowed, Status: http.StatusForbidden},
	{Name: "no-zone", Err: zonestate.ErrNoZone, Status: http.StatusNotFound},
	{Name: "no-history", Err: store.ErrNoHistory, Status: http.StatusNotFound},
	{Name: "not-secondary", Err: zonestate.ErrNotSecondary, Status: http.StatusConflict},
	{Name: "rolling", Err: roll.ErrRolling, Status: http.StatusConflict},
	{Name: "no-rollover", Err: roll.ErrNoRoll, Status: http.StatusConflict},
	{Name: "findings", Err: edit.ErrFindings, Status: http.StatusUnprocessableEntity},
}

// ownerOf is whoever a configuration belongs to: what they run is to be trusted, for they decide what is
// done here at all. Nobody is, where others can write to it.
func ownerOf(dir string) int {
	info, err := os.Stat(filepath.Join(dir, workspace.ConfigFile))
	if err != nil || info.Mode().Perm()&0o022 != 0 {
		return -1
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(st.Uid)
	}
	return -1
}

// Client reaches the running server of a workspace.
func Client(c *workspace.Config) control.Client {
	return control.Client{Path: c.Control, Kinds: ControlKinds, Trust: ownerOf(c.Dir)}
}

// Server reaches the running server of the workspace, also where the configuration has errors, which the
// server has not read then. broken is what is wrong with it.
func (a *App) Server() (client control.Client, broken *edit.ConfigError, err error) {
	c, err := a.Config()
	if !errors.As(err, &broken) {
		if err != nil {
			return client, nil, err
		}
		return Client(c), nil, nil
	}
	dir, err := a.Dir()
	return control.Client{Path: workspace.ControlOf(dir), Kinds: ControlKinds, Trust: ownerOf(dir)}, broken, err
}
