package ui

import (
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/jedib0t/go-pretty/v6/text"
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
	w.SetAutoStop(true)
	w.SetUpdateFrequency(200 * time.Millisecond)
	w.SetTrackerPosition(progress.PositionRight)
	w.Style().Visibility.Value = false
	w.Style().Options.ErrorString = "stopped"
	w.Style().Options.Separator = "  "
	w.Style().Options.PercentFormat = "%3.0f%%"
	w.Style().Options.TimeInProgressPrecision = time.Second
	t := &progress.Tracker{Message: what, Units: progress.UnitsDefault}
	w.AppendTracker(t)
	var running sync.WaitGroup
	stop := make(chan struct{})
	running.Go(func() {
		select {
		case <-stop:
		case <-time.After(quiet):
			w.Render()
			// The writer redraws only trackers that it keeps once done, so the
			// last line is ours to take away.
			fmt.Fprint(u.Err, text.CursorUp.Sprint(), text.EraseLine.Sprint())
		}
	})
	var whole atomic.Bool
	return func(done, all int) {
			whole.Store(done >= all)
			t.UpdateTotal(int64(all))
			t.SetValue(int64(done))
		}, func() {
			if whole.Load() {
				t.MarkAsDone()
			} else {
				t.MarkAsErrored() // it was interrupted, or failed: it says so itself
			}
			close(stop)
			w.Stop() // now; where it comes before Render, the auto-stop does it
			running.Wait()
		}
}
