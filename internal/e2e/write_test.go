package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// clock makes results that depend on time come out the same.
const clock = "--now=2026-11-23T09:00:00Z"

// A new workspace checks clean, without anybody looking up what an apex needs.
func TestInit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ok(t, dir, "init", "ws", "--zone", "saltmarsh.example", "--ns", "ns1=198.51.100.53,2001:db8::53", "--ns", "ns2.example.net", "--contact", "ines.marsh@saltmarsh.example", clock)
	ws := filepath.Join(dir, "ws")
	zone := read(t, filepath.Join(ws, "zones", "saltmarsh.example.zone"))
	for _, s := range []string{"2026112300", `ines\.marsh`, "AAAA   2001:db8::53", "NS     ns2.example.net.", "they stop answering"} {
		if !strings.Contains(zone, s) {
			t.Errorf("the zone does not hold %q:\n%s", s, zone)
		}
	}
	want(t, fp(t, ws, "check"), 0, "nothing to report")
	want(t, fp(t, dir, "init", "ws"), 3, "is a workspace already")
	ok(t, ws, "new", "tides.example", clock)
	if !strings.Contains(read(t, filepath.Join(ws, "fencepost.toml")), `name    = "tides.example"`) {
		t.Error("the new zone is not in the configuration")
	}
	want(t, fp(t, ws, "check"), 0, "1 note", "placeholder-address")
	want(t, fp(t, ws, "new", "tides.example"), 3, "exists already")
	want(t, fp(t, ws, "new", "x.example", "--ns", "ns1"), 2, "its address is needed")
	want(t, fp(t, ws, "new", "x.example", "--ns", "ns1.other.example=192.0.2.1"), 2, "outside the zone")
	for _, p := range []string{"keys", "state"} {
		if info, err := os.Stat(filepath.Join(ws, p)); err != nil || info.Mode().Perm() != 0o700 {
			t.Errorf("%s: %v", p, err)
		}
	}
}

const handKept = `; kept by hand since 1998
$ORIGIN saltmarsh.example.
$TTL 3600

@       SOA  ns1 hostmaster 2026112301 7200 900 1209600 300 ; one line
        NS   ns1
        NS   ns2
ns1     A    198.51.100.53
ns2     A    203.0.113.53

; cameras	with a tab in the comment
cam-a   A    198.51.100.41   ; first
        AAAA 2001:db8::41
cam-b   A    198.51.100.42
@       MX   10 mail
mail    A    198.51.100.25
`

// after edits the file as given and returns what differs, line by line.
func after(t *testing.T, args ...string) (removed, added []string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "saltmarsh.example.zone")
	write(t, path, handKept)
	ok(t, ".", append([]string{args[0], path}, append(args[1:], clock)...)...)
	before, now := strings.Split(handKept, "\n"), strings.Split(read(t, path), "\n")
	minus := func(a, b []string) (out []string) {
		for _, l := range a {
			found := false
			for _, m := range b {
				found = found || l == m
			}
			if !found {
				out = append(out, l)
			}
		}
		return out
	}
	return minus(before, now), minus(now, before)
}

// An edit touches the lines it must, and the serial.
func TestEdits(t *testing.T) {
	t.Parallel()
	const oldSOA, newSOA = "@       SOA  ns1 hostmaster 2026112301 7200 900 1209600 300 ; one line", "@       SOA  ns1 hostmaster 2026112302 7200 900 1209600 300 ; one line"
	for _, c := range []struct {
		args           []string
		removed, added string
	}{
		{[]string{"add", "cam-c", "A", "198.51.100.43"}, "", "cam-c   A    198.51.100.43"},
		{[]string{"add", "cam-b", "AAAA", "2001:db8::42"}, "", "        AAAA 2001:db8::42"},
		{[]string{"add", "cam-a", "TXT", "two words"}, "", `        TXT  "two words"`},
		{[]string{"add", "deep.er", "A", "198.51.100.44", "--ttl", "60"}, "", "deep.er 60 A 198.51.100.44"},
		{[]string{"change", "cam-a", "A", "198.51.100.99"}, "cam-a   A    198.51.100.41   ; first", "cam-a   A    198.51.100.99   ; first"},
		{[]string{"change", "@", "NS", "ns3.example.net.", "--from", "ns2"}, "        NS   ns2", "        NS   ns3.example.net."},
		{[]string{"remove", "cam-a", "A"}, "cam-a   A    198.51.100.41   ; first|        AAAA 2001:db8::41", "cam-a   AAAA 2001:db8::41"},
		{[]string{"remove", "cam-b"}, "cam-b   A    198.51.100.42", ""},
		{[]string{"remove", "cam-a.saltmarsh.example.", "AAAA", "2001:DB8:0::41"}, "        AAAA 2001:db8::41", ""},
	} {
		removed, added := after(t, c.args...)
		wantRemoved, wantAdded := strings.Trim(oldSOA+"|"+c.removed, "|"), strings.Trim(newSOA+"|"+c.added, "|")
		if got := strings.Join(removed, "|"); got != wantRemoved {
			t.Errorf("%v removed\n%s\nwant\n%s", c.args, got, wantRemoved)
		}
		if got := strings.Join(added, "|"); got != wantAdded {
			t.Errorf("%v added\n%s\nwant\n%s", c.args, got, wantAdded)
		}
	}
}

