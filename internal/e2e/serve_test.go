package e2e

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

const secret = "[tsig.shared]\nsecret = \"AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=\"\n"

const tides = `$TTL 3600
@       SOA   ns1 hostmaster 1 7200 900 1209600 300
        NS    ns1
        NS    ns2
        MX    10 mail
        TXT   "v=spf1 -all"
ns1     A     192.0.2.1
ns2     A     192.0.2.2
mail    A     192.0.2.25
        AAAA  2001:db8::25
www     CNAME mail
_sip._tcp SRV 1 2 5060 mail
1       PTR   mail
*.w     A     192.0.2.99
child   NS    ns.child
ns.child A    192.0.2.54
`

// pair is a primary and a secondary for tides.example on loopback.
type pair struct{ primary, secondary string } // workspaces

// newPair lays the workspaces out. via, if not 0, is a port that the secondary
// reaches the primary through.
func newPair(t *testing.T, tsig bool, via int) (p pair, primaryPort int) {
	t.Helper()
	dir := t.TempDir()
	p = pair{filepath.Join(dir, "primary"), filepath.Join(dir, "secondary")}
	a, b := freePort(t), freePort(t)
	if via == 0 {
		via = a
	}
	key := ""
	if tsig {
		key = "tsig = \"shared\"\n"
		write(t, filepath.Join(p.primary, "secrets.toml"), secret)
		write(t, filepath.Join(p.secondary, "secrets.toml"), secret)
	}
	write(t, filepath.Join(p.primary, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.second]\naddress = \"127.0.0.1:%d\"\n%s[[zone]]\nname = \"tides.example\"\nsend-to = [\"second\"]\n", a, b, key))
	write(t, filepath.Join(p.primary, "zones", "tides.example.zone"), tides)
	write(t, filepath.Join(p.secondary, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.first]\naddress = \"127.0.0.1:%d\"\n%s[[zone]]\nname = \"tides.example\"\nfetch-from = [\"first\"]\n", b, via, key))
	return p, a
}

// setSerial publishes the zone with another serial.
func setSerial(t *testing.T, d *daemon, n int) {
	t.Helper()
	write(t, filepath.Join(d.dir, "zones", "tides.example.zone"), strings.Replace(tides, "hostmaster 1 ", fmt.Sprintf("hostmaster %d ", n), 1))
	ok(t, d.dir, "reload")
}

// Go's own resolver gets right answers over the wire.
func TestResolver(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	r := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		var dialer net.Dialer
		return dialer.DialContext(ctx, network, d.addr)
	}}
	ctx := context.Background()
	expect := func(what, got, want string, err error) {
		t.Helper()
		if err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", what, got, err, want)
		}
	}
	ips := func(kind, name string) (string, error) {
		addrs, err := r.LookupNetIP(ctx, kind, name)
		var out []string
		for _, a := range addrs {
			out = append(out, a.Unmap().String())
		}
		sort.Strings(out)
		return strings.Join(out, " "), err
	}
	got, err := ips("ip4", "mail.tides.example.")
	expect("A", got, "192.0.2.25", err)
	got, err = ips("ip6", "mail.tides.example.")
	expect("AAAA", got, "2001:db8::25", err)
	got, err = ips("ip", "www.tides.example.")
	expect("through CNAME", got, "192.0.2.25 2001:db8::25", err)
	got, err = r.LookupCNAME(ctx, "www.tides.example.")
	expect("CNAME", got, "mail.tides.example.", err)
	got, err = ips("ip4", "anything.w.tides.example.")
	expect("wildcard", got, "192.0.2.99", err)
	mx, err := r.LookupMX(ctx, "tides.example.")
	expect("MX", fmt.Sprint(len(mx), mx[0].Host, mx[0].Pref), "1mail.tides.example.10", err)
	ns, err := r.LookupNS(ctx, "tides.example.")
	expect("NS", fmt.Sprint(len(ns)), "2", err)
	txt, err := r.LookupTXT(ctx, "tides.example.")
	expect("TXT", strings.Join(txt, "|"), "v=spf1 -all", err)
	_, srv, err := r.LookupSRV(ctx, "sip", "tcp", "tides.example.")
	expect("SRV", fmt.Sprint(srv[0].Target, srv[0].Port, srv[0].Priority, srv[0].Weight), "mail.tides.example.5060 1 2", err)
	want(t, fp(t, p.primary, "ask", "1.tides.example", "PTR"), 0, "mail.tides.example.", "authoritative")
	if _, err := r.LookupHost(ctx, "nosuch.tides.example."); err == nil || !err.(*net.DNSError).IsNotFound {
		t.Errorf("a missing name: %v", err)
	}
}

