package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ui"
)

func newSerial(e *env) *cobra.Command {
	var o edit.SerialOptions
	var set string
	cmd := &cobra.Command{Use: "serial ZONE", GroupID: stageWrite, Short: "show or raise the serial of a zone",
		Long: `Shows the serial of a zone and what would follow it. The style, by date
(YYYYMMDDnn), count or clock, is set in fencepost.toml. Serials only move forward
in the sense of RFC 1982: secondaries ignore anything else. To get to a number
that lies behind, --set N --plan lays out the steps, and how long to wait between
them.`,
		Example: `  fencepost serial saltmarsh.example
  fencepost serial saltmarsh.example --next --reload
  fencepost serial saltmarsh.example --set 2026112305
  fencepost serial saltmarsh.example --set 2026112300 --plan`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Zone = args[0]
			if set != "" {
				n, err := strconv.ParseUint(set, 10, 32)
				if err != nil {
					return usageError("--set %s is not a serial: write a number from 0 to 4294967295", set)
				}
				n32 := uint32(n)
				o.Set = &n32
			}
			if e.reload && !o.Next && o.Set == nil {
				return usageError("--reload goes with --next or --set: without them nothing is changed")
			}
			if o.Plan && o.Set == nil {
				return usageError("--plan lays out the way to a serial: say which with --set N")
			}
			r, err := e.app.Serial(cmd.Context(), o)
			if err != nil {
				return err
			}
			if !e.reload {
				return e.showSerial(r, o, nil)
			}
			results, perr := e.takeOver(cmd.Context(), r.Edited, "the file is")
			if err := e.showSerial(r, o, results); err != nil {
				return err
			}
			return e.tookOver(results, perr)
		}}
	cmd.Flags().BoolVar(&o.Next, "next", false, "raise it")
	cmd.Flags().StringVar(&set, "set", "", "set it to this `NUMBER`, if that is forward")
	cmd.Flags().BoolVar(&o.Plan, "plan", false, "with --set: show the steps to the number and write nothing")
	e.reloadFlag(cmd)
	cmd.MarkFlagsMutuallyExclusive("next", "set")
	cmd.MarkFlagsMutuallyExclusive("plan", "reload")
	return cmd
}

// showSerial shows a serial, and in JSON what the server made of it where it was asked to.
func (e *env) showSerial(r *edit.SerialResult, o edit.SerialOptions, reloaded []zoneResult) error {
	plain := strings.TrimSuffix(r.Zone.String(), ".")
	if e.ui.JSON {
		v := map[string]any{"zone": r.Zone.String(), "file": r.Path, "style": r.Style, "serial": r.Serial, "next": r.Next, "changed": r.Changed, "notes": append([]string{}, r.Notes...)}
		if r.Served != 0 {
			v["served"] = r.Served
		}
		if o.Plan {
			v["plan"] = r.Plan
		}
		if reloaded != nil {
			v["zones"] = reloaded
		}
		return e.ui.Object(v)
	}
	if o.Plan {
		e.serialPlan(r, plain)
		return nil
	}
	e.ui.Printf("%d\n", r.Serial)
	if r.Served != 0 && !r.Changed {
		e.ui.Sayf("%s: %d was in service last, so secondaries wait for a higher one\n", plain, r.Served)
	}
	for _, n := range r.Notes {
		e.ui.Sayf("%s %s\n", e.ui.Paint(ui.Suspect, "note:"), n)
	}
	if r.Changed {
		e.ui.Sayf("wrote %s\n", r.Path)
	} else {
		e.ui.Sayf("%s: the next would be %d (by %s)\n", plain, r.Next, r.Style)
	}
	return nil
}

// serialPlan shows the steps to a serial as commands, and what to wait for.
func (e *env) serialPlan(r *edit.SerialResult, plain string) {
	from := r.Serial
	if r.Served != 0 { // what counts is what secondaries have
		from = r.Served
		e.ui.Printf("The file says %d; %d was in service last, and secondaries have that.\n", r.Serial, r.Served)
	}
	if len(r.Plan) == 1 {
		e.ui.Printf("%d → %d is forward: one step\n\n", from, r.Plan[0].Serial)
	} else {
		e.ui.Printf("%d → %d is backward for secondaries (RFC 1982). %d steps get there:\n\n", from, r.Plan[len(r.Plan)-1].Serial, len(r.Plan))
	}
	for i, s := range r.Plan {
		if i > 0 {
			e.ui.Printf("   %s\n", e.ui.Paint(ui.Dim, "wait until every secondary has %d: fencepost secondaries %s", r.Plan[i-1].Serial, plain))
			e.ui.Printf("   %s\n", e.ui.Paint(ui.Dim, "by NOTIFY that is seconds; without, up to %s (refresh and retry), so from %s on", ui.Duration(time.Duration(s.Wait)*time.Second), clockTime(s.After)))
		}
		e.ui.Printf("%d. %s\n", i+1, e.ui.Paint(ui.Bold, "fencepost serial %s --set %d", plain, s.Serial))
		e.ui.Printf("   %s\n", e.ui.Paint(ui.Dim, "fencepost reload"))
	}
	if len(r.Plan) > 1 {
		fmt.Fprintln(e.ui.Err, "A secondary that misses a step in between keeps the old serial and ignores the rest: do not hurry.")
	}
}
