package testrun

import (
	"fmt"
	"strings"

	"fencepost/diag"
	"fencepost/source"
)

// Findings writes all that there is to findings, in their order in the text.
func Findings(b *strings.Builder, src *source.Set, diags *diag.List) {
	at := func(s source.Span) string {
		from, to := src.Position(s.Start), src.Position(s.End)
		return fmt.Sprintf("%d:%d-%d:%d", from.Line, from.Column, to.Line, to.Column)
	}
	diags.Sort()
	for _, d := range diags.All {
		fmt.Fprintf(b, "%s %s %s: %s; %s", at(d.Span), d.Severity, d.Rule.Code, d.Message, d.Suggestion)
		if !d.Zone.IsZero() || !d.Owner.IsZero() {
			fmt.Fprintf(b, " (%s in %s)", d.Owner, d.Zone)
		}
		b.WriteString("\n")
		for _, r := range d.Related {
			fmt.Fprintf(b, "  see %s: %s\n", at(r.Span), r.Message)
		}
		for _, p := range d.Places {
			fmt.Fprintf(b, "  also %s\n", at(source.Span{Start: p, End: p}))
		}
		if d.Fix != nil {
			for _, e := range d.Fix.Edits {
				fmt.Fprintf(b, "  fix %s %q\n", at(e.Span), e.New)
			}
		}
	}
}