// PTR through Go's resolver, which asks for reverse names.
func TestReverseResolver(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "fencepost.toml"), "[serve]\nlisten = [\"127.0.0.1:0\"]\n[[zone]]\nname = \"2.0.192.in-addr.arpa\"\n")
	write(t, filepath.Join(dir, "zones", "2.0.192.in-addr.arpa.zone"), "$TTL 60\n@ SOA ns.x.example. h.x.example. 1 7200 900 1209600 300\n@ NS ns.x.example.\n@ NS ns2.x.example.\n25 PTR mail.x.example.\n")
	d := serve(t, dir)
	r := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		var dialer net.Dialer
		return dialer.DialContext(ctx, network, d.addr)
	}}
	if names, err := r.LookupAddr(context.Background(), "192.0.2.25"); err != nil || len(names) != 1 || names[0] != "mail.x.example." {
		t.Errorf("%v, %v", names, err)
	}
}

func TestAsk(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	want(t, fp(t, p.primary, "ask", "www.tides.example"), 0, "CNAME", "192.0.2.25", "over UDP")
	want(t, fp(t, ".", "ask", "www.tides.example", "--at", d.addr, "--transport", "tcp"), 0, "over TCP")
	want(t, fp(t, ".", "ask", "nosuch.tides.example", "--at", d.addr), 0, "the name does not exist")
	want(t, fp(t, ".", "ask", "other.example", "--at", d.addr), 1, "refuses to answer")
	want(t, fp(t, ".", "ask", "x.child.tides.example", "--zone", filepath.Join(p.primary, "zones", "tides.example.zone")), 0, "delegated to other servers")
	want(t, fp(t, ".", "ask", "x", "AA", "--at", d.addr), 2, "did you mean A?")
	want(t, fp(t, ".", "ask", "x"), 2, "--at HOST")
	want(t, fp(t, ".", "ask", "x", "A", d.addr), 2, "--at HOST")
	want(t, fp(t, ".", "ask", "x", "--at", fmt.Sprintf("127.0.0.1:%d", freePort(t)), "--timeout", "200ms"), 3, "does not answer")
	v := object(t, ok(t, p.primary, "ask", "mail.tides.example", "AAAA", "--format", "json"))
	if v["RCODE"] != 0.0 || v["AA"] != 1.0 || v["QNAME"] != "mail.tides.example." || v["answerRRs"].([]any)[0].(map[string]any)["rdata"] != "2001:db8::25" {
		t.Errorf("%v", v)
	}
	// The file and the server give the same answer, octet for octet but the ID.
	fromFile := object(t, ok(t, p.primary, "ask", "mail.tides.example", "MX", "--zone", "tides.example", "--format", "json"))["messageOctetsHEX"].(string)
	fromServer := object(t, ok(t, p.primary, "ask", "mail.tides.example", "MX", "--format", "json"))["messageOctetsHEX"].(string)
	if fromFile[4:] != fromServer[4:] {
		t.Errorf("file:\n%s\nserver:\n%s", fromFile, fromServer)
	}
}

// An answer that does not fit comes over TCP by itself.
func TestTruncation(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	zone := tides
	for i := range 30 {
		zone += fmt.Sprintf("big TXT \"%d %s\"\n", i, strings.Repeat("x", 100))
	}
	write(t, filepath.Join(p.primary, "zones", "tides.example.zone"), zone)
	serve(t, p.primary)
	want(t, fp(t, p.primary, "ask", "big.tides.example", "TXT"), 0, "over TCP (too large for UDP)", `"29 x`)
}

func TestTransferAndNotify(t *testing.T) {
	t.Parallel()
	for _, tsig := range []bool{true, false} {
		t.Run(fmt.Sprintf("tsig=%v", tsig), func(t *testing.T) {
			p, _ := newPair(t, tsig, 0)
			first, second := serve(t, p.primary), serve(t, p.secondary)
			eventually(t, "the secondary has the zone", func() bool { return serial(t, second.addr, "tides.example") == 1 })
			if a, b := ok(t, p.primary, "dump", "tides.example"), ok(t, p.secondary, "dump", "tides.example"); a != b {
				t.Errorf("the copy differs:\n%s\n%s", a, b)
			}
			want(t, fp(t, p.secondary, "status"), 0, "secondary", "in 14 days): until then it answers without its primary")
			setSerial(t, first, 2)
			eventually(t, "the change arrives", func() bool { return serial(t, second.addr, "tides.example") == 2 })
			want(t, fp(t, p.primary, "secondaries", "tides.example"), 0, "both servers are in sync with serial 2")
			eventually(t, "the primary knows that", func() bool {
				return strings.Contains(ok(t, p.primary, "status"), "has fetched this version")
			})
			second.stop()
			setSerial(t, first, 3)
			want(t, fp(t, p.primary, "secondaries", "tides.example", "--timeout", "200ms"), 1, "1 of 2 servers", "silent")
		})
	}
}

