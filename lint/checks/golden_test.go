package checks

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/internal/testrun"
	"fencepost/source"
)

// TestGolden holds what is said about the wrong example of every rule: place,
// severity, words and advice. After a change that is meant, run it with -update
// and read the difference.
func TestGolden(t *testing.T) {
	var b strings.Builder
	for _, r := range catalogue() {
		fmt.Fprintf(&b, "== %s\n", r.Code)
		bad, src := runIn(t, r.Bad)
		bad.Sort()
		for _, d := range bad.All {
			writeFinding(&b, src, d)
		}
	}
	testrun.Golden(t, filepath.Join("testdata", "findings.golden"), b.String())
}

func writeFinding(b *strings.Builder, src *source.Set, d diag.Diagnostic) {
	p := src.Position(d.Span.Start)
	fmt.Fprintf(b, "%d:%d %s %s: %s\n", p.Line, p.Column, d.Severity, d.Rule.Code, d.Message)
	if d.Suggestion != "" {
		fmt.Fprintf(b, "  -> %s\n", d.Suggestion)
	}
	if d.Fix != nil {
		for _, e := range d.Fix.Edits {
			fmt.Fprintf(b, "  mend %q to %q\n", src.Text(e.Span), e.New)
		}
	}
}
