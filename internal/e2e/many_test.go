package e2e

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// estate is a workspace with a forward zone and reverse zones for both families.
func estate(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "saltmarsh.example", "--ns", "ns1=198.51.100.53", "--ns", "ns2.example.net", clock)
	for _, z := range []string{"100.51.198.in-addr.arpa", "7.1.a.5.8.b.d.0.1.0.0.2.ip6.arpa"} {
		ok(t, dir, "new", z, "--ns", "ns1.saltmarsh.example", "--ns", "ns2.example.net", "--contact", "ines@saltmarsh.example", clock)
	}
	return dir
}

func zoneText(t *testing.T, dir, zone string) string {
	t.Helper()
	return read(t, filepath.Join(dir, "zones", zone+".zone"))
}

// fpIn runs the program with text on its standard input.
func fpIn(t *testing.T, dir, in string, args ...string) result {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(in)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	_ = cmd.Run()
	return result{out: out.String(), err: errs.String(), status: cmd.ProcessState.ExitCode()}
}

func TestRanges(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	before := zoneText(t, dir, "saltmarsh.example")
	want(t, fp(t, dir, "add", "saltmarsh.example", "gauge[01-40]", "A", "198.51.100.[11-49]"), 2, "gauge[01-40] has 40 members and 198.51.100.[11-49] has 39")
	want(t, fp(t, dir, "add", "saltmarsh.example", "gauge[09-01]", "A", "198.51.100.[11-49]"), 2, "from a smaller to a larger")
	want(t, fp(t, dir, "add", "saltmarsh.example", "gauge[1-40]", "A", "198.51.100.[230-269]"), 2, "256 is over 255")
	want(t, fp(t, dir, "add", "saltmarsh.example", "gauge[01-40]", "A", "198.51.100.[11-50]", "--dry-run"), 0, "+ gauge07         A      198.51.100.17", "would write")
	if zoneText(t, dir, "saltmarsh.example") != before {
		t.Fatal("a refused or dry edit changed the file")
	}
	ok(t, dir, "add", "saltmarsh.example", "gauge[01-40]", "A", "198.51.100.[11-50]", clock)
}

func TestHexRanges(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	want(t, fp(t, dir, "add", "saltmarsh.example", "g[1-26]", "AAAA", "2001:db8:5a17::[1-1a]", clock), 0, "+ g26             AAAA   2001:db8:5a17::1a")
	want(t, fp(t, dir, "add", "saltmarsh.example", "pool", "A", "198.51.100.[1-3]", clock), 0, "+ pool            A      198.51.100.1\n+                 A      198.51.100.2\n+                 A      198.51.100.3")
	want(t, fp(t, dir, "add", "saltmarsh.example", "note", "TXT", "see [1-3]", clock), 0, `"see [1-3]"`)
	want(t, fp(t, dir, "remove", "saltmarsh.example", "g[1-26]", clock), 0, "- g26 ")
	if s := zoneText(t, dir, "saltmarsh.example"); strings.Contains(s, "g26") || !strings.Contains(s, "pool") {
		t.Error(s)
	}
	want(t, fp(t, dir, "check"), 0)
}

