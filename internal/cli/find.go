package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

// maxHits is how many records a person is shown; programs get all.
const maxHits = 1000

func newFind(e *env) *cobra.Command {
	var f ops.Find
	cmd := &cobra.Command{Use: "find [PATTERN]", GroupID: stageWrite, Short: "search all zones for a name, an address or a piece of data",
		Long: `Lists the records that fit, with file and line. PATTERN is a name, as owner or in
the data, where * and ? stand for anything; an address; or a network. --type and
--text narrow it down, or are enough alone.

Exit status: 0 something was found, 1 nothing.`,
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
				n, err := e.app.Find(cmd.Context(), f, int(^uint(0)>>1), func(h ops.Hit) error { return e.ui.Object(h) })
				if err == nil && n == 0 {
					return shown(edit.ErrFindings)
				}
				return err
			}
			var rows [][]ui.Text
			n, err := e.app.Find(cmd.Context(), f, maxHits, func(h ops.Hit) error {
				ttl, data := strconv.FormatUint(uint64(h.TTL), 10), ui.Safe(h.Data)
				if h.Aside != "" {
					ttl, data = "", data+"  "+e.ui.Paint(ui.Aside, "set aside %s", h.Aside)
				}
				rows = append(rows, ui.Cells(fmt.Sprintf("%s:%d", h.File, h.Line), h.Name, ttl, h.Type, data))
				return nil
			})
			if err != nil {
				return err
			}
			if len(rows) > 0 {
				e.ui.Table([]string{"where", "name", ">TTL", "type", "data"}, rows)
			}
			if n == 0 {
				e.ui.Sayf("nothing found\n")
				return shown(edit.ErrFindings)
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
