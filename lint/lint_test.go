package lint_test

import (
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// present is the day on which zones are checked.
var present = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

const head = "$ORIGIN example.com.\n$TTL 60\n@ SOA ns1 h 1 2 3 4 5\n@ NS ns1\n"

// rule is a check that reports every A record.
var everyA = &lint.Check{Rule: diag.Rule{Code: "every-a", Severity: diag.Warning, Title: "an A record"},
	Types: []rr.Type{rr.TypeA}, Set: func(p *lint.Pass, set lint.Set) {
		for i := range set.N {
			p.Add(p.Report(set.Layout(i).Type, "the address of %s", set.Name.Owner()))
		}
	}}

// countedA is a check that reports A records once for the zone.
var countedA = &lint.Check{Rule: diag.Rule{Code: "counted-a", Severity: diag.Note, Title: "A records"},
	Types: []rr.Type{rr.TypeA}, Set: func(p *lint.Pass, set lint.Set) {
		if p.Count(set.Pos(0)) {
			at, owner := set.Layout(0).Type, set.Name.Owner()
			p.Explain(func(n int) diag.Diagnostic { return p.Report(at, "%d names, first %s", n, owner) })
		}
	}}

func load(t *testing.T, src *source.Set, diags *diag.List, name, text string) *zonefile.Loaded {
	t.Helper()
	f, err := src.Add(name, []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse("example.com.")}, diags)
}

// run checks a zone and settles the findings.
func run(t *testing.T, text string, s *lint.Settings, checks ...*lint.Check) []string {
	t.Helper()
	var src source.Set
	diags := &diag.List{}
	z := load(t, &src, diags, "x.zone", head+text)
	lint.Run(checks, z, &src, present, s, diags)
	diags = s.Settle(diags, src.Files(), true)
	diags.Sort()
	var out []string
	for _, d := range diags.All {
		out = append(out, fmt.Sprintf("%d %s %s: %s", src.Position(d.Span.Start).Line, d.Severity, d.Rule.Code, d.Message))
	}
	return out
}

func settings() *lint.Settings {
	return &lint.Settings{Severity: map[string]diag.Severity{}, Known: []string{"every-a", "counted-a"}}
}

func expect(t *testing.T, what string, got []string, want ...string) {
	t.Helper()
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s:\n%s\nwant\n%s", what, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestSeverities(t *testing.T) {
	const text = "ns1 A 192.0.2.1\n"
	s := settings()
	expect(t, "as declared", run(t, text, s, everyA), "5 warning every-a: the address of ns1.example.com.")
	s.Severity["every-a"] = diag.Error
	expect(t, "raised", run(t, text, s, everyA), "5 error every-a: the address of ns1.example.com.")
	s.Severity["every-a"] = diag.Off
	expect(t, "off", run(t, text, s, everyA))
	// What is not known to be adjustable stays as it is.
	s = &lint.Settings{Severity: map[string]diag.Severity{"bad-address": diag.Off}, Known: []string{"every-a"}}
	expect(t, "an error of the language", run(t, "x A 1.2.3\n", s, everyA), `5 error bad-address: "1.2.3" is not an IPv4 address`)
}

func TestAllowances(t *testing.T) {
	for what, c := range map[string]struct {
		text string
		want []string
	}{
		"at the record":          {"a A 192.0.2.1 ; fencepost allow every-a\n", nil},
		"with a reason":          {"a A 192.0.2.1 ; fencepost allow every-a: because\n", nil},
		"on the line before":     {"; fencepost allow every-a\na A 192.0.2.1\n", nil},
		"lines before":           {"; fencepost allow every-a\n; more\n\na A 192.0.2.1\n", nil},
		"within parentheses":     {"a A ( ; fencepost allow every-a\n 192.0.2.1 )\n", nil},
		"several at once":        {"a A 192.0.2.1 ; fencepost allow counted-a, every-a\n", []string{"5 warning exception-unused: nothing of the kind counted-a is found at this record"}},
		"of another record":      {"a A 192.0.2.1 ; fencepost allow every-a\nb A 192.0.2.2\n", []string{"6 warning every-a: the address of b.example.com."}},
		"at a record without it": {"a TXT x ; fencepost allow every-a\n", []string{"5 warning exception-unused: nothing of the kind every-a is found at this record"}},
		"of nothing there is":    {"a TXT x ; fencepost allow evry-a\n", []string{"5 warning exception-unused: there is no finding evry-a that can be allowed"}},
		"in a text":              {"a TXT \"; fencepost allow every-a\"\n", nil},
		"at the end of the file": {"; fencepost allow every-a\n", []string{"5 warning exception-unused: nothing of the kind every-a is found at this record"}},
	} {
		expect(t, what, run(t, c.text, settings(), everyA), c.want...)
	}
}

