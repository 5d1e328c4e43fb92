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
		Long: `Shows what was changed by messages (RFC 2136) and is served, and the file of the zone
does not have, as a difference from the file, with who changed it and when. Nothing of
that is lost: it is kept beside the versions, and merged with what you change in the
file whenever that is read.

Where file and messages changed the same records, the version in service stays, and
the conflict is told here. Either have the file count again, with --drop OWNER, or
what is served, with: fencepost fold ZONE --over

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
	cmd.Flags().StringVar(&drop, "drop", "", "give up what messages changed at `OWNER`: the file counts again; a type may follow")
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
		e.ui.Printf("\n%s\n  %s\n", e.ui.Paint(ui.Bad, "the file does not go together with that"), e.ui.Fit(p.Problem, 2))
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
		Long: `Writes what is pending of a zone into its file, in the file's own style: lines that do
not differ stay as they are, with their comments. The serial becomes the one that is
served, so secondaries notice nothing. The running server loads it at once.

Messages that come meanwhile are not lost: they stay pending. What would put an
error into the file stays pending too, is told, and keeps nothing else back. Where
the file was changed too, nothing is written; --over writes what is served over it.

Exit status: 0, or 1 where something stays pending for an error.`,
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
