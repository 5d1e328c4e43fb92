package workspace_test

import (
	"path/filepath"
	"strings"
	"testing"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/workspace"
)

// parse reads a configuration from text, in a folder that is not looked into.
func parse(t *testing.T, text string) (*workspace.Config, []string) {
	t.Helper()
	var src source.Set
	diags := &diag.List{}
	f, err := src.Add("fencepost.toml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	c, err := workspace.LoadText(t.TempDir(), f, &src, diags)
	if err != nil {
		t.Fatal(err)
	}
	var found []string
	for _, d := range diags.All {
		found = append(found, d.Rule.Code+": "+d.Message+" "+d.Suggestion)
	}
	return c, found
}

func TestAudiences(t *testing.T) {
	c, found := parse(t, "[audience.inside]\nnetworks = [\"198.51.100.77/24\", \"2001:db8:1::/48\"]\n[[zone]]\nname = \"a.example\"\naudiences = [\"inside\"]\n")
	if len(found) > 0 {
		t.Fatalf("%q", found)
	}
	zone := dnsname.MustParse("a.example.")
	in := c.Find(zone).Audiences
	if len(in) != 1 || in[0].Name != "inside" || in[0].Networks[0].String() != "198.51.100.0/24" || len(in[0].Networks) != 2 {
		t.Errorf("%+v", in)
	}
	if got := filepath.Base(c.AudienceFile(zone, "inside")); got != "a.example@inside.zone" {
		t.Error(got)
	}
	for text, want := range map[string]string{
		"[audience.x]\n":                          "has no networks",
		"[audience.x]\nnetworks = [\"x\"]\n":      `"x" is not a network`,
		"[audience.\"a/b\"]\nnetworks=[\"::/0\"]": "letters, digits and hyphens",
		"[audience.inside]\nnetworks=[\"::/0\"]\n[[zone]]\nname=\"a.example\"\naudiences=[\"insid\"]\n": "did you mean inside?",
	} {
		if c, found := parse(t, text); c != nil || len(found) == 0 || !strings.Contains(strings.Join(found, " "), want) {
			t.Errorf("%q: %q, want %q", text, found, want)
		}
	}
}

func TestCheckSettings(t *testing.T) {
	c, found := parse(t, "[check.severity]\nunusable-address = \"error\"\nttl-units = \"off\"\n[[check.allow]]\ncode = \"alias-loop\"\nzone = \"a.example\"\nname = \"www\"\nreason = \"a test\"\n[[check.allow]]\ncode = \"ttl-zero\"\n")
	if len(found) > 0 {
		t.Fatalf("%q", found)
	}
	s := c.Checks
	if s.Severity["unusable-address"] != diag.Error || s.Severity["ttl-units"] != diag.Off || len(s.Allow) != 2 {
		t.Errorf("%+v", s)
	}
	if a := s.Allow[0]; a.Owner.String() != "www.a.example." || a.Zone.String() != "a.example." || a.Span.IsZero() {
		t.Errorf("%+v", a)
	}
	if a := s.Allow[1]; !a.Owner.IsZero() || !a.Zone.IsZero() {
		t.Errorf("%+v", a)
	}
	for text, want := range map[string]string{
		"[check.severity]\nno-such = \"off\"\n":                   `"no-such" is not a finding`,
		"[check.severity]\nbad-address = \"off\"\n":               "that can be changed",
		"[check.severity]\nttl-zero = \"quiet\"\n":                "error, warning, note or off",
		"[[check.allow]]\ncode = \"ttl-zro\"\n":                   "did you mean ttl-zero?",
		"[[check.allow]]\ncode = \"ttl-zero\"\nzone = \"a..b\"\n": "is not a name",
		"[[check.allow]]\ncode = \"ttl-zero\"\nzones = \"a.b\"\n": "did you mean zone?",
		"[check]\nseverities = \"x\"\n":                           "did you mean severity?",
	} {
		if c, found := parse(t, text); c != nil || !strings.Contains(strings.Join(found, " "), want) {
			t.Errorf("%q: %q, want %q", text, found, want)
		}
	}
}