// Nobody gets the zone who was not told to: neither a stranger, nor a peer
// without the key, nor one with another key.
func TestTransferRefused(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, true, 0)
	first := serve(t, p.primary)
	want(t, fp(t, ".", "ask", "tides.example", "AXFR", "--transport", "tcp", "--at", first.addr), 1, "refuses to answer")
	want(t, fp(t, ".", "ask", "nosuch.example", "AXFR", "--transport", "tcp", "--at", first.addr), 1, "not responsible")
	want(t, fp(t, ".", "ask", "tides.example", "AXFR", "--at", first.addr), 1, "did not understand") // not over UDP
	write(t, filepath.Join(p.secondary, "secrets.toml"), strings.Replace(secret, "AAEC", "BBEC", 1))
	second := serve(t, p.secondary)
	eventually(t, "the wrong key is told", func() bool {
		return strings.Contains(fp(t, p.secondary, "status").out, "BADSIG")
	})
	if n := serial(t, second.addr, "tides.example"); n != 0 {
		t.Errorf("the secondary with a wrong key serves serial %d", n)
	}
	want(t, fp(t, ".", "ask", "www.tides.example", "--at", second.addr), 1, "could not answer")
	first.logs("transfer refused")
	if log := read(t, first.log); strings.Contains(log, "AAECAw") {
		t.Errorf("the log:\n%s", log)
	}
}

// A secondary keeps its copy across its own restart and while the primary is
// away, and catches up when it is back.
func TestRestarts(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, true, 0)
	first, second := serve(t, p.primary), serve(t, p.secondary)
	eventually(t, "the secondary has the zone", func() bool { return serial(t, second.addr, "tides.example") == 1 })
	first.kill()
	second.kill()
	second.start()
	if n := serial(t, second.addr, "tides.example"); n != 1 {
		t.Fatalf("after a restart without the primary it serves serial %d", n)
	}
	eventually(t, "it tells that the primary is away", func() bool {
		return strings.Contains(fp(t, p.secondary, "status").out, "no primary reached since")
	})
	write(t, filepath.Join(p.primary, "zones", "tides.example.zone"), strings.Replace(tides, "hostmaster 1 ", "hostmaster 5 ", 1))
	first.start()
	eventually(t, "the primary's NOTIFY brings it up to date", func() bool { return serial(t, second.addr, "tides.example") == 5 })
	want(t, fp(t, p.secondary, "refresh", "tides.example"), 0)
	want(t, fp(t, p.primary, "refresh", "tides.example"), 3, "we are primary")
	want(t, fp(t, p.primary, "refresh", "nosuch.example"), 3, "no such zone")
	want(t, fp(t, p.primary, "notify", "tides.example"), 0)
}

