// Package audit looks at a delegation from outside, as the world meets it: what the zone
// above says, every address of every server, what they answer to usual and to odd questions,
// mail and policy records to their end, and the chain of trust. Each test is one declared
// value with its documentation; all work on facts that were gathered before.
package audit

import (
	"context"
	"fmt"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
)

// Area is what a test is about.
type Area uint8

// The areas, in the order of a report.
const (
	Delegation Area = iota
	Servers
	Addresses
	Behaviour
	Zone
	Mail
	DNSSEC
)

var areaWords = [...]string{"delegation", "servers", "addresses", "behaviour", "zone", "mail", "DNSSEC"}

func (a Area) String() string { return areaWords[a] }

// Areas lists the areas.
func Areas() []Area { return []Area{Delegation, Servers, Addresses, Behaviour, Zone, Mail, DNSSEC} }

// Test is one thing that is looked at.
type Test struct {
	*diag.Rule
	Area Area
	// Skip says why there is nothing to look at; nil, or empty: there is.
	Skip func(f *Facts) string
	Look func(f *Facts, l *Findings)
}

// Finding is one thing that a test found.
type Finding struct {
	Message string // one sentence, lower case
	Advice  string // what to do; may be empty
}

// Findings takes what a test finds.
type Findings struct{ list []Finding }

// add takes a finding; maxFindings bounds how many of one test are kept.
func (l *Findings) add(advice, format string, args ...any) {
	const maxFindings = 50
	if len(l.list) < maxFindings {
		l.list = append(l.list, Finding{fmt.Sprintf(format, args...), advice})
	}
}

// Result is what came of a test.
type Result struct {
	*Test
	Skipped  string // why nothing was looked at
	Findings []Finding
}

// Report is what came of all tests.
type Report struct {
	Facts   *Facts
	Results []Result // in the order of the tests
}

// Count is how many tests found something of a severity.
func (r *Report) Count(s diag.Severity) (n int) {
	for _, t := range r.Results {
		if len(t.Findings) > 0 && t.Severity == s {
			n++
		}
	}
	return n
}

// Passed is how many tests were made and found nothing; skipped how many were not made.
func (r *Report) Passed() (passed, skipped int) {
	for _, t := range r.Results {
		switch {
		case t.Skipped != "":
			skipped++
		case len(t.Findings) == 0:
			passed++
		}
	}
	return passed, skipped
}

// Worst is the severity of the gravest finding; diag.Off where there is none.
func (r *Report) Worst() diag.Severity {
	worst := diag.Off
	for _, t := range r.Results {
		if len(t.Findings) > 0 {
			worst = min(worst, t.Severity)
		}
	}
	return worst
}

// Auditor says how the world is reached, and what is trusted.
type Auditor struct {
	Tracer *resolve.Tracer
	Walker *resolve.Walker
	// Anchors are what trust begins with: DS or DNSKEY records.
	Anchors []rr.Record
	Now     time.Time
	// AsIf are servers that the zone will be delegated to: what the zone above says now is
	// then not looked at.
	AsIf []resolve.Host
	// Networks are whose the addresses are; nil: it is not known.
	Networks *Networks
	// Step is told what is being done; nil: nobody is.
	Step func(what string)
}

// Audit makes all tests. The context ends it.
func (a *Auditor) Audit(ctx context.Context, zone dnsname.Name) (*Report, error) {
	f, err := a.gather(ctx, zone)
	if err != nil {
		return nil, err
	}
	a.step("looking")
	out := &Report{Facts: f}
	for _, t := range Tests {
		r := Result{Test: t}
		if t.Skip != nil {
			r.Skipped = t.Skip(f)
		}
		if r.Skipped == "" {
			var l Findings
			t.Look(f, &l)
			r.Findings = l.list
		}
		out.Results = append(out.Results, r)
	}
	f.Asked += f.finder.Asked()
	return out, ctx.Err()
}

func (a *Auditor) step(what string) {
	if a.Step != nil {
		a.Step(what)
	}
}

// Rules lists the rules that are declared here: tests about what other packages find too
// have the rules of those.
var Rules = func() (out []*diag.Rule) {
	for _, t := range Tests {
		if !elsewhere[t.Rule] {
			out = append(out, t.Rule)
		}
	}
	return out
}()

// rule declares a rule.
func rule(code string, s diag.Severity, title, ref, doc string) *diag.Rule {
	return &diag.Rule{Code: code, Severity: s, Title: title, Ref: ref, Doc: doc}
}
