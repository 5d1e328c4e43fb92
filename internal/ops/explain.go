package ops

import (
	"strings"

	"fencepost/audit"
	"fencepost/diag"
	"fencepost/expect"
	"fencepost/internal/edit"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/resolve"
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
	add("delegation", resolve.TraceRules)
	add("expectation", expect.Rules)
	add("audit", audit.Rules)
	return out
}

// Explanation is all that `explain` knows about a word. One word may mean several
// things.
type Explanation struct {
	Rule     *Entry
	Type     *rr.Info
	Fields   []TypeField
	Settings []workspace.Explained
	// Reference tells that the configuration as a whole was asked for.
	Reference bool
}

// TypeField is a field of a record type.
type TypeField struct {
	Type  *rr.Info
	Field *rr.Field
}

// Explain looks up the code of a finding, a record type, a field of one (also as
// TYPE.FIELD), or a key or section of fencepost.toml.
func Explain(word string) (*Explanation, error) {
	x := &Explanation{Reference: strings.EqualFold(word, workspace.ConfigFile)}
	if x.Reference {
		return x, nil
	}
	for _, r := range Catalogue() {
		if strings.EqualFold(r.Code, word) {
			x.Rule = &r
		}
	}
	if t, ok := rr.ParseType(word); ok {
		x.Type = rr.Lookup(t)
	}
	x.Fields, x.Settings = fieldsNamed(word), workspace.ExplainSetting(word)
	if x.Rule != nil || x.Type != nil || len(x.Fields)+len(x.Settings) > 0 {
		return x, nil
	}
	if meant := diag.Closest(word, Explainable()); meant != "" {
		return nil, edit.Usage("nothing is known about %q; did you mean %s?", word, meant)
	}
	return nil, edit.Usage("nothing is known about %q: give the code of a finding, a record type or its field, or a key of fencepost.toml", word)
}

// fieldsNamed are the fields with a name, of current types, or of one: TYPE.FIELD.
func fieldsNamed(word string) (out []TypeField) {
	mnemonic, name, one := strings.Cut(word, ".")
	if !one {
		name = word
	}
	for _, m := range rr.Mnemonics() {
		t, _ := rr.ParseType(m)
		info := rr.Lookup(t)
		if one && !strings.EqualFold(m, mnemonic) || !one && info.Instead != "" {
			continue
		}
		for i := range info.Fields {
			if f := &info.Fields[i]; strings.EqualFold(f.Name, name) {
				out = append(out, TypeField{info, f})
			}
		}
	}
	return out
}

// Explainable are the words that Explain knows, for completion; the codes first.
func Explainable() (out []string) {
	for _, r := range Catalogue() {
		out = append(out, r.Code)
	}
	out = append(append(out, rr.Mnemonics()...), workspace.ConfigFile)
	seen := map[string]bool{}
	add := func(word string) {
		if !seen[word] && strings.ToUpper(word) != word {
			out, seen[word] = append(out, word), true
		}
	}
	for _, s := range workspace.Sections {
		for _, k := range s.Keys {
			add(k.Key)
		}
	}
	soa := rr.Lookup(rr.TypeSOA)
	for _, f := range soa.Fields {
		add(f.Name)
	}
	return out
}
