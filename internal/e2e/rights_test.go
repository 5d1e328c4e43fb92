package e2e

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// as runs a command as another user of the machine.
func as(t *testing.T, uid uint32, bin, dir string, args ...string) result {
	t.Helper()
	cmd := exec.Command(bin, args...)
	cmd.Dir = dir
	cmd.Env = []string{"NO_COLOR=1", "PATH=/usr/bin:/bin", "HOME=/nonexistent"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	_ = cmd.Run() // the status tells
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// floodSocket, in the environment, has this program hold connections to a socket instead of testing.
const floodSocket = "FENCEPOST_E2E_FLOOD"

// holdHalves opens many connections, sends the half of a request over each, and holds them until its
// standard input ends.
func holdHalves(path string) int {
	for range 100 {
		conn, err := net.Dial("unix", path)
		if err != nil {
			break
		}
		defer conn.Close()
		_, _ = io.WriteString(conn, "POST /v1/status HTTP/1.1\r\nHost: fencepost\r\nContent-Length: 100\r\n\r\n{")
	}
	fmt.Println("held")
	_, _ = io.Copy(io.Discard, os.Stdin)
	return 0
}

// writeProgram writes a program that is run soon, unless it is there already. No process begins
// meanwhile: one that had the file open for writing, however briefly, would keep it from being run.
func writeProgram(t *testing.T, path string, text []byte) {
	t.Helper()
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	if err := os.WriteFile(path, text, 0o755); err != nil && !errors.Is(err, syscall.ETXTBSY) {
		t.Fatal(err)
	}
}

// holdAs has another user of the machine hold connections to a socket.
func holdAs(t *testing.T, uid uint32, dir, path string) (stop func()) {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(self)
	if err != nil {
		t.Fatal(err)
	}
	bin := filepath.Join(dir, "flood")
	writeProgram(t, bin, text)
	cmd := exec.Command(bin)
	cmd.Dir, cmd.Env = dir, []string{floodSocket + "=" + path}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := errors.Join(err1, err2, cmd.Start()); err != nil {
		t.Fatal(err)
	}
	if line, err := bufio.NewReader(out).ReadString('\n'); line != "held\n" {
		t.Fatalf("%q, %v", line, err)
	}
	return func() { in.Close(); _ = cmd.Wait() }
}

// forOthers is a program, and a folder for a workspace, that other users of the machine reach.
func forOthers(t *testing.T) (bin, dir string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can act as two users")
	}
	top, err := os.MkdirTemp("", "fencepost-rights-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(top) })
	if err := os.Chmod(top, 0o755); err != nil {
		t.Fatal(err)
	}
	bin = filepath.Join(top, "fencepost")
	text, err := os.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	writeProgram(t, bin, text)
	return bin, filepath.Join(top, "work")
}

// Whoever may not read the keys is told that, and never that the zone has none; what is to be known of
// them comes from the server where it may be asked, and no private key does.
func TestHiddenKeys(t *testing.T) {
	t.Parallel()
	bin, dir := forOthers(t)
	const other = 61007
	conf := filepath.Join(dir, "fencepost.toml")
	write(t, conf, fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[policy.standard]\n[[zone]]\nname = \"tides.example\"\nsign = \"standard\"\nparent = []\n[[zone]]\nname = \"sub.tides.example\"\nsign = \"standard\"\nparent = []\n", freePort(t)))
	write(t, filepath.Join(dir, "zones", "sub.tides.example.zone"), "$TTL 3600\n@ SOA ns.tides.example. h 1 5400 1200 1209600 600\n@ NS ns.tides.example.\n")
	write(t, filepath.Join(dir, "zones", "tides.example.zone"), "$TTL 3600\n@ SOA ns h 1 5400 1200 1209600 600\n@ NS ns\nns A 192.0.2.1\n")
	d := serve(t, dir)
	eventually(t, "the signed zones", func() bool {
		return serial(t, d.addr, "tides.example") != 0 && serial(t, d.addr, "sub.tides.example") != 0
	})
	ok(t, dir, "delegate", "tides.example", "sub")
	ok(t, dir, "reload")
	commands := [][]string{{"key", "list", "tides.example"}, {"roll", "tides.example"}, {"handover", "tides.example"}, {"key", "show", "tides.example", "7"}}
	for _, c := range commands {
		r := as(t, other, bin, dir, c...)
		want(t, r, 3, "the keys of tides.example are not readable for you")
	}
	want(t, as(t, other, bin, dir, "check"), 0, "keys-not-readable", "tides.example. and sub.tides.example. are not readable for you")
	want(t, as(t, other, bin, dir, "status"), 3, "[[allow]]")

	tag := tagOf(t, dir, "tides.example")
	write(t, conf, read(t, conf)+fmt.Sprintf("[[allow]]\nusers = [\"%d\"]\nzones = [\"sub.*\"]\nmay = [\"reload\"]\n", other))
	ok(t, dir, "reload")
	for _, c := range commands[:3] {
		want(t, as(t, other, bin, dir, c...), 0, tag)
	}
	want(t, as(t, other, bin, dir, "key", "export", "tides.example", tag, "-o", "-"), 3, "permission denied")
	want(t, as(t, other, bin, dir, "check"), 0, "keys-not-readable")
}

// tagOf is the tag of the only key of a zone.
func tagOf(t *testing.T, dir, zone string) string {
	t.Helper()
	keys := object(t, ok(t, dir, "key", "list", zone, "--format", "json"))["keys"].([]any)
	return fmt.Sprint(keys[0].(map[string]any)["key_tag"])
}

// Two people with different rights, and one without any, have the running server do things; what they
// may not is refused with the words to ask for, and what they did stands in the history.
func TestRights(t *testing.T) {
	t.Parallel()
	bin, dir := forOthers(t)
	const ines, bram, other = 61001, 61002, 61003
	write(t, filepath.Join(dir, "fencepost.toml"), fmt.Sprintf(`[serve]
listen = ["127.0.0.1:%d"]
[policy.standard]
[peer.harbour]
address = "127.0.0.1:9"
tsig = "harbour"
[[zone]]
name = "tides.example"
[[zone]]
name = "birds.example"
sign = "standard"
send-to = ["harbour"]
[[allow]]
users = ["%d"]
zones = ["tides.*"]
may   = ["change", "reload"]
[[allow]]
users = ["%d"]
may   = ["roll", "sign"]
`, freePort(t), ines, bram))
	write(t, filepath.Join(dir, "secrets.toml"), "[tsig.harbour]\nsecret = \"c2FsdG1hcnNoLW9ic2VydmF0b3J5LXRpZGVzLW9mLTI=\"\n")
	for _, z := range []string{"tides", "birds"} {
		write(t, filepath.Join(dir, "zones", z+".example.zone"), "$TTL 3600\n@ SOA ns1 hostmaster 1 5400 1200 1209600 600\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.1\n")
	}
	d := serve(t, dir)
	for _, c := range []struct {
		uid    uint32
		args   string
		status int
		says   string // a part of it
	}{
		{ines, "status", 0, "tides.example"},
		{ines, "add tides.example pier A 192.0.2.7 --at here", 0, "updated"},
		{ines, "reload tides.example", 0, "unchanged"},
		{ines, "add birds.example pier A 192.0.2.7 --at here", 3, `user 61001 may not change birds.example; the owner of fencepost.toml can allow it: [[allow]] users = ["61001"], zones = ["birds.example"], may = ["change"]`},
		{ines, "reload", 3, "may not reload all zones"},
		{ines, "notify birds.example", 3, "may not reload birds.example"},
		{ines, "key new birds.example", 3, "may not sign birds.example"},
		{ines, "pending tides.example", 0, "user 61001"},
		{bram, "pending tides.example --drop pier", 3, "may not change tides.example"},
		{bram, "key new birds.example", 0, "birds.example"},
		{bram, "history tides.example --by 61001", 0, "user 61001"},
		{other, "status", 3, "user 61003 may not use this server"},
		{other, "add tides.example pier A 192.0.2.8 --at here", 3, "may not change tides.example"},
		{ines, "pending tides.example --drop pier", 0, "nothing is pending"},
	} {
		r := as(t, c.uid, bin, dir, strings.Fields(c.args)...)
		if r.status != c.status || !strings.Contains(r.out+r.err, c.says) {
			t.Errorf("%d: %s: status %d\n%s%s\nwant %d and %q", c.uid, c.args, r.status, r.out, r.err, c.status, c.says)
		}
	}
	// Who sends requests by halves locks nobody out, whether they may do something or not.
	for _, uid := range []uint32{ines, other} {
		stop := holdAs(t, uid, filepath.Dir(dir), filepath.Join(dir, "state", "control.sock"))
		want(t, fp(t, dir, "status"), 0, "tides.example")
		if r := as(t, bram, bin, dir, "status"); r.status != 0 {
			t.Errorf("while %d holds connections: %s", uid, r.err)
		}
		stop()
	}
	// Whoever may have files read again, or change records by messages, cannot say what the files
	// hold: not from a copy of the workspace, whose edits are another zone's; nor can the owner.
	copied := filepath.Join(filepath.Dir(dir), "copy")
	write(t, filepath.Join(copied, "fencepost.toml"), strings.Replace(read(t, filepath.Join(dir, "fencepost.toml")), "[serve]", fmt.Sprintf("[serve]\ncontrol = %q", filepath.Join(dir, "state", "control.sock")), 1))
	write(t, filepath.Join(copied, "zones", "tides.example.zone"), read(t, filepath.Join(dir, "zones", "tides.example.zone")))
	if err := os.Chown(filepath.Join(copied, "zones"), ines, ines); err != nil {
		t.Fatal(err)
	}
	for _, uid := range []uint32{ines, 0} {
		if err := os.Chown(filepath.Join(copied, "zones", "tides.example.zone"), int(uid), int(uid)); err != nil {
			t.Fatal(err)
		}
		r := as(t, uid, bin, copied, "add", "tides.example", fmt.Sprint("evil", uid), "A", "203.0.113.66", "--reload")
		if !strings.Contains(r.out+r.err, "evil") {
			t.Errorf("%d: the edit of the copy: %s%s", uid, r.out, r.err)
		}
		if served := ok(t, dir, "dump", "tides.example"); strings.Contains(served, "evil") {
			t.Errorf("%d has records served that are not in the file:\n%s", uid, served)
		}
	}
	if out := ok(t, dir, "add", "tides.example", "pier2", "A", "192.0.2.9", "--reload"); !strings.Contains(out, "loaded") {
		t.Errorf("the owner's own edit: %s", out)
	}
	if strings.Contains(read(t, d.log), "c2FsdG1hcnNo") {
		t.Error("a secret stands in the log")
	}
	// What only its owner may know stays so.
	for _, f := range []string{"secrets.toml", "state/versions.db"} {
		if info, err := os.Stat(filepath.Join(dir, f)); err != nil || info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s can be read by others (%v)", f, err)
		}
	}
	// Without [[allow]] nobody else comes in.
	config := filepath.Join(dir, "fencepost.toml")
	before, _, _ := strings.Cut(read(t, config), "[[allow]]")
	write(t, config, before)
	ok(t, dir, "reload")
	if r := as(t, ines, bin, dir, "status"); r.status == 0 {
		t.Errorf("everybody may: %s", r.out)
	}
}
