package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A master file from elsewhere comes with what it includes, also from below its folder; what cannot come
// along is named; one with errors is written and not listed; and it may come from standard input.
func TestPullTakesIncludes(t *testing.T) {
	t.Parallel()
	top := t.TempDir()
	old, dir := filepath.Join(top, "old"), filepath.Join(top, "work")
	ok(t, top, "init", "work")
	head := "$TTL 300\n@ SOA ns1 h 1 7200 900 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\n"
	write(t, filepath.Join(old, "hosts", "deep.inc"), "deep A 192.0.2.81\n")
	write(t, filepath.Join(old, "hosts", "all.inc"), "www A 192.0.2.80\n$INCLUDE deep.inc\n")
	write(t, filepath.Join(old, "tides"), head+"$INCLUDE hosts/all.inc\n")
	want(t, fp(t, dir, "pull", "tides.example", "--file", filepath.Join(old, "tides")), 0, "5 records", filepath.Join("zones", "hosts", "all.inc"), filepath.Join("zones", "hosts", "deep.inc"))
	want(t, fp(t, dir, "find", "deep.tides.example"), 0, "192.0.2.81")
	want(t, fp(t, dir, "pull", "reef.example", "--file", filepath.Join(old, "tides")), 0, "5 records") // the same files again
	write(t, filepath.Join(old, "hosts", "all.inc"), "www A 192.0.2.99\n")
	want(t, fp(t, dir, "pull", "dune.example", "--file", filepath.Join(old, "tides")), 3, "all.inc exists already and is another")
	if _, err := os.Stat(filepath.Join(dir, "zones", "dune.example.zone")); err == nil {
		t.Error("the zone was written without what it includes")
	}

	write(t, filepath.Join(old, "bad"), head+"$INCLUDE gone.inc\n$INCLUDE ../elsewhere\n")
	want(t, fp(t, dir, "pull", "bad.example", "--file", filepath.Join(old, "bad")), 1, "MISSING: gone.inc", "NOT TAKEN ALONG: ../elsewhere", "NOT LISTED in fencepost.toml")
	if read(t, filepath.Join(dir, "zones", "bad.example.zone")) == "" || strings.Contains(read(t, filepath.Join(dir, "fencepost.toml")), "bad.example") {
		t.Error("a zone with errors is listed, or not written")
	}

	cmd := exec.Command(program, "pull", "gull.example", "--file", "-")
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(head)
	if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), "gull.example: serial 1, 3 records") {
		t.Errorf("from standard input: %v\n%s", err, out)
	}
	if !strings.Contains(read(t, filepath.Join(dir, "fencepost.toml")), "gull.example") {
		t.Error("the zone from standard input is not listed")
	}
}

// A name in any script is the same name to every command, as zone, owner and pattern.
func TestAnyScript(t *testing.T) {
	t.Parallel()
	top := t.TempDir()
	dir := filepath.Join(top, "work")
	ok(t, top, "init", "work")
	ok(t, dir, "new", "müller.example")
	want(t, fp(t, dir, "add", "müller.example", "büro", "A", "192.0.2.9"), 0, "xn--bro-hoa")
	for _, pattern := range []string{"büro", "büro.müller.example", "BÜRO.Müller.example."} {
		want(t, fp(t, dir, "find", pattern), 0, "xn--bro-hoa.xn--mller-kva.example")
	}
	for _, c := range [][]string{{"check"}, {"serial"}, {"handover"}, {"key", "new"}, {"key", "list"}, {"roll"}, {"history"}, {"tidy"}, {"expect", "--record"}, {"expect"}, {"secondaries"}} {
		if r := fp(t, dir, append(c, "müller.example")...); r.status > 1 || strings.Contains(r.err, "no zone") {
			t.Errorf("%v: status %d\n%s%s", c, r.status, r.out, r.err)
		}
	}
	want(t, fp(t, dir, "remove", "müller.example", "büro"), 0, "xn--bro-hoa")
	want(t, fp(t, dir, "expect", "example.org"), 2, "there are no expectations of example.org", "fencepost expect --record example.org")
}

// A check of a folder names the files that it passes over; what a zone includes was looked at.
func TestCheckFolderPassesOverNothingSilently(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "tides.example.zone"), "$TTL 300\n@ SOA ns1 h 1 7200 900 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\n$INCLUDE hosts.inc\n")
	write(t, filepath.Join(dir, "hosts.inc"), "www A 192.0.2.80\n")
	write(t, filepath.Join(dir, "db.reef.example"), "$TTL 300\n@ SOA\n")
	r := fp(t, dir, "check", ".")
	want(t, r, 0, "passed over", "db.reef.example; give them by name")
	if strings.Contains(r.err, "hosts.inc") {
		t.Errorf("what is included counts as passed over:\n%s", r.err)
	}
}
