package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newSecondaries(e *env) *cobra.Command {
	var o ops.InStepOptions
	var wait string
	var patience time.Duration
	cmd := &cobra.Command{Use: "secondaries ZONE", GroupID: stageVerify, Short: "are all servers of a zone in sync?",
		Long: `Asks every server of a zone for its serial, over UDP and TCP, and for some of the zone's
records: the server of this workspace, its peers, and those given with --at; with --at all
every address of the servers in the delegation. A server with the newest serial and other
answers than most has other content. If the zone is signed here, its unsigned primary has
serials of its own and is shown apart.

With --wait it asks again until all have a serial: a number, or file for that of the
zone's file.

Exit status: 0 all are in sync, 1 some are not.`,
		Example: `  fencepost secondaries saltmarsh.example
  fencepost secondaries saltmarsh.example --at 192.0.2.53 --at 198.51.100.53
  fencepost secondaries saltmarsh.example --at all
  fencepost secondaries saltmarsh.example --wait file`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone, o.Serial = args[0], wait
			r, err := e.inStep(cmd.Context(), o, wait != "", patience)
			if r == nil {
				return err
			}
			if e.ui.JSON {
				if oerr := e.ui.Object(map[string]any{"zone": r.Zone.String(), "serial": r.Serial, "in_sync": err == nil, "questions": r.Asked, "servers": r.Servers}); oerr != nil {
					return oerr
				}
				return shown(err)
			}
			e.secondaries(r)
			return shown(err)
		}}
	cmd.Flags().StringArrayVar(&o.At, "at", nil, "another `SERVER` to ask; all: every address of the zone's servers; repeat it for each")
	cmd.Flags().StringVar(&wait, "wait", "", "ask again until all have this `SERIAL`, or file: that of the zone's file")
	cmd.Flags().DurationVar(&patience, "patience", 10*time.Minute, "give up after `TIME`")
	cmd.Flags().DurationVar(&o.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

// inStep asks once, or until all are in step or patience ends.
func (e *env) inStep(ctx context.Context, o ops.InStepOptions, wait bool, patience time.Duration) (*ops.InStep, error) {
	if !wait {
		return e.app.Secondaries(ctx, o)
	}
	return e.app.Await(ctx, o, patience, func(serial uint32, late string) error {
		e.ui.Sayf("waiting for serial %d at %s\n", serial, late)
		return nil
	})
}

func (e *env) secondaries(r *ops.InStep) {
	var rows [][]ui.Text
	good, compared := 0, 0
	for _, s := range r.Servers {
		style := ui.Bad
		switch s.State {
		case "in sync":
			style = ui.Good
			good++
			compared++
		case "source": // the zone is signed here: it has a serial of its own
			style = ui.Dim
			s.Problem = "hands in the unsigned zone, with a serial of its own"
		default:
			compared++
		}
		serial := "-"
		if s.Serial != 0 {
			serial = fmt.Sprint(s.Serial)
		}
		rows = append(rows, ui.Cells(s.Name, s.Address, serial, e.ui.Paint(style, "%s", s.State), s.Problem))
	}
	e.ui.Table([]string{"server", "address", ">serial", "state", ""}, rows)
	zone := strings.TrimSuffix(r.Zone.String(), ".")
	if good == compared {
		e.ui.Printf("\n%s: %s in sync with serial %d\n", zone, all(compared), r.Serial)
	} else {
		e.ui.Printf("\n%s: %d of %s in sync with serial %d\n", zone, good, ui.Plural(compared, "server"), r.Serial)
	}
}

func all(n int) string {
	switch n {
	case 1:
		return "the only server asked is"
	case 2:
		return "both servers are"
	}
	return fmt.Sprintf("all %d servers are", n)
}
