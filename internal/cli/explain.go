package cli

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"fencepost/internal/ops"
	"fencepost/internal/ui"
	"fencepost/rr"
	"fencepost/workspace"
)

func newExplain(e *env) *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "explain CODE|TYPE|WORD", GroupID: stageCheck, Short: "explain a finding, a record type or a setting",
		Long: `Explains the code of a finding, with an example and the standard that says so; a
record type and its fields; a field such as expire; a key or section of fencepost.toml.
fencepost.toml itself gives every key there is, with what counts where it is left out.`,
		Example: `  fencepost explain missing-glue
  fencepost explain SRV
  fencepost explain expire
  fencepost explain send-to
  fencepost explain fencepost.toml
  fencepost explain --all >findings.md`,
		Args: func(cmd *cobra.Command, args []string) error {
			if all {
				return noArgs(cmd, args)
			}
			return exactly("CODE, TYPE or WORD")(cmd, args)
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var out []string
			for _, r := range ops.Catalogue() {
				out = append(out, r.Code+"\t"+r.Title)
			}
			return append(out, ops.Explainable()[len(out):]...), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if all {
				return e.explainAll()
			}
			x, err := ops.Explain(args[0])
			if err != nil {
				return err
			}
			return e.explained(x)
		}}
	cmd.Flags().BoolVar(&all, "all", false, "every finding, as a page of Markdown")
	return cmd
}

// explained shows all that is known about a word.
func (e *env) explained(x *ops.Explanation) error {
	if x.Reference {
		return e.explainReference()
	}
	var parts []func() error
	if x.Rule != nil {
		parts = append(parts, func() error { return e.explainRule(x.Rule) })
	}
	if x.Type != nil {
		parts = append(parts, func() error { return e.explainType(x.Type) })
	}
	for _, f := range x.Fields {
		parts = append(parts, func() error { return e.explainField(f) })
	}
	for _, s := range x.Settings {
		parts = append(parts, func() error { return e.explainSetting(s) })
	}
	for i, part := range parts {
		if i > 0 && !e.ui.JSON {
			e.ui.Printf("\n")
		}
		if err := part(); err != nil {
			return err
		}
	}
	return nil
}

// explainReference writes every key of fencepost.toml.
func (e *env) explainReference() error {
	if !e.ui.JSON {
		_, err := io.WriteString(e.ui.Out, workspace.Reference())
		return err
	}
	for i := range workspace.Sections {
		if err := e.explainSetting(workspace.Explained{Section: &workspace.Sections[i]}); err != nil {
			return err
		}
	}
	return nil
}

// titled prints a word and what is said of it, in lines of 78 columns.
func (e *env) titled(word, text string) {
	lines := wrap(word+text, 78)
	if strings.HasSuffix(text, "\n") {
		lines += "\n"
	}
	e.ui.Printf("%s%s\n", e.ui.Paint(ui.Bold, "%s", word), ui.Lines(strings.TrimPrefix(lines, word)))
}

// explainField explains a field of a record type.
func (e *env) explainField(f ops.TypeField) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"type": f.Type.Mnemonic, "field": f.Field.Name, "kind": f.Field.Kind.Description, "text": f.Field.Help, "example": f.Type.Example()})
	}
	help := f.Field.Help
	if help == "" {
		help = f.Field.Kind.Description
	}
	e.titled(f.Field.Name, fmt.Sprintf(", a field of %s: %s", f.Type.Mnemonic, help))
	e.ui.Printf("  write: %s\n  in:    %s\n", f.Field.Kind.Description, f.Type.Synopsis())
	if f.Type.Type == rr.TypeSOA && f.Field.Kind == rr.Seconds {
		e.ui.Printf("  change it with: fencepost change ZONE @ SOA --%s VALUE\n", f.Field.Name)
	}
	return nil
}

// explainSetting explains a key of fencepost.toml, or a section with all its keys.
func (e *env) explainSetting(x workspace.Explained) error {
	if e.ui.JSON {
		keys := x.Section.Keys
		if x.Setting != nil {
			keys = []workspace.Setting{*x.Setting}
		}
		for _, k := range keys {
			if err := e.ui.Object(map[string]any{"section": x.Section.Header, "key": k.Key, "value": k.Value, "default": !k.Optional, "text": k.Doc}); err != nil {
				return err
			}
		}
		return nil
	}
	if x.Setting == nil {
		e.titled(x.Section.Header, fmt.Sprintf(" in fencepost.toml: %s\n", x.Section.Doc))
		for i := range x.Section.Keys {
			e.ui.Printf("%s", ui.Lines(x.Section.Keys[i].Line()))
		}
		return nil
	}
	e.titled(x.Setting.Key, fmt.Sprintf(", a key of %s in fencepost.toml: %s", x.Section.Header, x.Setting.Doc))
	what := "where it is left out"
	if x.Setting.Optional {
		what = "such as"
	}
	e.ui.Printf("  %s: %s = %s\n", what, x.Setting.Key, x.Setting.Value)
	return nil
}

// explainAll writes the reference of all findings.
func (e *env) explainAll() error {
	entries := ops.Catalogue()
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

func (e *env) explainRule(r *ops.Entry) error {
	if e.ui.JSON {
		return e.ui.Object(map[string]any{"code": r.Code, "severity": r.Severity.String(), "scope": r.Scope, "adjustable": r.Adjustable, "title": r.Title, "reference": r.Ref, "text": r.Doc, "bad": r.Bad, "good": r.Good})
	}
	e.ui.Printf("%s (%s): %s\n\n%s\n", e.ui.Paint(ui.Bold, "%s", r.Code), r.Severity, r.Title, ui.Lines(wrap(r.Doc, 78)))
	if r.Bad != "" {
		e.ui.Printf("\n%s\n%s", e.ui.Paint(ui.Bad, "wrong"), ui.Lines(example(r.Bad)))
	}
	if r.Good != "" {
		e.ui.Printf("\n%s\n%s", e.ui.Paint(ui.Good, "right"), ui.Lines(example(r.Good)))
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
		b.WriteString("    " + visible(l) + "\n")
	}
	return b.String()
}

// visible shows what an example is about where it has no shape of its own:
// control characters as their pictures, octets that are no UTF-8 in
// hexadecimal, and blanks that only look like a space by their code point.
func visible(line string) string {
	var b strings.Builder
	for i := 0; i < len(line); {
		c, n := utf8.DecodeRuneInString(line[i:])
		switch {
		case c == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, "<%02X>", line[i])
		case c < ' ' && c != '\t':
			b.WriteRune('␀' + c)
		case c != ' ' && unicode.IsSpace(c) && c != '\t', !unicode.IsPrint(c) && c != '\t':
			fmt.Fprintf(&b, "<U+%04X>", c)
		default:
			b.WriteString(line[i : i+n])
		}
		i += n
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
			fields = append(fields, field{f.Name, f.Kind.Description, f.Help})
		}
		return e.ui.Object(map[string]any{"type": t.Mnemonic, "number": t.Type, "title": t.Title, "reference": t.Ref, "fields": fields, "example": t.Example()})
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
		var rows [][]ui.Text
		for _, f := range t.Fields {
			rows = append(rows, ui.Cells("  "+f.Name, f.Kind.Description, f.Help))
		}
		e.ui.Table([]string{"  field", "write", "meaning"}, rows)
	}
	if ex := t.Example(); ex != "" {
		e.ui.Printf("\n%s\n    %s\n", e.ui.Paint(ui.Good, "example"), ex)
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
