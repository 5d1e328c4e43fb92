// Command bench measures the whole program: each figure beside a ceiling taken
// in the same run on the same machine, for absolute figures mean little.
//
//	go run ./bench            about a minute, zone of 100,000 names
//	go run ./bench -names 1000000
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"fencepost/netio/datagram"
)

func main() {
	names := flag.Int("names", 100000, "names in the zone")
	only := flag.String("only", "", "one part alone: check, sign, serve, live or updates")
	echo := flag.String("echo", "", "internal: serve an echo on this address")
	flag.Parse()
	if *echo != "" {
		serveEcho(netip.MustParseAddrPort(*echo))
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	dir, err := os.MkdirTemp("", "fencepost-bench-")
	if err == nil {
		defer os.RemoveAll(dir)
		err = (&bench{ctx: ctx, dir: dir, names: *names, only: *only}).run()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// bench is one run.
type bench struct {
	ctx     context.Context
	dir     string
	names   int
	only    string // the part to measure; empty: all
	program string
	zone    []byte
}

// row prints a line of the table: what was measured, its ceiling, their ratio and
// the goal.
func row(what, figure, ceiling string, ratio float64, goal string) {
	fmt.Printf("%-34s %18s %30s %7.2f  %s\n", what, figure, ceiling, ratio, goal)
}

func (b *bench) run() error {
	b.program = filepath.Join(b.dir, "fencepost")
	build := exec.CommandContext(b.ctx, "go", "build", "-trimpath", "-o", b.program, "fencepost/cmd/fencepost")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%s%w", out, err)
	}
	b.zone = makeZone(b.names)
	if err := os.MkdirAll(filepath.Join(b.dir, "zones"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(b.path("zones/bench.example.zone"), b.zone, 0o644); err != nil {
		return err
	}
	fmt.Printf("%d names, %.1f MB, %d processors, %s\n\n", b.names, float64(len(b.zone))/1e6, runtime.NumCPU(), runtime.Version())
	fmt.Printf("%-34s %18s %30s %7s  %s\n", "work", "measured", "ceiling", "ratio", "goal")
	for _, part := range []struct {
		name string
		run  func() error
	}{{"check", b.check}, {"sign", b.sign}, {"serve", b.serve}, {"live", b.live}, {"updates", b.updates}} {
		if b.only != "" && b.only != part.name {
			continue
		}
		if err := part.run(); err != nil {
			return err
		}
	}
	return nil
}

// freeAddr is an address on loopback that nobody listens on.
func freeAddr() (netip.AddrPort, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return netip.AddrPort{}, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).AddrPort(), nil
}

// writeFiles writes the files of a workspace, by their names in it.
func writeFiles(dir string, files map[string]string) error {
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) path(name string) string { return filepath.Join(b.dir, name) }

// timed runs the program and returns the wall time; the best of n.
func (b *bench) timed(n int, args ...string) (best time.Duration, out string, err error) {
	for range n {
		cmd := exec.CommandContext(b.ctx, b.program, args...)
		cmd.Dir = b.dir
		var buf bytes.Buffer
		cmd.Stdout, cmd.Stderr = &buf, &buf
		start := time.Now()
		if err := cmd.Run(); err != nil {
			return 0, "", fmt.Errorf("%s: %w\n%.2000s", strings.Join(args, " "), err, buf.String())
		}
		if d := time.Since(start); best == 0 || d < best {
			best = d
		}
		out = buf.String()
	}
	return best, out, nil
}

// words counts lines, words and octets one by one, as wc does.
func words(text []byte) (lines, words int) {
	in := false
	for _, c := range text {
		if c == '\n' {
			lines++
		}
		blank := c == ' ' || c == '\t' || c == '\n' || c == '\r'
		if !blank && !in {
			words++
		}
		in = !blank
	}
	return lines, words
}

func (b *bench) check() error {
	ceiling := time.Duration(1 << 62)
	for range 3 {
		start := time.Now()
		text, err := os.ReadFile(b.path("zones/bench.example.zone"))
		if err != nil {
			return err
		}
		lines, n := words(text)
		if lines == 0 || n == 0 {
			return fmt.Errorf("the zone is empty")
		}
		ceiling = min(ceiling, time.Since(start))
	}
	took, _, err := b.timed(3, "check", "zones/bench.example.zone")
	if err != nil {
		return err
	}
	row("check", fmt.Sprintf("%.2f s", took.Seconds()), fmt.Sprintf("count words %.2f s", ceiling.Seconds()), took.Seconds()/ceiling.Seconds(), "<= 8 (Go counts faster than wc)")
	return nil
}

// rate is how often per second f runs on all processors together.
func rate(f func()) float64 { return rateOn(runtime.GOMAXPROCS(0), f) }

// rateOn is rate on n processors.
func rateOn(n int, f func()) float64 {
	const each = 2 * time.Second
	counts := make(chan int, n)
	for range n {
		go func() {
			k := 0
			for start := time.Now(); time.Since(start) < each; k++ {
				f()
			}
			counts <- k
		}()
	}
	total := 0
	for range n {
		total += <-counts
	}
	return float64(total) / each.Seconds()
}

// echo sends back what it gets: what the sockets alone cost.
type echo struct{}

func (echo) Datagram(dst, msg []byte, _ netip.AddrPort) []byte { return append(dst, msg...) }
func (echo) Flush()                                            {}

func serveEcho(addr netip.AddrPort) {
	ls, err := datagram.Listen(addr, 1)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println("ready")
	ls[0].Serve(func() datagram.Handler { return echo{} })
}
