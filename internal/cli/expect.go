package cli

import (
	"errors"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/wholefile"
)

func newExpect(e *env) *cobra.Command {
	var o ops.ExpectOptions
	var record string
	cmd := &cobra.Command{Use: "expect [FILE...]", GroupID: stageVerify, Short: "does the zone answer what it must?",
		Long: `Judges answers by statements of what must be answered, one a line:

    zone saltmarsh.example
    group Web
    www     A     is 198.51.100.80
    @       MX    contains 10 mail
    old           does not exist
    gauges  NS    refers to ns.gauges and ns.harbour.example.
    www     A     is signed

docs/expect.md says what can be written. The files are those given, or expect/*.expect of the
workspace. Asked is the zone's file, before anybody serves it; with --at servers, with --at all
every server of the zone, with --through resolvers.

--record writes a first version from what is answered today.

Exit status: 0 all hold, 1 some fail or cannot be understood.`,
		Example: `  fencepost expect --record saltmarsh.example
  fencepost expect
  fencepost expect --at all
  fencepost expect expect/saltmarsh.example.expect --through 192.0.2.100 --format junit`,
		Annotations: map[string]string{moreFormats: "tap junit"},
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Files = args
			if record != "" {
				return e.record(cmd, o, record)
			}
			x, err := e.app.Expect(cmd.Context(), o)
			var invalid *edit.InvalidExpectations
			if errors.As(err, &invalid) {
				return errors.Join(e.ui.Findings(invalid.Source, invalid.Diags), shown(err))
			}
			if x == nil {
				return err
			}
			return errors.Join(e.expected(x), shown(err))
		}}
	f := cmd.Flags()
	f.StringArrayVar(&o.At, "at", nil, "`SERVER` to ask; all: every address of the zone's servers; repeat it for each")
	f.StringArrayVar(&o.Through, "through", nil, "`RESOLVER` to ask; repeat it for each")
	f.StringVar(&o.Zone, "zone", "", "zone `FILE` to ask, or zone of the workspace (default: the zone of the expectations)")
	f.StringVar(&record, "record", "", "write the expectations of this `ZONE` from what is answered today")
	f.DurationVar(&o.Timeout, "timeout", 2*time.Second, "`TIME` to wait for one try")
	return cmd
}

// record writes a first version.
func (e *env) record(cmd *cobra.Command, o ops.ExpectOptions, zone string) error {
	if len(o.Files) > 0 {
		return usageError("--record makes a file of expectations, and reads none")
	}
	text, path, err := e.app.RecordExpectations(cmd.Context(), o, zone)
	if err != nil {
		return err
	}
	if path == "" { // outside of workspaces there is no place for it
		e.ui.Printf("%s", ui.Lines(text))
		return nil
	}
	if err := wholefile.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := wholefile.Write(path, []byte(text), 0o644); err != nil {
		return err
	}
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"wrote": edit.Shown(path)})
	}
	e.ui.Sayf("wrote %s\n", edit.Shown(path))
	return nil
}

// expected shows results.
func (e *env) expected(x *ops.Expected) error {
	var cases []ui.TestCase
	for _, r := range x.Results {
		cases = append(cases, ui.TestCase{Suite: r.File, Group: r.Group, Name: r.Text, File: r.File, Line: r.Line,
			Failed: r.Outcome == ops.Fails, Skipped: r.Outcome == ops.LeftOut, Message: r.Got})
	}
	switch {
	case e.format == "tap":
		return ui.TAP(e.out, cases)
	case e.format == "junit":
		return ui.JUnit(e.out, cases)
	case e.ui.JSON:
		list := []any{}
		for _, r := range x.Results {
			o := map[string]any{"file": r.File, "line": r.Line, "zone": r.Zone.String(), "expectation": r.Text, "outcome": string(r.Outcome), "asked": r.Where}
			if r.Group != "" {
				o["group"] = r.Group
			}
			if r.Got != "" {
				o["instead"] = r.Got
			}
			list = append(list, o)
		}
		return e.ui.Object(map[string]any{"holds": x.Count(ops.Holds), "fails": x.Count(ops.Fails), "left_out": x.Count(ops.LeftOut), "expectations": list})
	}
	e.expectedText(x)
	return nil
}

var outcomeStyle = map[ops.Outcome]ui.Style{ops.Holds: ui.Good, ops.Fails: ui.Bad, ops.LeftOut: ui.Aside}

func (e *env) expectedText(x *ops.Expected) {
	file := ""
	for _, group := range x.Groups() {
		first := group[0]
		if first.File != file {
			if file != "" {
				e.ui.Printf("\n")
			}
			file = first.File
			e.ui.Printf("%s  asked: %s\n", e.ui.Paint(ui.Bold, "%s", first.Zone.Plain()), first.Where)
		}
		if first.Group != "" {
			e.ui.Printf("\n%s\n", e.ui.Paint(ui.Bold, "%s", first.Group))
		}
		for _, r := range group {
			e.ui.Printf("  %s  %s\n", e.ui.Paint(outcomeStyle[r.Outcome], "%-5s", r.Outcome), e.ui.Fit(r.Text, 9))
			switch r.Outcome {
			case ops.Fails:
				e.ui.Printf("         %s\n         %s\n", e.ui.Fit("got: "+r.Got, 9), e.ui.Paint(ui.Dim, "%s:%d", r.File, r.Line))
			case ops.LeftOut:
				e.ui.Printf("            %s\n", e.ui.Fit(r.Got, 12))
			}
		}
	}
	n := len(x.Results)
	switch failed, left := x.Count(ops.Fails), x.Count(ops.LeftOut); {
	case n == 0:
		e.ui.Printf("nothing is expected\n")
	case failed == 0 && left == 0:
		e.ui.Printf("\n%s\n", e.ui.Paint(ui.Good, "%s", allHold(n)))
	case failed == 0:
		e.ui.Printf("\n%s, %s\n", e.ui.Paint(ui.Good, "%s", ui.Plural(n-left, "expectation")+" hold"), ui.Count(left)+" left out")
	default:
		e.ui.Printf("\n%s of %s\n", e.ui.Paint(ui.Bad, "%d fail", failed), ui.Plural(n, "expectation"))
	}
}

func allHold(n int) string {
	if n == 1 {
		return "the expectation holds"
	}
	return "all " + ui.Plural(n, "expectation") + " hold"
}
