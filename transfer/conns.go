package transfer

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"time"

	"fencepost/resolve"
)

// Conns are connections to primaries that are kept for a moment after a transfer, so that
// many zones of one primary are fetched over few of them (RFC 9103 §6.3, RFC 7766 §6.2.1).
// The nil Conns keeps none.
type Conns struct {
	mu   sync.Mutex
	idle map[connKey][]*idleConn
}

type connKey struct {
	server netip.AddrPort
	local  netip.Addr
}

type idleConn struct {
	net.Conn
	end func() bool // takes back that it is closed
}

// idleFor is how long a connection waits for its next use: less than a server waits for
// the next question (RFC 7766 §6.2.3 has it some seconds).
const idleFor = 3 * time.Second

// get is a connection; used says that it was used before.
func (c *Conns) get(ctx context.Context, f *Fetch) (conn net.Conn, used bool, err error) {
	if conn := c.take(f); conn != nil {
		return conn, true, nil
	}
	conn, err = resolve.Dial(ctx, f.Net, f.Server, f.Local, f.Timeout)
	return conn, false, err
}

func (c *Conns) take(f *Fetch) net.Conn {
	if c == nil {
		return nil
	}
	k := connKey{f.Server, f.Local}
	c.mu.Lock()
	defer c.mu.Unlock()
	for list := c.idle[k]; len(list) > 0; list = c.idle[k] {
		last := list[len(list)-1]
		c.idle[k] = list[:len(list)-1]
		if last.end() {
			return last.Conn
		}
	}
	return nil
}

// put gives a connection back: to be kept where it is clean, else to be closed.
func (c *Conns) put(f *Fetch, conn net.Conn, clean bool) {
	if c == nil || !clean {
		conn.Close()
		return
	}
	_ = conn.SetDeadline(time.Time{})
	k := connKey{f.Server, f.Local}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.idle == nil {
		c.idle = map[connKey][]*idleConn{}
	}
	kept := &idleConn{Conn: conn}
	kept.end = f.Net.Clock().AfterFunc(idleFor, func() { c.drop(k, kept) })
	c.idle[k] = append(c.idle[k], kept)
}

func (c *Conns) drop(k connKey, conn *idleConn) {
	conn.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	list := c.idle[k]
	for i := range list {
		if list[i] == conn {
			list = append(list[:i:i], list[i+1:]...)
			break
		}
	}
	if c.idle[k] = list; len(list) == 0 {
		delete(c.idle, k)
	}
}

// Close closes those that wait.
func (c *Conns) Close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, list := range c.idle {
		for _, conn := range list {
			conn.end()
			conn.Close()
		}
	}
	c.idle = nil
}
