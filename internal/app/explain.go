package app

import (
	"strings"

	"fencepost/diag"
	"fencepost/lint/checks"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/workspace"
)

// Catalogue is every rule there is.
func Catalogue() []*diag.Rule {
	rules := checks.Catalogue()
	rules = append(rules, Rules...)
	rules = append(rules, workspace.Rules...)
	return append(rules, signer.Rules...)
}

// Explanation is what `explain` knows about a word: a rule or a record type.
type Explanation struct {
	Rule *diag.Rule
	Type *rr.Info
}

// Explain looks up a code of a finding or a record type.
func Explain(word string) (*Explanation, error) {
	for _, r := range Catalogue() {
		if strings.EqualFold(r.Code, word) {
			return &Explanation{Rule: r}, nil
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
