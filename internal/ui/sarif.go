package ui

import (
	"encoding/json"
	"net/url"
	"path/filepath"
	"sort"

	"fencepost/diag"
	"fencepost/source"
)

// The parts of SARIF 2.1.0 (OASIS) that findings need.
type (
	sarifLog struct {
		Version string     `json:"version"`
		Schema  string     `json:"$schema"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID      string       `json:"id"`
		Short   sarifText    `json:"shortDescription"`
		Full    sarifText    `json:"fullDescription"`
		Help    *sarifText   `json:"help,omitempty"`
		Default sarifDefault `json:"defaultConfiguration"`
	}
	sarifDefault struct {
		Level string `json:"level"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		RuleIndex int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
		Related   []sarifLocation `json:"relatedLocations,omitempty"`
		Fixes     []sarifFix      `json:"fixes,omitempty"`
	}
	sarifLocation struct {
		ID       int           `json:"id,omitempty"`
		Physical sarifPhysical `json:"physicalLocation"`
		Message  *sarifText    `json:"message,omitempty"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"`
		EndLine     int `json:"endLine"`
		EndColumn   int `json:"endColumn"`
	}
	sarifFix struct {
		Description sarifText     `json:"description"`
		Changes     []sarifChange `json:"artifactChanges"`
	}
	sarifChange struct {
		Artifact     sarifArtifact      `json:"artifactLocation"`
		Replacements []sarifReplacement `json:"replacements"`
	}
	sarifReplacement struct {
		Deleted  sarifRegion `json:"deletedRegion"`
		Inserted sarifText   `json:"insertedContent"`
	}
)

// SARIF writes findings as a log of SARIF 2.1.0, for code hosts and editors.
func (u *UI) SARIF(src *source.Set, l *diag.List, version string) error {
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []sarifResult{},
		Tool: sarifTool{sarifDriver{Name: "Fencepost", Version: version, Rules: []sarifRule{}}}}
	index := map[*diag.Rule]int{}
	var rules []*diag.Rule
	for i := range l.All {
		if r := l.All[i].Rule; index[r] == 0 {
			index[r] = 1
			rules = append(rules, r)
		}
	}
	sort.Slice(rules, func(i, j int) bool { return rules[i].Code < rules[j].Code })
	for i, r := range rules {
		index[r] = i
		rule := sarifRule{ID: r.Code, Short: sarifText{r.Title}, Full: sarifText{r.Doc}, Default: sarifDefault{r.Severity.String()}}
		if r.Ref != "" {
			rule.Help = &sarifText{r.Doc + " Reference: " + r.Ref + "."}
		}
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, rule)
	}
	for i := range l.All {
		run.Results = append(run.Results, sarifOf(src, &l.All[i], index))
	}
	e := json.NewEncoder(u.Out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(sarifLog{Version: "2.1.0", Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", Runs: []sarifRun{run}})
}

func sarifOf(src *source.Set, d *diag.Diagnostic, index map[*diag.Rule]int) sarifResult {
	text := d.Message
	if d.Suggestion != "" {
		text += " (" + d.Suggestion + ")"
	}
	r := sarifResult{RuleID: d.Rule.Code, RuleIndex: index[d.Rule], Level: d.Severity.String(), Message: sarifText{text},
		Locations: []sarifLocation{{Physical: sarifPlace(src, d.Span)}}}
	for i, rel := range d.Related {
		r.Related = append(r.Related, sarifLocation{ID: i + 1, Physical: sarifPlace(src, rel.Span), Message: &sarifText{rel.Message}})
	}
	if d.Fix != nil && len(d.Fix.Edits) > 0 {
		change := sarifChange{Artifact: sarifPlace(src, d.Fix.Edits[0].Span).Artifact}
		for _, e := range d.Fix.Edits {
			change.Replacements = append(change.Replacements, sarifReplacement{*sarifPlace(src, e.Span).Region, sarifText{e.New}})
		}
		r.Fixes = []sarifFix{{Description: sarifText{"fix it"}, Changes: []sarifChange{change}}}
	}
	return r
}

func sarifPlace(src *source.Set, span source.Span) sarifPhysical {
	from, to := src.Position(span.Start), src.Position(span.End)
	u := url.URL{Path: filepath.ToSlash(from.File)}
	if filepath.IsAbs(from.File) {
		u.Scheme = "file"
	}
	p := sarifPhysical{Artifact: sarifArtifact{u.String()}}
	if from.Line > 0 {
		p.Region = &sarifRegion{from.Line, src.Runes(span.Start), max(to.Line, from.Line), src.Runes(span.End)}
	}
	return p
}
