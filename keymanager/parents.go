package keymanager

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/netio"
	"fencepost/resolve"
)

// How long it is remembered which servers a zone above has, and that none are known:
// many zones have one parent, and a resolver that does not answer is waited for once.
const (
	parentsKept   = 10 * time.Minute
	noParentsKept = time.Minute
)

// Parents finds the servers of zones that others are delegated from, with the system's
// resolver, and remembers them. It is safe for concurrent use.
type Parents struct {
	net netio.Network
	now func() time.Time

	mu      sync.Mutex
	entries map[string]*parentEntry
}

type parentEntry struct {
	mu      sync.Mutex // held while the resolver is asked
	at      time.Time  // when it was; zero: never
	servers []resolve.Server
}

// NewParents asks the resolver of a network; nil is the system's.
func NewParents(net netio.Network, now func() time.Time) *Parents {
	return &Parents{net: netio.Or(net), now: now, entries: map[string]*parentEntry{}}
}

// NoParentError says that nobody knows the servers of the zone above.
type NoParentError struct{ Zone dnsname.Name }

func (e *NoParentError) Error() string {
	return fmt.Sprintf("the servers of the parent of %s are not known", e.Zone.Plain())
}

// Above is the servers of the zone above another.
func (c *Parents) Above(ctx context.Context, zone dnsname.Name) ([]resolve.Server, error) {
	for up := zone.Parent(); up.Labels() > 0; up = up.Parent() {
		if out := c.of(ctx, up); len(out) > 0 {
			return out, nil
		}
	}
	return nil, &NoParentError{zone}
}

// of is the servers of a zone, empty if they are not known.
func (c *Parents) of(ctx context.Context, zone dnsname.Name) []resolve.Server {
	c.mu.Lock()
	e := c.entries[zone.Key()]
	if e == nil {
		e = &parentEntry{}
		c.entries[zone.Key()] = e
	}
	c.mu.Unlock()
	e.mu.Lock()
	defer e.mu.Unlock()
	keep, now := parentsKept, c.now()
	if len(e.servers) == 0 {
		keep = noParentsKept
	}
	if age := now.Sub(e.at); e.at.IsZero() || age < 0 || age >= keep {
		e.at, e.servers = now, c.lookup(ctx, zone)
	}
	return e.servers
}

// lookup asks the resolver for the servers of a zone.
func (c *Parents) lookup(ctx context.Context, zone dnsname.Name) (out []resolve.Server) {
	hosts, err := c.net.LookupNS(ctx, zone.String())
	if err != nil {
		return nil
	}
	for _, host := range hosts {
		addrs, _ := c.net.LookupAddr(ctx, host)
		for _, ip := range addrs {
			out = append(out, resolve.Server{Name: strings.TrimSuffix(host, "."), Address: netip.AddrPortFrom(ip, resolve.Port)})
		}
	}
	return out
}