// PTR records come, move and go with their addresses, in one step.
func TestPTR(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	const v4, v6 = "100.51.198.in-addr.arpa", "7.1.a.5.8.b.d.0.1.0.0.2.ip6.arpa"
	ok(t, dir, "add", "saltmarsh.example", "cam", "A", "198.51.100.31", "--ptr", clock)
	ok(t, dir, "add", "saltmarsh.example", "cam", "AAAA", "2001:db8:5a17::31", "--ptr", clock)
	if s := zoneText(t, dir, v4); !strings.Contains(s, "31              PTR    cam.saltmarsh.example.") || !strings.Contains(s, "2026112301") {
		t.Error(s)
	}
	if s := zoneText(t, dir, v6); !strings.Contains(s, "1.3.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0 PTR") {
		t.Error(s)
	}
	want(t, fp(t, dir, "add", "saltmarsh.example", "other", "A", "198.51.100.31", "--ptr", clock), 3, "points back to cam.saltmarsh.example. already, at zones/100.51.198")
	ok(t, dir, "change", "saltmarsh.example", "cam", "A", "198.51.100.32", "--ptr", clock)
	if s := zoneText(t, dir, v4); strings.Contains(s, "31  ") || !strings.Contains(s, "32              PTR    cam") {
		t.Error(s)
	}
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	ok(t, dir, "remove", "saltmarsh.example", "cam", "--ptr", clock)
	if strings.Contains(zoneText(t, dir, v4)+zoneText(t, dir, v6)+zoneText(t, dir, "saltmarsh.example"), "cam") {
		t.Error("something of cam is left")
	}
	forward := zoneText(t, dir, "saltmarsh.example")
	want(t, fp(t, dir, "add", "saltmarsh.example", "far", "A", "203.0.113.9", "--ptr", clock), 3, "no reverse zone of the workspace holds 203.0.113.9")
	want(t, fp(t, dir, "add", "saltmarsh.example", "far", "MX", "10", "ns1", "--ptr", clock), 2, "--ptr is for A and AAAA")
	if zoneText(t, dir, "saltmarsh.example") != forward {
		t.Error("a change that could not be made whole was made in part")
	}
}

func TestStandardInput(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	r := fpIn(t, dir, "one A 198.51.100.1 ; first\n\n  TXT \"a; b\"\ntwo 300 IN AAAA ( 2001:db8:5a17::2 )\n", "add", "saltmarsh.example", "-", clock)
	want(t, r, 0, "+                 TXT    \"a; b\"", "AAAA")
	want(t, fpIn(t, dir, "three A 198.51.100.3\nfour A 198.51.100.400\n", "add", "saltmarsh.example", "-"), 2, "400 is over 255")
	want(t, fpIn(t, dir, "three A 198.51.100.3\nthree A 198.51.100.3\n", "add", "saltmarsh.example", "-"), 2, "added twice")
	want(t, fpIn(t, dir, "three TXT \"open\n", "add", "saltmarsh.example", "-"), 2, "line 1 of standard input")
	want(t, fpIn(t, dir, "", "add", "saltmarsh.example", "-"), 2, "holds no records")
	if strings.Contains(zoneText(t, dir, "saltmarsh.example"), "three") {
		t.Error("part of a refused input was written")
	}
	want(t, fpIn(t, dir, "one\ntwo AAAA\n", "remove", "saltmarsh.example", "-", clock), 0, "- one ")
}

func TestNamesAndTexts(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	want(t, fp(t, dir, "add", "saltmarsh.example", "Vögel", "A", "198.51.100.9", clock), 0, "Vögel is written xn--vgel-5qa", "+ xn--vgel-5qa    A")
	want(t, fp(t, dir, "add", "saltmarsh.example", "www", "CNAME", "vögel", clock), 0, "CNAME  xn--vgel-5qa")
	want(t, fp(t, dir, "add", "saltmarsh.example", "a\u0300\u200d", "A", "198.51.100.9", clock), 2, "cannot be an internationalised name")
	long := strings.Repeat("x", 300)
	want(t, fp(t, dir, "add", "saltmarsh.example", "t", "TXT", long, clock), 2, "--split")
	want(t, fp(t, dir, "add", "saltmarsh.example", "t", "TXT", long, "--split", clock), 0, `x" "x`)
}

// Two edits at once lose nothing.
func TestEditsAtOnce(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	var g sync.WaitGroup
	for i := range 12 {
		g.Go(func() {
			if r := fp(t, dir, "add", "saltmarsh.example", fmt.Sprintf("h%d", i), "A", fmt.Sprintf("198.51.100.%d", 100+i), clock); r.status != 0 {
				t.Errorf("%s", r.err)
			}
		})
	}
	g.Wait()
	s := zoneText(t, dir, "saltmarsh.example")
	for i := range 12 {
		if !strings.Contains(s, fmt.Sprintf("h%d ", i)) {
			t.Errorf("h%d is lost", i)
		}
	}
	if !strings.Contains(s, "2026112312") {
		t.Errorf("the serial does not count twelve edits:\n%s", s)
	}
}

