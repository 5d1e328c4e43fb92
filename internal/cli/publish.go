package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/publish"
	"fencepost/internal/ui"
)

func newPublish(e *env) *cobra.Command {
	var o publish.Options
	cmd := &cobra.Command{Use: "publish [ZONE...]", GroupID: stagePublish, Short: "check, load and verify an edited zone in one step",
		Long: `Brings edited zones into service in steps: check the file; check the expectations of the
workspace (expect/*.expect) on it; raise the serial if needed; have the running server
load and sign the zone; wait until every secondary has it; check the expectations on all
servers. Without ZONE: all zones of the workspace that have files, those that others
depend on first.

A step that fails before loading changes nothing in service. If a later one fails, the
output says what resolvers see now and how to go back; --back-on-failure does so.
After an interrupt run it again.

Exit status: 0 published, also if there is nothing to publish, 1 a step failed.`,
		Example: `  fencepost publish
  fencepost publish saltmarsh.example --dry-run
  fencepost publish saltmarsh.example --back-on-failure
  fencepost publish --format json            one event a line`,
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zones = args
			zone := ""
			err := publish.Run(cmd.Context(), e.app, o, func(x publish.Event) error {
				if e.ui.JSON {
					return e.ui.Object(x)
				}
				if x.Zone != zone {
					if zone != "" {
						e.ui.Printf("\n")
					}
					zone = x.Zone
					e.ui.Printf("%s\n", e.ui.Paint(ui.Bold, "%s", zone))
				}
				e.published(x)
				return nil
			})
			if errors.Is(err, publish.ErrStopped) { // why was told
				return shown(err)
			}
			return err
		}}
	f := cmd.Flags()
	f.BoolVar(&o.Dry, "dry-run", false, "do the steps that change nothing, and show what would be served")
	f.BoolVar(&o.BackOnFailure, "back-on-failure", false, "go back to the version before if a step after loading fails")
	f.BoolVar(&o.WaitCaches, "wait-caches", false, "continue until no cache can hold an old answer")
	f.DurationVar(&o.Patience, "patience", 5*time.Minute, "give up on secondaries after `TIME`")
	f.DurationVar(&o.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try to ask a server")
	return cmd
}

func (e *env) published(x publish.Event) {
	style := ui.Good
	switch {
	case x.Failed:
		style = ui.Bad
	case x.Step == publish.Back:
		style = ui.Suspect
	case x.Waits, x.Step == publish.Changes, x.Step == publish.Caches:
		style = ui.Aside
	}
	e.ui.Printf("  %s  %s\n", e.ui.Paint(style, "%-27s", x.Step), e.ui.Fit(x.Text, 31))
	if x.Changed != nil {
		const most = 12
		for i, c := range x.Changed.Changes {
			if i == most {
				e.ui.Printf("    and %d more; see: fencepost diff served:%s %s\n", len(x.Changed.Changes)-most, x.Zone, x.Zone)
				break
			}
			e.ui.Printf("    %s\n", e.ui.Fit(changeLine(c.Change, c.Name, c.Type, c.Old, c.New), 6))
		}
	}
	if x.Next != "" {
		e.ui.Printf("    → %s\n", e.ui.Fit(x.Next, 6))
	}
}

// changeLine is a set that changes, in a line.
func changeLine(change, name, typ string, gone, came []string) string {
	text := fmt.Sprintf("%s %s %s", name, typ, change)
	for _, d := range gone {
		text += "  − " + d
	}
	for _, d := range came {
		text += "  + " + d
	}
	return text
}
