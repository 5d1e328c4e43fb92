package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Who published what and when; what a version changed; and back again, with the comments
// of the file, whether a server runs or not.
func TestHistory(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	file := filepath.Join(p.primary, "zones", "tides.example.zone")
	write(t, file, tides+"; the boat house\nboat    A     192.0.2.60 ; by the pier\n        TXT   \"left\" ; of the door\n")
	s, second := serve(t, p.primary), serve(t, p.secondary)
	want(t, fp(t, p.primary, "history", "tides.example"), 0, "nothing changed in tides.example since it was first served here")
	publish := func(args ...string) {
		t.Helper()
		ok(t, p.primary, args...)
		ok(t, p.primary, "reload")
	}
	publish("change", "tides.example", "boat", "A", "192.0.2.61", "--ttl", "60")
	publish("remove", "tides.example", "boat", "TXT")
	publish("add", "tides.example", "new", "A", "192.0.2.77")
	publish("change", "tides.example", "@", "SOA", "--expire", "21d")
	me, err := exec.Command("id", "-un").Output()
	if err != nil {
		t.Fatal(err)
	}
	r := fp(t, p.primary, "history", "tides.example")
	want(t, r, 0, strings.TrimSpace(string(me)), "file", "+1", "fencepost history tides.example --show")
	if n := strings.Count(r.out, "UTC"); n != 4 {
		t.Errorf("%d versions:\n%s", n, r.out)
	}
	var serials []string
	for _, l := range strings.Split(strings.TrimSpace(r.out), "\n")[1:] {
		serials = append(serials, strings.Fields(l)[0])
	}
	want(t, fp(t, p.primary, "history", "tides.example", "--show", serials[2]), 0, `- boat.tides.example  3600  TXT  "left"`, "by ")
	touching := fp(t, p.primary, "history", "tides.example", "--name", "boat")
	want(t, touching, 0, serials[2], serials[3])
	if strings.Contains(touching.out, serials[1]) {
		t.Errorf("a version that does not touch the name is listed:\n%s", touching.out)
	}
	for _, c := range []struct {
		args []string
		says string
	}{{[]string{"--by", "nobody-of-that-name"}, "no version of tides.example is like that"}, {[]string{"--since", "2040-01-01"}, "no version"}, {[]string{"--since", "1h"}, serials[0]}} {
		want(t, fp(t, p.primary, append([]string{"history", "tides.example"}, c.args...)...), 0, c.says)
	}
	want(t, fp(t, p.primary, "history", "tides.example", "--since", "yesterday"), 2, "write a length of time")
	want(t, fp(t, p.primary, "history", "tides.exmple"), 2, "did you mean tides.example?")
	want(t, fp(t, p.primary, "diff", "serial:1", "serial:"+serials[0], "--origin", "tides.example"), 1, "- boat.tides.example", "+ new.tides.example", "1814400")
	want(t, fp(t, p.primary, "diff", "serial:1", "served:tides.example"), 1, "+ new.tides.example")

	// Versions are told as they come, by a command that waits for them.
	watched := filepath.Join(t.TempDir(), "watched")
	out, err := os.Create(watched)
	if err != nil {
		t.Fatal(err)
	}
	watch := exec.Command(program, "history", "tides.example", "--watch", "--name", "boat", "--format", "json")
	watch.Dir, watch.Stdout = p.primary, out
	if err := watch.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "a version is told", func() bool {
		ok(t, p.primary, "change", "tides.example", "new", "A", "192.0.2.78", "--reload") // touches another name
		ok(t, p.primary, "change", "tides.example", "new", "A", "192.0.2.77", "--reload")
		ok(t, p.primary, "add", "tides.example", "boat", "TXT", "seen", "--reload")
		ok(t, p.primary, "remove", "tides.example", "boat", "TXT", "seen", "--reload")
		return strings.Count(read(t, watched), "\n") > 0
	})
	_ = watch.Process.Signal(os.Interrupt)
	if err := watch.Wait(); err != nil {
		t.Errorf("interrupted: %v", err)
	}
	for _, l := range strings.Split(strings.TrimSpace(read(t, watched)), "\n") {
		if v := object(t, l); v["added"].(float64)+v["removed"].(float64) != 1 { // those of the other name both come and go
			t.Errorf("what was told: %s", l)
		}
	}

	// Back to the beginning, as an edit that keeps what people wrote.
	before := read(t, file)
	want(t, fp(t, p.primary, "restore", "tides.example", "1", "--dry-run"), 0, "would write")
	if read(t, file) != before {
		t.Error("--dry-run wrote the file")
	}
	want(t, fp(t, p.primary, "restore", "tides.example", "77"), 3, "no such version is kept")
	want(t, fp(t, p.primary, "restore", "tides.example", "soon"), 2, "is not a serial")
	ok(t, p.primary, "restore", "tides.example", "1")
	text := read(t, file)
	for _, line := range []string{"; the boat house", "192.0.2.60 ; by the pier", "1209600"} {
		if !strings.Contains(text, line) {
			t.Errorf("%q is gone:\n%s", line, text)
		}
	}
	ok(t, p.primary, "reload")
	want(t, fp(t, p.primary, "diff", "serial:1", "served:tides.example"), 0, "the same records")
	eventually(t, "the secondary goes back with it", func() bool { return serial(t, second.addr, "tides.example") == serial(t, s.addr, "tides.example") })
	want(t, fp(t, p.secondary, "ask", "new.tides.example", "A"), 0, "does not exist")
	want(t, fp(t, p.secondary, "history", "tides.example"), 0, "first", "transfer")
	want(t, fp(t, p.secondary, "restore", "tides.example", "1"), 2, "bring the version back there")
	want(t, fp(t, p.primary, "restore", "tides.example", "1"), 0, "has the records of serial 1 already")

	if out := ok(t, p.primary, "__complete", "restore", "tides.example", ""); !strings.Contains(out, serials[0]+"\t") || !strings.Contains(out, "the oldest that is kept") {
		t.Errorf("completion of serials: %s", out)
	}
	want(t, fp(t, p.primary, "reload", "tides.example"), 0, "unchanged")
	want(t, fp(t, p.primary, "reload", "tide.example"), 3, "no such zone is served here", "did you mean tides.example?")
	want(t, fp(t, p.primary, "reload", "tides.example", "--clock-is-right"), 2, "about all zones")

	// Without a server the store is read, and every version comes back from any other.
	s.stop()
	for _, serial := range append(serials, "1") {
		ok(t, p.primary, "restore", "tides.example", serial)
		want(t, fp(t, p.primary, "diff", "serial:"+serial, "tides.example"), 0, "the same records")
	}
}