// One edit in many zones: all that fit, or none when one of them refuses it; those with
// nothing to be done are passed over.
func TestManyZones(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	servers := []string{"--ns", "ns1=198.51.100.53", "--ns", "ns2=203.0.113.53"}
	ok(t, dir, append([]string{"init", ".", "--zone", "a.example"}, servers...)...)
	for _, z := range []string{"b.example", "c.test"} {
		ok(t, dir, append([]string{"new", z}, servers...)...)
	}
	texts := func() (out string) {
		for _, z := range []string{"a.example", "b.example", "c.test"} {
			out += zoneText(t, dir, z)
		}
		return strings.Join(strings.Fields(out), " ")
	}
	ok(t, dir, "add", "a.example", "web", "A", "198.51.100.80")
	ok(t, dir, "add", "a.example", "old", "A", "198.51.100.80")
	ok(t, dir, "add", "b.example", "www", "A", "198.51.100.80")
	before := texts()
	// It would put an alias beside data in one of the zones: none is changed.
	want(t, fp(t, dir, "add", "--zones", "*", "www", "CNAME", "ns1"), 1, "alias-beside-data")
	want(t, fp(t, dir, "add", "--zones", "*.org", "www", "A", "192.0.2.1"), 2, "no zone of the workspace")
	want(t, fp(t, dir, "add", "--zones", "[", "www", "A", "192.0.2.1"), 2, "not a pattern")
	want(t, fp(t, dir, "change", "--zones", "*", "--everywhere", "A", "203.0.113.80"), 2, "--from DATA")
	want(t, fp(t, dir, "change", "--zones", "*", "--everywhere", "A", "203.0.113.80", "--from", "198.51.100.80", "--dry-run"), 0, "would write")
	if texts() != before {
		t.Fatal("a refused or dry edit changed a zone")
	}
	want(t, fp(t, dir, "change", "--zones", "*", "--everywhere", "A", "203.0.113.80", "--from", "198.51.100.80"), 0, "1 of 3 zones have nothing to be changed")
	if now := texts(); strings.Count(now, "203.0.113.80") != 3 || strings.Contains(now, "198.51.100.80") {
		t.Errorf("renumbered:\n%s", now)
	}
	want(t, fp(t, dir, "add", "--zones", "*.EXAMPLE", "@", "MX", "10", "ns2"), 0)
	want(t, fp(t, dir, "add", "--zones", "*", "@", "MX", "10", "ns2"), 0, "2 of 3 zones have nothing")
	want(t, fp(t, dir, "change", "--zones", "?.example", "@", "MX", "20", "ns1", "--from", "10 ns2", "--ttl", "300"), 0)
	want(t, fp(t, dir, "change", "--zones", "*", "@", "SOA", "--expire", "21d"), 0)
	want(t, fp(t, dir, "remove", "--zones", "*", "@", "MX", "10", "ns2"), 0, "2 of 3")
	now := texts()
	if strings.Count(now, "MX 20 ns1") != 2 || strings.Contains(now, "MX 10 ns2") || strings.Count(now, "1814400") != 3 {
		t.Errorf("after several edits of many:\n%s", now)
	}
	want(t, fpIn(t, dir, "x A 192.0.2.7\ny A 192.0.2.8\n", "add", "--zones", "*", "-"), 0)
	if n := strings.Count(texts(), "192.0.2.8"); n != 3 {
		t.Errorf("from standard input: %d", n)
	}
	// In many zones the same is shown once, with what it brings about, and what differs by itself; programs
	// are told all of it.
	for i := range 9 {
		ok(t, dir, append([]string{"new", fmt.Sprintf("z%d.example", i)}, servers...)...)
	}
	r := fp(t, dir, "add", "--zones", "*.example", "cam", "CNAME", "nobody.c.test.")
	want(t, r, 0, "wrote 11 zones, with new serials", "and 5 more", "target-missing-elsewhere, 11 times")
	if strings.Count(r.out, "+ cam") > 2 || strings.Count(r.out, "nobody.c.test. does not exist") > 2 {
		t.Errorf("the same is shown more than once:\n%s", r.out)
	}
	r = fp(t, dir, "remove", "--zones", "*.example", "cam", "CNAME", "--format", "json")
	if files := object(t, r.out)["files"].([]any); len(files) != 11 {
		t.Errorf("programs are told of %d files", len(files))
	}
}