// What cannot be done changes nothing and says why.
func TestRefusedEdits(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "saltmarsh.example.zone")
	write(t, path, handKept)
	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"add", path, "www", "CNAME", "nosuch.saltmarsh.example"}, 1, "missing-final-dot"},
		{[]string{"add", path, "cam-a", "CNAME", "mail"}, 1, "alias-beside-data"},
		{[]string{"add", path, "x", "A", "198.51.100.256"}, 2, "256 is over 255"},
		{[]string{"add", path, "x", "A", "198.51.100.010"}, 2, "write 198.51.100.10"},
		{[]string{"add", path, "x", "AA", "198.51.100.1"}, 2, "did you mean A?"},
		{[]string{"add", path, "x.saltmarsh.example", "A", "198.51.100.1"}, 2, "final dot"},
		{[]string{"add", path, "x.other.", "A", "198.51.100.1"}, 2, "not in the zone"},
		{[]string{"add", path, "cam-a", "A", "198.51.100.41"}, 0, "nothing changes: cam-a.saltmarsh.example. has this A record already, at"},
		{[]string{"add", path, "cam-a", "A"}, 2, "no data: write cam-a A address"},
		{[]string{"change", path, "@", "NS", "ns9"}, 2, "say which with --from"},
		{[]string{"change", path, "cam-a", "MX", "10 mail"}, 3, "it has A, AAAA"},
		{[]string{"remove", path, "cam-x"}, 3, "did you mean cam-"},
		{[]string{"remove", path, "ns1"}, 1, "target-missing"},
		{[]string{"remove", path, "@", "SOA"}, 2, "a zone has one SOA record, which stays"},
		{[]string{"remove", path, "@"}, 2, "a zone has one SOA record, which stays"},
		{[]string{"add", path, "@", "SOA", "ns1 h 1 2 3 4 5"}, 2, "a zone has one SOA record"},
		{[]string{"add", "www", "A", "198.51.100.1"}, 2, "the zone is missing in front of the record: write fencepost add ZONE www A 198.51.100.1"},
		{[]string{"change", "www", "MX", "10", "mail"}, 2, "the zone is missing in front of the record"},
	} {
		r := fp(t, ".", append(c.args, clock)...)
		want(t, r, c.status, c.says)
	}
	if got := read(t, path); got != handKept {
		t.Errorf("the file was changed:\n%s", got)
	}
	r := fp(t, ".", "add", path, "x", "A", "198.51.100.1", "--dry-run", clock)
	want(t, r, 0, "+ x       A    198.51.100.1", "would write")
	if got := read(t, path); got != handKept {
		t.Error("--dry-run wrote the file")
	}
}

// A file whose TTLs hang on the line before is not changed behind one's back.
func TestInheritedTTL(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "x.example.zone")
	text := "@ 3600 SOA ns.other. h 1 7200 900 1209600 300\n@ NS ns.other.\n@ NS ns2.other.\na 60 A 192.0.2.1\nb A 192.0.2.2\n"
	write(t, path, text)
	want(t, fp(t, ".", "remove", path, "a", clock), 3, "has no $TTL")
	if read(t, path) != text {
		t.Error("the file was changed")
	}
}

func TestSerial(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "saltmarsh.example.zone")
	write(t, path, handKept)
	if got := ok(t, ".", "serial", path, clock); got != "2026112301\n" {
		t.Errorf("the serial is shown as %q", got)
	}
	ok(t, ".", "serial", path, "--next", clock)
	if !strings.Contains(read(t, path), " 2026112302 7200") {
		t.Error("the serial was not raised")
	}
	ok(t, ".", "serial", path, "--set", "2062010100", clock)
	ok(t, ".", "add", path, "x", "A", "192.0.2.7", clock)
	if !strings.Contains(read(t, path), " 2062010101 7200") {
		t.Error("with the date behind the file the serial did not move forward")
	}
	want(t, fp(t, ".", "serial", path, "--set", "2026112303", clock), 2, "takes 2 steps", "RFC 1982")
	want(t, fp(t, ".", "serial", path, "--set", "many"), 2, "is not a serial")
	want(t, fp(t, ".", "serial", path, "--next", "--set", "1"), 2)
}

// Links stay links and modes stay modes when a file is rewritten.
func TestFileKeepsItsNature(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	real, link := filepath.Join(dir, "real.txt"), filepath.Join(dir, "saltmarsh.example.zone")
	write(t, real, handKept)
	if err := os.Chmod(real, 0o640); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("real.txt", link); err != nil {
		t.Fatal(err)
	}
	ok(t, dir, "add", "saltmarsh.example.zone", "x", "A", "192.0.2.7", clock)
	info, err := os.Lstat(link)
	if err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Error("the link was replaced by a file")
	}
	if info, _ := os.Stat(real); info.Mode().Perm() != 0o640 || !strings.Contains(read(t, real), "192.0.2.7") {
		t.Errorf("mode %v", info.Mode())
	}
}