// With authors = "git" whoever committed the file has made the version.
func TestHistoryAuthors(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("there is no git")
	}
	p, _ := newPair(t, false, 0)
	config := filepath.Join(p.primary, "fencepost.toml")
	write(t, config, "[history]\nauthors = \"git\"\n"+read(t, config))
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", args...)
		cmd.Dir = p.primary
		cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME=Ada Keeper", "GIT_AUTHOR_EMAIL=ada@tides.example", "GIT_COMMITTER_NAME=x", "GIT_COMMITTER_EMAIL=x@tides.example", "GIT_CONFIG_GLOBAL=/dev/null")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
	}
	git("init", "-q")
	serve(t, p.primary)
	for i, commit := range []bool{true, false} {
		ok(t, p.primary, "add", "tides.example", fmt.Sprint("n", i), "A", "192.0.2.77")
		if commit {
			git("add", "-A", "zones")
			git("commit", "-qm", "a name")
		}
		ok(t, p.primary, "reload")
		r := fp(t, p.primary, "history", "tides.example")
		if line := strings.Split(r.out, "\n")[1]; strings.Contains(line, "Ada Keeper, ") != commit {
			t.Errorf("committed: %v; %s", commit, line)
		}
	}
}

// What is signed here comes back without what the signer made, and the serial that is
// served goes on.
func TestRestoreSigned(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	config := filepath.Join(p.primary, "fencepost.toml")
	write(t, config, strings.Replace(read(t, config), "[[zone]]", "[policy.standard]\ndenial = \"nsec3\"\n[[zone]]\nsign = \"standard\"", 1))
	d := serve(t, p.primary)
	first := serial(t, d.addr, "tides.example")
	ok(t, p.primary, "add", "tides.example", "new", "A", "192.0.2.77")
	ok(t, p.primary, "reload")
	want(t, fp(t, p.primary, "history", "tides.example"), 0, "+1", "file")
	want(t, fp(t, p.primary, "history", "tides.example", "--format", "json"), 0, `"dnssec":`)
	ok(t, p.primary, "restore", "tides.example", fmt.Sprint(first))
	if text := read(t, filepath.Join(p.primary, "zones", "tides.example.zone")); strings.Contains(text, "RRSIG") || strings.Contains(text, "NSEC3") || strings.Contains(text, "new ") {
		t.Errorf("it holds what it should not:\n%s", text)
	}
	ok(t, p.primary, "reload")
	want(t, fp(t, p.primary, "ask", "new.tides.example", "A"), 0, "does not exist")
	if now := serial(t, d.addr, "tides.example"); now <= first+1 {
		t.Errorf("the serial went from %d to %d", first, now)
	}
	// To sign it in another way makes a version too, and none of people's.
	write(t, config, strings.Replace(read(t, config), "nsec3", "nsec", 1))
	ok(t, p.primary, "reload")
	if line := strings.Split(fp(t, p.primary, "history", "tides.example").out, "\n")[1]; !strings.Contains(line, "signed anew") || !strings.Contains(line, "  -  ") {
		t.Errorf("the newest version: %s", line)
	}
	write(t, filepath.Join(p.primary, "dump.zone"), ok(t, p.primary, "dump", "tides.example"))
	want(t, fp(t, p.primary, "verify", "dump.zone"), 0, "proved")
}
