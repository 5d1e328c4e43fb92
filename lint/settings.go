package lint

import (
	"bytes"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/zonefile"
)

// Settings say what of the checks' findings counts, and for how much.
type Settings struct {
	Severity map[string]diag.Severity // by code; diag.Off leaves a finding out
	// Strict makes errors of the warnings that are marked for it (diag.Rule).
	Strict bool
	Allow  []*Allowance
	Known  []string // all codes that can be allowed, for did-you-mean
}

// Allowance is an exception: a finding that is known and accepted.
type Allowance struct {
	Code  string
	Zone  dnsname.Name // zero: in every zone
	Owner dnsname.Name // zero: at every name
	Span  source.Span  // where it is written
}

func (a *Allowance) covers(d *diag.Diagnostic) bool {
	return a.Code == d.Rule.Code && (a.Zone.IsZero() || a.Zone.Equal(d.Zone)) && (a.Owner.IsZero() || a.Owner.Equal(d.Owner))
}

// allowMark begins a comment that allows findings of its record:
// "; fencepost allow CODE CODE: reason".
const allowMark = "fencepost allow "

// RuleAllowance is about exceptions themselves.
var RuleAllowance = &diag.Rule{Code: "exception-unused", Severity: diag.Warning, Title: "an exception is not needed any more, or never was", Ref: "RFC 1035 §5.1",
	Doc: "A comment `; fencepost allow CODE` at a record, or a section [[check.allow]] in fencepost.toml, allows a finding. Nothing is found there now: " +
		"remove the exception: it could hide a later mistake. Errors that make a record unreadable cannot be allowed.",
	Bad:  "web A 192.0.2.1 ; fencepost allow unusable-address\n",
	Good: "web A 127.0.0.1 ; fencepost allow unusable-address: answers on the machine itself\n"}

// Rules lists the rules of this package for the catalogue.
var Rules = []*diag.Rule{RuleAllowance}

// Settle applies settings and the comments in files to findings. Findings that
// are allowed are left out, exceptions that allow nothing are reported: those in
// files always, those of the settings where all is true, which says that
// everything they could be about was looked at.
func (s *Settings) Settle(diags *diag.List, files []*source.File, all bool) *diag.List {
	var remarks []*remark
	for _, f := range files {
		remarks = append(remarks, s.remarks(f)...)
	}
	used := map[*Allowance]bool{}
	out := &diag.List{}
	for i := range diags.All {
		d := diags.All[i]
		d.Severity = s.severity(d.Rule, d.Severity)
		if d.Severity != diag.Off && !s.allowed(&d, remarks, used) {
			out.Add(d)
		}
	}
	out.AddDropped(diags)
	for _, r := range remarks {
		r.report(s, out)
	}
	if all {
		for _, a := range s.Allow {
			if !used[a] {
				out.Add(RuleAllowance.At(a.Span, "nothing of the kind %s is found here", a.Code).Suggest("take the exception away"))
			}
		}
	}
	return out
}

// severity is for how much a finding counts. declared is what it was made with.
func (s *Settings) severity(r *diag.Rule, declared diag.Severity) diag.Severity {
	if sev, ok := s.Severity[r.Code]; ok && s.adjustable(r) {
		return sev
	}
	if s.Strict && r.Strict {
		return diag.Error
	}
	return declared
}

// Gating is the checks that can keep a zone out of service by these settings: those that
// find errors.
func (s *Settings) Gating(checks []*Check) (out []*Check) {
	for _, c := range checks {
		if s.severity(&c.Rule, c.Severity) == diag.Error {
			out = append(out, c)
		}
	}
	return out
}

// adjustable reports whether a rule can be changed: what cannot be read stays an
// error.
func (s *Settings) adjustable(r *diag.Rule) bool {
	for _, code := range s.Known {
		if code == r.Code {
			return true
		}
	}
	return false
}

func (s *Settings) allowed(d *diag.Diagnostic, remarks []*remark, used map[*Allowance]bool) bool {
	if !s.adjustable(d.Rule) {
		return false
	}
	places := d.Places
	if len(places) == 0 {
		places = []source.Pos{d.Span.Start}
	}
	var left []source.Pos // places that no comment allows
	for _, at := range places {
		if !allowedAt(at, d.Rule.Code, remarks) {
			left = append(left, at)
		}
	}
	if len(left) == 0 {
		return true
	}
	if left[0] != places[0] { // of several places the first is allowed: point to the next
		d.Span = source.Span{Start: left[0], End: left[0] + 1}
	}
	for _, a := range s.Allow {
		if a.covers(d) {
			used[a] = true
			return true
		}
	}
	return false
}

// allowedAt reports whether a comment allows a finding at a place.
func allowedAt(at source.Pos, code string, remarks []*remark) bool {
	for _, r := range remarks {
		if at >= r.entry.Start && at < r.entry.End && r.allows(code) {
			return true
		}
	}
	return false
}

// remark is a comment that allows findings.
type remark struct {
	entry source.Span // the record it is about
	codes []code
}

type code struct {
	text string
	span source.Span
	used bool
}

func (r *remark) allows(text string) bool {
	for i := range r.codes {
		if r.codes[i].text == text {
			r.codes[i].used = true
			return true
		}
	}
	return false
}

func (r *remark) report(s *Settings, out *diag.List) {
	for _, c := range r.codes {
		if c.used {
			continue
		}
		d := RuleAllowance.At(c.span, "nothing of the kind %s is found at this record", c.text).Suggest("take the comment away")
		known := false
		for _, k := range s.Known {
			known = known || k == c.text
		}
		if !known {
			d.Message, d.Suggestion = "there is no finding "+c.text+" that can be allowed", ""
			if meant := diag.Closest(c.text, s.Known); meant != "" {
				d = d.Suggest("did you mean %s?", meant)
			}
		}
		out.Add(d)
	}
}

// remarks finds the comments of a file that allow findings. Nearly all files have
// none, and are searched once.
func (s *Settings) remarks(f *source.File) (out []*remark) {
	if !bytes.Contains(f.Content, []byte(allowMark)) {
		return nil
	}
	for _, m := range zonefile.Remarks(f, allowMark) {
		r := &remark{entry: m.Entry}
		list, _, _ := strings.Cut(m.Text, ":")
		at := m.At
		for _, word := range strings.FieldsFunc(list, func(c rune) bool { return c == ' ' || c == ',' || c == '\t' || c == '\r' }) {
			off := source.Pos(strings.Index(m.Text, word))
			r.codes = append(r.codes, code{text: word, span: source.Span{Start: at + off, End: at + off + source.Pos(len(word))}})
		}
		out = append(out, r)
	}
	return out
}
