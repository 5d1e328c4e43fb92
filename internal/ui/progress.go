package ui

import (
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
)

// quiet is how long a job may take before a bar is worth showing.
const quiet = 700 * time.Millisecond

// Progress shows a bar on a terminal once something takes long; elsewhere it
// shows nothing. update may be called from several goroutines. end takes the bar
// away.
func (u *UI) Progress(what string) (update func(done, all int), end func()) {
	if u.Quiet || !IsTerminal(u.Err) {
		return nil, func() {}
	}
	w := progress.NewWriter()
	w.SetOutputWriter(u.Err)
	w.SetAutoStop(false)
	w.SetUpdateFrequency(200 * time.Millisecond)
	w.Style().Visibility.Value = false
	t := &progress.Tracker{Message: what, Units: progress.UnitsDefault, RemoveOnCompletion: true}
	w.AppendTracker(t)
	var running sync.WaitGroup
	stop := make(chan struct{})
	running.Go(func() {
		select {
		case <-stop:
		case <-time.After(quiet):
			w.Render()
		}
	})
	return func(done, all int) {
			t.UpdateTotal(int64(all))
			t.SetValue(int64(done))
		}, func() {
			t.MarkAsDone()
			close(stop)
			w.Stop()
			running.Wait()
		}
}
