package workspace

import (
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/lint/checks"
)

// rawCheck is the section [check]: what of the findings counts.
type rawCheck struct {
	Strict   bool              `toml:"strict"`
	Severity map[string]string `toml:"severity"`
	Allow    []struct {
		Code   string `toml:"code"`
		Zone   string `toml:"zone"`
		Name   string `toml:"name"`
		Reason string `toml:"reason"`
	} `toml:"allow"`
}

// adjustable are the codes whose severity can be set and which can be allowed.
var adjustable = func() (out []string) {
	for _, r := range checks.Adjustable() {
		out = append(out, r.Code)
	}
	return out
}()

// DefaultSettings are those without a configuration.
func DefaultSettings() *lint.Settings { return &lint.Settings{Known: adjustable} }

// settings reads the section [check].
func (p *checker) settings(in *rawCheck) *lint.Settings {
	out := DefaultSettings()
	out.Strict = in.Strict
	out.Severity = map[string]diag.Severity{}
	const header = "[check.severity]"
	for code, text := range in.Severity {
		if !p.code(header, 0, code, code) {
			continue
		}
		sev, ok := diag.ParseSeverity(text)
		if !ok {
			p.diags.Add(RuleBadValue.At(p.place(header, 0, code), "%q is not a severity", text).Suggest("write error, warning, note or off"))
			continue
		}
		out.Severity[code] = sev
	}
	const allow = "[[check.allow]]"
	for i, in := range in.Allow {
		a := &lint.Allowance{Code: in.Code, Span: p.place(allow, i, "code")}
		good := p.code(allow, i, "code", in.Code)
		good = p.optionalName(allow, i, "zone", in.Zone, dnsname.Root, &a.Zone) && good
		origin := a.Zone
		if origin.IsZero() {
			origin = dnsname.Root
		}
		if good = p.optionalName(allow, i, "name", in.Name, origin, &a.Owner) && good; good {
			out.Allow = append(out.Allow, a)
		}
	}
	return out
}

// code makes sure that a code is one that can be adjusted.
func (p *checker) code(header string, n int, key, code string) bool {
	for _, k := range adjustable {
		if k == code {
			return true
		}
	}
	d := RuleBadValue.At(p.place(header, n, key), "%q is not a finding that can be changed or allowed", code)
	if meant := diag.Closest(code, adjustable); meant != "" {
		d = d.Suggest("did you mean %s?", meant)
	} else {
		d = d.Suggest("see the codes in the output of: fencepost check")
	}
	p.diags.Add(d)
	return false
}

// optionalName reads a name that may be left out.
func (p *checker) optionalName(header string, n int, key, text string, origin dnsname.Name, out *dnsname.Name) bool {
	if text == "" {
		return true
	}
	name, err := dnsname.Parse(text, origin)
	if err != nil {
		p.diags.Add(RuleBadValue.At(p.place(header, n, key), "%q is not a name: %v", text, err))
		return false
	}
	*out = name
	return true
}
