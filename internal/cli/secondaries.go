package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newSecondaries(e *env) *cobra.Command {
	var at []string
	var timeout time.Duration
	cmd := &cobra.Command{Use: "secondaries ZONE", GroupID: stageVerify, Short: "are all servers of a zone in step?",
		Long: `Asks every server of a zone for its serial: the server of this workspace, its
peers, and those given with --at. Where the zone is signed here, the primary that hands
it in has a serial of its own and is shown beside the others.

Exit status: 0 all have the newest version, 1 some do not.`,
		Example: `  fencepost secondaries saltmarsh.example
  fencepost secondaries saltmarsh.example --at 192.0.2.53 --at 198.51.100.53`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := e.app.Secondaries(cmd.Context(), args[0], at, timeout)
			if r == nil {
				return err
			}
			if e.ui.JSON {
				if oerr := e.ui.Object(map[string]any{"zone": r.Zone.String(), "serial": r.Serial, "in_step": err == nil, "servers": r.Servers}); oerr != nil {
					return oerr
				}
				return shown(err)
			}
			e.secondaries(r)
			return shown(err)
		}}
	cmd.Flags().StringArrayVar(&at, "at", nil, "another `SERVER` to ask; repeat it for each")
	cmd.Flags().DurationVar(&timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

func (e *env) secondaries(r *ops.InStep) {
	var rows [][]string
	good, compared := 0, 0
	for _, s := range r.Servers {
		style := ui.Bad
		switch s.State {
		case "in step":
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
		rows = append(rows, []string{s.Name, s.Address, serial, e.ui.Paint(style, "%s", s.State), s.Problem})
	}
	e.ui.Table([]string{"server", "address", ">serial", "state", ""}, rows)
	zone := strings.TrimSuffix(r.Zone.String(), ".")
	if good == compared {
		e.ui.Printf("\n%s: %s in step with serial %d\n", zone, all(compared), r.Serial)
	} else {
		e.ui.Printf("\n%s: %d of %s have serial %d\n", zone, good, ui.Plural(compared, "server"), r.Serial)
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