// A version with errors never replaces a good one.
func TestBrokenReload(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	file, config := filepath.Join(p.primary, "zones", "tides.example.zone"), filepath.Join(p.primary, "fencepost.toml")
	good := read(t, config)
	for _, c := range []struct{ what, file, text, says string }{
		{"an error", file, strings.Replace(tides, "192.0.2.25", "192.0.2.256", 1), "256 is over 255"},
		{"a change without a serial", file, strings.Replace(tides, "192.0.2.25", "192.0.2.26", 1), "the serial is still 1"},
		{"a serial that goes back", file, strings.Replace(tides, "hostmaster 1 ", "hostmaster 0 ", 1), "went backwards"},
		{"another zone", file, strings.Replace(tides, "@ ", "x ", 1), "was expected"},
		{"nothing", file, "", "no SOA"},
	} {
		write(t, c.file, c.text)
		want(t, fp(t, p.primary, "reload"), 1, "kept", c.says)
		if n := serial(t, d.addr, "tides.example"); n != 1 {
			t.Errorf("%s: serial %d is served", c.what, n)
		}
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	want(t, fp(t, p.primary, "reload"), 1, "kept", "fencepost new tides.example")
	write(t, config, "[serve]\nlisen = []\n")
	want(t, fp(t, p.primary, "check"), 1, "did you mean listen?")
	write(t, config, good)
	write(t, file, strings.Replace(tides, "hostmaster 1 ", "hostmaster 2 ", 1))
	want(t, fp(t, p.primary, "reload"), 0, "loaded")
	if n := serial(t, d.addr, "tides.example"); n != 2 {
		t.Errorf("serial %d is served", n)
	}
	want(t, fp(t, p.primary, "reload"), 0, "unchanged")
}

// throttle is a way to the primary that can be made slow: it passes UDP and TCP
// on and counts what comes back over TCP.
type throttle struct {
	port   int
	slow   atomic.Bool
	passed atomic.Int64
}

func newThrottle(t *testing.T) (*throttle, func(primary int)) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	th := &throttle{port: l.Addr().(*net.TCPAddr).Port}
	u, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: th.port})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close(); u.Close() })
	return th, func(primary int) {
		to := fmt.Sprintf("127.0.0.1:%d", primary)
		go th.datagrams(u, to)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go th.stream(c, to)
			}
		}()
	}
}

func (th *throttle) datagrams(u *net.UDPConn, to string) {
	buf := make([]byte, 4096)
	for {
		n, from, err := u.ReadFromUDP(buf)
		if err != nil {
			return
		}
		c, err := net.Dial("udp", to)
		if err != nil {
			continue
		}
		_ = c.SetDeadline(time.Now().Add(2 * time.Second))
		_, _ = c.Write(buf[:n])
		if m, err := c.Read(buf); err == nil {
			_, _ = u.WriteToUDP(buf[:m], from)
		}
		c.Close()
	}
}

