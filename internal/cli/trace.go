package cli

import (
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/resolve"
	"fencepost/rr"
)

func newTrace(e *env) *cobra.Command {
	var q ops.Question
	cmd := &cobra.Command{Use: "trace NAME [TYPE]", GroupID: stageVerify, Short: "follow the delegations from the root, and see where they stop",
		Long: `Follows the delegations from the root to a name, as a resolver does, but asks every
address of every server, over UDP and TCP, and compares their answers: servers that time
out or are lame, NS records and glue that differ at the parent and in the zone, different
answers. Aliases are followed.

Where it stops, it prints the record that is missing, and the zone that needs it. This
finds a zone of the workspace that is not delegated.

It begins at the root servers, or at [trust] servers of the workspace.

Exit status: 0 answered (also: no such name or no data), 1 there is an error to correct.`,
		Example: `  fencepost trace www.saltmarsh.example
  fencepost trace north.gauges.saltmarsh.example AAAA
  fencepost trace 198.51.100.25
  fencepost trace saltmarsh.example MX --format json`,
		Args: nameAndType(""),
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Name, q.Type = asks(args)
			t, err := e.app.Trace(cmd.Context(), q)
			if t == nil || err != nil {
				return err
			}
			if e.ui.JSON {
				err = e.ui.Object(ui.TraceJSON(t))
			} else {
				e.traced(t)
			}
			return errors.Join(err, shown(ops.TraceFindings(t)))
		}}
	cmd.Flags().DurationVar(&q.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

// traced shows a trace: a zone, what its servers say, and what is wrong, one after another.
// What was shown on the way to an alias is not shown again on the way to where it leads.
func (e *env) traced(t *resolve.Trace) {
	before := map[string]bool{}
	for i, leg := range t.Legs {
		if i > 0 {
			e.ui.Printf("\n")
		}
		e.ui.Printf("%s\n", e.ui.Paint(ui.Bold, "%s %s", leg.Name.Plain(), t.Type))
		var same []string
		for _, s := range leg.Steps {
			if last := s == leg.Steps[len(leg.Steps)-1]; before[s.Zone.Key()] && len(s.Troubles) == 0 && !last {
				same = append(same, ui.ZoneName(s.Zone))
				continue
			}
			if len(same) > 0 {
				e.ui.Printf("\n%s as above\n", strings.Join(same, ", "))
				same = nil
			}
			e.step(s)
		}
		for _, s := range leg.Steps {
			before[s.Zone.Key()] = true
		}
		e.end(t, leg, i)
	}
}

func (e *env) step(s *resolve.Step) {
	e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "%s", ui.ZoneName(s.Zone)))
	var rows [][]ui.Text
	for _, a := range s.Said {
		host := a.Host.Plain()
		if a.Host.IsZero() {
			host = "-"
		}
		rows = append(rows, ui.Cells("  "+host, a.At.Addr().String(), e.said(a), timeOf(a)))
	}
	e.ui.Table(nil, rows)
	for _, x := range s.Troubles {
		e.trouble(s, x)
	}
}

// said is what a server says, in a few words.
func (e *env) said(a *resolve.Said) ui.Text {
	switch a.Kind {
	case resolve.Silent:
		if errors.Is(a.Err, resolve.ErrCutOff) {
			return e.ui.Paint(ui.Bad, "cut off, not over TCP")
		}
		return e.ui.Paint(ui.Bad, "silent")
	case resolve.Lame:
		return e.ui.Paint(ui.Bad, "does not have the zone (%s)", a.Code)
	case resolve.Refers:
		return ui.Textf("refers to %s", a.Cut.Plain())
	}
	style := ui.Good
	if a.Kind == resolve.HasNoName {
		style = ui.Bad
	}
	text := e.ui.Paint(style, "%s", a.Kind)
	if a.Plain {
		text += e.ui.Paint(ui.Suspect, ", without EDNS")
	}
	if a.TCP != nil {
		text += e.ui.Paint(ui.Suspect, ", not over TCP")
	}
	return text
}

func timeOf(a *resolve.Said) string {
	if a.Kind == resolve.Silent {
		return ""
	}
	return ui.Duration(a.Elapsed)
}

func (e *env) trouble(s *resolve.Step, x resolve.Trouble) {
	style := ui.Suspect
	if x.Grave {
		style = ui.Bad
	}
	mark := e.ui.Paint(style, "%s", x.Severity)
	if x.Grave {
		mark = e.ui.Paint(style, "error")
	}
	e.ui.Printf("  %s\n", e.ui.Fit(ui.Textf("%s  %s  %s", mark, e.ui.Paint(ui.Dim, "%s", x.Code), x.Message), 4))
	if advice := ui.TraceAdvice(x, s.Zone); advice != "" {
		e.ui.Printf("    → %s\n", e.ui.Fit(advice, 6))
	}
	for _, r := range x.Records {
		e.ui.Printf("      %s %d %s %s\n", r.Name, r.TTL, r.Type, rr.DataText(r.Type, r.Data))
	}
	if command := e.app.DelegateCommand(x.In, x.Records); command != "" && x.Rule == resolve.DelegationMissing {
		e.ui.Printf("    → %s\n", command)
	}
}

// end says where a leg led to.
func (e *env) end(t *resolve.Trace, leg *resolve.Leg, i int) {
	e.ui.Printf("\n")
	last := leg.Steps[len(leg.Steps)-1]
	name := leg.Name.Plain()
	switch leg.End {
	case resolve.Answered:
		for _, r := range last.Answer {
			if r.Type == t.Type {
				e.ui.Printf("%s  %s %s\n", e.ui.Paint(ui.Good, "found"), r.Type, rr.DataText(r.Type, r.Data))
			}
		}
	case resolve.NoData:
		e.ui.Printf("%s  %s exists and has no %s records\n", e.ui.Paint(ui.Suspect, "no data"), name, t.Type)
	case resolve.NoName:
		e.ui.Printf("%s  %s says that there is no %s\n", e.ui.Paint(ui.Bad, "no such name"), last.Zone.Plain(), name)
	case resolve.AliasOn:
		var way []string
		for _, r := range last.Answer {
			if r.Type == rr.TypeCNAME {
				way = append(way, strings.TrimSuffix(rr.DataText(r.Type, r.Data), "."))
			}
		}
		e.ui.Printf("%s  %s\n", e.ui.Paint(ui.Aside, "target"), strings.Join(way, ", then "))
	case resolve.Stopped:
		e.ui.Printf("%s at %s\n", e.ui.Paint(ui.Bad, "stopped"), last.Zone.Plain())
	}
	if i == len(t.Legs)-1 {
		e.ui.Sayf("%s\n", ui.Plural(t.Asked, "query"))
	}
}
