// Package diag holds findings as data: what is wrong, where, why it matters and
// what to do. Showing them is the business of the interface.
//
// Every finding belongs to a Rule. Rules are declared beside the code that
// finds them, as values, and are collected into a catalogue by whoever explains
// them. A code is a readable slug and is never given a second meaning.
package diag

import (
	"fmt"
	"sort"

	"fencepost/dnsname"
	"fencepost/source"
)

// Severity says how bad a finding is.
type Severity uint8

// The severities, worst first.
const (
	Error   Severity = iota + 1 // the zone is not taken into service
	Warning                     // it is, and something will not work as meant
	Note                        // good to know
	Off                         // not reported at all
)

var severityNames = [...]string{Error: "error", Warning: "warning", Note: "note", Off: "off"}

func (s Severity) String() string {
	if int(s) < len(severityNames) {
		return severityNames[s]
	}
	return ""
}

// ParseSeverity reads error, warning, note or off.
func ParseSeverity(s string) (Severity, bool) {
	for i, name := range severityNames {
		if name == s && name != "" {
			return Severity(i), true
		}
	}
	return 0, false
}

// Rule is one kind of finding and its documentation.
type Rule struct {
	Code     string // readable slug, such as "alias-beside-data"
	Severity Severity
	Title    string // one line, lower case, no full stop
	Ref      string // where the standard says so, such as "RFC 1034 §3.6.2"
	Doc      string // why it matters and what to do, in a few sentences
	Bad      string // a master file that shows it; checked by a test
	Good     string // the same, mended; must be free of this finding
	// Strict marks a warning about something that does not work at all, while the rest
	// of the zone does: for the strict it is an error.
	Strict bool
}

// Diagnostic is one finding.
type Diagnostic struct {
	Rule       *Rule
	Severity   Severity    // the rule's, unless something set another
	Span       source.Span // the tightest text that is wrong; zero if not about text
	Message    string      // one sentence, lower case, names the record
	Suggestion string      // what to write or do instead; may be empty
	Related    []Related
	Fix        *Fix         // a mechanical mend, or nil
	Places     []source.Pos // of a finding made once for many places: where they are
	Zone       dnsname.Name // the zone it is about, if known
	Owner      dnsname.Name // the name it is about, if it is about one
}

// Related is another place that helps to understand the finding.
type Related struct {
	Span    source.Span
	Message string
}

// Fix is a mend as replacements of text.
type Fix struct{ Edits []Edit }

// Edit replaces the text of Span by New.
type Edit struct {
	Span source.Span
	New  string
}

// At makes a finding of the rule.
func (r *Rule) At(span source.Span, format string, args ...any) Diagnostic {
	return Diagnostic{Rule: r, Severity: r.Severity, Span: span, Message: fmt.Sprintf(format, args...)}
}

// Suggest sets what to do instead.
func (d Diagnostic) Suggest(format string, args ...any) Diagnostic {
	d.Suggestion = fmt.Sprintf(format, args...)
	return d
}

// See adds a related place.
func (d Diagnostic) See(span source.Span, format string, args ...any) Diagnostic {
	d.Related = append(d.Related[:len(d.Related):len(d.Related)], Related{span, fmt.Sprintf(format, args...)})
	return d
}

// MaxList bounds how many findings a List keeps; the rest are only counted, so
// that a hostile file cannot fill the memory.
const MaxList = 10000

// List collects findings. The zero List is empty and ready.
type List struct {
	All    []Diagnostic
	counts [Off + 1]int
}

// Add takes a finding.
func (l *List) Add(d Diagnostic) {
	l.counts[d.Severity]++
	if len(l.All) < MaxList {
		l.All = append(l.All, d)
	}
}

// Append takes all findings of m.
func (l *List) Append(m *List) {
	for s, n := range m.counts {
		l.counts[s] += n
	}
	l.All = append(l.All, m.All[:min(len(m.All), MaxList-min(len(l.All), MaxList))]...)
}

// AddDropped counts the findings that m counted and did not keep.
func (l *List) AddDropped(m *List) {
	kept := List{}
	for _, d := range m.All {
		kept.counts[d.Severity]++
	}
	for s, n := range m.counts {
		l.counts[s] += n - kept.counts[s]
	}
}

// Count is the number of findings of a severity, kept or not.
func (l *List) Count(s Severity) int { return l.counts[s] }

// Total is the number of all findings, kept or not.
func (l *List) Total() int { return l.counts[Error] + l.counts[Warning] + l.counts[Note] }

// Dropped is how many findings were counted and not kept.
func (l *List) Dropped() int { return l.Total() - len(l.All) }

// Sort puts the findings in the order of the text; those about no text come first.
func (l *List) Sort() {
	sort.SliceStable(l.All, func(i, j int) bool {
		a, b := &l.All[i], &l.All[j]
		if a.Span.Start != b.Span.Start {
			return a.Span.Start < b.Span.Start
		}
		if a.Severity != b.Severity {
			return a.Severity < b.Severity
		}
		return a.Rule.Code+a.Message < b.Rule.Code+b.Message
	})
}
