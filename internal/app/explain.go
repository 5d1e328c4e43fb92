package app

import (
	"strings"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// Entry is a rule with what it looks at.
type Entry struct {
	*diag.Rule
	Scope      string // record, record set, name, zone, workspace ...
	Adjustable bool   // its severity can be set, and it can be allowed
}

// Catalogue is every rule there is.
func Catalogue() (out []Entry) {
	adjustable := map[*diag.Rule]bool{}
	for _, r := range checks.Adjustable() {
		adjustable[r] = true
	}
	add := func(scope string, rules []*diag.Rule) {
		for _, r := range rules {
			out = append(out, Entry{r, scope, adjustable[r]})
		}
	}
	add("line", zonefile.Rules)
	add("record", rr.Rules)
	for _, c := range checks.All {
		out = append(out, Entry{&c.Rule, c.Scope(), true})
	}
	add("exception", lint.Rules)
	add("workspace", Rules)
	add("configuration", workspace.Rules)
	add("signed zone", signer.Rules)
	return out
}

// Explanation is what `explain` knows about a word: a rule or a record type.
type Explanation struct {
	Rule *Entry
	Type *rr.Info
}

// Explain looks up a code of a finding or a record type.
func Explain(word string) (*Explanation, error) {
	for _, r := range Catalogue() {
		if strings.EqualFold(r.Code, word) {
			return &Explanation{Rule: &r}, nil
		}
	}
	if t, ok := rr.ParseType(word); ok && rr.Lookup(t) != nil {
		return &Explanation{Type: rr.Lookup(t)}, nil
	}
	var known []string
	for _, r := range Catalogue() {
		known = append(known, r.Code)
	}
	if meant := diag.Closest(word, append(known, rr.Mnemonics()...)); meant != "" {
		return nil, usage("nothing is known about %q; did you mean %s?", word, meant)
	}
	return nil, usage("nothing is known about %q: give the code of a finding, or a record type", word)
}
