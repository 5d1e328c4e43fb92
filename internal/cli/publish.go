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
		Long: `Takes zones from their edited files to every server, through gates: the file is checked;
the expectations of the workspace (expect/*.expect) hold of it; the serial is raised if it
must be; the running server loads the zone, and signs it; every secondary shows it; the
expectations hold at all servers. Without ZONE all zones of the workspace that have files,
those that others depend on first.

A gate before loading changes nothing in service. If one behind it fails, what the world sees
is told, with the way back; --back-on-failure goes it. Interrupted anywhere, it can be run
again.

Exit status: 0 published, also if there is nothing to publish, 1 a gate stopped it.`,
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
	f.BoolVar(&o.Dry, "dry-run", false, "go through the gates that change nothing, and show what the world would see")
	f.BoolVar(&o.BackOnFailure, "back-on-failure", false, "bring the version before back if a gate fails after loading")
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