func TestAllowancesOfTheWorkspace(t *testing.T) {
	const text = "a A 192.0.2.1\nb A 192.0.2.2\n"
	at := func(zone, owner string) *lint.Settings {
		s := settings()
		a := &lint.Allowance{Code: "every-a", Span: source.Span{Start: 1, End: 2}}
		if zone != "" {
			a.Zone = dnsname.MustParse(zone)
		}
		if owner != "" {
			a.Owner = dnsname.MustParse(owner)
		}
		s.Allow = []*lint.Allowance{a}
		return s
	}
	a, b := "5 warning every-a: the address of a.example.com.", "6 warning every-a: the address of b.example.com."
	unused := "1 warning exception-unused: nothing of the kind every-a is found here"
	expect(t, "everywhere", run(t, text, at("", ""), everyA))
	expect(t, "in the zone", run(t, text, at("EXAMPLE.com.", ""), everyA))
	expect(t, "at a name", run(t, text, at("", "a.example.com."), everyA), b)
	expect(t, "in another zone", run(t, text, at("example.org.", ""), everyA), unused, a, b)
	expect(t, "at another name", run(t, text, at("example.com.", "c.example.com."), everyA), unused, a, b)
}

// Findings of a kind that deserves one are counted over all goroutines and said
// at the first place in the text.
func TestCounted(t *testing.T) {
	var b strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&b, "h%d A 192.0.2.1\n", 5000-i)
	}
	expect(t, "many", run(t, b.String(), settings(), countedA), "5 note counted-a: 5000 names, first h5000.example.com.")
	expect(t, "none", run(t, "", settings(), countedA))
}

// A finding made once for many places goes when each of them is allowed.
func TestCountedAllowances(t *testing.T) {
	const allow = " ; fencepost allow counted-a\n"
	expect(t, "all allowed", run(t, "a A 192.0.2.1"+allow+"b A 192.0.2.2"+allow, settings(), countedA))
	expect(t, "one allowed", run(t, "a A 192.0.2.1"+allow+"b A 192.0.2.2\n", settings(), countedA), "6 note counted-a: 2 names, first a.example.com.")
	expect(t, "one too many", run(t, "a A 192.0.2.1"+allow+"b TXT x"+allow, settings(), countedA), "6 warning exception-unused: nothing of the kind counted-a is found at this record")
}

// Findings beyond what a list keeps are counted, and stay counted when settled.
func TestDropped(t *testing.T) {
	l := &diag.List{}
	for range diag.MaxList + 5 {
		l.Add(everyA.At(source.Span{Start: 1}, "x"))
	}
	out := settings().Settle(l, nil, false)
	if out.Dropped() != 5 || out.Count(diag.Warning) != diag.MaxList+5 {
		t.Errorf("%d dropped of %d", out.Dropped(), out.Total())
	}
}

func TestFleet(t *testing.T) {
	var src source.Set
	diags := &diag.List{}
	parent := load(t, &src, diags, "p", head+"sub NS ns.sub\nns.sub A 192.0.2.1\nwww A 192.0.2.2\n")
	child := load(t, &src, diags, "c", "$ORIGIN sub.example.com.\n$TTL 60\n@ SOA ns h 1 2 3 4 5\n@ NS ns\nns A 192.0.2.1\n")
	var seen []string
	check := &lint.Check{Rule: diag.Rule{Code: "fleet", Severity: diag.Error}, Workspace: func(f *lint.Workspace) {
		for _, m := range f.Members {
			if p := f.Parent(m); p != nil {
				seen = append(seen, m.Apex().String()+" in "+p.Apex().String())
			}
			for n := range m.Names {
				if set, ok := n.Set(rr.TypeA); ok {
					seen = append(seen, fmt.Sprintf("%s line %d", n.Owner(), src.Position(set.Pos(0)).Line))
				}
			}
		}
		www := dnsname.MustParse("www.example.com.")
		if m := f.Holder(www); m == nil || !m.Apex().Equal(parent.Apex()) || m.Delegated(www) {
			t.Error("www is not held by the parent")
		}
		if m := f.Holder(dnsname.MustParse("x.sub.example.com.")); m == nil || !m.Apex().Equal(child.Apex()) {
			t.Error("a name below the cut is not held by the child")
		}
		if f.Holder(dnsname.MustParse("www.example.org.")) != nil {
			t.Error("a name elsewhere is held")
		}
		if set, ok := f.Members[0].Find(www, rr.TypeA); !ok || set.N != 1 {
			t.Error("www has no address")
		}
		f.Add(f.Report(source.Span{Start: child.File.Pos(0), End: child.File.Pos(1)}, "here"))
	}}
	if check.Scope() != "workspace" || everyA.Scope() != "record set" {
		t.Error("the scopes are wrong")
	}
	lint.RunWorkspace([]*lint.Check{check, everyA}, []*lint.Zone{{Loaded: parent}, {Loaded: child}}, &src, diags)
	expect(t, "fleet", seen, "ns.sub.example.com. line 6", "www.example.com. line 7", "sub.example.com. in example.com.", "ns.sub.example.com. line 5")
	last := diags.All[len(diags.All)-1]
	if !last.Zone.Equal(child.Apex()) {
		t.Errorf("a finding in the child is of the zone %s", last.Zone)
	}
}

