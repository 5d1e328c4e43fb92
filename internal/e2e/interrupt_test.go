package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// hole is a server that hears all and says nothing: over UDP, TCP and the control socket.
type hole struct {
	addr  string
	heard chan struct{} // one for each that asks
}

func newHole(t *testing.T, control string) *hole {
	t.Helper()
	h := &hole{heard: make(chan struct{}, 1)}
	note := func() {
		select {
		case h.heard <- struct{}{}:
		default:
		}
	}
	var u net.PacketConn
	var over net.Listener
	for end := time.Now().Add(patience); over == nil; { // a client may take a port that was free just now
		h.addr = fmt.Sprintf("127.0.0.1:%d", freePort(t))
		var err error
		if u, err = net.ListenPacket("udp", h.addr); err == nil {
			if over, err = net.Listen("tcp", h.addr); err != nil {
				u.Close()
			}
		}
		if err != nil && time.Now().After(end) {
			t.Fatal(err)
		}
	}
	go func() {
		buf := make([]byte, 1<<16)
		for {
			if _, _, err := u.ReadFrom(buf); err != nil {
				return
			}
			note()
		}
	}()
	t.Cleanup(func() { u.Close() })
	local, err := net.Listen("unix", control)
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range []net.Listener{over, local} {
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				note()
				t.Cleanup(func() { conn.Close() })
			}
		}()
	}
	return h
}

// waitForNobody are commands that work on files alone, or go on until they are interrupted.
var waitForNobody = []string{"init", "new", "rename", "set-aside", "put-back", "serial", "reverse", "tidy", "find", "check", "explain",
	"key list", "key show", "key import", "key export", "sign", "verify", "demo world"}

// Whatever a command waits for, it ends soon after an interrupt, and at SIGTERM too: those that
// ask other servers, and those that ask the running one.
func TestInterrupts(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	control := filepath.Join(dir, "c.sock")
	h := newHole(t, control)
	write(t, filepath.Join(dir, "fencepost.toml"), fmt.Sprintf(`[serve]
listen = [%[1]q]
control = %[2]q
[peer.hole]
address = %[1]q
[policy.standard]
[trust]
servers = [%[1]q]
anchors = "root.key"
[address-override]
"192.0.2.1" = %[1]q
[[zone]]
name = "tides.example"
sign = "standard"
send-to = ["hole"]
parent = ["hole"]
[[zone]]
name = "far.example"
fetch-from = ["hole"]
`, h.addr, control))
	write(t, filepath.Join(dir, "root.key"), ". DS 1 13 2 "+strings.Repeat("ab", 32)+"\n")
	write(t, filepath.Join(dir, "zones", "tides.example.zone"), "$TTL 60\n@ SOA ns1 h 1 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 192.0.2.1\nwest NS ns1\n")
	write(t, filepath.Join(dir, "own.expect"), "zone tides.example\n@ NS is ns1\n")
	write(t, filepath.Join(dir, "secrets.toml"), "[tsig.buoys]\nsecret = \""+updateSecret+"\"\n")
	lines := []string{
		"ask www.tides.example --at " + h.addr + " --timeout 1m",
		"ask www.tides.example --at " + h.addr + " --transport tcp --timeout 1m",
		"ask www.tides.example --at " + h.addr + " --watch 1s --timeout 1m",
		"trace www.tides.example --timeout 1m",
		"chain www.tides.example --timeout 1m",
		"audit tides.example --timeout 1m",
		"audit tides.example --as-if ns1.tides.example=192.0.2.1 --timeout 1m",
		"spread www.tides.example --at " + h.addr + " --timeout 1m",
		"secondaries tides.example --timeout 1m",
		"secondaries tides.example --wait 7 --timeout 1m",
		"expect own.expect --at " + h.addr + " --timeout 1m",
		"handover tides.example --confirm",
		"pull other.example --from " + h.addr + " -o x.zone",
		"diff server:" + h.addr + " server:" + h.addr + " tides.example",
		"diff served:tides.example zones/tides.example.zone",
		"publish tides.example",
		"status", "reload", "refresh far.example", "notify tides.example", "dump tides.example",
		"history tides.example", "restore tides.example 1", "pending tides.example", "fold tides.example",
		"roll tides.example", "roll start tides.example", "roll step tides.example", "roll pause tides.example", "roll resume tides.example", "roll cancel tides.example",
		"key new tides.example", "key activate tides.example 1", "key retire tides.example 1", "key delete tides.example 1", "add tides.example a A 192.0.2.9 --reload", "change tides.example ns1 A 192.0.2.9 --at here",
		"remove tides.example ns1 --at " + h.addr + " --key buoys",
		"delegate tides.example west --follow",
	}
	for _, c := range commandTree(t) {
		if !slices.Contains(waitForNobody, c) && !slices.ContainsFunc(lines, func(l string) bool { return strings.HasPrefix(l, c+" ") || l == c }) {
			t.Errorf("no line interrupts: fencepost %s", c)
		}
	}
	for i, line := range lines {
		interrupted := false
		for range 5 { // what the one before sent may be heard late, and is no sign that this one asks
			if interrupted = h.interrupt(t, dir, line, []os.Signal{os.Interrupt, syscall.SIGTERM}[i%2]); interrupted {
				break
			}
		}
		if !interrupted {
			t.Errorf("%s: it was ended by the signal itself", line)
		}
	}
}

// interrupt runs a command, interrupts it when it asks somebody, and looks how it ends; false: the signal came
// before the program was there.
func (h *hole) interrupt(t *testing.T, dir, line string, sig os.Signal) bool {
	t.Helper()
	for len(h.heard) > 0 {
		<-h.heard
	}
	var said strings.Builder
	cmd := exec.Command(program, strings.Fields(line)...)
	cmd.Dir, cmd.Stderr, cmd.Stdout = dir, &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case <-h.heard:
	case err := <-ended:
		t.Errorf("%s: it asks nobody, and ends: %v\n%s", line, err, said.String())
		return true
	case <-time.After(patience):
		t.Errorf("%s: it neither asks nor ends", line)
		_ = cmd.Process.Kill()
		<-ended
		return true
	}
	_ = cmd.Process.Signal(sig)
	const soon = 10 * time.Second // a second, on a machine that does nothing else
	select {
	case <-ended:
		code := cmd.ProcessState.ExitCode()
		if code == -1 {
			return false
		}
		if code != 3 && code != 1 && code != 2 {
			t.Errorf("%s: after an interrupt its status is %d\n%s", line, code, said.String())
		}
	case <-time.After(soon):
		t.Errorf("%s: after an interrupt it goes on", line)
		_ = cmd.Process.Kill()
		<-ended
	}
	return true
}
