package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"fencepost/internal/app"
	"fencepost/internal/ui"
	"fencepost/rr"
)

func newExplain(e *env) *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "explain CODE|TYPE", GroupID: stageCheck, Short: "explain a finding or a record type",
		Long: "Explains the code of a finding, with an example and the standard that says so,\nor a record type and its fields.",
		Example: `  fencepost explain missing-glue
  fencepost explain SRV
  fencepost explain --all >findings.md`,
		Args: func(cmd *cobra.Command, args []string) error {
			if all {
				return noArgs(cmd, args)
			}
			return exactly("CODE or TYPE")(cmd, args)
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var out []string
			for _, r := range app.Catalogue() {
				out = append(out, r.Code+"\t"+r.Title)
			}
			return append(out, rr.Mnemonics()...), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if all {
				return e.explainAll()
			}
			x, err := app.Explain(args[0])
			if err != nil {
				return err
			}
			if x.Rule != nil {
				return e.explainRule(x.Rule)
			}
			return e.explainType(x.Type)
		}}
	cmd.Flags().BoolVar(&all, "all", false, "every finding, as a page of Markdown")
	return cmd
}

// explainAll writes the reference of all findings.
func (e *env) explainAll() error {
	entries := app.Catalogue()
	if e.ui.JSON {
		for i := range entries {
			if err := e.explainRule(&entries[i]); err != nil {
				return err
			}
		}
		return nil
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# Findings\n\nWhat `fencepost check` and `fencepost verify` report: %d kinds. This page is made by `fencepost explain --all`.\n", len(entries))
	b.WriteString("Those marked † can be given another severity in fencepost.toml and allowed at a record; see `fencepost check --help`.\n\n")
	b.WriteString("| code | severity | looks at | what |\n|---|---|---|---|\n")
	for _, r := range entries {
		mark := ""
		if r.Adjustable {
			mark = " †"
		}
		fmt.Fprintf(&b, "| [%s](#%s)%s | %s | %s | %s |\n", r.Code, r.Code, mark, r.Severity, r.Scope, strings.ReplaceAll(r.Title, "|", "\\|"))
	}
	for _, r := range entries {
		fmt.Fprintf(&b, "\n## %s\n\n*%s*: %s.\n\n%s\n", r.Code, r.Severity, r.Title, r.Doc)
		if r.Bad != "" {
			fmt.Fprintf(&b, "\nWrong:\n\n%s", example(r.Bad))
		}
		if r.Good != "" {
			fmt.Fprintf(&b, "\nRight:\n\n%s", example(r.Good))
		}
		if r.Ref != "" {
			fmt.Fprintf(&b, "\nStandard: %s\n", r.Ref)
		}
	}
	_, err := io.WriteString(e.ui.Out, b.String())
	return err
}

func (e *env) explainRule(r *app.Entry) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"code": r.Code, "severity": r.Severity.String(), "scope": r.Scope, "adjustable": r.Adjustable, "title": r.Title, "reference": r.Ref, "text": r.Doc, "bad": r.Bad, "good": r.Good})
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
		if name, ok := strings.CutPrefix(l, "-- file "); ok {
			l = "; in " + strings.TrimSuffix(name, " --")
		} else if strings.HasPrefix(l, "-- ") {
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
	if t.Instead != "" {
		e.ui.Printf("\n%s use %s\n", e.ui.Paint(ui.Suspect, "obsolete:"), t.Instead)
	}
	if t.Fields == nil && t.Use == rr.Data {
		e.ui.Printf("\n    OWNER %s \\# LENGTH HEX\n", t.Mnemonic)
	}
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
