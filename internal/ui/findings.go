package ui

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"fencepost/diag"
	"fencepost/source"
)

// jsonFinding is a finding as documented output, one object a line.
type jsonFinding struct {
	File       string       `json:"file"`
	Line       int          `json:"line"`
	Column     int          `json:"column"`
	EndLine    int          `json:"end_line"`
	EndColumn  int          `json:"end_column"`
	Severity   string       `json:"severity"`
	Code       string       `json:"code"`
	Message    string       `json:"message"`
	Suggestion string       `json:"suggestion,omitempty"`
	Fix        []jsonChange `json:"fix,omitempty"`
	Reference  string       `json:"reference,omitempty"`
}

type jsonChange struct {
	Line      int    `json:"line"`
	Column    int    `json:"column"`
	EndLine   int    `json:"end_line"`
	EndColumn int    `json:"end_column"`
	Text      string `json:"text"`
}

// maxAlike is how many findings of one code a person is shown; more of the same
// only bury the others. Programs get all.
const maxAlike = 20

// Findings shows findings: to people with an excerpt each, to programs as one
// JSON object a line.
func (u *UI) Findings(src *source.Set, l *diag.List) error {
	alike := map[string]int{}
	for i := range l.All {
		d := &l.All[i]
		if u.JSON {
			if err := u.Object(toJSON(src, d)); err != nil {
				return err
			}
			continue
		}
		if alike[d.Rule.Code]++; alike[d.Rule.Code] <= maxAlike {
			u.finding(src, d)
		}
	}
	u.notShown(alike, l.Dropped())
	return nil
}

// notShown says what was left out.
func (u *UI) notShown(alike map[string]int, dropped int) {
	codes := slices.Sorted(maps.Keys(alike))
	for _, c := range codes {
		if n := alike[c] - maxAlike; n > 0 && !u.JSON {
			u.Printf("%s more of %s are not shown; --format json lists them\n", Count(n), c)
		}
	}
	if dropped > 0 {
		u.Sayf("%s further findings were only counted.\n", Count(dropped))
	}
}

// FindingsJSON are findings as part of another object.
func FindingsJSON(src *source.Set, l *diag.List) []any {
	out := []any{}
	if l != nil {
		for i := range l.All {
			out = append(out, toJSON(src, &l.All[i]))
		}
	}
	return out
}

func toJSON(src *source.Set, d *diag.Diagnostic) jsonFinding {
	from, to := src.Position(d.Span.Start), src.Position(d.Span.End)
	f := jsonFinding{File: from.File, Line: from.Line, Column: from.Column, EndLine: to.Line, EndColumn: to.Column,
		Severity: d.Severity.String(), Code: d.Rule.Code, Message: d.Message, Suggestion: d.Suggestion, Reference: d.Rule.Ref}
	if d.Fix != nil {
		for _, e := range d.Fix.Edits {
			a, b := src.Position(e.Span.Start), src.Position(e.Span.End)
			f.Fix = append(f.Fix, jsonChange{a.Line, a.Column, b.Line, b.Column, e.New})
		}
	}
	return f
}

var severityStyle = map[diag.Severity]Style{diag.Error: Bad, diag.Warning: Suspect, diag.Note: Aside}

// finding shows one finding: place and code, the line with the text marked,
// what is wrong, what to do.
func (u *UI) finding(src *source.Set, d *diag.Diagnostic) {
	style := severityStyle[d.Severity]
	u.Printf("%s  %s  %s\n", u.Paint(Bold, "%s", src.Position(d.Span.Start)), u.Paint(style, "%s", d.Severity), u.Paint(Dim, "%s", d.Rule.Code))
	u.excerpt(src, d.Span, style)
	u.Printf("    %s\n", u.Fit(d.Message, 4))
	if d.Suggestion != "" {
		u.Printf("    %s %s\n", u.Paint(Good, "→"), u.Fit(d.Suggestion, 6))
	}
	for _, r := range d.Related {
		u.Printf("    %s %s: %s\n", u.Paint(Dim, "see"), src.Position(r.Span.Start), r.Message)
	}
	u.Printf("\n")
}

// maxExcerpt is how much of a long line is shown.
const maxExcerpt = 100

// excerpt shows the line with the span marked below it.
func (u *UI) excerpt(src *source.Set, span source.Span, style Style) {
	line, at := src.Line(span.Start)
	if len(bytes.TrimSpace(line)) == 0 {
		return
	}
	length := int(span.End - span.Start)
	if at > len(line) {
		at = len(line)
	}
	length = max(1, min(length, len(line)-at))
	cut := ""
	if at > maxExcerpt*2/3 { // far to the right: leave out the beginning
		off := at - maxExcerpt/2
		line, at, cut = line[off:], at-off, "…"
	}
	if len(line) > maxExcerpt {
		line = line[:maxExcerpt]
		length = max(1, min(length, maxExcerpt-at))
	}
	before, marked, after := visible(line[:at]), visible(line[at:min(at+length, len(line))]), visible(line[min(at+length, len(line)):])
	number := fmt.Sprint(src.Position(span.Start).Line)
	gap := strings.Repeat(" ", len(number))
	u.Printf("  %s %s%s%s%s\n", u.Paint(Dim, "%s │", number), cut, before, u.Paint(style, "%s", marked), after)
	width := max(1, utf8.RuneCountInString(marked))
	u.Printf("  %s %s%s\n", u.Paint(Dim, "%s │", gap), strings.Repeat(" ", utf8.RuneCountInString(cut+before)), u.Paint(style, "%s", strings.Repeat("‾", width)))
}

// visible makes a piece of a line safe and even to show: tabs become blanks and
// control characters a sign.
func visible(b []byte) string {
	var s strings.Builder
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		switch {
		case r == '\t':
			s.WriteString("  ")
		case r < ' ' || r == 0x7f || r == utf8.RuneError || r >= 0x80 && r < 0xa0:
			s.WriteRune('�')
		default:
			s.WriteRune(r)
		}
		b = b[n:]
	}
	return s.String()
}

// Tally says how many findings there are.
func Tally(l *diag.List) string {
	if l.Total() == 0 {
		return "nothing to report"
	}
	var parts []string
	for _, s := range []diag.Severity{diag.Error, diag.Warning, diag.Note} {
		if n := l.Count(s); n > 0 {
			parts = append(parts, Plural(n, s.String()))
		}
	}
	return strings.Join(parts, ", ")
}