func (th *throttle) stream(c net.Conn, to string) {
	defer c.Close()
	up, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer up.Close()
	var wg sync.WaitGroup
	wg.Go(func() { _, _ = io.Copy(up, c) })
	buf := make([]byte, 16<<10)
	for {
		n, err := up.Read(buf)
		if err != nil {
			return
		}
		if _, err := c.Write(buf[:n]); err != nil {
			return
		}
		th.passed.Add(int64(n))
		if th.slow.Load() {
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// A secondary that is killed in the middle of a transfer has the version from
// before, whole, and fetches the new one when it is back.
func TestKilledInTransfer(t *testing.T) {
	t.Parallel()
	th, connect := newThrottle(t)
	p, port := newPair(t, true, th.port)
	connect(port)
	first, second := serve(t, p.primary), serve(t, p.secondary)
	eventually(t, "the secondary has the small zone", func() bool { return serial(t, second.addr, "tides.example") == 1 })
	var big strings.Builder
	big.WriteString(strings.Replace(tides, "hostmaster 1 ", "hostmaster 2 ", 1))
	for i := range 30000 {
		fmt.Fprintf(&big, "host%d A 192.0.2.%d\n", i, i&255)
	}
	th.slow.Store(true)
	th.passed.Store(0)
	write(t, filepath.Join(p.primary, "zones", "tides.example.zone"), big.String())
	ok(t, p.primary, "reload")
	eventually(t, "the transfer is under way", func() bool { return th.passed.Load() > 300<<10 })
	second.kill()
	second.start()
	if n := serial(t, second.addr, "tides.example"); n != 1 {
		t.Fatalf("after the kill it serves serial %d", n)
	}
	th.slow.Store(false)
	eventually(t, "the transfer is done after all", func() bool { return serial(t, second.addr, "tides.example") == 2 })
	want(t, fp(t, p.secondary, "ask", "host29999.tides.example"), 0, "192.0.2.47")
	_ = first
}

// A zone with a policy is signed by the server: keys are made, answers carry
// signatures, the secondary has them too, and a restart changes nothing.
func TestServeSigned(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, true, 0)
	config := filepath.Join(p.primary, "fencepost.toml")
	write(t, config, strings.Replace(read(t, config), "[[zone]]", "[policy.standard]\nkeys = \"split\"\n[[zone]]\nsign = \"standard\"", 1))
	first, second := serve(t, p.primary), serve(t, p.secondary)
	eventually(t, "the secondary has the zone", func() bool { return serial(t, second.addr, "tides.example") == 1 })
	keys, _ := filepath.Glob(filepath.Join(p.primary, "keys", "tides.example", "*.pem"))
	if len(keys) != 2 {
		t.Fatalf("keys %v", keys)
	}
	want(t, fp(t, p.secondary, "ask", "mail.tides.example", "--dnssec"), 0, "RRSIG   A 13 3")
	want(t, fp(t, p.secondary, "ask", "nosuch.tides.example", "--dnssec"), 0, "NSEC", "the name does not exist")
	write(t, filepath.Join(p.primary, "dump.zone"), ok(t, p.secondary, "dump", "tides.example"))
	want(t, fp(t, p.primary, "verify", "dump.zone"), 0, "proved")
	before := ok(t, p.primary, "dump", "tides.example")
	first.kill()
	first.start()
	if now := ok(t, p.primary, "dump", "tides.example"); now != before {
		t.Error("a restart makes another version")
	}
	// The file's serial is left alone; the served one moves with the content.
	write(t, filepath.Join(p.primary, "zones", "tides.example.zone"), strings.Replace(tides, "192.0.2.25", "192.0.2.26", 1))
	want(t, fp(t, p.primary, "reload"), 0, "loaded", "2")
	eventually(t, "the secondary follows", func() bool { return serial(t, second.addr, "tides.example") == 2 })
	want(t, fp(t, p.primary, "handover", "tides.example"), 0, "Delegation signer (DS) 1", "257")
}

func TestControl(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	want(t, fp(t, p.primary, "status"), 3, "no server is running", "fencepost serve")
	d := serve(t, p.primary)
	want(t, fp(t, p.primary, "serve"), 3, "another fencepost is running")
	info, err := os.Stat(filepath.Join(p.primary, "state", "control.sock"))
	if err != nil || info.Mode().Perm()&0o077 != 0 {
		t.Errorf("the control socket: %v, %v", info, err)
	}
	v := object(t, ok(t, p.primary, "status", "--format", "json"))
	zones := v["zones"].([]any)
	if len(zones) != 1 || zones[0].(map[string]any)["state"] != "serving" {
		t.Errorf("%v", v)
	}
	d.stop()
	if _, err := os.Stat(filepath.Join(p.primary, "state", "control.sock")); err == nil {
		t.Error("the socket is left behind")
	}
	d.start()
	d.kill()
	d.start() // a socket left by a kill is no obstacle
	want(t, fp(t, p.primary, "status"), 0, "serving")
}

// The answer leaves from the address that was asked, also when the server
// listens on all of them.
func TestAnswerAddress(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	port := freePort(t)
	write(t, filepath.Join(dir, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"0.0.0.0:%d\"]\n[[zone]]\nname = \"tides.example\"\n", port))
	write(t, filepath.Join(dir, "zones", "tides.example.zone"), tides)
	serve(t, dir)
	for _, host := range []string{"127.0.0.1", "127.0.0.2", "127.9.8.7"} {
		// ask uses a connected socket, which takes answers from there only.
		want(t, fp(t, ".", "ask", "mail.tides.example", "--at", fmt.Sprintf("%s:%d", host, port), "--timeout", "1s"), 0, "192.0.2.25", "over UDP")
	}
}

// Garbage on the sockets does no harm.
func TestGarbage(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, false, 0)
	d := serve(t, p.primary)
	u, err := net.Dial("udp", d.addr)
	if err != nil {
		t.Fatal(err)
	}
	defer u.Close()
	for n := range 200 {
		_, _ = u.Write(slices.Repeat([]byte{byte(n)}, n*7%600))
	}
	for _, msg := range []string{"", "\x00\x05abcde", "\xff\xff" + strings.Repeat("\x00", 100), "GET / HTTP/1.1\r\n\r\n"} {
		c, err := net.Dial("tcp", d.addr)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = io.WriteString(c, msg)
		c.Close()
	}
	want(t, fp(t, p.primary, "ask", "mail.tides.example"), 0, "192.0.2.25")
}

func TestDemo(t *testing.T) {
	onThisDay(t)
	t.Parallel()
	keep := filepath.Join(t.TempDir(), "kept")
	out := ok(t, ".", "demo", "--keep", keep, "--color", "always") // as on a terminal
	for _, s := range []string{"1. A new zone", "fencepost check estuary.example.zone", "15. From outside", "proved", "That was the whole story"} {
		if !strings.Contains(out, s) {
			t.Errorf("the demo does not say %q", s)
		}
	}
	want(t, fp(t, filepath.Join(keep, "observatory"), "check"), 0)
	want(t, fp(t, ".", "demo", "--keep", keep), 3, "is not empty")
}
