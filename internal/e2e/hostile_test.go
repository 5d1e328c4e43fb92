package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// What a zone file names in $INCLUDE is not read where it must not be, cannot be or
// is too much, and nothing of it is quoted.
func TestHostileIncludes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	zones := filepath.Join(dir, "ws", "zones")
	write(t, filepath.Join(dir, "ws", "fencepost.toml"), "[[zone]]\nname = \"tides.example\"\n")
	write(t, filepath.Join(dir, "ws", "secrets.toml"), "[tsig.k]\nalgorithm = \"hmac-sha256\"\nsecret = \"d2F0ZXJtYXJrCg==\"\n")
	write(t, filepath.Join(dir, "outside", "shadow"), "watermark A 192.0.2.1\n")
	write(t, filepath.Join(zones, "inner.inc"), "inner A 192.0.2.9\n")
	write(t, filepath.Join(zones, "x.pem"), "watermark\n")
	write(t, filepath.Join(dir, "shared", "common.inc"), "common A 192.0.2.8\n")
	link := func(to, name string) {
		t.Helper()
		if err := os.Symlink(to, filepath.Join(zones, name)); err != nil {
			t.Fatal(err)
		}
	}
	link(filepath.Join(dir, "outside", "shadow"), "leak.inc")
	link(filepath.Join(dir, "outside"), "folder")
	link("x.pem", "key.inc")
	link("inner.inc", "good.inc")
	link(filepath.Join(dir, "shared", "common.inc"), "shared.inc")
	if err := syscall.Mkfifo(filepath.Join(zones, "fifo.inc"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(zones, "huge.inc"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(filepath.Join(zones, "huge.inc"), 2<<30); err != nil {
		t.Fatal(err)
	}
	for i := range 15 { // four to the fifteenth
		write(t, filepath.Join(zones, fmt.Sprintf("many%d.inc", i)), strings.Repeat(fmt.Sprintf("$INCLUDE many%d.inc\n", i+1), 4))
	}
	write(t, filepath.Join(zones, "many15.inc"), "; the end\n")
	zone := filepath.Join(zones, "tides.example.zone")
	try := func(include string, status int, texts ...string) {
		t.Helper()
		write(t, zone, tides+"$INCLUDE "+include+"\n")
		r := fp(t, filepath.Join(dir, "ws"), "check", "zones/tides.example.zone")
		want(t, r, status, texts...)
		if strings.Contains(r.out+r.err, "watermark") {
			t.Errorf("$INCLUDE %s quotes what it must not:\n%s", include, r.out)
		}
		if n := strings.Count(r.out, "bad-include"); n != min(status, 1) {
			t.Errorf("$INCLUDE %s: %d findings", include, n)
		}
	}
	try("leak.inc", 1, "a link to outside the folder")
	try("folder/shadow", 1, "a link to outside the folder")
	try("../secrets.toml", 1, "outside the folder")
	try("x.pem", 1, "keys and secrets are not included")
	try("key.inc", 1, "keys and secrets are not included")
	try("fifo.inc", 1, "not a regular file")
	try("huge.inc", 1, "too large")
	try("many0.inc", 1, "more than 10000 files are included")
	try("/dev/zero", 1, "outside the folder")
	try("shared.inc", 1, "a link to outside the folder")
	try("good.inc", 0, "16 records")
	write(t, filepath.Join(dir, "ws", "fencepost.toml"), "[include]\nfrom = [\"../shared\"]\n[[zone]]\nname = \"tides.example\"\n")
	try("shared.inc", 0, "16 records")
	// A zone file in the workspace's own folder has the secrets beside it.
	write(t, filepath.Join(dir, "ws", "x.zone"), tides+"$INCLUDE secrets.toml\n")
	if r := fp(t, filepath.Join(dir, "ws"), "check", "x.zone", "--origin", "tides.example"); r.status != 1 || strings.Contains(r.out, "d2F0") {
		t.Errorf("status %d, %s", r.status, r.out)
	}
	// Neither does a zone that is no file hold up the others.
	if err := os.Remove(zone); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(zone, 0o600); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "ws", "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[[zone]]\nname = \"tides.example\"\n[[zone]]\nname = \"reef.example\"\n", freePort(t)))
	write(t, filepath.Join(zones, "reef.example.zone"), strings.ReplaceAll(tides, "tides.example", "reef.example"))
	want(t, fp(t, filepath.Join(dir, "ws"), "check"), 1, "not a regular file", "unreadable-zone-file", "servers-in-one-network")
	d := serve(t, filepath.Join(dir, "ws"))
	want(t, fp(t, ".", "ask", "reef.example", "SOA", "--at", d.addr), 0, "authoritative")
	want(t, fp(t, filepath.Join(dir, "ws"), "status"), 1, "not a regular file")
}

