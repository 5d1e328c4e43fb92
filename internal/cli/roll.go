package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

func newRoll(e *env) *cobra.Command {
	var dir string
	cmd := &cobra.Command{Use: "roll ZONE", GroupID: stageSign, Short: "roll keys over in the safe order, step by step",
		Long: `Shows the rollover of a zone as a timeline: what is done, the present step, the next
steps with their earliest times, and what each waits for. A step is done when every
server of the zone (and for a DS every server of the parent) shows it and the old records
have expired from caches.

The server that signs the zone does this by itself. Rollovers begin by policy
(renew-key, renew-ksk, renew-zsk), or with roll start. --format svg draws the timeline.`,
		Example: `  fencepost roll saltmarsh.example
  fencepost roll start saltmarsh.example
  fencepost roll start saltmarsh.example --what zsk
  fencepost roll cancel saltmarsh.example
  fencepost roll saltmarsh.example --format svg > roll.svg`,
		Annotations: map[string]string{moreFormats: "svg"},
		Args:        exactly("ZONE"),
		RunE: func(_ *cobra.Command, args []string) error {
			v, err := e.app.Roll(args[0], dir)
			if err != nil {
				return err
			}
			return e.showRoll(v)
		}}
	cmd.Flags().StringVar(&dir, "keys", "", "`DIR` of the keys (default: keys/ZONE in the workspace)")
	cmd.AddCommand(newRollStart(e),
		newRollChange(e, "pause", "stop a rollover where it is", "Stops a rollover where it is; the zone stays valid. Continue with: roll resume"),
		newRollChange(e, "resume", "resume a paused rollover", "Continues a paused rollover."),
		newRollChange(e, "cancel", "go back, while that is safe", "Goes back: the old keys stay, and the new ones are removed in the safe order. Once the\nold keys are removed, there is no way back."),
		newRollStep(e))
	return cmd
}

func newRollStart(e *env) *cobra.Command {
	c := ops.RollChange{Do: "start"}
	cmd := &cobra.Command{Use: "start ZONE", Short: "begin a rollover now",
		Long: `Begins a rollover with new keys, or with unused ones from key new. If the policy has
another algorithm, all keys are replaced in the conservative order of RFC 6781.

With --emergency all steps that can run together do, and the old key is removed as early
as caches permit; the chain of trust stays valid. It can begin at any time, and replaces
a rollover that is under way: then all keys are replaced.

--what sign begins to sign a zone. --what unsign makes a zone unsigned: the parent's DS
is removed first (RFC 8078).`,
		Example: `  fencepost roll start saltmarsh.example
  fencepost roll start saltmarsh.example --what ksk --emergency --reason "laptop lost"
  fencepost roll start saltmarsh.example --what unsign`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error { return e.changeRoll(cmd, args[0], c) }}
	cmd.Flags().StringVar(&c.What, "what", "keys", "`WHAT` to roll: keys (all), ksk, zsk, sign or unsign")
	cmd.Flags().BoolVar(&c.Fast, "emergency", false, "as fast as caches permit")
	cmd.Flags().StringVar(&c.Reason, "reason", "", "the reason, as `WORDS`")
	return cmd
}

func newRollChange(e *env, do, short, long string) *cobra.Command {
	return &cobra.Command{Use: do + " ZONE", Short: short, Long: long,
		Example: "  fencepost roll " + do + " saltmarsh.example",
		Args:    exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.changeRoll(cmd, args[0], ops.RollChange{Do: do})
		}}
}

func newRollStep(e *env) *cobra.Command {
	return &cobra.Command{Use: "step ZONE", Short: "look now, and take the next step if it is due",
		Long: `Makes the running server look at all servers now, and do what time and evidence
permit. It never does more than that.

To play a rollover through, start a server with --now TIME; step with a later --now
sets its clock forward.`,
		Example: `  fencepost roll step saltmarsh.example
  fencepost roll step saltmarsh.example --now 2026-11-24T12:00:00Z`,
		Args: exactly("ZONE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c := ops.RollChange{Do: "step"}
			if e.now != "" {
				c.Now = e.app.Now()
			}
			return e.changeRoll(cmd, args[0], c)
		}}
}

func (e *env) changeRoll(cmd *cobra.Command, zone string, c ops.RollChange) error {
	v, err := e.app.ChangeRoll(cmd.Context(), zone, c)
	if err != nil {
		return err
	}
	return e.showRoll(v)
}

