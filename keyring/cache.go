package keyring

import (
	"slices"
	"sync"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/roll"
	"fencepost/wholefile"
)

// isFresh reports whether a file may change and keep its mark. Tests replace it.
var isFresh = wholefile.Mark.Fresh

// mostCached is how many rings, and how many keys, a Cache remembers, at some thousand octets each.
const mostCached = 1024

// Cache remembers rings as their files say, so that a file that is read again and has the same
// octets need not be understood again, and the private keys that were unlocked, while their files
// stay as they are: whoever changes a zone every second would spend a good part of the time on
// that. The zero value is ready for use, by many at once; nil remembers nothing.
type Cache struct {
	mu      sync.Mutex
	rings   map[string]*Ring    // by folder, as they were read; never changed, never handed out
	private map[string]unlocked // by file
	usable  map[string]*usable  // by folder; small, and one for each zone
}

// unlocked is a private key and what its file was like when it was read.
type unlocked struct {
	mark wholefile.Mark
	key  *dnssec.Key
}

// Open is Open; the ring is the caller's own.
func (c *Cache) Open(dir string, zone dnsname.Name) (*Ring, error) {
	if c == nil {
		return Open(dir, zone)
	}
	text, err := readIndex(dir)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	known := c.rings[dir]
	c.mu.Unlock()
	if known != nil && text != nil && string(known.onDisk) == string(text) && known.Zone.Equal(zone) {
		r := known.clone()
		return r, r.checkModes()
	}
	r, err := open(dir, zone, text)
	if err == nil && text != nil {
		r.cache = c
		c.mu.Lock()
		c.rings = remember(c.rings, dir, r.clone())
		c.mu.Unlock()
	}
	return r, err
}

// privateOf is the private key in a file that is still as it was; nil: it is not known.
func (c *Cache) privateOf(path string, mark wholefile.Mark) *dnssec.Key {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if k := c.private[path]; k.mark == mark {
		return k.key
	}
	return nil
}

// unlocked is told what a file held that has not been changed just now.
func (c *Cache) unlocked(path string, mark wholefile.Mark, key *dnssec.Key) {
	if c == nil || isFresh(mark) {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.private = remember(c.private, path, unlocked{mark, key})
}

// remember sets what belongs to a key; where that makes too many, any other goes.
func remember[V any](of map[string]V, key string, v V) map[string]V {
	if of == nil {
		of = map[string]V{}
	}
	if _, there := of[key]; !there && len(of) >= mostCached {
		for other := range of {
			delete(of, other)
			break
		}
	}
	of[key] = v
	return of
}

// clone is a ring that can be changed without the other.
func (r *Ring) clone() *Ring {
	out := *r
	out.Keys = nil
	out.Roll = &roll.KeySet{Roll: r.Roll.Roll.Clone(), Last: r.Roll.Last.Clone(), Unsigned: r.Roll.Unsigned}
	for _, e := range r.Keys {
		own := *e
		own.Key = e.Key.Clone()
		out.list(&own)
	}
	out.TTLs.Keys, out.TTLs.Data, out.TTLs.DS = slices.Clone(r.TTLs.Keys), slices.Clone(r.TTLs.Data), slices.Clone(r.TTLs.DS)
	return &out
}
