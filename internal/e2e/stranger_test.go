package e2e

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// badlySigned is a query with a TSIG of a key that nobody has, which is logged.
var badlySigned = []byte("\x12\x34\x00\x00\x00\x01\x00\x00\x00\x00\x00\x01\x00\x00\x06\x00\x01" + // ". SOA"
	"\x01k\x00\x00\xfa\x00\xff\x00\x00\x00\x00\x00\x3d" + "\x0bhmac-sha256\x00" + "\x00\x00\x00\x00\x00\x00\x01\x2c\x00\x20" + strings.Repeat("m", 32) + "\x12\x34\x00\x00\x00\x00")

// piped is a server whose log goes into a pipe that a test reads, or not.
func piped(t *testing.T, dir string) (cmd *exec.Cmd, addr string, log *os.File) {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	cmd = exec.Command(program, "serve")
	cmd.Dir, cmd.Stderr = dir, w
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	w.Close()
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait(); r.Close() })
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	return cmd, strings.Fields(strings.TrimPrefix(line, "ready on "))[0], r
}

// flood sends packets that each would be a line of the log.
func flood(t *testing.T, addr string, n int) {
	t.Helper()
	c, err := net.Dial("udp", addr)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for range n {
		if _, err := c.Write(badlySigned); err != nil {
			t.Fatal(err)
		}
	}
}

// Whoever reads the log can stall or go away: answers come all the same, the end
// comes when it is asked for, and strangers do not fill the disk.
func TestLogReader(t *testing.T) {
	t.Parallel()
	for _, gone := range []bool{false, true} {
		p, _ := newPair(t, true, 0)
		cmd, addr, log := piped(t, p.primary)
		if gone {
			log.Close()
		}
		flood(t, addr, 20000)
		for range 3 {
			want(t, fp(t, ".", "ask", "tides.example", "SOA", "--at", addr), 0, "authoritative")
			flood(t, addr, 100)
		}
		for range 100 { // reloads are logged too, as often as they come
			if r := fp(t, p.primary, "reload"); r.status != 0 {
				t.Fatalf("reload: %s", r.err)
			}
			if gone {
				break
			}
		}
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case err := <-ended:
			if err != nil {
				t.Errorf("log reader gone: %v: the server ended with %v", gone, err)
			}
		case <-time.After(patience):
			t.Fatal("the server does not end")
		}
	}
	// What is logged of strangers is little, and says of how many.
	p, _ := newPair(t, true, 0)
	d := serve(t, p.primary)
	flood(t, d.addr, 3000)
	want(t, fp(t, ".", "ask", "tides.example", "SOA", "--at", d.addr), 0, "authoritative")
	d.logs("wrong signature")
	if n := strings.Count(read(t, d.log), "wrong signature"); n > 20 {
		t.Errorf("3000 packets of strangers are %d lines of the log", n)
	}
}

// Nothing but a socket of ours is removed for the control socket, and nothing is sent
// to another's.
func TestControlTakesNothing(t *testing.T) {
	t.Parallel()
	for _, file := range []string{"fencepost.toml", "zones/tides.example.zone", "keys"} {
		p, _ := newPair(t, false, 0)
		if file == "keys" {
			if err := os.Mkdir(filepath.Join(p.primary, "keys"), 0o700); err != nil {
				t.Fatal(err)
			}
		}
		conf := filepath.Join(p.primary, "fencepost.toml")
		write(t, conf, strings.Replace(read(t, conf), "[serve]\n", fmt.Sprintf("[serve]\ncontrol = %q\n", file), 1))
		text := read(t, filepath.Join(p.primary, "zones", "tides.example.zone"))
		want(t, fp(t, p.primary, "serve"), 3, "is not the control socket", "[serve] control")
		want(t, fp(t, p.primary, "status"), 3, "is not the control socket")
		if read(t, filepath.Join(p.primary, "zones", "tides.example.zone")) != text || !strings.Contains(read(t, conf), "control") {
			t.Errorf("control = %q: files were changed", file)
		}
	}
	if os.Geteuid() != 0 {
		return // another's socket takes another user
	}
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	path := filepath.Join(p.primary, "state", "control.sock")
	if err := os.Chown(path, 12345, 12345); err != nil {
		t.Fatal(err)
	}
	want(t, fp(t, p.primary, "status"), 3, "a socket of the user with number 12345")
	d.stop()
}

