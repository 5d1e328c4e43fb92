package ui

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"fencepost/audit"
	"fencepost/diag"
	"fencepost/resolve"
	"fencepost/validate"
)

// auditCommands are the commands that help with what an audit finds, by its code.
var auditCommands = map[string]string{
	"servers-differ-above": "handover", "glue-other-address": "handover", "glue-missing": "handover", "delegation-missing": "handover",
	"signed-without-ds": "handover", "ds-without-key": "handover", "ds-digest-weak": "handover", "cds-waits": "handover",
	"serials-differ": "secondaries", "signatures-bad-at-server": "secondaries", "keys-differ": "secondaries", "cds-differ": "secondaries",
	"same-serial-other-content": "serial", "zone-unsigned": "key new", "chain-broken": "chain",
	"key-short": "roll start", "key-algorithm-weak": "roll start", "too-many-keys": "key list", "signatures-end-soon": "roll",
}

// AuditAdvice says what to do about a finding of a test; empty: nothing in particular.
func AuditAdvice(r *audit.Report, t *audit.Test, f audit.Finding) string {
	what := f.Advice
	if command, ok := auditCommands[t.Code]; ok {
		command = fmt.Sprintf("fencepost %s %s", command, ZoneName(r.Facts.Zone))
		if what += ": " + command; f.Advice == "" {
			what = command
		}
	}
	who := AuditActor(r, t)
	switch {
	case strings.HasPrefix(what, "@ "), strings.HasPrefix(what, "_"): // a record
		return who + ": add " + what
	case what != "":
		return who + ": " + what
	case t.Severity == diag.Note: // worth knowing, and nothing to be done
		return ""
	}
	return who + " has to act"
}

// AuditActor says who has to act on what a test found.
func AuditActor(r *audit.Report, t *audit.Test) string {
	switch t.Actor() {
	case audit.ServerOperator:
		return "the operator of that server"
	case audit.ParentOperator:
		if r.Facts.Parent.IsZero() {
			return "the parent's operator"
		}
		return "the parent's operator, " + ZoneName(r.Facts.Parent)
	case audit.Recipient:
		return "the operator of that host"
	case audit.BothProviders:
		return "you, the old provider and the new one"
	}
	return "you"
}

// AuditAdvices says for each finding of a test what to do; nothing where that is what the next
// one says too.
func AuditAdvices(r *audit.Report, t *audit.Result) (out []string) {
	for _, f := range t.Findings {
		out = append(out, AuditAdvice(r, t.Test, f))
	}
	for i := range len(out) - 1 {
		if out[i] == out[i+1] {
			out[i] = ""
		}
	}
	return out
}

// AuditArea is the results in one area, what was found first and the gravest of it first.
type AuditArea struct {
	Area          audit.Area
	Found         []audit.Result
	Passed        []audit.Result
	Skipped       []audit.Result
	Total, Looked int
}

// AuditAreas parts a report.
func AuditAreas(r *audit.Report) (out []AuditArea) {
	for _, area := range audit.Areas() {
		a := AuditArea{Area: area}
		for _, t := range r.Results {
			switch {
			case t.Area != area:
			case t.Skipped != "":
				a.Skipped = append(a.Skipped, t)
			case len(t.Findings) > 0:
				a.Found = append(a.Found, t)
			default:
				a.Passed = append(a.Passed, t)
			}
		}
		slices.SortStableFunc(a.Found, func(x, y audit.Result) int { return int(x.Severity) - int(y.Severity) })
		a.Looked = len(a.Found) + len(a.Passed)
		a.Total = a.Looked + len(a.Skipped)
		out = append(out, a)
	}
	return out
}

// AuditVerdict is a report in one sentence.
func AuditVerdict(r *audit.Report) string {
	passed, skipped := r.Passed()
	made := len(r.Results) - skipped
	text := fmt.Sprintf("%s: %d passed", Plural(made, "test"), passed)
	if passed == made {
		text = Plural(made, "test") + " passed"
	}
	for _, s := range []diag.Severity{diag.Error, diag.Warning, diag.Note} {
		if n := r.Count(s); n > 0 {
			text += ", " + Plural(n, s.String())
		}
	}
	switch skipped {
	case 0:
	case 1:
		text += "; 1 does not apply"
	default:
		text += fmt.Sprintf("; %d do not apply", skipped)
	}
	return text
}

