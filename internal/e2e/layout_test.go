package e2e

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Whatever the program writes by itself is in the house style and free of errors,
// after every step: a file is never left for tidy to put right.
func TestWhatIsWrittenIsTidy(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "saltmarsh.example", "--ns", "ns1=198.51.100.53,2001:db8:5a17::53", "--ns", "ns2=203.0.113.53", clock)
	for _, command := range []string{
		"new estuary.example --ns ns1.saltmarsh.example --ns ns2.saltmarsh.example",
		"reverse 198.51.100.0/24",
		"reverse 2001:db8:5a17::/48",
		"add saltmarsh.example cam-north A 198.51.100.34 --ptr",
		"add saltmarsh.example cam-north AAAA 2001:db8:5a17::34 --ptr",
		"add saltmarsh.example cam-north TXT north~mast",
		"add saltmarsh.example float[01-06] A 198.51.100.[201-206] --ptr",
		"add saltmarsh.example @ MX 10 cam-north",
		"add saltmarsh.example @ CAA 0 issue ca.example.net",
		"add saltmarsh.example cam-harbour A 198.51.100.90 --ttl 300",
		"add saltmarsh.example www HTTPS 1 . alpn=h2,h3",
		"change saltmarsh.example cam-north A 198.51.100.36 --ptr",
		"remove saltmarsh.example float03 --ptr",
		"delegate saltmarsh.example gauges --ns ns1.gauges=198.51.100.60 --ns ns2.saltmarsh.example",
		"new gauges.saltmarsh.example --like estuary.example",
		"serial saltmarsh.example",
	} {
		args := strings.Fields(command)
		for i, a := range args {
			args[i] = strings.ReplaceAll(a, "~", " ")
		}
		ok(t, dir, append(args, clock)...)
		if r := fp(t, dir, "tidy", "--check"); r.status != 0 {
			t.Errorf("after %s:\n%s", command, r.out)
		}
		if r := fp(t, dir, "check", clock); r.status != 0 {
			t.Errorf("after %s:\n%s", command, r.out)
		}
	}
	// The same once more from nothing: tidy has no work on what the steps left.
	paths, err := filepath.Glob(filepath.Join(dir, "zones", "*.zone"))
	if err != nil || len(paths) != 5 {
		t.Fatalf("%d zones, want 5: %v %v", len(paths), paths, err)
	}
	before := files(t, dir)
	ok(t, dir, "tidy")
	same(t, before, files(t, dir))
}

// A search finds the same records for a person and for a program, whichever way the
// question is put.
func TestWaysToFind(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	for _, command := range []string{
		"add saltmarsh.example cam-north A 198.51.100.34 --ptr",
		"add saltmarsh.example cam-north AAAA 2001:db8:5a17::34 --ptr",
		"add saltmarsh.example cam-south A 198.51.100.70",
		"add saltmarsh.example watch CNAME cam-north",
		"add saltmarsh.example @ TXT mast=7",
	} {
		ok(t, dir, append(strings.Fields(command), clock)...)
	}
	const reverse6 = "4.3.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.7.1.a.5.8.b.d.0.1.0.0.2.ip6.arpa."
	for _, c := range []struct {
		query string
		want  []string // name and type of each record
	}{
		{"cam-south", []string{"cam-south.saltmarsh.example. A"}},
		{"watch.saltmarsh.example", []string{"watch.saltmarsh.example. CNAME"}},
		{"cam-n*", []string{"34.100.51.198.in-addr.arpa. PTR", reverse6 + " PTR",
			"cam-north.saltmarsh.example. A", "cam-north.saltmarsh.example. AAAA", "watch.saltmarsh.example. CNAME"}},
		{"cam-????? --type A", []string{"cam-north.saltmarsh.example. A", "cam-south.saltmarsh.example. A"}},
		{"198.51.100.70", []string{"cam-south.saltmarsh.example. A"}},
		{"198.51.100.34", []string{"34.100.51.198.in-addr.arpa. PTR", "cam-north.saltmarsh.example. A"}},
		{"198.51.100.64/26", []string{"cam-south.saltmarsh.example. A"}},
		{"2001:db8:5a17::/64", []string{reverse6 + " PTR", "cam-north.saltmarsh.example. AAAA"}},
		{"--text mast=7", []string{"saltmarsh.example. TXT"}},
		{"--type CNAME", []string{"watch.saltmarsh.example. CNAME"}},
		{"cam-n* --zone saltmarsh.example --type AAAA", []string{"cam-north.saltmarsh.example. AAAA"}},
		{"nothing-like-it", nil},
	} {
		args := append([]string{"find"}, strings.Fields(c.query)...)
		if len(c.want) == 0 {
			want(t, fp(t, dir, args...), 1, "nothing found")
			want(t, fp(t, dir, append(args, "--format", "json")...), 1)
			continue
		}
		shown := ok(t, dir, args...)
		var got []string
		for _, h := range findings(t, ok(t, dir, append(args, "--format", "json")...)) {
			name, kind := h["name"].(string), h["type"].(string)
			got = append(got, name+" "+kind)
			if !strings.Contains(shown, name) {
				t.Errorf("find %s: a person is not shown %s:\n%s", c.query, name, shown)
			}
		}
		slices.Sort(got)
		slices.Sort(c.want)
		if !slices.Equal(got, c.want) {
			t.Errorf("find %s: %q, want %q", c.query, got, c.want)
		}
	}
}
