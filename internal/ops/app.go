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
	// Given tells that the time was given by hand.
	Given bool
	// Played is the clock behind Now where it can be set, for rehearsals; else nil.
	Played *Clock

	finding sync.Once
	parents *keymanager.Parents // see findParents
}

// findParents finds the servers of zones above, for as long as the program runs.
func (a *App) findParents() *keymanager.Parents {
	a.finding.Do(func() { a.parents = keymanager.NewParents(a.Net, a.Now) })
	return a.parents
}
