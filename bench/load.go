package main

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// makeZone makes a zone of hosts, aliases, mail and delegations, the same each
// time, in an order that is not sorted.
func makeZone(n int) []byte {
	r := rand.New(rand.NewPCG(1, 1))
	var b strings.Builder
	b.WriteString("$ORIGIN bench.example.\n$TTL 3600\n@\tIN SOA ns1 hostmaster 2026010101 7200 900 1209600 300\n\tNS ns1\n\tNS ns2\nns1\tA 192.0.2.1\nns2\tA 192.0.2.2\nmail\tA 192.0.2.25\n")
	for i := range n {
		label := fmt.Sprintf("%c%c%d", 'a'+rune(r.IntN(26)), 'a'+rune(r.IntN(26)), (i*7919)%n)
		switch i % 20 {
		case 0:
			fmt.Fprintf(&b, "%s\tNS ns1.%s\n\tNS ns2\nns1.%s\tA 198.51.100.%d\n", label, label, label, i&255)
		case 1, 2:
			fmt.Fprintf(&b, "%s\tCNAME mail\n", label)
		case 3:
			fmt.Fprintf(&b, "%s\tMX 10 mail\n\tTXT \"v=spf1 mx -all\"\n", label)
		default:
			fmt.Fprintf(&b, "%s\tIN\tA\t198.51.100.%d\n\tAAAA 2001:db8::%x:%x\n", label, i&255, i>>16, i&0xffff)
		}
	}
	return []byte(b.String())
}

// cpuTime is how much processor time a process has used.
func cpuTime(pid int) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	f := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	var user, sys int64
	_, _ = fmt.Sscan(f[11], &user)
	_, _ = fmt.Sscan(f[12], &sys)
	const ticks = 100 // USER_HZ
	return time.Duration(user+sys) * time.Second / ticks, nil
}

// load asks a server in closed loops for a while and returns the answers per
// second of processor time that the server used.
func load(addr string, pid int, queries [][]byte) (float64, error) {
	const sockets, window, span = 8, 32, 3 * time.Second
	before, err := cpuTime(pid)
	if err != nil {
		return 0, err
	}
	var answers atomic.Int64
	var wg sync.WaitGroup
	end := time.Now().Add(span)
	for s := range sockets {
		conn, err := net.Dial("udp", addr)
		if err != nil {
			return 0, err
		}
		wg.Go(func() {
			defer conn.Close()
			buf := make([]byte, 4096)
			next := s * len(queries) / sockets
			send := func() {
				_, _ = conn.Write(queries[next%len(queries)])
				next++
			}
			for range window {
				send()
			}
			for time.Now().Before(end) {
				_ = conn.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
				if _, err := conn.Read(buf); err == nil {
					answers.Add(1)
				}
				send()
			}
		})
	}
	wg.Wait()
	after, err := cpuTime(pid)
	if err != nil || after == before {
		return 0, fmt.Errorf("no processor time was measured: %w", err)
	}
	return float64(answers.Load()) / (after - before).Seconds(), nil
}

// start starts a server and waits for its first line.
func (b *bench) start(cmd *exec.Cmd) error {
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	cmd.Dir = b.dir
	if err := cmd.Start(); err != nil {
		return err
	}
	_, err = bufio.NewReader(out).ReadString('\n')
	return err
}

func (b *bench) queries() (out [][]byte) {
	r := rand.New(rand.NewPCG(2, 2))
	var owners []string
	for _, l := range strings.Split(string(b.zone), "\n") {
		if owner, _, ok := strings.Cut(l, "\t"); ok && owner != "" && owner != "@" {
			owners = append(owners, owner+".bench.example.")
		}
	}
	for i := range 50000 {
		name := owners[r.IntN(len(owners))]
		if i%5 == 0 {
			name = fmt.Sprintf("zz-%d.bench.example.", r.Uint32())
		}
		out = append(out, message.AppendQuery(nil, dnsname.MustParse(name), rr.TypeA, message.QueryOptions{ID: uint16(i)}))
	}
	return out
}

// serve measures answers against an echo, in pairs, and a transfer.
func (b *bench) serve() error {
	free, err := freeAddr()
	if err != nil {
		return err
	}
	addr := free.String()
	config := fmt.Sprintf("[serve]\nlisten = [%q]\n[peer.bench]\naddress = \"127.0.0.1:1\"\n[[zone]]\nname = \"bench.example\"\nsend-to = [\"bench\"]\n", addr)
	if err := os.WriteFile(b.path("fencepost.toml"), []byte(config), 0o644); err != nil {
		return err
	}
	server := exec.CommandContext(b.ctx, b.program, "serve", "--quiet")
	began := time.Now()
	if err := b.start(server); err != nil {
		return fmt.Errorf("the server does not start: %w", err)
	}
	defer server.Process.Kill() //nolint:errcheck // it may have ended
	row("load until ready", fmt.Sprintf("%.2f s", time.Since(began).Seconds()), "", 0, "")
	self, err := os.Executable()
	if err != nil {
		return err
	}
	const echoAddr = "127.0.0.1:0"
	el, err := net.ListenPacket("udp", echoAddr)
	if err != nil {
		return err
	}
	at := el.LocalAddr().String()
	el.Close()
	echoes := exec.CommandContext(b.ctx, self, "-echo", at)
	if err := b.start(echoes); err != nil {
		return fmt.Errorf("the echo does not start: %w", err)
	}
	defer echoes.Process.Kill() //nolint:errcheck // it may have ended
	queries := b.queries()
	for range 3 {
		ceiling, err := load(at, echoes.Process.Pid, queries)
		if err != nil {
			return err
		}
		got, err := load(addr, server.Process.Pid, queries)
		if err != nil {
			return err
		}
		row("answers per second of processor", fmt.Sprintf("%.0f", got), fmt.Sprintf("echo %.0f", ceiling), got/ceiling, ">= 0.85 small, 0.68 a million names")
	}
	return b.transfer(addr)
}

// transfer fetches the zone and throws it away, beside a stream that nobody makes anything for.
func (b *bench) transfer(addr string) error {
	var best, ceiling float64
	var size int64
	for range 5 {
		plain, err := stream()
		if err != nil {
			return err
		}
		ceiling = max(ceiling, plain)
		conn, err := net.Dial("tcp", addr)
		if err != nil {
			return err
		}
		start := time.Now()
		query := message.AppendQuery(nil, dnsname.MustParse("bench.example."), rr.TypeAXFR, message.QueryOptions{ID: 1})
		if err := resolve.WriteTCP(conn, query); err != nil {
			return err
		}
		_ = conn.(*net.TCPConn).CloseWrite() // the server ends when it has sent all
		if size, err = drain(conn); err != nil {
			return err
		}
		conn.Close()
		best = max(best, float64(size)/1e6/time.Since(start).Seconds())
	}
	row("transfer out", fmt.Sprintf("%.0f MB/s", best), fmt.Sprintf("loopback %.0f MB/s", ceiling), best/ceiling, ">= 0.12 (600 MB/s where loopback gives 5,100)")
	return nil
}

// drain reads to the end.
func drain(r io.Reader) (n int64, err error) {
	return io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{r}, make([]byte, 1<<18))
}

// stream is how many megabytes a second go through a connection to ourselves.
func stream() (float64, error) {
	const size, piece = 1 << 30, 60000
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		buf := make([]byte, piece)
		for n := 0; n < size && err == nil; n += piece {
			_, err = conn.Write(buf)
		}
	}()
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	start := time.Now()
	n, err := drain(conn)
	return float64(n) / 1e6 / time.Since(start).Seconds(), err
}
