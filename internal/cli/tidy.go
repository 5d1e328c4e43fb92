package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ui"
)

func newTidy(e *env) *cobra.Command {
	var o edit.TidyOptions
	cmd := &cobra.Command{Use: "tidy [FILE|ZONE]...", GroupID: stageWrite, Short: "format zone files in one style",
		Long: `Writes owner, TTL, type and data in columns, an owner once for a run of its
records, types in capitals, times in seconds, at most one blank line in a row and
LF at line ends. Comments and the order of records stay. What the file says does
not change, which is proved before it is written, so the serial stays too.

A file that a program exported has whole names, and types it did not know as numbers:
--shorten writes the names relative to the origin, and TYPE15 \# ... as MX 10 mail.

With --check nothing is written; the exit status is 1 if a file is not tidy.`,
		Example: `  fencepost tidy zones/saltmarsh.example.zone
  fencepost tidy exported.zone --shorten
  fencepost tidy --check`,
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Operands = args
			list, err := e.app.Tidy(cmd.Context(), o)
			for _, t := range list {
				if e.ui.JSON {
					if err := e.ui.Object(map[string]any{"file": t.Path, "tidy": !t.Changed, "written": t.Changed && !o.Check}); err != nil {
						return err
					}
					continue
				}
				e.tidied(t, o.Check)
			}
			if err != nil && o.Check && len(list) > 0 {
				return shown(err)
			}
			return err
		}}
	cmd.Flags().BoolVar(&o.Check, "check", false, "only list the files that are not tidy")
	cmd.Flags().BoolVar(&o.Shorten, "shorten", false, "names as short as the origin permits; types and data that are numbers by their names")
	return cmd
}

func (e *env) tidied(t *edit.Tidied, check bool) {
	switch {
	case !t.Changed:
		e.ui.Sayf("%s is tidy\n", t.Path)
	case check:
		e.someLines(ui.Bad, "-", t.Removed)
		e.someLines(ui.Good, "+", t.Added)
		e.ui.Sayf("%s is not tidy; run: fencepost tidy %s\n", t.Path, t.Path)
	default:
		e.ui.Sayf("wrote %s: %s laid out anew, nothing changed in meaning\n", t.Path, ui.Plural(len(t.Added), "line"))
	}
}

// someLines shows the first of many lines.
func (e *env) someLines(s ui.Style, mark string, lines []string) {
	const most = 12
	for _, l := range lines[:min(len(lines), most)] {
		e.ui.Printf("%s\n", e.ui.Paint(s, "%s %s", mark, strings.TrimRight(l, "\r")))
	}
	if n := len(lines) - most; n > 0 {
		e.ui.Printf("%s\n", e.ui.Paint(ui.Dim, "%s ... %s more", mark, ui.Plural(n, "line")))
	}
}
