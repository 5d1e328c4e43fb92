package main

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
)

// live measures what happens to a signed zone in a running server: one record that is added to
// it, and its way to a secondary.
func (b *bench) live() error {
	addr, err := freeAddr()
	if err != nil {
		return err
	}
	second, err := freeAddr()
	if err != nil {
		return err
	}
	dir, secondary := b.path("live"), b.path("secondary")
	err = writeFiles(dir, map[string]string{
		"fencepost.toml":           fmt.Sprintf("[serve]\nlisten = [%q]\n[policy.standard]\n[peer.second]\naddress = %q\n[[zone]]\nname = \"bench.example\"\nsign = \"standard\"\nsend-to = [\"second\"]\n", addr, second),
		"zones/bench.example.zone": string(b.zone),
	})
	if err == nil {
		err = writeFiles(secondary, map[string]string{
			"fencepost.toml": fmt.Sprintf("[serve]\nlisten = [%q]\n[peer.first]\naddress = %q\n[[zone]]\nname = \"bench.example\"\nfetch-from = [\"first\"]\n", second, addr),
		})
	}
	if err != nil {
		return err
	}
	server := exec.CommandContext(b.ctx, b.program, "serve", "--quiet", "--workspace", dir)
	if err := b.start(server); err != nil {
		return fmt.Errorf("the server does not start: %w", err)
	}
	defer server.Process.Kill() //nolint:errcheck // it may have ended
	apex := dnsname.MustParse("bench.example.")
	if err := b.awaitZone(addr, apex); err != nil {
		return err
	}
	if err := b.added(dir, server.Process.Pid); err != nil {
		return err
	}
	return b.fetched(secondary, second, apex)
}

// added measures what one record costs the server, from the command's request to what is done
// about it seconds later, without what it does anyway.
func (b *bench) added(dir string, pid int) error {
	const settle = 3 * time.Second
	add := func(i int) error {
		cmd := exec.CommandContext(b.ctx, b.program, "add", "--workspace", dir, "bench.example", fmt.Sprintf("added-%d", i), "A", "192.0.2.7", "--reload")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("add: %w\n%.2000s", err, out)
		}
		return nil
	}
	if err := add(0); err != nil { // the first one also ends what the start left to do
		return err
	}
	time.Sleep(settle)
	idle := func() (float64, error) {
		before, err := runTime(pid)
		time.Sleep(settle)
		after, err2 := runTime(pid)
		if err == nil {
			err = err2
		}
		return (after - before).Seconds() / settle.Seconds(), err
	}
	var costs []time.Duration
	for i := range 9 {
		rest, err := idle()
		if err != nil {
			return err
		}
		before, _ := runTime(pid)
		began := time.Now()
		if err := add(i + 1); err != nil {
			return err
		}
		time.Sleep(settle)
		after, err := runTime(pid)
		if err != nil {
			return err
		}
		costs = append(costs, after-before-time.Duration(rest*float64(time.Since(began))))
	}
	slices.Sort(costs)
	const signatures = 130 // what 26,000 a second make of 5 ms
	key, err := dnssec.Generate(rr.ECDSAP256SHA256, dnssec.FlagZone, 0)
	if err != nil {
		return err
	}
	data := make([]byte, 100)
	ceiling := time.Duration(float64(signatures) / rateOn(1, func() { _, _ = key.Sign(data) }) * float64(time.Second))
	row("one record added, in the server", fmt.Sprintf("%.1f ms", costs[len(costs)/2].Seconds()*1e3), fmt.Sprintf("%d signatures %.1f ms", signatures, ceiling.Seconds()*1e3), costs[len(costs)/2].Seconds()/ceiling.Seconds(), "<= 1 (5 ms)")
	return nil
}

// runTime is for how long the threads of a process have run.
func runTime(pid int) (total time.Duration, err error) {
	files, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/schedstat", pid))
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			continue // the thread has ended
		}
		var ns int64
		if _, err := fmt.Sscan(string(text), &ns); err != nil {
			return 0, err
		}
		total += time.Duration(ns)
	}
	return total, err
}

// fetched measures a secondary from its start until it serves what it has fetched and stored.
func (b *bench) fetched(dir string, addr netip.AddrPort, apex dnsname.Name) error {
	var best float64
	for range 3 {
		if err := os.RemoveAll(filepath.Join(dir, "state")); err != nil {
			return err
		}
		ctx, cancel := context.WithCancel(b.ctx)
		server := exec.CommandContext(ctx, b.program, "serve", "--workspace", dir)
		var log strings.Builder
		server.Stderr = &log
		began := time.Now()
		err := b.start(server)
		if err == nil {
			err = b.awaitZone(addr, apex)
		}
		took := time.Since(began).Seconds()
		cancel()
		_ = server.Wait()
		if err != nil {
			return err
		}
		_, after, _ := strings.Cut(log.String(), " octets=")
		var octets float64
		if _, err := fmt.Sscan(after, &octets); err != nil {
			return fmt.Errorf("the log does not say how much was fetched: %w", err)
		}
		best = max(best, octets/1e6/took)
	}
	row("transfer in, stored and served", fmt.Sprintf("%.0f MB/s", best), "the sender beside it", best/120, ">= 1 (120 MB/s)")
	return nil
}
