// Package ops holds the use cases: options in, result out. All ways in, the
// command line, the control socket and the editor, call these. Nothing here
// prints.
package ops

import (
	"sync"

	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/netio"
)

// App is what all use cases share.
type App struct {
	edit.Files // and edits of them
	// Net is the network; nil is the system's.
	Net netio.Network
	// TimeOverridden tells that the time was given by hand.
	TimeOverridden bool
	// SettableClock is the clock behind Now where it can be set, for rehearsals; else nil.
	SettableClock *Clock

	atHand sync.Map // zones that were read to compare answers with, by name; see zoneAtHand

	finding sync.Once
	parents *keymanager.Parents // see findParents
}

// Holding is the same with the configuration as it is now, read once: for what asks very often.
func (a *App) Holding() *App {
	c, err := a.Config()
	if err != nil || a.PinnedConfig != nil {
		return a
	}
	return &App{Files: edit.Files{Workspace: a.Workspace, Now: a.Now, PinnedConfig: c}, Net: a.Net, TimeOverridden: a.TimeOverridden, SettableClock: a.SettableClock}
}

// findParents finds the servers of zones above, for as long as the program runs.
func (a *App) findParents() *keymanager.Parents {
	a.finding.Do(func() { a.parents = keymanager.NewParents(a.Net, a.Now) })
	return a.parents
}
