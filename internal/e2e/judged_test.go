package e2e

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/publish"
)

// Somebody saves the file while it is being published, at any step: what comes into service is what was
// judged, or nothing. What was not judged is published by the next run.
func TestPublishWhileSaved(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, true, 0)
	zone := filepath.Join(p.primary, "zones", "tides.example.zone")
	write(t, filepath.Join(p.primary, "expect", "tides.example.expect"), "zone tides.example\nold does not exist\n")
	first := serve(t, p.primary)
	second := serve(t, p.secondary)
	eventually(t, "the secondary has the zone", func() bool { return serial(t, second.addr, "tides.example") == 1 })
	for i, step := range []publish.Step{publish.Checked, publish.OnFile, publish.Changes, publish.Serial, publish.Loaded} {
		judged, other := fmt.Sprintf("192.0.2.%d", 100+2*i), fmt.Sprintf("192.0.2.%d", 101+2*i)
		ok(t, p.primary, "change", "tides.example", "mail", "A", judged)
		text := read(t, zone)
		if step == publish.Serial { // so that it has to be raised
			now := strings.Split(ok(t, p.primary, "serial", "tides.example", "--format", "json"), "\n")[0]
			was := serial(t, first.addr, "tides.example")
			text = strings.Replace(text, fmt.Sprint(uint32(object(t, now)["serial"].(float64))), fmt.Sprint(was), 1)
			write(t, zone, text)
		}
		saved := false
		app := &ops.App{Files: edit.Files{Workspace: p.primary, Now: time.Now}}
		o := publish.Options{Patience: patience, Timeout: time.Second}
		err := publish.Run(t.Context(), app, o, func(x publish.Event) error {
			if x.Step == step && !saved {
				saved = true
				write(t, zone, strings.Replace(read(t, zone), judged, other, 1))
			}
			return nil
		})
		late := step == publish.Loaded
		if !saved || late != (err == nil) || err != nil && !errors.Is(err, edit.ErrFindings) {
			t.Fatalf("%s: %v (saved: %v)", step, err, saved)
		}
		answer := fp(t, p.primary, "ask", "mail.tides.example").out
		if strings.Contains(answer, other) || late != strings.Contains(answer, judged) {
			t.Fatalf("saved at %q, served is %s", step, answer)
		}
		want(t, fp(t, p.primary, "publish", "tides.example"), 0, "published")
		if answer := fp(t, p.primary, "ask", "mail.tides.example").out; !strings.Contains(answer, other) {
			t.Fatalf("%s: the next run did not publish it: %s", step, answer)
		}
	}
}
