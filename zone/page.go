package zone

import (
	"encoding/binary"

	"fencepost/dnsname"
	"fencepost/rr"
)

// A page is a run of names with their records:
//
//	count uint16, prefix length uint16, prefix, count × (head uint32, offset uint16), nodes
//
// prefix is what all keys of the page begin with; a head is the four octets of
// a key that follow it, which tell most keys apart without going to the nodes.
// What a search touches lies together, for each line of memory that it has to
// wait for costs more than the search itself. A node is
//
//	rest of the key: uvarint length, octets
//	flags uint8
//	[the relative wire name: uint8 length, octets]  if flagCase
//	[labels of the cut or alias above it: uint8]    if flagOccluded
//	RRsets, each: type uint16, TTL uint32, count uvarint, octets uvarint, items
//
// and an item is the length of the data as uvarint and the data. RRsets stand
// in the order of their type, each followed by the RRSIG set that covers it.
// A node too large for a page has a page of its own.
// Tests lower the size.
var pageTarget = 4096

const (
	flagCut      = 1 << iota // NS below the apex
	flagOccluded             // below a cut or a DNAME
	flagCase                 // the name is not all lower case; the original is kept
	flagAlias                // has a CNAME
	flagDNAME                // has a DNAME
)

// Node is one owner name with its records, a view into a page.
type Node struct {
	prefix, suffix []byte // together the key
	flags          byte
	cutLabels      int    // where flagOccluded: labels of the occluding name, from the apex
	relative       []byte // where flagCase: the name as written, without the apex
	body           []byte // the RRsets
}

// IsCut reports whether the node is a zone cut.
func (n *Node) IsCut() bool { return n.flags&flagCut != 0 }

// Occluded reports whether the node lies below a cut or a DNAME.
func (n *Node) Occluded() bool { return n.flags&flagOccluded != 0 }

// IsApex reports whether the node is the apex.
func (n *Node) IsApex() bool { return len(n.prefix)+len(n.suffix) == 0 }

// Same reports whether two nodes are one: the same octets of a page.
func (n *Node) Same(o *Node) bool {
	return len(n.body) == len(o.body) && len(n.suffix) == len(o.suffix) && (len(n.body) == 0 || &n.body[0] == &o.body[0])
}

// HasAlias reports whether the node has a CNAME.
func (n *Node) HasAlias() bool { return n.flags&flagAlias != 0 }

// AppendKey appends the node's key.
func (n *Node) AppendKey(dst []byte) []byte {
	return append(append(dst, n.prefix...), n.suffix...)
}

// OccluderKey appends the key of the cut or DNAME that an occluded node lies
// below.
func (n *Node) OccluderKey(dst []byte) []byte {
	at := len(dst)
	dst = n.AppendKey(dst)
	return dst[:at+len(dnsname.KeyPrefix(dst[at:], n.cutLabels))]
}

// HasKeyPrefix reports whether the node's key begins with p.
func (n *Node) HasKeyPrefix(p []byte) bool {
	if len(p) <= len(n.prefix) {
		return string(n.prefix[:len(p)]) == string(p)
	}
	rest := p[len(n.prefix):]
	return string(p[:len(n.prefix)]) == string(n.prefix) && len(rest) <= len(n.suffix) && string(n.suffix[:len(rest)]) == string(rest)
}

// AppendRelative appends the node's name as it was written, in wire form
// without the labels of the apex and without the root.
func (n *Node) AppendRelative(dst []byte) []byte {
	if n.flags&flagCase != 0 {
		return append(dst, n.relative...)
	}
	var buf [2 * dnsname.MaxWire]byte
	return dnsname.AppendKeyWire(dst, n.AppendKey(buf[:0]))
}

// AppendOwner appends the node's absolute name as it was written, in wire form.
func (s *Snapshot) AppendOwner(dst []byte, n *Node) []byte {
	return append(n.AppendRelative(dst), s.apex.Wire()...)
}

// Owner is the node's absolute name.
func (s *Snapshot) Owner(n *Node) dnsname.Name {
	name, _ := dnsname.FromWire(s.AppendOwner(nil, n))
	return name
}

// Find is the RRset of type t; ok is false when there is none. For RRSIG it is
// the first of several sets: use FindSig.
func (n *Node) Find(t rr.Type) (set RRset, ok bool) {
	for b := n.body; len(b) > 0; {
		if rr.Type(binary.BigEndian.Uint16(b)) == t {
			set, _ = cutRRset(b)
			return set, true
		}
		b = skipRRset(b)
	}
	return RRset{}, false
}

// FindSig is the set of RRSIGs that cover t.
func (n *Node) FindSig(t rr.Type) (set RRset, ok bool) {
	for b := n.body; len(b) > 0; {
		if rr.Type(binary.BigEndian.Uint16(b)) == rr.TypeRRSIG {
			set, _ = cutRRset(b)
			if set.Covered() == t {
				return set, true
			}
		}
		b = skipRRset(b)
	}
	return RRset{}, false
}

