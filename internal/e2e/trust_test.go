package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// workspaceWith is a workspace on a free port whose zones are signed.
func workspaceWith(t *testing.T, zones ...string) string {
	t.Helper()
	dir := t.TempDir()
	conf := fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[policy.standard]\n", freePort(t))
	for _, z := range zones {
		conf += fmt.Sprintf("[[zone]]\nname = %q\nsign = \"standard\"\n", z)
		write(t, filepath.Join(dir, "zones", z+".zone"), strings.ReplaceAll(tides, "tides.example", z))
	}
	write(t, filepath.Join(dir, "fencepost.toml"), conf)
	return dir
}

// After a clock that was ahead nothing is signed, and the message names the way out:
// all is signed anew, what is waited for counts from now, and the next start is quiet.
func TestClockAhead(t *testing.T) {
	t.Parallel()
	dir := workspaceWith(t, "tides.example")
	d := serve(t, dir)
	d.stop()
	if err := os.RemoveAll(filepath.Join(dir, "keys")); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(dir, "state")); err != nil {
		t.Fatal(err)
	}
	ahead := now().AddDate(0, 6, 0)
	d.args = []string{"--now", ahead.Format(time.RFC3339)}
	d.start()
	d.stop()
	d.args = nil
	d.start()
	want(t, fp(t, dir, "status"), 1, "the clock went back", "fencepost reload --clock-is-right")
	want(t, fp(t, dir, "reload"), 1, "the clock went back")
	was := serial(t, d.addr, "tides.example")
	want(t, fp(t, dir, "reload", "--clock-is-right"), 0, "tides.example")
	if now := serial(t, d.addr, "tides.example"); now == was {
		t.Errorf("the serial is %d as before: secondaries would keep the signatures to come", now)
	}
	write(t, filepath.Join(dir, "served"), ok(t, dir, "dump", "tides.example"))
	want(t, fp(t, dir, "verify", "served", "--origin", "tides.example"), 0, "proved")
	ring := read(t, filepath.Join(dir, "keys", "tides.example", "keyring.toml"))
	if year := fmt.Sprint(ahead.Year()) + ahead.Format("-01-"); strings.Contains(ring, year) {
		t.Errorf("the keyring still speaks of %s:\n%s", year, ring)
	}
	d.stop()
	d.start()
	want(t, fp(t, dir, "status"), 0, "renewed")
}

// Keys that are gone are not made anew, whatever else is gone: the zone stays as it
// is, over a restart too, until they are back.
func TestKeysLostAndFound(t *testing.T) {
	t.Parallel()
	dir := workspaceWith(t, "tides.example")
	d := serve(t, dir)
	want(t, fp(t, dir, "status"), 0, "signed", "first signing")
	keys, away := filepath.Join(dir, "keys", "tides.example"), filepath.Join(t.TempDir(), "away")
	tag := func() string {
		var tags []string
		for _, line := range strings.Split(ok(t, ".", "ask", "tides.example", "DNSKEY", "--at", d.addr), "\n") {
			if strings.Contains(line, "DNSKEY  257") {
				tags = append(tags, line)
			}
		}
		return strings.Join(tags, "\n")
	}
	first := tag()
	for name, lose := range map[string]func(){
		"the folder": func() { _ = os.Rename(keys, away) },
		"keyring.toml": func() {
			_ = os.Mkdir(away, 0o700)
			_ = os.Rename(filepath.Join(keys, "keyring.toml"), filepath.Join(away, "keyring.toml"))
		},
		"the folder and the stores": func() { _ = os.Rename(keys, away); d.stop(); _ = os.RemoveAll(filepath.Join(dir, "state")) },
	} {
		lose()
		if name != "the folder and the stores" {
			want(t, fp(t, dir, "reload"), 1, "kept", "none was made")
			want(t, fp(t, dir, "status"), 1, "last good version", "are not renewed while this lasts")
			d.stop()
			d.start()
			want(t, fp(t, dir, "status", "tides.example"), 1, "last good version", "since")
			if got := tag(); got != first {
				t.Errorf("without %s the keys served are\n%s\nnot\n%s", name, got, first)
			}
		}
		if name == "keyring.toml" {
			if err := os.Rename(filepath.Join(away, "keyring.toml"), filepath.Join(keys, "keyring.toml")); err != nil {
				t.Fatal(err)
			}
			_ = os.Remove(away)
		} else {
			_ = os.RemoveAll(keys)
			if err := os.Rename(away, keys); err != nil {
				t.Fatal(err)
			}
		}
		if d.cmd.ProcessState != nil {
			d.start()
		}
		ok(t, dir, "reload")
		want(t, fp(t, dir, "status"), 0, "renewed")
		if got := tag(); got != first {
			t.Errorf("after %s came back the keys served are\n%s\nnot\n%s", name, got, first)
		}
	}
}

