package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/internal/app"
	"fencepost/internal/ui"
	"fencepost/rr"
)

// usageError is an error about how a command was used.
func usageError(format string, args ...any) error {
	return fmt.Errorf("%w: %s", app.ErrUsage, fmt.Sprintf(format, args...))
}

func newCheck(e *env) *cobra.Command {
	var origin string
	cmd := &cobra.Command{Use: "check [FILE|ZONE]...", GroupID: stageCheck, Short: "report everything that is wrong",
		Long: `Reads zone files, or the whole workspace without arguments, and reports every
mistake in one run: place, what is wrong and what to write instead.

Exit status: 0 nothing worse than warnings, 1 there are errors, 2 wrong use,
3 a file could not be read.`,
		Example: `  fencepost check
  fencepost check zones/saltmarsh.example.zone
  fencepost check pasted.txt --origin harbour.example
  fencepost check --format json | jq .code`,
		RunE: func(cmd *cobra.Command, args []string) error {
			res, err := e.app.Check(cmd.Context(), args, origin)
			if res == nil {
				return err
			}
			if ferr := e.ui.Findings(res.Source, res.Diags); ferr != nil {
				return ferr
			}
			if !e.ui.JSON {
				e.checkSummary(res)
			}
			return shown(err)
		}}
	cmd.Flags().StringVar(&origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	return cmd
}

func (e *env) checkSummary(res *app.Checked) {
	style := ui.Good
	if res.Diags.Count(diag.Error) > 0 {
		style = ui.Bad
	} else if res.Diags.Count(diag.Warning) > 0 {
		style = ui.Suspect
	}
	what := ui.Plural(len(res.Files), "file")
	if len(res.Files) == 1 && res.Files[0].Zone != "" {
		f := res.Files[0]
		what = fmt.Sprintf("%s: serial %d, %s", strings.TrimSuffix(f.Zone, "."), f.Serial, ui.Plural(f.Records, "record"))
	}
	e.ui.Sayf("%s — %s\n", what, paintErr(e, style, ui.Tally(res.Diags)))
	if res.Diags.Total() > 0 {
		e.ui.Sayf("More about a finding: fencepost explain CODE\n")
	}
}

func paintErr(e *env, s ui.Style, text string) string { return e.onErr().Paint(s, "%s", text) }

func newExplain(e *env) *cobra.Command {
	return &cobra.Command{Use: "explain CODE|TYPE", GroupID: stageCheck, Short: "explain a finding or a record type",
		Long: "Explains the code of a finding, with an example and the standard that says so,\nor a record type and its fields.",
		Example: `  fencepost explain missing-glue
  fencepost explain SRV`,
		Args: exactly("CODE or TYPE"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var out []string
			for _, r := range app.Catalogue() {
				out = append(out, r.Code+"\t"+r.Title)
			}
			return append(out, rr.Mnemonics()...), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			x, err := app.Explain(args[0])
			if err != nil {
				return err
			}
			if x.Rule != nil {
				return e.explainRule(x.Rule)
			}
			return e.explainType(x.Type)
		}}
}

func (e *env) explainRule(r *diag.Rule) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"code": r.Code, "severity": r.Severity.String(), "title": r.Title, "reference": r.Ref, "text": r.Doc, "bad": r.Bad, "good": r.Good})
	}
	e.ui.Printf("%s (%s): %s\n\n%s\n", e.ui.Paint(ui.Bold, "%s", r.Code), r.Severity, r.Title, wrap(r.Doc, 78))
	if r.Bad != "" {
		e.ui.Printf("\n%s\n%s", e.ui.Paint(ui.Bad, "wrong"), example(r.Bad))
	}
	if r.Good != "" {
		e.ui.Printf("\n%s\n%s", e.ui.Paint(ui.Good, "right"), example(r.Good))
	}
	if r.Ref != "" {
		e.ui.Printf("\n%s %s\n", e.ui.Paint(ui.Dim, "standard:"), r.Ref)
	}
	return nil
}

// example indents an example and cuts long lines; its first line may be a mark
// for the tests.
func example(text string) string {
	var b strings.Builder
	for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		if strings.HasPrefix(l, "-- ") {
			continue
		}
		if len(l) > 90 {
			l = l[:87] + "..."
		}
		b.WriteString("    " + strings.ReplaceAll(l, "\r", "␍") + "\n")
	}
	return b.String()
}

func (e *env) explainType(t *rr.Info) error {
	if e.ui.JSON {
		type field struct {
			Name string `json:"name"`
			Kind string `json:"kind"`
			Help string `json:"help,omitempty"`
		}
		var fields []field
		for _, f := range t.Fields {
			fields = append(fields, field{f.Name, f.Kind.Words, f.Help})
		}
		return e.ui.Object(map[string]any{"type": t.Mnemonic, "number": t.Type, "title": t.Title, "reference": t.Ref, "fields": fields})
	}
	e.ui.Printf("%s (type %d): %s\n", e.ui.Paint(ui.Bold, "%s", t.Mnemonic), t.Type, t.Title)
	if len(t.Fields) > 0 {
		e.ui.Printf("\n    OWNER %s\n\n", t.Synopsis())
		var rows [][]string
		for _, f := range t.Fields {
			rows = append(rows, []string{"  " + f.Name, f.Kind.Words, f.Help})
		}
		e.ui.Table([]string{"  field", "write", "meaning"}, rows)
	}
	e.ui.Printf("\n%s %s\n", e.ui.Paint(ui.Dim, "standard:"), t.Ref)
	return nil
}

// wrap breaks text into lines of at most width characters.
func wrap(text string, width int) string {
	var b strings.Builder
	n := 0
	for _, w := range strings.Fields(text) {
		if n > 0 && n+1+len(w) > width {
			b.WriteByte('\n')
			n = 0
		}
		if n > 0 {
			b.WriteByte(' ')
			n++
		}
		b.WriteString(w)
		n += len(w)
	}
	return b.String()
}
