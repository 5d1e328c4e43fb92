package zoneload

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zonefile"
)

func reader() *Reader {
	return &Reader{Settings: workspace.DefaultSettings(), Now: func() time.Time { return time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC) }}
}

// hosts is a zone of so many, with some more lines.
func hosts(n, serial int, more ...string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "$ORIGIN big.example.\n$TTL 3600\n@ SOA ns1 hostmaster %d 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n", serial)
	for i := range n {
		switch i % 5 {
		case 0:
			fmt.Fprintf(&b, "h%d MX 10 h%d\nh%d NS ns.h%d\nh%d NS ns1\nns.h%d A 192.0.2.53\n", i, i+1, i+3, i+3, i+3, i+3)
		case 1, 2:
			fmt.Fprintf(&b, "h%d A 192.0.2.%d\n", i, i%250+1)
		case 4:
			fmt.Fprintf(&b, "h%d CNAME h%d\n", i, i-2)
		}
	}
	return b.String() + strings.Join(more, "\n") + "\n"
}

// gateText gives a text to Gate and settles what is found; errors come back as line: code.
func gateText(t testing.TB, r *Reader, text string, before Version) (Version, []string) {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add("big.example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	v, err := r.Gate(r.Text(src, f, f.Name, dnsname.MustParse("big.example."), nil), before, diags)
	if err != nil {
		t.Fatal(err)
	}
	var errors []string
	for _, d := range r.Settings.Settle(diags, src.Files(), false).All {
		if d.Severity == diag.Error {
			errors = append(errors, fmt.Sprintf("%d: %s", src.Position(d.Span.Start).Line, d.Rule.Code))
		}
	}
	return v, errors
}

// A version is refused for the same errors, at their places, whether it is read by itself or
// after another; where the last was clean and little changed, its Checks say so.
func TestGateNext(t *testing.T) {
	const n = 2000
	r := reader()
	first, errs := gateText(t, r, hosts(n, 1), Version{})
	if len(errs) > 0 || first.Checks == nil || first.Delta != nil {
		t.Fatalf("the first version: %v, cleared %v", errs, first.Checks != nil)
	}
	lines := strings.Count(hosts(n, 1), "\n")
	for what, c := range map[string]struct {
		more    []string
		error   string // at the line that was added
		cleared bool   // enough is known to say so
	}{
		"nothing":                  {nil, "", true},
		"a host":                   {[]string{"new A 192.0.2.7"}, "", true},
		"a warning":                {[]string{"new CNAME nowhere"}, "", true},
		"a target that is there":   {[]string{"new MX 10 h1"}, "", true},
		"a target that is not":     {[]string{"new MX 10 nowhere"}, "target-missing", false},
		"an alias that MX names":   {[]string{"new MX 10 h4"}, "target-is-alias", false},
		"an allowed error":         {[]string{"new MX 10 nowhere ; fencepost allow target-missing"}, "", false},
		"a record nobody can read": {[]string{"new A 192.0.2.700"}, "address-out-of-range", false},
	} {
		text := hosts(n, 2, c.more...)
		next, errs := gateText(t, r, text, first)
		_, alone := gateText(t, r, text, Version{})
		if strings.Join(errs, " ") != strings.Join(alone, " ") {
			t.Errorf("%s: after another version there is %v, alone %v", what, errs, alone)
		}
		want := []string{}
		if c.error != "" {
			want = append(want, fmt.Sprintf("%d: %s", lines, c.error))
		}
		if fmt.Sprint(errs) != fmt.Sprint(want) {
			t.Errorf("%s: %v, want %v", what, errs, want)
		}
		if (next.Checks != nil) != c.cleared || next.Checks != nil && next.Checks.Zone() != next.Zone {
			t.Errorf("%s: cleared is %v, want %v, of the version itself", what, next.Checks != nil, c.cleared)
		}
		if c.cleared {
			if with, err := first.Zone.With(next.Delta); err != nil || with.Digest() != next.Zone.Digest() {
				t.Errorf("%s: the delta does not make the version of the one before: %v", what, err)
			}
		}
	}
	// What is known of one version says nothing of a third.
	other, _ := gateText(t, r, hosts(n, 9, "x MX 10 h1"), Version{})
	if v, _ := gateText(t, r, hosts(n, 10), Version{Zone: other.Zone, Checks: first.Checks}); v.Checks == nil || v.Delta == nil {
		t.Error("a version after one that is not the checked one was not checked as a whole")
	}
}

// Severities decide which checks are run at all.
func TestGateBySettings(t *testing.T) {
	r := reader()
	text := hosts(10, 1, "new CNAME nowhere")
	if _, errs := gateText(t, r, text, Version{}); len(errs) > 0 {
		t.Errorf("a warning keeps the zone out: %v", errs)
	}
	r.Settings.Severity = map[string]diag.Severity{"dangling-alias": diag.Error}
	if _, errs := gateText(t, r, text, Version{}); len(errs) != 1 {
		t.Errorf("a warning that was made an error gives %v", errs)
	}
	r.Settings.Severity = map[string]diag.Severity{"target-missing": diag.Warning}
	if _, errs := gateText(t, r, hosts(10, 1, "new MX 10 nowhere"), Version{}); len(errs) > 0 {
		t.Errorf("an error that was made a warning keeps the zone out: %v", errs)
	}
}

// BenchmarkGate is an edited file of 200,000 names: reading it alone, as the first, and after
// the version before.
func BenchmarkGate(b *testing.B) {
	const n = 200000
	r := reader()
	one, two := hosts(n, 1), hosts(n, 2, "new A 192.0.2.7")
	first, _ := gateText(b, r, one, Version{})
	b.Run("read", func(b *testing.B) {
		for b.Loop() {
			var src source.Set
			f, _ := src.Add("big.example.zone", []byte(two))
			zonefile.Load(f, zonefile.Options{}, &diag.List{})
		}
	})
	b.Run("first", func(b *testing.B) {
		for b.Loop() {
			gateText(b, r, two, Version{})
		}
	})
	b.Run("next", func(b *testing.B) {
		for b.Loop() {
			if v, _ := gateText(b, r, two, first); v.Checks == nil {
				b.Fatal("the whole was checked")
			}
		}
	})
}
