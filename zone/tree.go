package zone

import (
	"bytes"
	"encoding/binary"
)

// fanout is the most children an inner node has. Tests lower it, so that trees of
// many levels are small; nothing on the way of a lookup reads it.
var fanout = 256

// inner is a node above the pages. seps[i] is the least key that goes to child
// i; the separators are cut off as short as still parts the children, and the
// first is empty in the leftmost path.
type inner struct {
	seps  []byte
	offs  []uint32 // len(children)+1 offsets into seps
	skip  int      // octets that all separators but the first begin with
	heads []uint64 // the eight octets after those: they decide most comparisons
	kids  []*inner // or
	pages [][]byte
}

func (in *inner) len() int { return len(in.offs) - 1 }

func (in *inner) sep(i int) []byte { return in.seps[in.offs[i]:in.offs[i+1]] }

// search is the child that key belongs to.
func (in *inner) search(key []byte) int {
	n := in.len()
	if n == 1 {
		return 0
	}
	common := in.sep(1)[:in.skip]
	if len(key) < len(common) || string(key[:len(common)]) != string(common) {
		if string(key) < string(common) {
			return 0
		}
		return n - 1
	}
	want, heads := keyHead8(key[in.skip:]), in.heads
	// The last head that is not greater; no branch depends on what is compared,
	// so there is nothing for the processor to guess wrong. heads[0] is 0.
	at := 0
	for left := n; left > 1; {
		half := left >> 1
		if heads[at+half] <= want {
			at += half
		}
		left -= half
	}
	for at > 0 && heads[at] == want && string(in.sep(at)) > string(key) {
		at--
	}
	return at
}

// keyHead8 is the first eight octets as a number that compares as they do.
func keyHead8(b []byte) uint64 {
	if len(b) >= 8 {
		return binary.BigEndian.Uint64(b)
	}
	var h uint64
	for i, c := range b {
		h |= uint64(c) << (56 - 8*i)
	}
	return h
}

// finish works out what search uses.
func (in *inner) finish() {
	n := in.len()
	if n < 2 {
		return
	}
	first, last := in.sep(1), in.sep(n-1)
	in.skip = sharedOctets(first, last)
	in.heads = make([]uint64, n)
	for i := 1; i < n; i++ {
		in.heads[i] = keyHead8(in.sep(i)[in.skip:])
	}
}

// child is a page or an inner node with the bounds of its keys.
type child struct {
	kid  *inner
	page []byte
	sep  []byte
}

func makeInner(children []child) *inner {
	in := &inner{offs: make([]uint32, 0, len(children)+1)}
	total := 0
	for _, c := range children {
		total += len(c.sep)
	}
	in.seps = make([]byte, 0, total)
	for _, c := range children {
		in.offs = append(in.offs, uint32(len(in.seps)))
		in.seps = append(in.seps, c.sep...)
		if c.kid != nil {
			in.kids = append(in.kids, c.kid)
		} else {
			in.pages = append(in.pages, c.page)
		}
	}
	in.offs = append(in.offs, uint32(len(in.seps)))
	in.finish()
	return in
}

func (in *inner) children() []child {
	out := make([]child, in.len())
	for i := range out {
		out[i].sep = in.sep(i)
		if in.kids != nil {
			out[i].kid = in.kids[i]
		} else {
			out[i].page = in.pages[i]
		}
	}
	return out
}

// leafChildren turns finished pages into children with short separators: the
// shortest prefix of a page's first key that is still greater than the last key of
// the page before, and an empty one for the first page. The last key before may be
// the empty one of the apex, where the apex fills a page of its own.
func leafChildren(leaves []leaf) []child {
	out := make([]child, len(leaves))
	for i, l := range leaves {
		out[i].page = l.page
		if i > 0 {
			out[i].sep = l.first[:min(len(l.first), sharedOctets(leaves[i-1].last, l.first)+1)]
		}
	}
	return out
}

// makeTree builds inner levels over children until one node is left.
func makeTree(children []child) (root *inner, height int) {
	for {
		height++
		if len(children) <= fanout {
			return makeInner(children), height
		}
		children = groupChildren(children)
	}
}

// groupChildren parts children into inner nodes of about equal size.
func groupChildren(children []child) []child {
	groups := (len(children) + fanout - 1) / fanout
	out := make([]child, 0, groups)
	for g := range groups {
		part := children[g*len(children)/groups : (g+1)*len(children)/groups]
		out = append(out, child{kid: makeInner(part), sep: part[0].sep})
	}
	return out
}

const maxHeight = 8 // fanout 256: far more names than memory can hold

// Cursor is a place in a snapshot's order of names. It is a value: it can be
// copied to remember a place. The zero Cursor is nowhere.
type Cursor struct {
	s    *Snapshot
	path [maxHeight]step
	page []byte
	i    int
}

