package audit

import (
	"fmt"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/lint"
	"fencepost/lint/checks"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// lintRule is the rule of a check, by its code.
func lintRule(code string) *diag.Rule { return &checkOf(code).Rule }

func checkOf(code string) *lint.Check {
	i := slices.IndexFunc(checks.All, func(c *lint.Check) bool { return c.Code == code })
	return checks.All[i]
}

// asServed are checks of zone files that can be made of records as they are served: those
// that need no more than the set that they look at.
var asServed = []struct {
	area  Area
	codes string
}{
	{Zone, `expire-too-short expire-within-weekend expire-too-long retry-not-below-refresh refresh-too-short refresh-too-long minimum-too-long
		contact-with-at-sign contact-shape serial-zero serial-in-the-future ttl-zero ttl-over-a-week address-as-name unusable-address private-address
		caa-flags caa-unknown-tag caa-value svcb-alias-with-parameters svcb-alias-beside-others`},
	{Mail, `null-mx-beside-others spf-syntax spf-several spf-after-all spf-passes-anyone spf-without-end spf-ptr spf-lost-blanks spf-version
		dmarc-syntax dmarc-several typographic-quotes tlsa-fields`},
	{DNSSEC, `dnskey-shape nsec3-iterations`},
}

// recordTests makes a test of each of them. The checks are run once for a set of facts.
func recordTests() (out []*Test) {
	for _, group := range asServed {
		for _, code := range strings.Fields(group.codes) {
			out = append(out, of(lintRule(code), group.area, noAnswers, func(f *Facts, l *Findings) {
				for _, d := range f.linted() {
					if d.Rule.Code == code {
						l.add(d.Suggestion, "%s", d.Message)
					}
				}
			}))
		}
	}
	return out
}

// linted are the findings of the checks in what is served.
func (f *Facts) linted() []diag.Diagnostic {
	f.lintOnce.Do(func() {
		var run []*lint.Check
		for _, group := range asServed {
			for _, code := range strings.Fields(group.codes) {
				run = append(run, checkOf(code))
			}
		}
		var src source.Set
		var diags diag.List
		file, err := src.Add(f.Zone.Plain(), []byte(f.text()))
		if err != nil {
			return
		}
		loaded := zonefile.Load(file, zonefile.Options{Origin: f.Zone}, &diag.List{})
		if loaded == nil {
			return
		}
		lint.Run(run, loaded, &src, f.Now, nil, &diags)
		f.lint = diags.All
	})
	return f.lint
}

// text is a master file of what was found at the names of the zone that are looked at.
func (f *Facts) text() string {
	var b strings.Builder
	for _, n := range served {
		owner := f.under(n.name)
		for _, t := range n.types {
			found, err := f.find(owner, t)
			if err != nil || found.Aliases > 0 {
				continue
			}
			for _, d := range found.Data {
				fmt.Fprintf(&b, "%s %d %s %s\n", owner, found.TTL, t, rr.DataText(t, d))
			}
		}
	}
	for _, m := range f.mx() {
		for _, d := range f.data(tlsaOf(m.host), rr.TypeTLSA) {
			if m.host.AtOrBelow(f.Zone) {
				fmt.Fprintf(&b, "%s 3600 TLSA %s\n", tlsaOf(m.host), rr.DataText(rr.TypeTLSA, d))
			}
		}
	}
	return b.String()
}