// One operand that is missing does not keep the others from being checked, and a
// folder is the zone files in it.
func TestCheckOperands(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "zones", "tides.example.zone"), tides+"bad A 192.0.2.256\n")
	write(t, filepath.Join(dir, "zones", "reef.example.zone"), strings.ReplaceAll(tides, "tides.example", "reef.example")+"worse A x\n")
	want(t, fp(t, dir, "check", "zones/none.zone", "zones/tides.example.zone"), 3, "address-out-of-range", "none.zone")
	want(t, fp(t, dir, "check", "zones"), 1, "address-out-of-range", "reef.example.zone:17")
	want(t, fp(t, dir, "check", "zones/none.zone"), 3, "none.zone")
	if r := fp(t, dir, "check", "zones/none.zone", "zones/tides.example.zone", "--format", "json"); r.status != 3 || !strings.Contains(r.out, "address-out-of-range") || !strings.Contains(r.err, "none.zone") {
		t.Errorf("status %d\n%s%s", r.status, r.out, r.err)
	}
}

// A file that was cut off in its last line is told of, and no server takes it.
func TestCutOff(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	zone := filepath.Join(dir, "zones", "tides.example.zone")
	whole := strings.Replace(tides, "hostmaster 1 ", "hostmaster 2 ", 1) + "last A 192.0.2.111\n"
	write(t, filepath.Join(dir, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[[zone]]\nname = \"tides.example\"\n", freePort(t)))
	write(t, zone, tides)
	d := serve(t, dir)
	write(t, zone, whole[:len(whole)-3])
	want(t, fp(t, dir, "check"), 0, "unfinished-last-line", "the last line has no end")
	want(t, fp(t, dir, "reload"), 1, "kept", "the last line has no end")
	want(t, fp(t, dir, "add", "tides.example", "x", "A", "192.0.2.7"), 3, "the last line of", "would hide that")
	want(t, fp(t, dir, "tidy", "tides.example"), 3, "would hide that")
	want(t, fp(t, ".", "ask", "last.tides.example", "A", "--at", d.addr), 0, "does not exist")
	write(t, zone, whole)
	ok(t, dir, "reload")
	want(t, fp(t, ".", "ask", "last.tides.example", "A", "--at", d.addr), 0, "192.0.2.111")
}

// An edit of two files that is killed anywhere leaves both changed or neither, once
// the next command has looked.
func TestKilledBatch(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	forward, reverse := filepath.Join(dir, "zones", "tides.example.zone"), filepath.Join(dir, "zones", "2.0.192.in-addr.arpa.zone")
	write(t, filepath.Join(dir, "fencepost.toml"), "[[zone]]\nname = \"tides.example\"\n[[zone]]\nname = \"2.0.192.in-addr.arpa\"\n")
	write(t, forward, tides)
	write(t, reverse, "$ORIGIN 2.0.192.in-addr.arpa.\n$TTL 3600\n@ SOA ns1.tides.example. hostmaster.tides.example. 1 7200 900 1209600 300\n@ NS ns1.tides.example.\n@ NS ns2.tides.example.\n")
	both, neither := 0, 0
	for i := range 60 {
		host := fmt.Sprintf("k%d", i)
		cmd := exec.Command(program, "add", "tides.example", host, "A", fmt.Sprintf("192.0.2.%d", 100+i), "--ptr")
		cmd.Dir = dir
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i%30) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		fp(t, dir, "check")
		a, b := strings.Contains(read(t, forward), "\n"+host+" "), strings.Contains(read(t, reverse), host+".tides.example.")
		switch {
		case a != b:
			t.Errorf("killed after %d ms: the address is there: %v, the PTR record: %v", i%30, a, b)
		case a:
			both++
		default:
			neither++
		}
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "zones", ".batch*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	t.Logf("both %d times, neither %d times", both, neither)
}