// FindWithSig finds the set of type t and the signatures over it in one pass.
func (n *Node) FindWithSig(t rr.Type) (set, sig RRset, ok bool) {
	for b := n.body; len(b) > 0; {
		if rr.Type(binary.BigEndian.Uint16(b)) != t {
			b = skipRRset(b)
			continue
		}
		set, b = cutRRset(b)
		if len(b) > 0 && rr.Type(binary.BigEndian.Uint16(b)) == rr.TypeRRSIG {
			if sig, _ = cutRRset(b); sig.Covered() != t {
				sig = RRset{}
			}
		}
		return set, sig, true
	}
	return RRset{}, RRset{}, false
}

// RRsets walks over the node's sets by type, each followed by its signatures.
func (n *Node) RRsets(yield func(RRset) bool) {
	for b := n.body; len(b) > 0; {
		var set RRset
		set, b = cutRRset(b)
		if !yield(set) {
			return
		}
	}
}

// Types appends the types at the node, RRSIG once, in no special order.
func (n *Node) Types(dst []rr.Type) []rr.Type {
	sig := false
	for set := range n.RRsets {
		if set.Type == rr.TypeRRSIG {
			if sig {
				continue
			}
			sig = true
		}
		dst = append(dst, set.Type)
	}
	return dst
}

const rrsetHead = 6

func cutRRset(b []byte) (RRset, []byte) {
	count, w := uvarint(b[rrsetHead:])
	size, w2 := uvarint(b[rrsetHead+w:])
	at := rrsetHead + w + w2
	return RRset{
		Type:  rr.Type(binary.BigEndian.Uint16(b)),
		TTL:   binary.BigEndian.Uint32(b[2:]),
		N:     count,
		items: b[at : at+size],
	}, b[at+size:]
}

func skipRRset(b []byte) []byte {
	_, w := uvarint(b[rrsetHead:])
	size, w2 := uvarint(b[rrsetHead+w:])
	return b[rrsetHead+w+w2+size:]
}

func pageCount(p []byte) int { return int(binary.BigEndian.Uint16(p)) }

const (
	pageFixed = 4 // count and prefix length
	perNode   = 6 // head and offset
)

// pageEntries is where the heads and offsets begin.
func pageEntries(p []byte) int { return pageFixed + int(binary.BigEndian.Uint16(p[2:])) }

// pageOffset is where the i-th node begins.
func pageOffset(p []byte, i int) int {
	return int(binary.BigEndian.Uint16(p[pageEntries(p)+perNode*i+4:]))
}

func pagePrefix(p []byte) []byte { return p[pageFixed:pageEntries(p)] }

// head is the first four octets of the rest of a key, as a number that compares
// as they do.
func head(rest []byte) uint32 {
	if len(rest) >= 4 {
		return binary.BigEndian.Uint32(rest)
	}
	var h uint32
	for i, c := range rest {
		h |= uint32(c) << (24 - 8*i)
	}
	return h
}

// pageSuffix is the rest of the i-th key and the offset after it.
func pageSuffix(p []byte, i int) (suffix []byte, next int) {
	off := pageOffset(p, i)
	n, w := uvarint(p[off:])
	off += w
	return p[off : off+n], off + n
}

// pageSearch finds the last entry whose key is at most key; -1 when all are
// greater. equal reports whether it is key itself.
func pageSearch(p, key []byte) (i int, equal bool) {
	prefix := pagePrefix(p)
	if len(key) < len(prefix) || string(key[:len(prefix)]) != string(prefix) {
		if string(key) < string(prefix) {
			return -1, false
		}
		return pageCount(p) - 1, false
	}
	rest := key[len(prefix):]
	want, n := head(rest), pageCount(p)
	entries := p[pageEntries(p):]
	entries = entries[:perNode*n]
	// The last head that is not greater, without a branch to guess; then back
	// over those that are equal and belong to greater keys.
	at := 0
	for left := n; left > 1; {
		half := left >> 1
		if binary.BigEndian.Uint32(entries[perNode*(at+half):]) <= want {
			at += half
		}
		left -= half
	}
	for ; at >= 0; at-- {
		h := binary.BigEndian.Uint32(entries[perNode*at:])
		if h < want {
			return at, false
		}
		if h > want {
			continue
		}
		if suffix, _ := pageSuffix(p, at); string(suffix) <= string(rest) {
			return at, len(suffix) == len(rest) && string(suffix) == string(rest)
		}
	}
	return -1, false
}

// pageNode is the i-th node of the page.
func pageNode(p []byte, i int, n *Node) {
	n.prefix = pagePrefix(p)
	var at int
	n.suffix, at = pageSuffix(p, i)
	n.flags = p[at]
	at++
	n.relative, n.cutLabels = nil, 0
	if n.flags&flagCase != 0 {
		l := int(p[at])
		n.relative = p[at+1 : at+1+l]
		at += 1 + l
	}
	if n.flags&flagOccluded != 0 {
		n.cutLabels = int(p[at])
		at++
	}
	end := len(p)
	if i+1 < pageCount(p) {
		end = pageOffset(p, i+1)
	}
	n.body = p[at:end]
}

// ---- writing ----