// AuditJSON is a report as an object, with stable names.
func AuditJSON(r *audit.Report) map[string]any {
	f := r.Facts
	servers, tests := []any{}, []any{}
	for _, s := range f.Servers {
		servers = append(servers, serverJSON(f, s))
	}
	for _, t := range r.Results {
		o := map[string]any{"code": t.Code, "area": t.Area.String(), "severity": t.Severity.String(), "title": t.Title, "reference": t.Ref, "outcome": "passed"}
		switch {
		case t.Skipped != "":
			o["outcome"], o["because"] = "does not apply", t.Skipped
		case len(t.Findings) > 0:
			list := []any{}
			for _, x := range t.Findings {
				entry := map[string]any{"message": x.Message, "who": AuditActor(r, t.Test)}
				if advice := AuditAdvice(r, t.Test, x); advice != "" {
					entry["suggestion"] = advice // who has to do it, and what
				}
				list = append(list, entry)
			}
			o["outcome"], o["findings"] = "found", list
		}
		tests = append(tests, o)
	}
	passed, skipped := r.Passed()
	out := map[string]any{"zone": f.Zone.String(), "at": f.Now.UTC().Format(time.RFC3339), "queries": f.Asked, "servers": servers, "tests": tests,
		"counts": map[string]int{"passed": passed, "do_not_apply": skipped, "error": r.Count(diag.Error), "warning": r.Count(diag.Warning), "note": r.Count(diag.Note)}}
	if !f.Parent.IsZero() {
		out["parent"] = f.Parent.String()
	}
	if f.HasSOA {
		out["serial"] = f.SOA.Serial
	}
	if f.Chain != nil {
		out["chain"] = f.Chain.Status.String()
	}
	return out
}

func serverJSON(f *audit.Facts, s *audit.Server) map[string]any {
	o := map[string]any{"address": s.At.Addr().String(), "answers": s.Answers(), "tcp": s.TCPErr == nil, "edns": s.SOA != nil && !s.Plain}
	if !s.Host.Name.IsZero() {
		o["name"] = s.Host.Name.String()
	}
	if serial, ok := s.Serial(f.Zone); ok {
		o["serial"] = serial
	}
	if s.SOA != nil {
		o["milliseconds"] = float64(s.SOA.Elapsed.Microseconds()) / 1000
	}
	if s.Err != nil {
		o["problem"] = s.Err.Error()
	}
	return o
}

// AuditServers is a table of the servers: name, address, what it says, serial, time.
func AuditServers(r *audit.Report) (rows [][]string) {
	for _, s := range r.Facts.Servers {
		name := "-"
		if !s.Host.Name.IsZero() {
			name = s.Host.Name.Plain()
		}
		row := []string{name, s.At.Addr().String(), serverState(s), "", ""}
		if serial, ok := s.Serial(r.Facts.Zone); ok {
			row[3] = fmt.Sprint(serial)
		}
		if s.SOA != nil {
			row[4] = Duration(s.SOA.Elapsed)
		}
		rows = append(rows, row)
	}
	return rows
}

func serverState(s *audit.Server) string {
	switch {
	case s.SOA == nil && errors.Is(s.Err, resolve.ErrCutOff):
		return "cut off, not over TCP"
	case s.SOA == nil:
		return "silent"
	case !s.Answers():
		return "does not have the zone"
	case s.Plain:
		return "answers, without EDNS"
	case s.TCPErr != nil:
		return "answers, not over TCP"
	case s.Verdict.Status == validate.Bogus && s.Keys != nil:
		return "answers, signatures are bad"
	}
	return "answers"
}

// AuditHTML is a report as a page that needs nothing from elsewhere.
func AuditHTML(w io.Writer, r *audit.Report, chain *Trust) error { return auditPage(w, r, chain) }
