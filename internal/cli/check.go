package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fencepost/diag"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/internal/ui"
)

// usageError is an error about how a command was used.
func usageError(format string, args ...any) error {
	return &wrongUse{fmt.Sprintf(format, args...)}
}

type wrongUse struct{ text string }

func (e *wrongUse) Error() string { return e.text }
func (e *wrongUse) Unwrap() error { return edit.ErrUsage }

func newCheck(e *env) *cobra.Command {
	var o ops.CheckOptions
	var fix, watch, dry bool
	cmd := &cobra.Command{Use: "check [FILE|ZONE]...", GroupID: stageCheck, Short: "report everything that is wrong",
		Long: `Reads zone files, or the whole workspace without arguments, and reports every
mistake in one run: where, what is wrong, and what to write instead. A folder
stands for the zone files in it, - for standard input.

A comment at the record allows a finding; it is reported itself when it is no
longer needed:

    printer  A  10.0.0.7   ; fencepost allow private-address: inside only

or in fencepost.toml, where severities can be set too:

    [check]
    strict = true                     # what does not work at all is an error
    [check.severity]
    alias-to-alias = "off"            # error | warning | note | off
    [[check.allow]]
    code = "one-name-server"
    zone = "lab.example"

Exit status: 0 nothing worse than warnings, 1 there are errors, 2 wrong use, 3 a
file could not be read.`,
		Example: `  fencepost check
  fencepost check zones/saltmarsh.example.zone --fix
  fencepost check zones --fix --dry-run
  fencepost check - --origin harbour.example <pasted.txt
  fencepost check --watch
  fencepost check --format json | jq .code
  fencepost check --format sarif >findings.sarif`,
		Annotations: map[string]string{moreFormats: "sarif"},
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Operands = args
			if slices.Contains(args, "-") {
				text, err := readStdin(cmd)
				if err != nil {
					return err
				}
				o.Stdin = text
			}
			switch {
			case dry && !fix:
				return usageError("--dry-run goes with --fix: without it nothing is changed")
			case watch && slices.Contains(args, "-"):
				return usageError("standard input cannot be watched")
			case watch && (fix || e.format != "text"):
				return usageError("--watch is for people, and changes nothing: use it without --fix and --format")
			case watch:
				return e.watchCheck(cmd.Context(), o)
			case fix:
				return e.fixCheck(cmd.Context(), o, dry)
			}
			res, err := e.app.Check(cmd.Context(), o)
			return e.showCheck(res, err)
		}}
	cmd.Flags().StringVar(&o.Origin, "origin", "", "`NAME` of the zone, where the file does not say it")
	cmd.Flags().BoolVar(&fix, "fix", false, "make the mechanical fixes, show them, and report what is left")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "with --fix: show the fixes and write nothing")
	cmd.Flags().BoolVar(&watch, "watch", false, "check again whenever a file is saved")
	return cmd
}

// showCheck shows the result of a check, if there is one.
func (e *env) showCheck(res *ops.Checked, err error) error {
	if res == nil {
		return err
	}
	if e.format == "sarif" {
		if ferr := e.ui.SARIF(res.Source, res.Diags, Version()); ferr != nil {
			return ferr
		}
		return shown(err)
	}
	if ferr := e.ui.Findings(res.Source, res.Diags); ferr != nil {
		return ferr
	}
	if !e.ui.JSON {
		e.checkSummary(res)
	}
	if !errors.Is(err, edit.ErrFindings) {
		return err // beside the findings something could not be done
	}
	return shown(err)
}

// fixCheck mends what can be mended, shows it, and reports the rest.
func (e *env) fixCheck(ctx context.Context, o ops.CheckOptions, dry bool) error {
	res, err := e.app.Check(ctx, o)
	if res == nil {
		return err
	}
	fixed, err := e.app.Fix(res.Source, res.Diags, dry)
	for _, f := range fixed {
		e.showFixed(f, dry)
	}
	if err != nil {
		return err
	}
	if len(fixed) == 0 {
		e.ui.Sayf("There is nothing that can be fixed mechanically.\n")
	}
	res, err = e.app.Check(ctx, o)
	return e.showCheck(res, err)
}

// showFixed shows the mends of one file, on standard error where the findings
// are for a program.
func (e *env) showFixed(f *edit.Fixed, dry bool) {
	u := e.ui
	if e.format != "text" {
		u = e.onErr()
	}
	if f.Refused != "" {
		e.ui.Sayf("%s was left as it is: %s\n", f.Path, f.Refused)
		return
	}
	for _, m := range f.Fixes {
		u.Printf("%s  %s\n", u.Paint(ui.Bold, "%s:%d", f.Path, m.Line), u.Paint(ui.Dim, "%s", m.Code))
		u.Printf("  %s\n", u.Paint(ui.Bad, "- %s", m.Old))
		u.Printf("  %s\n", u.Paint(ui.Good, "+ %s", m.New))
	}
	serial := ""
	if f.Serial != f.OldSerial {
		serial = fmt.Sprintf(", serial %d → %d", f.OldSerial, f.Serial)
	}
	did := "wrote"
	if dry {
		did = "would write"
	}
	e.ui.Sayf("%s %s%s\n\n", did, f.Path, serial)
}

// watchCheck checks again and again.
func (e *env) watchCheck(ctx context.Context, o ops.CheckOptions) error {
	first := true
	return e.app.Watch(ctx, func() ([]string, error) {
		res, err := e.app.Check(ctx, o)
		if res == nil && first {
			return nil, err
		}
		first = false
		if res == nil { // editors take a file away while they save it
			e.ui.Sayf("%v — waiting for it; stop with Ctrl-C\n\n", err)
			return nil, nil
		}
		if err := e.showCheck(res, nil); err != nil {
			return nil, err
		}
		if err != nil && !errors.Is(err, edit.ErrFindings) {
			e.ui.Sayf("%v\n", err)
		}
		e.ui.Sayf("%s — watching %s; stop with Ctrl-C\n\n", time.Now().Format("15:04:05"), ui.Plural(len(res.Files), "file"))
		var paths []string
		for _, f := range res.Source.Files() {
			paths = append(paths, f.Name)
		}
		return paths, nil
	})
}

func (e *env) checkSummary(res *ops.Checked) {
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
	if n := len(res.PassedOver); n > 0 {
		const most = 5
		shown := strings.Join(res.PassedOver[:min(n, most)], ", ")
		if n > most {
			shown += fmt.Sprintf(" and %s more", ui.Count(n-most))
		}
		e.ui.Sayf("passed over, for the names do not end in .zone: %s; give them by name to have them checked\n", shown)
	}
	if res.Diags.Total() > 0 {
		e.ui.Sayf("More about a finding: fencepost explain CODE\n")
	}
}

func paintErr(e *env, s ui.Style, text string) ui.Text { return e.onErr().Paint(s, "%s", text) }