func TestLook(t *testing.T) {
	const zone = "web A 192.0.2.1\nwww CNAME web\n*.w A 192.0.2.2\na.b.c A 192.0.2.3\nsub NS ns.sub\nns.sub A 192.0.2.4\nold DNAME example.net.\nbad A 1.2.3\nmail TXT x\n"
	want := map[string]lint.Target{
		"web.example.com.":    {InZone: true, Exists: true, Address: true},
		"WEB.example.COM.":    {InZone: true, Exists: true, Address: true},
		"www.example.com.":    {InZone: true, Exists: true, Alias: true},
		"x.w.example.com.":    {InZone: true, Exists: true, Wildcard: true, Address: true},
		"b.c.example.com.":    {InZone: true, Exists: true},
		"nosuch.example.com.": {InZone: true},
		"ns.sub.example.com.": {Delegated: true, Exists: true, Address: true},
		"x.sub.example.com.":  {Delegated: true},
		"x.old.example.com.":  {Delegated: true},
		"bad.example.com.":    {InZone: true, Exists: true, Address: true}, // not known, so nothing is missing
		"mail.example.com.":   {InZone: true, Exists: true},
		"www.example.org.":    {},
	}
	looked := 0
	check := &lint.Check{Rule: diag.Rule{Code: "look"}, Zone: func(p *lint.Pass) {
		for name, w := range want {
			looked++
			wire := []byte(dnsname.MustParse(name).Wire())
			for range 2 { // the second time from memory
				if got := p.Look(wire); got != w {
					t.Errorf("%s: %+v, want %+v", name, got, w)
				}
			}
		}
	}}
	if run(t, zone, settings(), check); looked != len(want) {
		t.Errorf("%d of %d names were looked up", looked, len(want))
	}
}

func TestOdd(t *testing.T) {
	odd := map[string]bool{"web": false, "web-1": false, "3com": false, "a-.b": true, "-a": true, "a_b": true, "xn--a": true, "a--b": false, "*": true, `a\.b`: true}
	text := ""
	for name := range odd {
		text += name + " TXT x\n"
	}
	var seen atomic.Int32 // names are visited by several goroutines
	check := &lint.Check{Rule: diag.Rule{Code: "odd"}, Name: func(p *lint.Pass, n *lint.Name) {
		rel := n.Owner().Relative(p.Zone.Apex())
		if _, known := odd[rel]; known {
			seen.Add(1)
		}
		if want, known := odd[rel]; known && n.Odd() != want {
			t.Errorf("%s: %v", rel, n.Odd())
		}
	}}
	if run(t, text, settings(), check); int(seen.Load()) != len(odd) {
		t.Errorf("%d of %d names were seen", seen.Load(), len(odd))
	}
}

// For the strict what does not work at all is an error; a severity that is set comes
// before that.
func TestStrict(t *testing.T) {
	strict := *everyA
	strict.Strict = true
	for what, c := range map[string]struct {
		rule *diag.Rule
		s    lint.Settings
		want diag.Severity
	}{
		"as it is":            {&strict.Rule, lint.Settings{}, diag.Warning},
		"for the strict":      {&strict.Rule, lint.Settings{Strict: true}, diag.Error},
		"not marked":          {&everyA.Rule, lint.Settings{Strict: true}, diag.Warning},
		"with a severity set": {&strict.Rule, lint.Settings{Strict: true, Severity: map[string]diag.Severity{everyA.Code: diag.Note}}, diag.Note},
	} {
		c.s.Known = []string{everyA.Code}
		l := &diag.List{}
		l.Add(c.rule.At(source.Span{Start: 1}, "x"))
		if got := c.s.Settle(l, nil, false).All[0].Severity; got != c.want {
			t.Errorf("%s: %v, want %v", what, got, c.want)
		}
	}
}
