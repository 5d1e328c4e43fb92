package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"
)

// A signed zone moves here from elsewhere with its keys: what resolvers have to see is
// the same before and after, and a policy that was forgotten is noticed before the
// zone would go dark.
func TestMoveSignedZone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	old, here := filepath.Join(dir, "old"), filepath.Join(dir, "here")
	write(t, filepath.Join(old, "plain.zone"), labZone)
	for _, role := range []string{"ksk", "zsk"} {
		ok(t, old, "key", "new", "saltmarsh.example", "--keys", "k", "--algorithm", "8", "--role", role)
	}
	ok(t, old, "sign", "plain.zone", "--origin", "saltmarsh.example", "--keys", "k", "-o", "signed.txt", "--denial", "nsec3", "--now", "2026-11-23T12:00:00Z")
	tags := tagsOf(t, old, "--keys", "k")
	for _, tag := range tags {
		ok(t, old, "key", "export", "saltmarsh.example", tag, "--keys", "k", "--as", "text", "-o", tag+".private")
	}
	ds := strings.TrimSpace(strings.Split(ok(t, old, "key", "export", "saltmarsh.example", tags[0], "--keys", "k", "--as", "ds"), "\n")[0])

	policy := "[policy.moved]\nalgorithm = \"RSASHA256\"\nkeys = \"split\"\ndenial = \"nsec3\"\n"
	write(t, filepath.Join(here, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.registry]\naddress = \"127.0.0.1:%d\"\n%s", freePort(t), freePort(t), policy))
	want(t, fp(t, here, "pull", "saltmarsh.example", "--from", "../old/signed.txt"), 2, "is a file", "--file")
	want(t, fp(t, here, "pull", "saltmarsh.example", "--file", "../old/signed.txt", "--unsigned"), 0, "Left out", "2 DNSKEY", "NSEC3")
	if text := read(t, filepath.Join(here, "zones", "saltmarsh.example.zone")); strings.Contains(text, "RRSIG") || !strings.Contains(text, "198.51.100.80") {
		t.Fatalf("the zone that was taken over:\n%s", text)
	}
	files, err := filepath.Glob(filepath.Join(old, "*"))
	if err != nil {
		t.Fatal(err)
	}
	args := append([]string{"key", "import", "saltmarsh.example"}, files...)
	want(t, fp(t, here, append(args, "--public", "../old/signed.txt", "--activate")...), 0, "imported key "+tags[0], "imported key "+tags[1], "passed over")
	if list := ok(t, here, "key", "list", "saltmarsh.example"); !strings.Contains(list, "ksk") || !strings.Contains(list, "zsk") || strings.Count(list, "active") != 2 {
		t.Errorf("the keys that were taken over:\n%s", list)
	}
	want(t, fp(t, here, "check"), 1, "keys-without-policy")
	d := serve(t, here)
	d.logs("would become unsigned while its parent has a DS")
	conf := filepath.Join(here, "fencepost.toml")
	write(t, conf, strings.Replace(read(t, conf), "\"saltmarsh.example\"\n", "\"saltmarsh.example\"\nsign = \"moved\"\nparent = [\"registry\"]\n", 1))
	want(t, fp(t, here, "check"), 0)
	ok(t, here, "reload")
	write(t, filepath.Join(here, "served.txt"), ok(t, here, "dump", "saltmarsh.example"))
	fields := strings.Fields(ds)
	want(t, fp(t, here, "verify", "served.txt", "--origin", "saltmarsh.example", "--ds", strings.Join(fields[len(fields)-4:], " ")), 0, "proved", "follow from the 1 anchor", "NSEC3")
	want(t, fp(t, here, "verify", "served.txt", "--origin", "saltmarsh.example", "--ds", "1 8 2 "+strings.Repeat("00", 32)), 1, "untrusted-keys")
	want(t, fp(t, here, "verify", "served.txt", "--origin", "saltmarsh.example", "--ds", "hello"), 2, "not a DS record")
}

