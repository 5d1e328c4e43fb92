// Package testworld plays worlds in memory for the tests of what looks at the world.
package testworld

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/worlds"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/sim"
)

// Begin is when worlds begin.
var Begin = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// World is a world in memory on a clock that stands still, unless it is put on.
type World struct {
	*sim.Internet
	Net   netio.Network // of a machine in it that only asks
	Clock *netio.Virtual
}

// Play plays a world until the test ends. The text is in the format of internal/worlds.
func Play(t testing.TB, text string) *World {
	t.Helper()
	w, err := worlds.Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	clock := netio.NewVirtual(Begin)
	n, err := sim.New(w, clock)
	if err != nil {
		t.Fatal(err)
	}
	memory := netio.NewMemory(clock)
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	if err := n.InMemory(ctx, memory, &wg); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cancel(); wg.Wait() })
	return &World{n, memory.Host(netip.MustParseAddr("192.0.2.250")), clock}
}

// Tracer begins at the world's root.
func (w *World) Tracer() *resolve.Tracer {
	t := &resolve.Tracer{Asker: resolve.Asker{Net: w.Net}}
	for _, s := range w.Hints() {
		h := resolve.Host{Name: s.Name}
		for _, a := range s.Addrs {
			h.Addrs = append(h.Addrs, netip.AddrPortFrom(a, 53))
		}
		t.Roots = append(t.Roots, h)
	}
	return t
}

// Walker begins at the world's root, and finds servers as a Tracer does.
func (w *World) Walker() *resolve.Walker {
	tracer := w.Tracer()
	walker := &resolve.Walker{Asker: tracer.Asker, Start: dnsname.Root}
	for _, h := range tracer.Roots {
		walker.Roots = append(walker.Roots, h.Addrs...)
	}
	walker.Reach = func(ctx context.Context, host dnsname.Name, glue [][]byte) ([]netip.AddrPort, error) {
		return w.Tracer().Reach(ctx, host, glue)
	}
	return walker
}

// Anchors are those for the world's root.
func (w *World) Anchors() []rr.Record {
	anchor, _ := w.Anchor(dnsname.Root)
	return []rr.Record{anchor}
}

// Fault is a fault of a world, from lines KEY = VALUE.
func Fault(lines ...string) string { return "\n[[fault]]\n" + strings.Join(lines, "\n") + "\n" }

// Astray are zones that lead nowhere in ways of their own.
const Astray = `
[[zone]]
name = "one.example"
servers = ["ns.two.example"]
[[zone]]
name = "two.example"
servers = ["ns.one.example"]
[[server]]
name = "ns.one.example"
addresses = ["203.0.113.1"]
[[server]]
name = "ns.two.example"
addresses = ["203.0.113.2"]
[[zone]]
name = "circle.example"
servers = ["ns.harbour.example"]
records = """
a CNAME b
b CNAME c.island.example.
c CNAME x
"""
[[zone]]
name = "round.example"
servers = ["ns.island.example"]
records = """
a CNAME a.square.example.
"""
[[zone]]
name = "square.example"
servers = ["ns.harbour.example"]
records = """
a CNAME a.round.example.
"""
`
