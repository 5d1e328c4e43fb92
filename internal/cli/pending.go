package cli

import (
	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newPending(e *env) *cobra.Command {
	var drop string
	cmd := &cobra.Command{Use: "pending ZONE", GroupID: stagePublish, Short: "updates that the server has and the zone file does not",
		Long: `Shows the dynamic updates (RFC 2136) that are in service and not in the zone file, as a
difference from the file, with who made each and when. They are stored, and merged with
your edits of the file at each reload.

If file and updates change the same records, the version in service stays, and the
conflict is shown here. To keep the file's records: --drop OWNER. To keep what is served:
fencepost fold ZONE --over

Exit status: 0, or 1 while there is a conflict.`,
		Example: `  fencepost pending saltmarsh.example
  fencepost pending saltmarsh.example --drop buoy7
  fencepost pending saltmarsh.example --drop buoy7 A`,
		Args: func(cmd *cobra.Command, args []string) error {
			if drop != "" && len(args) == 2 {
				return nil
			}
			return exactly("ZONE")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if drop == "" {
				p, err := e.app.Pending(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return e.pending(p)
			}
			t := ""
			if len(args) == 2 {
				t = args[1]
			}
			p, err := e.app.DropPending(cmd.Context(), args[0], drop, t)
			if err != nil {
				return err
			}
			return e.pending(p)
		}}
	cmd.Flags().StringVar(&drop, "drop", "", "drop the updates of `OWNER`: the file's records are served again; a type may follow")
	return cmd
}

func (e *env) pending(p *ops.Pending) error {
	if e.ui.JSON {
		if err := e.ui.Object(map[string]any{"zone": p.Zone.String(), "audience": p.Audience, "serial": p.Serial, "problem": p.Problem, "changes": append([]ops.PendingSet{}, p.Changes...)}); err != nil {
			return err
		}
		return pendingStatus(p)
	}
	for _, c := range p.Changes {
		e.pendingSet(c)
	}
	plain := shownZone(p.Zone.String(), p.Audience)
	switch n := len(p.Changes); {
	case p.Problem != "":
		e.ui.Printf("\n%s\n  %s\n", e.ui.Paint(ui.Bad, "conflicts with the file"), e.ui.Fit(p.Problem, 2))
	case n == 0:
		e.ui.Sayf("%s: nothing is pending, the file has all that is served\n", plain)
	default:
		e.ui.Sayf("%s: %s pending, to be written into the file with: fencepost fold %s\n", plain, ui.Plural(n, "record set"), plain)
	}
	return pendingStatus(p)
}

func pendingStatus(p *ops.Pending) error {
	if p.Problem != "" {
		return shown(edit.ErrFindings)
	}
	return nil
}

func (e *env) pendingSet(c ops.PendingSet) {
	e.setLines(c.SetChange)
	e.ui.Printf("  %s\n", e.ui.Paint(ui.Dim, "%s, %s", c.By, clockTime(c.At)))
}

func newFold(e *env) *cobra.Command {
	var o ops.FoldOptions
	cmd := &cobra.Command{Use: "fold ZONE", GroupID: stagePublish, Short: "write pending updates into the zone file",
		Long: `Writes the pending updates of a zone into its file, in the file's own style: lines
that do not change keep their layout and comments. The serial becomes the one in service,
so secondaries notice nothing. The running server loads the file at once.

Updates that arrive meanwhile stay pending. An update that would put an error into the
file stays pending too, with the reason; the others are written. If the file was changed
too, nothing is written; --over overwrites it with what is served.

Exit status: 0, or 1 if updates stay pending because of errors.`,
		Example: `  fencepost fold saltmarsh.example --dry-run
  fencepost fold saltmarsh.example`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone = args[0]
			r, running, err := e.app.Fold(cmd.Context(), o)
			e.reload = running
			if err := e.edited(cmd.Context())(r, err); err != nil {
				return err
			}
			if len(r.Left) > 0 {
				return shown(edit.ErrFindings)
			}
			return nil
		}}
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
	cmd.Flags().BoolVar(&o.Over, "over", false, "overwrite changes in the file too")
	return cmd
}
