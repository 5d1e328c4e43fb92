package zone

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"maps"
	"math/bits"
	"runtime"
	"sync"

	"fencepost/rr"
)

// facts are what is known of a version as a whole. They are sums over its names, so a
// version that is made from another has them for the price of what changed.
type facts struct {
	// hi and lo are the sum, modulo 2^128, of a hash of each name with its records. The
	// order of the names does not matter.
	hi, lo uint64
	// ttls counts the RRsets by their TTL; nil where there are more than maxTTLs kinds.
	ttls map[uint32]int
}

// maxTTLs bounds what is kept of TTLs: zones have a handful.
const maxTTLs = 64

func newFacts() *facts { return &facts{ttls: map[uint32]int{}} }

func (f *facts) clone() *facts { return &facts{f.hi, f.lo, maps.Clone(f.ttls)} }

func (f *facts) add(hi, lo uint64) {
	var carry uint64
	f.lo, carry = bits.Add64(f.lo, lo, 0)
	f.hi, _ = bits.Add64(f.hi, hi, carry)
}

func (f *facts) subtract(hi, lo uint64) {
	var borrow uint64
	f.lo, borrow = bits.Sub64(f.lo, lo, 0)
	f.hi, _ = bits.Sub64(f.hi, hi, borrow)
}

// count books sets with a TTL that came, or went for a negative number.
func (f *facts) count(ttl uint32, by int) {
	if f.ttls == nil {
		return
	}
	if f.ttls[ttl] += by; f.ttls[ttl] == 0 {
		delete(f.ttls, ttl)
	}
	if len(f.ttls) > maxTTLs {
		f.ttls = nil
	}
}

// join adds what is known of other names.
func (f *facts) join(o *facts) {
	f.add(o.hi, o.lo)
	if o.ttls == nil {
		f.ttls = nil
	}
	for ttl, n := range o.ttls {
		f.count(ttl, n)
	}
}

// factsCell holds the facts of a version once they were asked for. mu guards them.
type factsCell struct {
	mu    sync.Mutex
	known *facts
}

func (c *factsCell) get() *facts {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.known
}

func (c *factsCell) set(f *facts) {
	if c == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.known = f
}

// Digest tells versions of a zone apart by their content: 32 hexadecimal digits over
// all names without regard to case, types, TTLs and data. It is kept along with the
// version: the first of a line of versions costs a walk over the zone, one that was made
// from another with Replace or With only what changed.
func (s *Snapshot) Digest() string {
	f := s.facts()
	if s.hashed != nil {
		sum := facts{hi: f.hi, lo: f.lo}
		h := s.hashed.facts()
		sum.add(h.hi, h.lo)
		f = &sum
	}
	return hex.EncodeToString(binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, f.hi), f.lo))
}

// LongestTTL is the largest TTL of all RRsets but those at hashed names. It is kept along
// like Digest, unless the zone has very many different ones.
func (s *Snapshot) LongestTTL() (longest uint32) {
	if known := s.facts().ttls; known != nil {
		for ttl := range known {
			longest = max(longest, ttl)
		}
		return longest
	}
	for n := range s.Nodes {
		for set := range n.RRsets {
			longest = max(longest, set.TTL)
		}
	}
	return longest
}

func (s *Snapshot) facts() *facts {
	if f := s.sum.get(); f != nil {
		return f
	}
	total := newFacts()
	for _, part := range s.sums() {
		total.join(part)
	}
	s.sum.set(total)
	return total
}

// sums adds up the names, in as many parts as there are processors.
func (s *Snapshot) sums() (parts []*facts) {
	var mu sync.Mutex
	_ = s.Scan(context.Background(), runtime.GOMAXPROCS(0), nil, func() Visit { // which never fails
		f := newFacts()
		mu.Lock()
		parts = append(parts, f)
		mu.Unlock()
		var key, buf []byte
		return func(n, _ *Node) error {
			key = n.AppendKey(key[:0])
			buf = appendNode(buf[:0], key, n)
			f.add(sumOf(buf))
			for set := range n.RRsets {
				f.count(set.TTL, 1)
			}
			return nil
		}
	})
	return parts
}

// came books a name with its records, in the order of a page.
func (f *facts) came(key []byte, items []nodeItem) {
	buf := append(append(make([]byte, 0, 512), key...), 0, 0)
	for i := range items {
		buf = appendSummed(buf, items[i].typ, items[i].ttl, items[i].data)
		if i == 0 || items[i].typ != items[i-1].typ || items[i].group != items[i-1].group {
			f.count(items[i].ttl, 1)
		}
	}
	f.add(sumOf(buf))
}

// went books a name that goes.
func (f *facts) went(key []byte, n *Node) {
	f.subtract(sumOf(appendNode(make([]byte, 0, 512), key, n)))
	for set := range n.RRsets {
		f.count(set.TTL, -1)
	}
}

func appendNode(buf, key []byte, n *Node) []byte {
	buf = append(append(buf, key...), 0, 0)
	for set := range n.RRsets {
		t, ttl := set.Type, set.TTL
		for set.N > 0 {
			var data []byte
			data, set = set.Next()
			buf = appendSummed(buf, t, ttl, data)
		}
	}
	return buf
}

func appendSummed(buf []byte, t rr.Type, ttl uint32, data []byte) []byte {
	buf = binary.BigEndian.AppendUint16(buf, uint16(t))
	buf = binary.BigEndian.AppendUint32(buf, ttl)
	buf = binary.BigEndian.AppendUint16(buf, uint16(len(data)))
	return append(buf, data...)
}

func sumOf(b []byte) (hi, lo uint64) {
	h := sha256.Sum256(b)
	return binary.BigEndian.Uint64(h[:]), binary.BigEndian.Uint64(h[8:])
}