// Trouble comes first, is counted, and is what the exit status says; the last good
// version outlives a restart.
func TestStatusOfTrouble(t *testing.T) {
	t.Parallel()
	var names []string
	for i := range 60 {
		names = append(names, fmt.Sprintf("z%02d.example", i))
	}
	dir := workspaceWith(t, names...)
	conf := filepath.Join(dir, "fencepost.toml")
	write(t, conf, strings.ReplaceAll(read(t, conf), "sign = \"standard\"\n", ""))
	d := serve(t, dir)
	r := fp(t, dir, "status")
	want(t, r, 0, "60 zones: 60 well")
	if n := strings.Count(r.out, "\n"); n > 6 {
		t.Errorf("60 zones that are well take %d lines", n)
	}
	bad := filepath.Join(dir, "zones", "z40.example.zone")
	good := read(t, bad)
	write(t, bad, strings.Replace(good, " A ", " AA ", 1))
	missing := filepath.Join(dir, "zones", "z50.example.zone")
	ok(t, dir, "check", "zones/z41.example.zone")
	want(t, fp(t, dir, "reload"), 1, "kept")
	d.stop()
	if err := os.RemoveAll(filepath.Join(dir, "state")); err != nil {
		t.Fatal(err)
	}
	write(t, bad, good)
	gone := read(t, missing)
	d.start() // all are stored anew
	write(t, bad, strings.Replace(good, " A ", " AA ", 1))
	write(t, missing, "no zone at all")
	d.stop()
	d.start()
	r = fp(t, dir, "status")
	want(t, r, 1, "60 zones: 58 well, 2 with trouble ahead", "z40.example", "z50.example", "the last good version stays in service", "fencepost check z40.example && fencepost reload")
	if strings.Contains(r.out, "z41.example") {
		t.Error("a zone that is well is shown among those with trouble")
	}
	if r := fp(t, dir, "status", "--all"); strings.Count(r.out, ".example  primary") != 60 || strings.Index(r.out, "z50.example  primary") > strings.Index(r.out, "z00.example  primary") {
		t.Errorf("--all does not show all, those with trouble first:\n%s", r.out)
	}
	want(t, fp(t, dir, "status", "z41.example"), 0, "serving")
	want(t, fp(t, dir, "status", "z40.example"), 1, "last good version")
	want(t, fp(t, dir, "status", "z99.example"), 3, "no such zone")
	want(t, fp(t, ".", "ask", "z40.example", "SOA", "--at", d.addr), 0, "authoritative")
	write(t, bad, good)
	write(t, missing, gone)
	ok(t, dir, "reload")
	want(t, fp(t, dir, "status"), 0, "60 well")
}