type step struct {
	in *inner
	i  int
}

// Seek puts the cursor on the last name whose key is at most key and tells
// whether that is key itself. There always is one: the apex, whose key is
// empty, unless the zone is empty; then Valid is false.
func (c *Cursor) Seek(s *Snapshot, key []byte) (exact bool) {
	c.s = s
	in := s.root
	if in == nil || in.len() == 0 {
		c.page = nil
		return false
	}
	for level := 0; ; level++ {
		i := in.search(key)
		c.path[level] = step{in, i}
		if in.kids == nil {
			c.page = in.pages[i]
			break
		}
		in = in.kids[i]
	}
	c.i, exact = pageSearch(c.page, key)
	if c.i < 0 {
		// A short separator can lead to a page whose first key is greater.
		if !c.Prev() {
			c.page = nil
		}
	}
	return exact
}

// First puts the cursor on the first name.
func (c *Cursor) First(s *Snapshot) bool {
	c.Seek(s, nil)
	if c.page == nil && s.root != nil && s.root.len() > 0 {
		c.descend(0, s.root, false)
	}
	return c.page != nil
}

// Valid reports whether the cursor is on a name.
func (c *Cursor) Valid() bool { return c.page != nil }

// Node reads the name that the cursor is on.
func (c *Cursor) Node(n *Node) { pageNode(c.page, c.i, n) }

// Next goes to the next name; false at the end, where the cursor stays.
func (c *Cursor) Next() bool {
	if c.i+1 < pageCount(c.page) {
		c.i++
		return true
	}
	return c.turn(1)
}

// Prev goes to the name before; false at the beginning, where the cursor stays.
func (c *Cursor) Prev() bool {
	if c.i > 0 {
		c.i--
		return true
	}
	return c.turn(-1)
}

// turn goes to the neighbouring page in direction by.
func (c *Cursor) turn(by int) bool { return c.turnAt(c.s.height-1, by) }

// turnAt goes to the neighbour of the child at a level.
func (c *Cursor) turnAt(level, by int) bool {
	for ; level >= 0; level-- {
		st := &c.path[level]
		if i := st.i + by; i >= 0 && i < st.in.len() {
			st.i = i
			if st.in.kids == nil {
				c.enter(st.in.pages[i], by < 0)
			} else {
				c.descend(level+1, st.in.kids[i], by < 0)
			}
			return true
		}
	}
	return false
}

func (c *Cursor) descend(level int, in *inner, last bool) {
	for ; ; level++ {
		i := 0
		if last {
			i = in.len() - 1
		}
		c.path[level] = step{in, i}
		if in.kids == nil {
			c.enter(in.pages[i], last)
			return
		}
		in = in.kids[i]
	}
}

func (c *Cursor) enter(page []byte, last bool) {
	c.page, c.i = page, 0
	if last {
		c.i = pageCount(page) - 1
	}
}

// sharedChild finds the largest part of two trees that begins where both cursors
// are and is the same in both: its level in each, counted from the root.
func sharedChild(a, b *Cursor) (levelA, levelB int, ok bool) {
	startA, startB := a.startLevel(), b.startLevel()
	for la := startA; la < a.s.height; la++ {
		for lb := startB; lb < b.s.height; lb++ {
			if sameChild(a.path[la], b.path[lb]) {
				return la, lb, true
			}
		}
	}
	return 0, 0, false
}

// startLevel is the highest level at which the cursor is at the beginning of a
// child; the height of the tree if it is within a page.
func (c *Cursor) startLevel() int {
	if c.i > 0 {
		return c.s.height
	}
	level := c.s.height - 1
	for level > 0 && c.path[level].i == 0 {
		level--
	}
	return level
}

func sameChild(a, b step) bool {
	if a.in.kids != nil && b.in.kids != nil {
		return a.in.kids[a.i] == b.in.kids[b.i]
	}
	if a.in.kids != nil || b.in.kids != nil {
		return false
	}
	return bytes.Equal(a.in.pages[a.i], b.in.pages[b.i]) // at once where it is one page
}

// skip goes behind the child that the cursor is at the beginning of.
func (c *Cursor) skip(level int) bool { return c.turnAt(level, 1) }

// AllNodes walks over all names in canonical order, then over the hashed ones in
// theirs.
func (s *Snapshot) AllNodes(yield func(*Node) bool) {
	for n := range s.Nodes {
		if !yield(n) {
			return
		}
	}
	if s.hashed != nil {
		s.hashed.Nodes(yield)
	}
}

// Nodes walks over all names in canonical order.
func (s *Snapshot) Nodes(yield func(*Node) bool) {
	var c Cursor
	var n Node
	for ok := c.First(s); ok; ok = c.Next() {
		c.Node(&n)
		if !yield(&n) {
			return
		}
	}
}
