package frontend

import (
	"io"
	"net/netip"
	"sync"
)

// Places for connections. Those of peers are their own, so that strangers who hold
// all of theirs keep no zone from being transferred.
const (
	maxConns     = 150 // of strangers
	maxConnsFrom = 25  // from one address, or one IPv6 network of 64 bits
	maxPeerConns = 100 // of all peers
)

// slots counts connections.
type slots struct {
	mu    sync.Mutex
	clock uint64 // grows with each moment that is noted
	from  map[netip.Prefix]int
	open  [2]map[*slot]bool // of strangers, of peers
}

// slot is that of one connection.
type slot struct {
	conn  io.Closer
	group netip.Prefix
	peer  int    // 1: of a peer
	idle  uint64 // since when it waits for a message; 0: it does not
	taken bool   // by another
}

// groupOf is who counts as one: a host is given a whole IPv6 network of 64 bits.
func groupOf(a netip.Addr) netip.Prefix {
	bits := 64
	if a.Is4() {
		bits = 32
	}
	p, _ := a.WithZone("").Prefix(bits)
	return p
}

// enter takes a place, that of the connection that has been idle for longest if all
// are taken; nil if none is idle.
func (p *slots) enter(conn io.Closer, a netip.Addr, peer bool) *slot {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.from == nil {
		p.from, p.open = map[netip.Prefix]int{}, [2]map[*slot]bool{{}, {}}
	}
	n := &slot{conn: conn, group: groupOf(a)}
	most := maxConns
	if peer {
		n.peer, most = 1, maxPeerConns
	} else if p.from[n.group] >= maxConnsFrom && !p.evict(0, func(o *slot) bool { return o.group == n.group }) {
		return nil
	}
	if len(p.open[n.peer]) >= most && !p.evict(n.peer, func(*slot) bool { return true }) {
		return nil
	}
	p.open[n.peer][n] = true
	if !peer {
		p.from[n.group]++
	}
	p.clock++
	n.idle = p.clock
	return n
}

// evict closes the connection among some that has been idle for longest.
func (p *slots) evict(peer int, which func(*slot) bool) bool {
	var oldest *slot
	for o := range p.open[peer] {
		if o.idle != 0 && which(o) && (oldest == nil || o.idle < oldest.idle) {
			oldest = o
		}
	}
	if oldest == nil {
		return false
	}
	oldest.conn.Close()
	p.remove(oldest)
	return true
}

func (p *slots) remove(o *slot) {
	if o.taken {
		return
	}
	o.taken = true
	delete(p.open[o.peer], o)
	if o.peer == 0 {
		if p.from[o.group]--; p.from[o.group] == 0 {
			delete(p.from, o.group)
		}
	}
}

// waits notes that a connection is idle from now on, works that it is not.
func (p *slots) waits(o *slot) {
	p.mu.Lock()
	p.clock++
	o.idle = p.clock
	p.mu.Unlock()
}

func (p *slots) works(o *slot) {
	p.mu.Lock()
	o.idle = 0
	p.mu.Unlock()
}

func (p *slots) leave(o *slot) {
	p.mu.Lock()
	p.remove(o)
	p.mu.Unlock()
}