// What of the state is damaged is told, by check too, and set aside; what can still
// be read is served.
func TestDamagedState(t *testing.T) {
	t.Parallel()
	dir := workspaceWith(t, "tides.example", "reef.example")
	d := serve(t, dir)
	ok(t, dir, "reload")
	d.stop()
	store := filepath.Join(dir, "state", "versions.db")
	whole := read(t, store)
	for cut := 1; cut < len(whole); cut += len(whole) / 12 {
		write(t, store, whole[:cut])
		if r := fp(t, dir, "check"); r.status != 0 || strings.Contains(r.err, "panic") {
			t.Fatalf("check over a store cut off at %d: status %d, %s", cut, r.status, r.err)
		}
	}
	write(t, store, whole[:len(whole)/2])
	d.start()
	want(t, fp(t, dir, "status"), 1, "serving", "signed", "were damaged and set aside")
	aside, _ := filepath.Glob(store + ".damaged-*")
	if len(aside) != 1 || read(t, aside[0]) != whole[:len(whole)/2] {
		t.Fatalf("set aside: %v", aside)
	}
	d.logs(filepath.Base(aside[0]))
	if err := os.Remove(aside[0]); err != nil { // somebody has looked
		t.Fatal(err)
	}
	want(t, fp(t, dir, "status"), 0, "serving", "signed")
	d.stop()
	keys := filepath.Join(dir, "keys", "tides.example")
	pem, _ := filepath.Glob(filepath.Join(keys, "*.pem"))
	ring := filepath.Join(keys, "keyring.toml")
	text, key := read(t, ring), read(t, pem[0])
	for what, damage := range map[string]func(){
		"keyring.toml is damaged": func() { write(t, ring, text[:len(text)/2]+"\n[[[") },
		"keyring.toml is gone":    func() { _ = os.Remove(ring) },
		"the key is empty":        func() { write(t, pem[0], "") },
		"the key is gone":         func() { _ = os.Remove(pem[0]) },
		"it is the other's": func() {
			other, _ := filepath.Glob(filepath.Join(dir, "keys", "reef.example", "*.pem"))
			write(t, pem[0], read(t, other[0]))
		},
	} {
		damage()
		if r := fp(t, dir, "check"); r.status != 1 || !strings.Contains(r.out, "keys-unusable") || strings.Count(r.out, "keys-unusable") != 1 {
			t.Errorf("%s: status %d\n%s%s", what, r.status, r.out, r.err)
		}
		for path, text := range map[string]string{ring: text, pem[0]: key} {
			write(t, path, text)
			if err := os.Chmod(path, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		ok(t, dir, "check")
	}
}

// A reload says when a changed policy begins a rollover, and tries at once again what a
// wrong secret kept from working; after a cancel the steps name the keys that go.
func TestReloadFollows(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, true, 0)
	conf := filepath.Join(p.primary, "fencepost.toml")
	write(t, conf, strings.Replace(read(t, conf), "name = \"tides.example\"\n", "name = \"tides.example\"\nsign = \"standard\"\n", 1)+"[policy.standard]\nmargin = \"1s\"\n")
	secrets := filepath.Join(p.secondary, "secrets.toml")
	right := read(t, secrets)
	write(t, secrets, strings.Replace(right, "secret = \"", "secret = \"AAAA", 1))
	if err := os.Chmod(secrets, 0o600); err != nil {
		t.Fatal(err)
	}
	d := serve(t, p.primary)
	second := serve(t, p.secondary)
	eventually(t, "the refusal of a wrong secret", func() bool { return strings.Contains(fp(t, p.secondary, "status").out, "next: see why") })
	write(t, secrets, right)
	fp(t, p.secondary, "reload")
	eventually(t, "the zone, once the secret is right", func() bool { return serial(t, second.addr, "tides.example") != 0 })

	write(t, conf, strings.Replace(read(t, conf), "margin = \"1s\"\n", "margin = \"1s\"\nalgorithm = \"ED25519\"\n", 1))
	want(t, fp(t, p.primary, "reload"), 0, "the policy has other keys", "fencepost roll tides.example")
	_ = d
	l := newLab(t, "")
	l.finish("signing")
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example", "--now", l.stamp())
	ok(t, l.home.dir, "roll", "cancel", "saltmarsh.example", "--now", l.stamp())
	want(t, fp(t, l.home.dir, "roll", "saltmarsh.example"), 0, "remove the keys that are given up")
	out := ok(t, l.home.dir, "roll", "saltmarsh.example")
	if strings.Contains(out, "remove the old key") || strings.Contains(out, "(in ") && strings.Contains(out, " days ago") {
		t.Errorf("after a cancel, by the clock of the server:\n%s", out)
	}
}