// Signing offline, in every way: proved each time, the same twice, and only what
// changed is new.
func TestSignOptions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a.zone"), "$ORIGIN saltmarsh.example.\n"+labZone+"open NS ns.open\nns.open A 198.51.100.7\n*.w A 198.51.100.8\n")
	ok(t, dir, "key", "new", "saltmarsh.example", "--keys", "k", "--algorithm", "15")
	at := func(s string, args ...string) []string { return append(args, "--keys", "k", "--now", s) }
	const first, later = "2026-11-23T12:00:00Z", "2026-11-25T12:00:00Z"
	for name, flags := range map[string][]string{"nsec": nil, "nsec3": {"--denial", "nsec3"}, "opt-out": {"--denial", "nsec3", "--opt-out"}, "salted": {"--denial", "nsec3", "--salt", "aabb", "--iterations", "2"}, "digest": {"--zonemd", "--check-all"}} {
		args := at(first, append([]string{"sign", "a.zone", "-o", name}, flags...)...)
		ok(t, dir, args...)
		once := read(t, filepath.Join(dir, name))
		ok(t, dir, args...)
		if read(t, filepath.Join(dir, name)) != once {
			t.Errorf("%s: signing again gives another file", name)
		}
		texts := []string{"proved", map[bool]string{true: "NSEC3", false: "NSEC"}[strings.Contains(strings.Join(flags, " "), "nsec3")]}
		if name == "digest" {
			texts = append(texts, "ZONEMD, SHA-384")
			if v := object(t, ok(t, dir, "verify", name, "--origin", "saltmarsh.example", "--now", first, "--format", "json")); !reflect.DeepEqual(v["zonemd"], []any{1.0}) {
				t.Errorf("the hashes of the digests are %v, want [1]", v["zonemd"])
			}
		}
		want(t, fp(t, dir, "verify", name, "--origin", "saltmarsh.example", "--now", first), 0, texts...)
		if r := fp(t, dir, "check", name, "--origin", "saltmarsh.example"); r.status != 0 {
			t.Errorf("%s does not check clean: %s", name, r.out)
		}
		// Two days later nothing is due; with one record changed, little is.
		again := at(later, append([]string{"sign", "a.zone", "-o", name + ".2", "--previous", name, "--format", "json"}, flags...)...)
		if v := object(t, ok(t, dir, again...)); v["signatures"] != 0.0 {
			t.Errorf("%s: %v signatures were made anew", name, v["signatures"])
		}
		if name == "salted" {
			want(t, fp(t, dir, args...), 0, "RFC 9276")
			continue
		}
		if read(t, filepath.Join(dir, name+".2")) != once {
			t.Errorf("%s: nothing changed and the file is another", name)
		}
		write(t, filepath.Join(dir, "b.zone"), strings.Replace(read(t, filepath.Join(dir, "a.zone")), "www A 198.51.100.80", "www A 198.51.100.81", 1))
		again[1] = "b.zone"
		if v := object(t, ok(t, dir, again...)); v["signatures"].(float64) > 4 {
			t.Errorf("%s: one change, %v signatures", name, v["signatures"])
		}
		want(t, fp(t, dir, "verify", name+".2", "--origin", "saltmarsh.example", "--now", later), 0, "proved")
	}
	want(t, fp(t, dir, at(first, "sign", "a.zone", "-o", "x", "--denial", "nsec4")...), 2, "nsec or nsec3")
	want(t, fp(t, dir, at(first, "sign", "a.zone", "-o", "x", "--opt-out")...), 2, "--denial nsec3 only")
	want(t, fp(t, dir, at(first, "sign", "a.zone", "-o", "x", "--denial", "nsec3", "--iterations", "500")...), 2, "RFC 9276")
	want(t, fp(t, dir, at(first, "sign", "a.zone", "-o", "x", "--valid-for", "soon")...), 2, "14d")
	want(t, fp(t, dir, at(first, "sign", "a.zone", "-o", "x", "--valid-for", "1d")...), 0, "secondaries answer for 14 d")
	if _, err := os.Stat(filepath.Join(dir, "x")); err != nil {
		t.Error(err)
	}
	write(t, filepath.Join(dir, "c.zone"), read(t, filepath.Join(dir, "nsec"))+"@ 7200 IN DNSKEY 257 3 15 "+strings.Repeat("A", 43)+"=\n")
	want(t, fp(t, dir, at(first, "sign", "c.zone", "-o", "y")...), 0, "1 DNSKEY records in the file are of keys that are not here")
	ok(t, dir, at(first, "sign", "c.zone", "-o", "y", "--keep-keys")...)
	if strings.Count(read(t, filepath.Join(dir, "y")), "\tDNSKEY\t") != 2 {
		t.Error("the key of another operator was not kept")
	}
}

// A clock that was set back stops signing, with the reason, and what is served stays.
func TestClockBack(t *testing.T) {
	t.Parallel()
	l := newLab(t, "")
	l.now = l.now.AddDate(0, 0, 12) // past the renewal of signatures
	ok(t, l.home.dir, "roll", "step", "saltmarsh.example", "--now", l.stamp())
	was := serial(t, l.home.addr, "saltmarsh.example")
	l.home.stop()
	l.home.args = []string{"--now", l.now.AddDate(0, 0, -5).Format(time.RFC3339)}
	zone := filepath.Join(l.home.dir, "zones", "saltmarsh.example.zone")
	write(t, zone, read(t, zone)+"new A 198.51.100.9\n")
	l.home.start()
	l.home.logs("the clock went back")
	if now := serial(t, l.home.addr, "saltmarsh.example"); now != was {
		t.Errorf("serial %d is served, %d was", now, was)
	}
}

// An edit signs what it changed, and the signatures that it left alone are renewed when
// they would have been without it.
func TestRenewalAfterEdit(t *testing.T) {
	t.Parallel()
	l := newLab(t, "")
	zone := filepath.Join(l.home.dir, "zones", "saltmarsh.example.zone")
	signedAt := l.now
	for day := 1; day <= 13; day += 2 {
		l.now = signedAt.AddDate(0, 0, day)
		ok(t, l.home.dir, "roll", "step", "saltmarsh.example", "--now", l.stamp())
		text := read(t, zone)
		write(t, zone, strings.Replace(text, fmt.Sprintf("hostmaster %d ", (day+1)/2), fmt.Sprintf("hostmaster %d ", (day+3)/2), 1)+fmt.Sprintf("h%d A 198.51.100.9\n", day))
		ok(t, l.home.dir, "reload")
		if day == 1 { // what is logged is written a little later
			eventually(t, "an edit signs what it changed", func() bool {
				log := read(t, l.home.log)
				return strings.Contains(log, "made=4 ") || strings.Contains(log, "made=5 ")
			})
		}
	}
	write(t, filepath.Join(l.home.dir, "served.zone"), ok(t, l.home.dir, "dump", "saltmarsh.example"))
	v := object(t, ok(t, l.home.dir, "verify", "served.zone", "--origin", "saltmarsh.example", "--now", l.stamp(), "--format", "json"))
	first, err := time.Parse(time.RFC3339, v["first_expiry"].(string))
	if err != nil || first.Before(l.now.AddDate(0, 0, 4)) {
		t.Errorf("on day 13 the first signature expires %s, %v", first, err)
	}
}
