package checks

import (
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/lint"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// present is the day on which the examples are checked.
var present = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// head makes a whole zone of an example; it has nothing to be found.
const head = `$ORIGIN example.com.
$TTL 3600
@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300
@ NS ns1.example.net.
@ NS ns2.example.org.
`

// run checks an example the way the catalogue writes them.
func run(t *testing.T, text string) *diag.List {
	t.Helper()
	l, _ := runIn(t, text)
	return l
}

// runIn is run with the sources that the findings point into.
func runIn(t *testing.T, text string) (*diag.List, *source.Set) {
	t.Helper()
	origin := dnsname.MustParse("example.com.")
	switch {
	case strings.HasPrefix(text, "-- bare --\n"):
		text = strings.TrimPrefix(text, "-- bare --\n")
	case strings.HasPrefix(text, "-- no origin --\n"):
		text, origin = strings.TrimPrefix(text, "-- no origin --\n"), dnsname.Name{}
	case strings.HasPrefix(text, "-- file "):
		return runFleet(t, text)
	default:
		text = head + text
	}
	var src source.Set
	var diags diag.List
	f, err := src.Add("example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	if z := zonefile.Load(f, zonefile.Options{Origin: origin}, &diags); z != nil {
		lint.Run(All, z, &src, present, nil, &diags)
	}
	settings := lint.Settings{}
	for _, r := range Adjustable() {
		settings.Known = append(settings.Known, r.Code)
	}
	return settings.Settle(&diags, src.Files(), true), &src
}

// runFleet checks an example of several files, each begun by a line
// "-- file NAME --".
func runFleet(t *testing.T, text string) (*diag.List, *source.Set) {
	t.Helper()
	var src source.Set
	var diags diag.List
	var members []*lint.Zone
	for _, part := range strings.Split(text, "-- file ")[1:] {
		name, body, _ := strings.Cut(part, " --\n")
		f, err := src.Add(name, []byte(body))
		if err != nil {
			t.Fatal(err)
		}
		apex, audience, _ := strings.Cut(strings.TrimSuffix(name, ".zone"), "@")
		z := zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse(apex + ".")}, &diags)
		lint.Run(All, z, &src, present, nil, &diags)
		members = append(members, &lint.Zone{Loaded: z, Audience: audience})
	}
	lint.RunWorkspace(All, members, &src, &diags)
	return &diags, &src
}

func codes(l *diag.List) (out []string) {
	for _, d := range l.All {
		out = append(out, d.Rule.Code+": "+d.Message)
	}
	return out
}

func has(l *diag.List, r *diag.Rule) bool {
	for _, d := range l.All {
		if d.Rule == r {
			return true
		}
	}
	return false
}

// catalogue is every rule a zone file can break: of fields, of the language, of
// exceptions and of the checks.
func catalogue() []*diag.Rule {
	out := slices.Concat(zonefile.Rules, rr.Rules, lint.Rules)
	for _, c := range All {
		out = append(out, &c.Rule)
	}
	return out
}

// TestCatalogue runs the examples of every rule: the bad one must show it, the
// good one must have no finding at all.
func TestCatalogue(t *testing.T) {
	if found := codes(run(t, "")); len(found) > 0 {
		t.Fatalf("the head of the examples is not clean: %q", found)
	}
	seen := map[string]bool{}
	for _, r := range catalogue() {
		t.Run(r.Code, func(t *testing.T) {
			if seen[r.Code] {
				t.Errorf("the code is used twice")
			}
			seen[r.Code] = true
			if r.Title == "" || r.Ref == "" || r.Doc == "" || r.Severity == 0 || r.Title[len(r.Title)-1] == '.' {
				t.Errorf("the documentation is incomplete")
			}
			bad := run(t, r.Bad)
			if !has(bad, r) {
				t.Errorf("the bad example does not show it; found %q", codes(bad))
			}
			for _, d := range bad.All {
				if d.Rule != r && d.Severity == diag.Error && r.Severity == diag.Error {
					t.Errorf("the bad example also shows %s: %s", d.Rule.Code, d.Message)
				}
				if d.Span.IsZero() {
					t.Errorf("%s says no place", d.Rule.Code)
				}
			}
			if good := run(t, r.Good); good.Total() > 0 {
				t.Errorf("the good example shows %q", codes(good))
			}
		})
	}
}
