package app

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/workspace"
)

// How long it is remembered which servers a zone above has, and that none are known:
// many zones have one parent, and a resolver that does not answer is waited for once.
const (
	parentsKept   = 10 * time.Minute
	noParentsKept = time.Minute
)

// parentCache remembers the servers of zones that others are delegated from.
type parentCache struct {
	mu      sync.Mutex
	entries map[string]*parentEntry
	// lookup asks the system's resolver; nil is lookupServers. Tests put theirs here.
	lookup func(ctx context.Context, zone dnsname.Name) []*workspace.Peer
}

type parentEntry struct {
	mu      sync.Mutex // held while the resolver is asked
	at      time.Time  // when it was; zero: never
	servers []*workspace.Peer
}

// of is the servers of a zone, empty if they are not known.
func (c *parentCache) of(ctx context.Context, zone dnsname.Name, now time.Time) []*workspace.Peer {
	c.mu.Lock()
	if c.entries == nil {
		c.entries = map[string]*parentEntry{}
	}
	e := c.entries[zone.Key()]
	if e == nil {
		e = &parentEntry{}
		c.entries[zone.Key()] = e
	}
	lookup := c.lookup
	c.mu.Unlock()
	if lookup == nil {
		lookup = lookupServers
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	keep := parentsKept
	if len(e.servers) == 0 {
		keep = noParentsKept
	}
	if age := now.Sub(e.at); e.at.IsZero() || age < 0 || age >= keep {
		e.at, e.servers = now, lookup(ctx, zone)
	}
	return e.servers
}

// lookupServers asks the system's resolver for the servers of a zone.
func lookupServers(ctx context.Context, zone dnsname.Name) (out []*workspace.Peer) {
	servers, err := net.DefaultResolver.LookupNS(ctx, zone.String())
	if err != nil {
		return nil
	}
	for _, s := range servers {
		addrs, _ := net.DefaultResolver.LookupNetIP(ctx, "ip", s.Host)
		for _, ip := range addrs {
			out = append(out, &workspace.Peer{Name: strings.TrimSuffix(s.Host, "."), Address: netip.AddrPortFrom(ip.Unmap(), workspace.DefaultPort)})
		}
	}
	return out
}