func (e *env) showRoll(v *ops.RollView) error {
	switch e.format {
	case "json":
		return e.ui.Object(v)
	case "svg":
		return ui.TimelineSVG(e.out, timelineOf(v))
	}
	e.rollText(v)
	return nil
}

// phaseMarks stand before the steps of a time line.
var phaseMarks = map[string]string{"done": "✓", "now": "▶", "next": "·"}

func (e *env) rollText(v *ops.RollView) {
	zone := strings.TrimSuffix(v.Zone, ".")
	switch v.State {
	case "none":
		e.ui.Printf("%s: no rollover is under way\n", e.ui.Paint(ui.Bold, "%s", zone))
	case "finished":
		e.ui.Printf("%s: no rollover is under way; the last one: %s\n", e.ui.Paint(ui.Bold, "%s", zone), v.Words)
	default:
		e.ui.Printf("%s: %s%s\n", e.ui.Paint(ui.Bold, "%s", zone), v.Words, map[bool]string{true: " (cancelled, on its way back)"}[v.Cancelled])
	}
	if v.Reason != "" {
		e.ui.Printf("  %s, begun %s\n", v.Reason, ui.When(v.Started, v.Now))
	}
	if v.Parent != "" {
		e.ui.Printf("\n  %s the parent: %s, since %s\n  %s %s\n", e.ui.Paint(ui.Bad, "error:"), v.Parent, ui.When(v.Since, v.Now), e.ui.Paint(ui.Bold, "next:"), v.Next)
	}
	if len(v.Rows) > 0 {
		e.ui.Printf("\n")
	}
	for _, row := range v.Rows {
		e.rollRow(v, row)
	}
	if v.Unsigned {
		e.ui.Printf("\nThe zone is unsigned on purpose; sign it again with: fencepost roll start %s --what sign\n", zone)
	}
	if !v.Due.IsZero() {
		e.ui.Printf("\nThe policy begins the next one %s\n", ui.When(v.Due, v.Now))
	}
	if len(v.Keys) > 0 {
		e.ui.Printf("\n")
		e.keyTable(v.Keys)
	}
}

// rollRow shows one step.
func (e *env) rollRow(v *ops.RollView, row ops.RollRow) {
	title := ui.Safe(row.Title)
	if row.Phase == "now" {
		title = e.ui.Paint(ui.Bold, "%s", title)
	}
	e.ui.Printf("  %s %s\n", phaseMarks[row.Phase], title)
	say := func(format string, args ...any) { e.ui.Printf("      "+format+"\n", args...) }
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }
	switch row.Phase {
	case "done":
		say("%s to %s", at(row.Begin), at(row.End))
	case "now":
		say("since %s", at(row.Begin))
		if !row.Estimated {
			say("every server shows it, since %s", at(row.Seen))
		}
		if len(row.Waits) > 0 {
			say("waits for:")
		}
		for _, w := range row.Waits {
			e.ui.Printf("        %s\n", e.ui.Paint(ui.Suspect, "%s", w))
		}
		for _, f := range row.For {
			if row.Estimated {
				say("then waits for %s", f)
			}
		}
		if v.State == "paused" {
			say("resume it with: fencepost roll resume %s", strings.TrimSuffix(v.Zone, "."))
		} else {
			say("%s %s", map[bool]string{true: "continues at the earliest", false: "continues"}[row.Estimated], ui.When(row.End, v.Now))
		}
	default:
		say("at the earliest %s", at(row.Begin))
		for _, f := range row.For {
			say("then waits for %s", f)
		}
	}
}

// timelineOf is a rollover for the drawing.
func timelineOf(v *ops.RollView) ui.Timeline {
	t := ui.Timeline{Title: strings.TrimSuffix(v.Zone, "."), Now: v.Now}
	if v.Words != "" {
		t.Title += ": " + v.Words
	}
	for _, row := range v.Rows {
		note := strings.Join(row.Waits, "; ")
		if row.Phase == "next" && len(row.For) > 0 {
			note = "then waits for " + strings.Join(row.For, ", ")
		}
		seen := row.Seen
		if seen.IsZero() {
			seen = row.End
		}
		t.Rows = append(t.Rows, ui.TimelineRow{Title: row.Title, Phase: row.Phase, Begin: row.Begin, Seen: seen, End: row.End, Note: note})
	}
	return t
}