// pageEntry is a node on its way into a page.
type pageEntry struct {
	key  []byte
	tail []byte // everything after the key: flags ... RRsets
}

// pageWriter gathers nodes in order and cuts them into pages.
type pageWriter struct {
	entries []pageEntry
	arena   []byte // holds keys and tails of entries
	size    int    // octets of keys and tails, lengths and offsets included
	records int    // in the entries
	pages   []leaf
}

// leaf is a finished page and the first key in it.
type leaf struct {
	page    []byte
	first   []byte // aliases nothing; owned
	last    []byte
	records int
}

// add takes a node with its records; key and tail are copied.
func (w *pageWriter) add(key, tail []byte, records int) {
	more := len(key) + len(tail) + perNode + uvarintLen(len(key))
	n := len(w.entries)
	if n > 0 {
		common := sharedOctets(w.entries[0].key, key)
		if pageFixed+common+w.size+more-(n+1)*common > pageTarget || w.size >= pageTarget/2 && opensPage(key, more) {
			w.flush()
		}
	}
	if cap(w.arena)-len(w.arena) < len(key)+len(tail) {
		w.arena = make([]byte, 0, max(4*pageTarget, len(key)+len(tail)))
	}
	at := len(w.arena)
	w.arena = append(append(w.arena, key...), tail...)
	w.entries = append(w.entries, pageEntry{w.arena[at : at+len(key) : at+len(key)], w.arena[at+len(key):]})
	w.size += more
	w.records += records
}

// opensPage reports whether a node likes to be the first of a page, by its key alone: so
// two versions of a zone that were read apart have most pages alike, octet for octet, and
// Diff passes over them. A page that is half full waits for about another quarter for such a
// node; larger nodes are more often one.
func opensPage(key []byte, size int) bool {
	h := uint32(2166136261) // FNV-1a
	for _, c := range key {
		h = (h ^ uint32(c)) * 16777619
	}
	return uint64(h)*uint64(pageTarget/4) < uint64(size)<<32
}

// flush writes the gathered nodes as a page.
func (w *pageWriter) flush() {
	if len(w.entries) == 0 {
		return
	}
	first, last := w.entries[0].key, w.entries[len(w.entries)-1].key
	prefix := sharedOctets(first, last)
	size := pageFixed + prefix
	for _, e := range w.entries {
		size += perNode + uvarintLen(len(e.key)-prefix) + len(e.key) - prefix + len(e.tail)
	}
	n := len(w.entries)
	p := make([]byte, pageFixed, size)
	binary.BigEndian.PutUint16(p, uint16(n))
	binary.BigEndian.PutUint16(p[2:], uint16(prefix))
	p = append(p, first[:prefix]...)
	p = p[:len(p)+perNode*n]
	for i, e := range w.entries {
		entry := p[pageEntries(p)+perNode*i:]
		binary.BigEndian.PutUint32(entry, head(e.key[prefix:]))
		binary.BigEndian.PutUint16(entry[4:], uint16(len(p)))
		p = binary.AppendUvarint(p, uint64(len(e.key)-prefix))
		p = append(p, e.key[prefix:]...)
		p = append(p, e.tail...)
	}
	w.pages = append(w.pages, leaf{page: p, first: append([]byte(nil), first...), last: append([]byte(nil), last...), records: w.records})
	w.entries, w.arena, w.size, w.records = w.entries[:0], w.arena[:0], 0, 0
}

func uvarintLen(n int) int {
	w := 1
	for ; n >= 0x80; n >>= 7 {
		w++
	}
	return w
}

func sharedOctets(a, b []byte) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return i
		}
	}
	return n
}

// nodeItem is one record on its way into a node.
type nodeItem struct {
	typ   rr.Type
	group rr.Type // the type, or for RRSIG the type covered
	ttl   uint32
	data  []byte
	pos   uint32 // where it was written; see Builder
}

// appendTail appends what follows the key: flags, case, cut, RRsets. items are
// sorted: by group, signatures last, then canonical data; TTLs agree in a set.
func appendTail(dst []byte, flags byte, relative []byte, cutLabels int, items []nodeItem) []byte {
	dst = append(dst, flags)
	if flags&flagCase != 0 {
		dst = append(append(dst, byte(len(relative))), relative...)
	}
	if flags&flagOccluded != 0 {
		dst = append(dst, byte(cutLabels))
	}
	for i := 0; i < len(items); {
		j, size := i, 0
		for ; j < len(items) && items[j].typ == items[i].typ && items[j].group == items[i].group; j++ {
			size += uvarintLen(len(items[j].data)) + len(items[j].data)
		}
		dst = binary.BigEndian.AppendUint16(dst, uint16(items[i].typ))
		dst = binary.BigEndian.AppendUint32(dst, items[i].ttl)
		dst = binary.AppendUvarint(dst, uint64(j-i))
		dst = binary.AppendUvarint(dst, uint64(size))
		for ; i < j; i++ {
			dst = binary.AppendUvarint(dst, uint64(len(items[i].data)))
			dst = append(dst, items[i].data...)
		}
	}
	return dst
}
