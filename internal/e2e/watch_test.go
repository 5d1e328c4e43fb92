package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// `check --watch` looks again whenever a file is saved, also when an editor puts a
// new file in the place of the old.
func TestWatch(t *testing.T) {
	t.Parallel()
	dir := estate(t)
	cmd := exec.Command(program, "check", "--watch")
	cmd.Dir = dir
	errs, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	stop := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
	t.Cleanup(func() { stop.Stop(); _ = cmd.Process.Kill(); _ = cmd.Wait() })
	lines := bufio.NewScanner(errs)
	next := func(want string) {
		t.Helper()
		for lines.Scan() {
			if strings.Contains(lines.Text(), "watching") {
				t.Fatalf("a check without %q", want)
			}
			if strings.Contains(lines.Text(), want) {
				for lines.Scan() && !strings.Contains(lines.Text(), "watching ") {
				}
				return
			}
		}
		t.Fatalf("the program ended without saying %q", want)
	}
	next("nothing to report")
	zone := filepath.Join(dir, "zones", "saltmarsh.example.zone")
	good := read(t, zone)
	write(t, zone, good+"www CNAME nosuch\n")
	next("1 warning")
	write(t, zone+"~", good)
	if err := os.Rename(zone+"~", zone); err != nil {
		t.Fatal(err)
	}
	next("nothing to report")
	// One that is away for a while is waited for.
	if err := os.Remove(zone); err != nil {
		t.Fatal(err)
	}
	next("1 error")
	write(t, zone, good)
	next("nothing to report")
	want(t, fp(t, dir, "check", "--watch", "--fix"), 2, "--watch is for people")
}

// The configuration is checked like zones are: position, kind of mistake, advice.
func TestConfigurationMistakes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, c := range []struct {
		text string
		says []string
	}{
		{"[serial]\nstyle = 3\n", []string{"fencepost.toml:2:9", "config-bad-value", "a text"}},
		{"[serve]\nlisten = \"127.0.0.1\"\n", []string{"fencepost.toml:2:10", "config-bad-value", "a list"}},
		{"[serial\n", []string{"fencepost.toml:1:", "config-syntax"}},
		{"[[zone]]\nname = \"a.example\"\nsend-to = [\"nobody\"]\n", []string{"fencepost.toml:3:1", "there is no peer nobody", "[peer.nobody]"}},
		{"[[zone]]\nname = \"a.example\"\nsign = \"standart\"\n[policy.standard]\nalgorithm = \"ECDSAP256SHA256\"\n", []string{"did you mean standard?"}},
		{"[policy.p]\nalgorithm = \"ECDSA\"\n", []string{"fencepost.toml:2:1", "is not a DNSSEC algorithm"}},
		{"[[zone]]\nname = \"a..example\"\n", []string{"is not a zone name"}},
		{"[[zone]]\nname = \"a.example\"\n[[zone]]\nname = \"A.example.\"\n", []string{"fencepost.toml:4:1", "listed twice"}},
		{"[serv]\nlisten = []\n", []string{"did you mean serve?"}},
		{"[audience.in]\nnetworks = [\"10\"]\n", []string{"fencepost.toml:2:1", "is not a network"}},
		{"[audience.\"in side\"]\nnetworks = [\"203.0.113.0/24\"]\n", []string{"letters, digits and hyphens"}},
		{"[[check.allow]]\ncode = \"missing-glu\"\n", []string{"fencepost.toml:2:1", "did you mean missing-glue?"}},
		{"[check.severity]\nunclosed-quote = \"off\"\n", []string{"that can be changed or allowed"}},
	} {
		write(t, filepath.Join(dir, "fencepost.toml"), c.text)
		want(t, fp(t, dir, "check"), 1, c.says...)
	}
}