// A server on all addresses of both families has a socket for each.
func TestBothFamilies(t *testing.T) {
	t.Parallel()
	if l, err := net.Listen("tcp6", "[::1]:0"); err != nil {
		t.Skip("there is no IPv6 on this machine")
	} else {
		l.Close()
	}
	l, err := net.Listen("tcp4", "0.0.0.0:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"0.0.0.0:%d\", \"[::]:%d\"]\n[[zone]]\nname = \"tides.example\"\n", port, port))
	write(t, filepath.Join(dir, "zones", "tides.example.zone"), tides)
	serve(t, dir)
	for _, at := range []string{"127.0.0.1", "[::1]"} {
		for _, transport := range []string{"udp", "tcp"} {
			want(t, fp(t, ".", "ask", "mail.tides.example", "AAAA", "--at", fmt.Sprintf("%s:%d", at, port), "--transport", transport), 0, "2001:db8::25")
		}
	}
	other := t.TempDir()
	write(t, filepath.Join(other, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"0.0.0.0:%d\"]\n", port))
	want(t, fp(t, other, "serve"), 3, "cannot listen", fmt.Sprint(port))
}

// A signal that comes while the server starts does not end it.
func TestEarlyHangup(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	cmd := exec.Command(program, "serve")
	cmd.Dir = p.primary
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	socket := filepath.Join(p.primary, "state", "control.sock")
	eventually(t, "the control socket is there", func() bool { _, err := os.Stat(socket); return err == nil })
	for range 3 {
		_ = cmd.Process.Signal(syscall.SIGHUP)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil || !strings.HasPrefix(line, "ready on ") {
		t.Errorf("%q, %v", line, err)
	}
}

// Strangers who hold every place for connections keep out neither a peer nor the next
// stranger.
func TestPlacesHeld(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	hold := func(host int) net.Conn {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(host))}}
		c, err := dialer.Dial("tcp", d.addr)
		if err != nil {
			t.Skip("this machine has no further loopback addresses: ", err)
		}
		t.Cleanup(func() { c.Close() })
		return c
	}
	for host := range 8 {
		for range 30 {
			hold(2 + host)
		}
	}
	for range 32 {
		want(t, fp(t, ".", "ask", "tides.example", "AXFR", "--at", d.addr, "--transport", "tcp"), 0, "SOA")
	}
	c := hold(200)
	// A query for the SOA of tides.example over TCP.
	msg := "\x00\x1f\x12\x34\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x05tides\x07example\x00\x00\x06\x00\x01"
	if _, err := c.Write([]byte(msg)); err != nil {
		t.Fatal(err)
	}
	_ = c.SetDeadline(time.Now().Add(patience))
	if n, err := c.Read(make([]byte, 512)); err != nil || n < 30 {
		t.Errorf("the next stranger gets %d octets, %v", n, err)
	}
}

// The limits of the configuration bound what is fetched, from the next reload on.
func TestFetchLimits(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	serve(t, p.primary)
	conf := filepath.Join(p.secondary, "fencepost.toml")
	was := read(t, conf)
	write(t, conf, was+"[limits]\nfetched-zone = \"200\"\n")
	d := serve(t, p.secondary)
	eventually(t, "the refusal of a zone that is too large", func() bool {
		return strings.Contains(fp(t, p.secondary, "status").out, "larger than 200 octets")
	})
	write(t, conf, was+"[limits]\nfetched-zone = \"1MiB\"\nfetched-together = \"300\"\n")
	ok(t, p.secondary, "refresh", "tides.example")
	fp(t, p.secondary, "reload")
	ok(t, p.secondary, "refresh", "tides.example")
	eventually(t, "the refusal of more than all transfers may take", func() bool {
		return strings.Contains(fp(t, p.secondary, "status").out, "fetched-together")
	})
	write(t, conf, was+"[limits]\nfetched-zone = \"1MiB\"\n")
	fp(t, p.secondary, "reload")
	ok(t, p.secondary, "refresh", "tides.example")
	eventually(t, "the zone", func() bool { return serial(t, d.addr, "tides.example") != 0 })
	write(t, conf, was+"[limits]\nfetched-zone = \"much\"\n")
	want(t, fp(t, p.secondary, "check"), 1, "not a size", "500MiB")
}
