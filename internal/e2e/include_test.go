package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// An edit reaches a record in an included file, and every zone that includes it
// gets a new serial.
func TestEditIncluded(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", ".", "--zone", "a.example", "--ns", "ns1=192.0.2.1", "--ns", "ns2=198.51.100.1", clock)
	ok(t, dir, "new", "b.example", "--ns", "ns1=192.0.2.1", "--ns", "ns2=198.51.100.1", clock)
	part := filepath.Join(dir, "zones", "common.part")
	write(t, part, "; both have it\nwww    A    192.0.2.80\n       AAAA 2001:db8::80\n")
	for _, z := range []string{"a.example", "b.example"} {
		write(t, filepath.Join(dir, "zones", z+".zone"), zoneText(t, dir, z)+"$INCLUDE common.part\n")
	}
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	ok(t, dir, "change", "a.example", "www", "A", "192.0.2.81", clock)
	ok(t, dir, "add", "b.example", "www", "TXT", "hello", clock)
	if got := read(t, part); got != "; both have it\nwww    A    192.0.2.81\n       AAAA 2001:db8::80\n       TXT  \"hello\"\n" {
		t.Errorf("the part is\n%s", got)
	}
	for _, z := range []string{"a.example", "b.example"} {
		if !strings.Contains(zoneText(t, dir, z), "2026112302") {
			t.Errorf("%s has no new serial:\n%s", z, zoneText(t, dir, z))
		}
	}
	// A change that would break the other zone is refused for both.
	write(t, filepath.Join(dir, "zones", "b.example.zone"), zoneText(t, dir, "b.example")+"@ MX 10 www\n")
	before := read(t, part)
	want(t, fp(t, dir, "remove", "a.example", "www", clock), 1, "target-missing", "b.example.zone")
	if read(t, part) != before {
		t.Error("the part was changed all the same")
	}
	// Included twice, it is not certain what a change does.
	write(t, filepath.Join(dir, "zones", "b.example.zone"), zoneText(t, dir, "b.example")+"$INCLUDE common.part sub\n")
	want(t, fp(t, dir, "change", "b.example", "www", "A", "192.0.2.9", clock), 3, "included more than once")
}

// Files from outside the folder are read only where the workspace says so.
func TestIncludeFrom(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ws := filepath.Join(dir, "ws")
	ok(t, dir, "init", ws, "--zone", "a.example", "--ns", "ns1=192.0.2.1", "--ns", "ns2=198.51.100.1")
	write(t, filepath.Join(dir, "common", "hosts.part"), "www A 192.0.2.80\n")
	write(t, filepath.Join(ws, "zones", "a.example.zone"), read(t, filepath.Join(ws, "zones", "a.example.zone"))+"$INCLUDE ../../common/hosts.part\n")
	want(t, fp(t, ws, "check"), 1, "bad-include", "outside the folder")
	config := filepath.Join(ws, "fencepost.toml")
	write(t, config, read(t, config)+"\n[include]\nfrom = [\"../common\"]\n")
	want(t, fp(t, ws, "check"), 0, "nothing to report")
	write(t, config, strings.Replace(read(t, config), "../common", "../nowhere", 1))
	want(t, fp(t, ws, "check"), 1, "is not a folder")
}

// Two audiences: what all see is written once.
func TestAudience(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	const zone = "saltmarsh.example"
	want(t, fp(t, dir, "new", zone, "--audience", "inside", clock), 2, "--network")
	want(t, fp(t, dir, "new", zone, "--audience", "inside", "--network", "ten", clock), 2, "is not a network")
	ok(t, dir, "new", zone, "--audience", "inside", "--network", "203.0.113.0/24", clock)
	want(t, fp(t, dir, "check"), 0, "nothing to report")
	if s := zoneText(t, dir, zone); strings.Contains(s, "NS ") || !strings.Contains(s, "$INCLUDE saltmarsh.example.part") || !strings.Contains(s, "SOA") {
		t.Error(s)
	}
	ok(t, dir, "add", zone+"@inside", "printer", "A", "10.0.0.7", clock)
	ok(t, dir, "add", zone, "boat", "A", "198.51.100.77", clock) // all see it
	want(t, fp(t, dir, "ask", "boat."+zone, "--zone", zone+"@inside"), 0, "198.51.100.77")
	want(t, fp(t, dir, "check"), 0, "only the audience inside sees: printer")
	want(t, fp(t, dir, "ask", "printer."+zone, "--zone", zone+"@inside"), 0, "10.0.0.7")
	want(t, fp(t, dir, "ask", "printer."+zone, "--zone", zone), 0, "does not exist")
	ok(t, dir, "change", zone, "ns1", "A", "198.51.100.54", clock)
	want(t, fp(t, dir, "ask", "ns1."+zone, "--zone", zone+"@inside"), 0, "198.51.100.54")
	ok(t, dir, "new", zone, "--audience", "lab", "--network", "2001:db8:1::/48", clock)
	want(t, fp(t, dir, "check"), 0, "only the audience inside sees: printer")
	config := filepath.Join(dir, "fencepost.toml")
	if s := read(t, config); !strings.Contains(s, `audiences = ["lab", "inside"]`) {
		t.Error(s)
	}
	want(t, fp(t, dir, "add", zone+"@nobody", "x", "A", "10.0.0.1"), 3, "no file for the audience nobody")
	write(t, config, strings.Replace(read(t, config), `["lab", "inside"]`, `["lab"]`, 1))
	want(t, fp(t, dir, "check"), 0, "does not list the audience inside")
	write(t, config, strings.Replace(read(t, config), `["lab"]`, `["lob"]`, 1))
	want(t, fp(t, dir, "check"), 1, "did you mean lab?")
}
