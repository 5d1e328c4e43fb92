package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/store"
	"fencepost/workspace"
)

func newHistory(e *env) *cobra.Command {
	var o ops.HistoryOptions
	var since, show string
	var watch bool
	cmd := &cobra.Command{Use: "history ZONE", GroupID: stagePublish, Short: "who published what and when",
		Long: `Lists the versions of a zone that were served here: serial, when, by whom, source, and how
many records were added and removed; those of DNSSEC are counted apart. By whom is the
user who had the server load the file, the primary it was fetched from, the key of an
update, or with authors = "git" in [history] who committed the file.

--show SERIAL shows a change. What is kept, and for how long, is set in [history] of
fencepost.toml. Compare versions with: fencepost diff; restore one with: fencepost restore`,
		Example: `  fencepost history saltmarsh.example
  fencepost history saltmarsh.example --name web --since 14d
  fencepost history saltmarsh.example --show 2026112802
  fencepost history saltmarsh.example --watch`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone = args[0]
			if show != "" {
				return e.showVersion(cmd, o.Zone, show)
			}
			if since != "" {
				t, err := sinceTime(since, e.app.Now())
				if err != nil {
					return err
				}
				o.Since = t
			}
			h, err := e.app.History(cmd.Context(), o)
			if err != nil {
				return err
			}
			if !watch {
				return e.history(h, o)
			}
			return e.followHistory(cmd.Context(), h, o)
		}}
	f := cmd.Flags()
	f.BoolVar(&watch, "watch", false, "then show new versions as they are served, until interrupted")
	f.StringVar(&o.Name, "name", "", "only versions that touch this `NAME`")
	f.StringVar(&o.By, "by", "", "only versions by `WHO`: a part of the name is enough")
	f.StringVar(&since, "since", "", "only versions from this `TIME` on: such as 14d, 2026-11-20, or RFC 3339")
	f.StringVar(&show, "show", "", "what the version with this `SERIAL` changed")
	return cmd
}

// sinceTime reads a time, or a length of time before now.
func sinceTime(text string, now time.Time) (time.Time, error) {
	if d, err := workspace.ParseSpan(text); err == nil {
		return now.Add(-d), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usageError("--since %s: write a length of time such as 14d, a day such as 2026-11-20, or RFC 3339", text)
}

func (e *env) history(h *ops.History, o ops.HistoryOptions) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"zone": h.Zone.String(), "complete": !h.Damaged, "versions": append([]store.Info{}, h.Steps...)})
	}
	plain := shownZone(h.Zone.String(), h.Audience)
	if len(h.Steps) == 0 {
		if o.Name != "" || o.By != "" || !o.Since.IsZero() {
			e.ui.Sayf("no version of %s is like that; all of them: fencepost history %s\n", plain, plain)
		} else {
			e.ui.Sayf("nothing changed in %s since it was first served here; versions are kept from the first change on\n", plain)
		}
		return nil
	}
	var rows [][]ui.Text
	for _, i := range h.Steps {
		rows = append(rows, versionRow(i))
	}
	e.ui.Table([]string{">serial", "when", "by", "source", ">added", ">removed", ">DNSSEC"}, rows)
	if h.Damaged {
		e.ui.Sayf("%s\n", e.onErr().Paint(ui.Suspect, "What is kept from before that is damaged."))
	}
	oldest := h.Steps[len(h.Steps)-1]
	e.ui.Sayf("Oldest kept version: serial %d. Show a change: fencepost history %s --show %d\n", oldest.From, plain, h.Steps[0].Serial)
	return nil
}

func versionRow(i store.Info) []ui.Text {
	return ui.Cells(fmt.Sprint(i.Serial), clockTime(i.At), orDash(i.By), wayWords[i.Way], count0("+", i.Added), count0("-", i.Removed), count0("", i.DNSSEC))
}

// followHistory shows what there is, and then what comes; in JSON what comes alone, an object
// a version.
func (e *env) followHistory(ctx context.Context, h *ops.History, o ops.HistoryOptions) error {
	if !e.ui.JSON {
		if err := e.history(h, o); err != nil {
			return err
		}
	}
	return e.app.Follow(ctx, o, h, func(fresh []store.Info) error {
		for _, i := range fresh {
			if e.ui.JSON {
				if err := e.ui.Object(i); err != nil {
					return err
				}
				continue
			}
			e.ui.Printf("%s\n", ui.Join(versionRow(i), "  "))
		}
		return nil
	})
}

// wayWords say how a version came about.
var wayWords = map[store.Way]string{store.FromFile: "file", store.FromTransfer: "transfer", store.Signing: "signed anew", store.FromUpdate: "update", store.FromStore: "recovered"}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func count0(sign string, n int) string {
	if n == 0 {
		return "-"
	}
	return sign + ui.Count(n)
}

func (e *env) showVersion(cmd *cobra.Command, zone, serial string) error {
	n, err := ops.ParseSerial(serial)
	if err != nil {
		return err
	}
	info, res, err := e.app.Show(cmd.Context(), zone, n)
	if err != nil {
		return err
	}
	if !e.ui.JSON {
		by := ""
		if info.By != "" {
			by = ", by " + info.By
		}
		e.ui.Sayf("serial %d, %s%s (%s)\n\n", info.Serial, clockTime(info.At), by, wayWords[info.Way])
	}
	return e.showDiff(res)
}

func newRestore(e *env) *cobra.Command {
	var o ops.Restore
	cmd := &cobra.Command{Use: "restore ZONE SERIAL", GroupID: stagePublish, Short: "restore the records of an earlier version",
		Long: `Changes the file of a zone to the records of an earlier version, with a new serial higher
than all before: secondaries only go forward. Lines that do not change keep their layout
and comments; the new text is checked before it is written. Then have the server load it:
fencepost reload

For the versions there are: fencepost history ZONE`,
		Example: `  fencepost restore saltmarsh.example 2026112801 --dry-run
  fencepost restore saltmarsh.example 2026112801`,
		Args: exactly("ZONE", "SERIAL"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone, o.Serial = args[0], args[1]
			return e.edited(cmd.Context())(e.app.Restore(cmd.Context(), o))
		}}
	cmd.Flags().BoolVar(&o.Dry, "dry-run", false, "show what would change and write nothing")
	e.reloadFlag(cmd)
	return cmd
}
