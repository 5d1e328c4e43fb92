package ui

import (
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
)

// Progress shows a bar on a terminal while something long goes on; elsewhere
// it shows nothing. update may be called from several goroutines. end takes the
// bar away.
func (u *UI) Progress(what string) (update func(done, all int), end func()) {
	if u.Quiet || !IsTerminal(u.Err) {
		return nil, func() {}
	}
	w := progress.NewWriter()
	w.SetOutputWriter(u.Err)
	w.SetAutoStop(false)
	w.SetUpdateFrequency(200 * time.Millisecond)
	w.Style().Options.DoneString = ""
	t := &progress.Tracker{Message: what, Units: progress.UnitsDefault}
	w.AppendTracker(t)
	go w.Render()
	return func(done, all int) {
			t.UpdateTotal(int64(all))
			t.SetValue(int64(done))
		}, func() {
			t.MarkAsDone()
			w.Stop()
			for w.IsRenderInProgress() {
				time.Sleep(10 * time.Millisecond)
			}
		}
}
