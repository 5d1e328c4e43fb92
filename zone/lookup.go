package zone

import (
	"bytes"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Match says where a name stands in a zone. It is filled by Lookup.
type Match struct {
	// Exact tells that the name owns records; Node is its node then.
	Exact bool
	// EmptyNonTerminal tells that the name exists only by the names below it.
	EmptyNonTerminal bool
	// Cut tells that the name is at or below a zone cut; Node is the cut then.
	Cut bool
	// BelowDNAME tells that the name is below a DNAME; Node is its owner then.
	BelowDNAME bool
	// Encloser counts the labels, from the apex, of the closest encloser of a
	// name that has no records.
	Encloser int

	Node Node
	// Before is on the name itself or the last name before it, for proofs that
	// a name does not exist.
	Before Cursor
}

// Lookup finds out where the name with the given key stands: the node, or the
// closest encloser, the cut above it and the name before it, in one descent.
// Only a name below glue needs a second one to reach its cut.
func (s *Snapshot) Lookup(key []byte, m *Match) {
	m.Exact = m.Before.Seek(s, key)
	m.EmptyNonTerminal, m.Cut, m.BelowDNAME, m.Encloser = false, false, false, 0
	if !m.Before.Valid() { // no apex, and all names are greater
		var after Cursor
		if after.First(s) {
			m.between(0, &after, key)
		}
		return
	}
	m.Before.Node(&m.Node)
	n := &m.Node
	if m.Exact {
		m.Cut = n.IsCut()
		if n.Occluded() {
			s.toOccluder(key, n.cutLabels, m)
		}
		return
	}
	shared, all := sharedLabels(n, key)
	switch {
	case all && n.flags&(flagCut|flagDNAME) != 0 && !n.Occluded():
		// The name before is an ancestor and hides what is below it.
		m.Cut = n.IsCut()
		m.BelowDNAME = !m.Cut
		m.Encloser = shared
		return
	case n.Occluded() && shared >= n.cutLabels:
		s.toOccluder(key, n.cutLabels, m)
		return
	}
	m.Encloser = shared
	if after := m.Before; after.Next() {
		m.between(shared, &after, key)
	}
}

// between completes the match of a name without records from the name after it;
// shared counts the labels that it shares with the name before.
func (m *Match) between(shared int, after *Cursor, key []byte) {
	var next Node
	after.Node(&next)
	sharedNext, _ := sharedLabels(&next, key)
	m.Encloser = max(shared, sharedNext)
	m.EmptyNonTerminal = next.HasKeyPrefix(key)
}

// toOccluder turns the match to the cut or DNAME with the first labels of key.
func (s *Snapshot) toOccluder(key []byte, labels int, m *Match) {
	var c Cursor
	m.Exact = false
	if c.Seek(s, dnsname.KeyPrefix(key, labels)) {
		c.Node(&m.Node)
	}
	m.Cut = m.Node.IsCut()
	m.BelowDNAME = !m.Cut
	m.Encloser = labels
}

// sharedLabels counts the labels that the node's key and key share from the
// apex down; all tells that these are all of the node's labels.
func sharedLabels(n *Node, key []byte) (shared int, all bool) {
	i := 0
	for _, part := range [2][]byte{n.prefix, n.suffix} {
		for _, c := range part {
			if i >= len(key) || key[i] != c {
				return shared, false
			}
			if c == 0 {
				shared++
			}
			i++
		}
	}
	return shared, true
}

// Get finds the node with the key, occluded or not; false when there is none.
func (s *Snapshot) Get(key []byte, n *Node) bool {
	var c Cursor
	if !c.Seek(s, key) {
		return false
	}
	c.Node(n)
	return true
}

// GetName finds the node of an absolute name.
func (s *Snapshot) GetName(name dnsname.Name, n *Node) bool {
	var buf [2 * dnsname.MaxWire]byte
	var wire [dnsname.MaxWire]byte
	key, ok := s.AppendKey(buf[:0], name.AppendWire(wire[:0]))
	return ok && s.Get(key, n)
}

// Find is the set of a type at a name; of RRSIG, and only there, those that cover a
// type. ok is false when there is none.
func (s *Snapshot) Find(owner dnsname.Name, t, covered rr.Type) (set RRset, ok bool) {
	if covered == rr.TypeNSEC3 {
		if s = s.hashed; s == nil {
			return set, false
		}
	}
	var n Node
	if !s.GetName(owner, &n) {
		return set, false
	}
	if t == rr.TypeRRSIG {
		return n.FindSig(covered)
	}
	return n.Find(t)
}

// ApexNode reads the apex.
func (s *Snapshot) ApexNode(n *Node) bool {
	*n = s.apexNode
	return s.hasApex
}

// Wildcard finds the wildcard directly below the encloser, which is the first
// labels of key. It exists, and stands for names that do not, also where it is empty
// because only names below it have records (RFC 4592 §2.2.2).
func (s *Snapshot) Wildcard(key []byte, encloser int, n *Node) (exists, empty bool) {
	if s.wildcards == 0 {
		return false, false
	}
	above := dnsname.KeyPrefix(key, encloser)
	if !s.wild.has(above) {
		return false, false
	}
	var buf [2*dnsname.MaxWire + 2]byte
	k := append(append(buf[:0], above...), '*', 0)
	var c Cursor
	if c.Seek(s, k) {
		c.Node(n)
		return true, false
	}
	if c.Valid() && !c.Next() || !c.Valid() && !c.First(s) {
		return false, false
	}
	c.Node(n)
	return n.HasKeyPrefix(k), true
}

// eachStar calls f with what stands above each label * of a key.
func eachStar(key []byte, f func(above []byte)) {
	for i := 0; i+1 < len(key); i++ {
		at := bytes.IndexByte(key[i:], '*')
		if at < 0 {
			return
		}
		if i += at; (i == 0 || key[i-1] == 0) && i+1 < len(key) && key[i+1] == 0 {
			f(key[:i])
		}
	}
}

// hasStar reports whether a label of a key is *.
func hasStar(key []byte) (yes bool) {
	eachStar(key, func([]byte) { yes = true })
	return yes
}

// wildFilter tells quickly that a name has no wildcard directly below it, as
// almost none has: a bit for the hash of each name that does. It may say yes by
// mistake, never no. Its length is a power of two.
type wildFilter []uint64

// makeWildFilter makes a filter for the hashes of names.
func makeWildFilter(hashes []uint64) wildFilter {
	size := 1
	for size < len(hashes)/4 { // 16 bits a name and more
		size *= 2
	}
	f := make(wildFilter, size)
	for _, h := range hashes {
		f.set(h)
	}
	return f
}

func (f wildFilter) set(h uint64) { f[h>>6&uint64(len(f)-1)] |= 1 << (h & 63) }

func (f wildFilter) has(key []byte) bool {
	h := hashKey(key)
	return len(f) > 0 && f[h>>6&uint64(len(f)-1)]&(1<<(h&63)) != 0
}

// hashKey is FNV-1a.
func hashKey(key []byte) uint64 {
	h := uint64(14695981039346656037)
	for _, c := range key {
		h = (h ^ uint64(c)) * 1099511628211
	}
	return h ^ h>>29
}
