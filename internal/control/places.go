package control

import (
	"net"
	"sync"
)

// Places of connections. A user is looked at before anything is read: whoever sends requests by halves
// holds up nobody but themselves, and cannot use up the descriptors of the server.
const (
	ownerPlaces    = 64 // of the owner of the server, and root, together
	userPlaces     = 8  // of each user whom the configuration lets do something
	strangerPlaces = 2  // of each other one, who is told that they may not
	othersPlaces   = 64 // of all these users together
)

// places counts the connections of users.
type places struct {
	net.Listener
	known func(*Identity) bool // whether the configuration lets somebody do anything

	mu     sync.Mutex
	of     map[int]int // by user; the owner counts as ownerUID
	others int
}

// ownerUID stands for the owner of the server and root.
const ownerUID = -1

// Accept returns the next connection that has a place; others are closed.
func (p *places) Accept() (net.Conn, error) {
	for {
		conn, err := p.Listener.Accept()
		if err != nil {
			return nil, err
		}
		c := &placed{Conn: conn, id: identityOf(conn)}
		if p.take(c) {
			return c, nil
		}
		conn.Close()
	}
}

// take gives a connection a place, if its user has one. Where the system does not say who it is, only
// the owner reaches the socket.
func (p *places) take(c *placed) bool {
	uid, most := ownerUID, ownerPlaces
	if c.id != nil && !c.id.Owner() {
		uid, most = c.id.UID, strangerPlaces
		if p.known == nil || p.known(c.id) {
			most = userPlaces
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.of[uid] >= most || uid != ownerUID && p.others >= othersPlaces {
		return false
	}
	p.count(uid, +1)
	c.leave = sync.OnceFunc(func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.count(uid, -1)
	})
	return true
}

func (p *places) count(uid, by int) {
	if p.of == nil {
		p.of = map[int]int{}
	}
	if p.of[uid] += by; p.of[uid] == 0 {
		delete(p.of, uid)
	}
	if uid != ownerUID {
		p.others += by
	}
}

// placed is a connection with a place.
type placed struct {
	net.Conn
	id    *Identity // nil: the system does not say
	leave func()
}

func (c *placed) Close() error {
	c.leave()
	return c.Conn.Close()
}
