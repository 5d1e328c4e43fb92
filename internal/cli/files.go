package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/internal/app"
	"fencepost/internal/ui"
)

func newTidy(e *env) *cobra.Command {
	var check bool
	cmd := &cobra.Command{Use: "tidy [FILE|ZONE]...", GroupID: stageWrite, Short: "put zone files into one house style",
		Long: `Writes owner, TTL, type and data in columns, an owner once for a run of its
records, types in capitals, times in seconds, at most one blank line in a row and
LF at line ends. Comments and the order of records stay. What the file says does
not change, which is proved before it is written, so the serial stays too.

With --check nothing is written; the exit status is 1 if a file is not tidy.`,
		Example: `  fencepost tidy zones/saltmarsh.example.zone
  fencepost tidy --check`,
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := e.app.Tidy(cmd.Context(), args, check)
			for _, t := range list {
				if e.ui.JSON {
					if err := e.ui.Object(map[string]any{"file": t.Path, "tidy": !t.Changed, "written": t.Changed && !check}); err != nil {
						return err
					}
					continue
				}
				e.tidied(t, check)
			}
			if err != nil && check && len(list) > 0 {
				return shown(err)
			}
			return err
		}}
	cmd.Flags().BoolVar(&check, "check", false, "only tell which files are not tidy")
	return cmd
}

func (e *env) tidied(t *app.Tidied, check bool) {
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

// maxHits is how many records a person is shown; programs get all.
const maxHits = 1000

func newFind(e *env) *cobra.Command {
	var f app.Find
	cmd := &cobra.Command{Use: "find [PATTERN]", GroupID: stageWrite, Short: "search all zones for a name, an address or a piece of data",
		Long: `Lists the records that fit, with file and line. PATTERN is a name, as owner or in
the data, where * and ? stand for anything; an address; or a network. --type and
--text narrow it down, or are enough alone.`,
		Example: `  fencepost find 'cam-*'
  fencepost find 198.51.100.0/26
  fencepost find web.saltmarsh.example --type CNAME
  fencepost find --text spf1 --zone saltmarsh.example`,
		Args: func(cmd *cobra.Command, args []string) error { return count(cmd, args, nil, 1) },
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				f.Pattern = args[0]
			}
			if e.ui.JSON {
				_, err := e.app.Find(cmd.Context(), f, int(^uint(0)>>1), func(h app.Hit) error { return e.ui.Object(h) })
				return err
			}
			var rows [][]string
			n, err := e.app.Find(cmd.Context(), f, maxHits, func(h app.Hit) error {
				rows = append(rows, []string{fmt.Sprintf("%s:%d", h.File, h.Line), h.Name, strconv.FormatUint(uint64(h.TTL), 10), h.Type, h.Data})
				return nil
			})
			if err != nil {
				return err
			}
			if len(rows) > 0 {
				e.ui.Table([]string{"where", "name", ">TTL", "type", "data"}, rows)
			}
			e.ui.Sayf("%s found\n", ui.Plural(n, "record"))
			if n > maxHits {
				e.ui.Sayf("Only the first %s are shown; --format json lists all.\n", ui.Count(maxHits))
			}
			return nil
		}}
	cmd.Flags().StringVar(&f.Type, "type", "", "only records of this `TYPE`")
	cmd.Flags().StringVar(&f.Text, "text", "", "only records with this `TEXT` in their data")
	cmd.Flags().StringArrayVar(&f.Zones, "zone", nil, "only in this `ZONE` or file; repeat it for more")
	return cmd
}
