package e2e

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// A delegation with faults, audited by the built program over sockets: exit statuses, JSON, and the
// page, which needs nothing from elsewhere.
func TestAudit(t *testing.T) {
	t.Parallel()
	dir := inWorld(t, "\n[[fault]]\nkind = \"old-ds\"\nzone = \"saltmarsh.example\"\n\n[[fault]]\nkind = \"stale\"\nserver = \"ns.harbour.example\"\nzone = \"saltmarsh.example\"\n")
	want(t, fp(t, dir, "audit", "saltmarsh.example"), 1, "chain-broken", "fencepost chain saltmarsh.example", "has serial 2026112800; the newest is 2026112801")
	want(t, fp(t, dir, "audit", "harbour.example"), 0, "tests:")
	want(t, fp(t, dir, "audit", "island.example"), 0, "servers-in-one-network")
	want(t, fp(t, dir, "audit", "island.example", "--fail-on", "warning"), 1, "servers-in-one-network")
	want(t, fp(t, dir, "audit", "saltmarsh.example", "--as-if", "ns.harbour.example=203.0.113.53"), 1, "move-breaks-trust", "serials-differ", "only the zone itself names ns1.saltmarsh.example")
	all := fp(t, dir, "audit", "island.example", "--all")
	want(t, all, 0, "passed  glue-missing", "key-short  not looked at: the zone is not signed")

	var r struct {
		Counts map[string]int
		Tests  []struct {
			Code, Outcome string
			Findings      []struct{ Message, Suggestion string }
		}
	}
	if err := json.Unmarshal([]byte(fp(t, dir, "audit", "saltmarsh.example", "--format", "json").out), &r); err != nil {
		t.Fatal(err)
	}
	found, explained := 0, ok(t, dir, "explain", "--all", "--format", "json")
	for _, x := range r.Tests {
		if !strings.Contains(explained, `"code":"`+x.Code+`"`) {
			t.Errorf("%s is not explained", x.Code)
		}
		if (x.Outcome == "found") != (len(x.Findings) > 0) {
			t.Errorf("%s: %s with %d findings", x.Code, x.Outcome, len(x.Findings))
		}
		if x.Outcome == "found" {
			found++
		}
	}
	if c := r.Counts; len(r.Tests) < 70 || c["error"]+c["warning"]+c["note"] != found || found+c["passed"]+c["do_not_apply"] != len(r.Tests) || c["error"] == 0 {
		t.Errorf("%d tests, %d with findings, %v", len(r.Tests), found, r.Counts)
	}

	page := fp(t, dir, "audit", "saltmarsh.example", "--format", "html")
	want(t, page, 1, "<!doctype html>", "prefers-color-scheme:dark", "size:A4", "Validating resolvers reject the zone", "<svg")
	if m := regexp.MustCompile(`(src|href|url)[=(]["\']?(https?:)?//[^"\'>]*`).FindString(strings.ReplaceAll(page.out, "http://www.w3.org/", "")); m != "" || strings.Contains(page.out, "<script") {
		t.Errorf("the page needs %q from elsewhere, or runs something", m)
	}
	inBrowser(t, page.out, "What was found")
}

// inBrowser loads a page in Chromium, where that is installed, and looks for a text in what it
// made of it.
func inBrowser(t *testing.T, page, text string) {
	t.Helper()
	browser, err := exec.LookPath("chromium")
	if err != nil {
		t.Log("there is no chromium here: the page was not loaded")
		return
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "page.html")
	write(t, file, page)
	cmd := exec.CommandContext(t.Context(), browser, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
		"--user-data-dir="+filepath.Join(dir, "profile"), "--dump-dom", "file://"+file)
	cmd.WaitDelay = 30 * time.Second
	out, err := cmd.Output()
	if err != nil {
		t.Logf("chromium does not start here (%v): the page was not loaded", err)
		return
	}
	if !strings.Contains(string(out), text) || !strings.Contains(string(out), "</footer>") {
		t.Errorf("loaded, the page lacks %q:\n%.600s", text, out)
	}
}
