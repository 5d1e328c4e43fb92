package frontend

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
)

// closer notes that a connection was closed.
type closer struct {
	closed bool
	addr   netip.Addr
	peer   bool
	busy   bool
	place  *slot
}

func (c *closer) Close() error { c.closed = true; return nil }

// oneHost reports whether two count as one: the same address, or the same IPv6 network.
func oneHost(a, b netip.Addr) bool {
	x, y := a.AsSlice(), b.AsSlice()
	return len(x) == len(y) && (len(x) == 4 && a == b || len(x) == 16 && bytes.Equal(x[:8], y[:8]))
}

// A list of who came when, and who was last heard of when, says who has a place.
func TestPlaces(t *testing.T) {
	r := rand.New(rand.NewPCG(53, 2026))
	var p slots
	var order []*closer // the idle ones, the longest idle first; busy ones anywhere
	touch := func(c *closer, busy bool) {
		order = append(slices.DeleteFunc(order, func(o *closer) bool { return o == c }), c)
		c.busy = busy
	}
	hosts := []func() netip.Addr{
		func() netip.Addr { return netip.AddrFrom4([4]byte{192, 0, 2, byte(r.IntN(9))}) },
		func() netip.Addr { return netip.AddrFrom4([4]byte{198, 51, 100, byte(r.IntN(256))}) },
		func() netip.Addr { // hosts of few networks of 64 bits
			a := [16]byte{0x20, 1, 0x0d, 0xb8, 7: byte(r.IntN(3))}
			binary.BigEndian.PutUint64(a[8:], r.Uint64())
			return netip.AddrFrom16(a)
		},
	}
	for step := range 60000 {
		if step%9000 > 8500 && len(order) > 0 { // many leave
			c := order[r.IntN(len(order))]
			p.leave(c.place)
			order = slices.DeleteFunc(order, func(o *closer) bool { return o == c })
			continue
		}
		switch what := r.IntN(10); {
		case what < 5:
			c := &closer{addr: hosts[r.IntN(3)](), peer: r.IntN(8) == 0}
			same := func(o *closer) bool { return !o.peer && oneHost(o.addr, c.addr) }
			kind := func(o *closer) bool { return o.peer == c.peer }
			count := func(f func(*closer) bool) (n int) {
				for _, o := range order {
					if f(o) {
						n++
					}
				}
				return n
			}
			must := func(f func(*closer) bool) (*closer, bool) { // who has to go
				for _, o := range order {
					if f(o) && !o.busy {
						return o, true
					}
				}
				return nil, false
			}
			var gone *closer
			refused := false
			if limit := map[bool]int{false: maxConns, true: maxPeerConns}[c.peer]; !c.peer && count(same) >= maxConnsFrom {
				var ok bool
				gone, ok = must(same)
				refused = !ok
			} else if count(kind) >= limit {
				var ok bool
				gone, ok = must(kind)
				refused = !ok
			}
			c.place = p.enter(c, c.addr, c.peer)
			if (c.place == nil) != refused || gone != nil && !gone.closed {
				t.Fatalf("step %d: refused %v, want %v; %v was to go", step, c.place == nil, refused, gone)
			}
			if refused {
				continue
			}
			order = append(slices.DeleteFunc(order, func(o *closer) bool { return o == gone }), c)
			for _, o := range order {
				if o.closed {
					t.Fatalf("step %d: one was closed that had not to go", step)
				}
			}
		case len(order) == 0:
		case what < 8:
			c := order[r.IntN(len(order))]
			p.works(c.place)
			touch(c, true)
		case what < 9:
			c := order[r.IntN(len(order))]
			p.waits(c.place)
			touch(c, false)
		default:
			c := order[r.IntN(len(order))]
			p.leave(c.place)
			p.leave(c.place) // twice is once
			order = slices.DeleteFunc(order, func(o *closer) bool { return o == c })
		}
	}
}
