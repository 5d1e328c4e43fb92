package zone

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// encoder turns sorted runs into pages.
type encoder struct {
	w         pageWriter
	items     []nodeItem
	tail      []byte
	occluder  []byte // key of the cut or DNAME that hides what is below it
	occluding bool
	wantPos   bool
	positions []source.Pos
	conflicts []Conflict
	counted
	apex   dnsname.Name
	sorter itemSorter
}

func (e *encoder) init(b *Builder) {
	e.wantPos, e.apex = b.positions, b.apex
}

// recordIter walks over the records of a run.
type recordIter struct {
	rest []byte
	n    uint32
	item nodeItem
}

func (a arena) records(r run) recordIter {
	b := a[r.at>>32][uint32(r.at):]
	at := 2 + int(binary.BigEndian.Uint16(b))
	at += 1 + int(b[at])
	return recordIter{rest: b[at:], n: r.n}
}

// relative is the original spelling of a run's owner, empty if all lower case.
func (a arena) relative(r run) []byte {
	b := a[r.at>>32][uint32(r.at):]
	at := 2 + int(binary.BigEndian.Uint16(b))
	return b[at+1 : at+1+int(b[at])]
}

func (it *recordIter) next() bool {
	if it.n == 0 {
		return false
	}
	it.n--
	b := it.rest
	n := int(binary.BigEndian.Uint16(b[10:]))
	it.item = makeItem(rr.Type(binary.BigEndian.Uint16(b)), binary.BigEndian.Uint32(b[2:]),
		b[recordHead:recordHead+n], binary.BigEndian.Uint32(b[6:]))
	it.rest = b[recordHead+n:]
	return true
}

func makeItem(t rr.Type, ttl uint32, data []byte, pos uint32) nodeItem {
	it := nodeItem{typ: t, group: t, ttl: ttl, data: data, pos: pos}
	if t == rr.TypeRRSIG {
		it.group = coveredType(data)
	}
	return it
}

// encode takes runs that follow those so far; none of their names came before.
func (e *encoder) encode(a arena, runs []run) {
	for i := 0; i < len(runs); {
		key, relative := a.key(runs[i]), a.relative(runs[i])
		e.items = e.items[:0]
		for first := i; i < len(runs) && (i == first || runs[i].head == runs[first].head && bytes.Equal(a.key(runs[i]), key)); i++ {
			for it := a.records(runs[i]); it.next(); {
				e.items = append(e.items, it.item)
			}
		}
		e.node(key, relative)
	}
}

// node writes one name; e.items are its records in order of arrival.
func (e *encoder) node(key, relative []byte) {
	if len(e.items) > 1 {
		e.sorter.sort(e.items)
		e.settle(key)
	}
	e.counted.add(key, len(e.items))
	if e.wantPos {
		for _, it := range e.items {
			e.positions = append(e.positions, source.Pos(it.pos))
		}
	}
	flags := nodeFlags(len(key) == 0, relative, e.items)
	cutLabels := 0
	if e.occluding && bytes.HasPrefix(key, e.occluder) {
		flags |= flagOccluded
		cutLabels = dnsname.KeyLabels(e.occluder)
	} else if e.occluding = flags&(flagCut|flagDNAME) != 0; e.occluding {
		e.occluder = append(e.occluder[:0], key...)
	}
	e.tail = appendTail(e.tail[:0], flags, relative, cutLabels, e.items)
	e.w.add(key, e.tail, len(e.items))
}

func nodeFlags(apex bool, relative []byte, items []nodeItem) (flags byte) {
	if len(relative) > 0 {
		flags |= flagCase
	}
	for i := range items {
		flags |= typeFlags(items[i].typ, apex)
	}
	return flags
}

// typeFlags are the flags that a record of a type brings to its name.
func typeFlags(t rr.Type, apex bool) byte {
	switch {
	case t == rr.TypeNS && !apex:
		return flagCut
	case t == rr.TypeCNAME:
		return flagAlias
	case t == rr.TypeDNAME:
		return flagDNAME
	}
	return 0
}

// settle drops equal records and makes the TTLs of each set agree, keeping
// note of both. e.items are sorted.
func (e *encoder) settle(key []byte) {
	items := e.items
	out := items[:1]
	for i := 1; i < len(items); i++ {
		last := &out[len(out)-1]
		if items[i].typ == last.typ && items[i].group == last.group && e.sorter.equal(&items[i], last) {
			e.conflict(key, Conflict{Duplicate: true, Type: items[i].typ}, items[i], *last)
			last.ttl = min(last.ttl, items[i].ttl)
			continue
		}
		out = append(out, items[i])
	}
	for i := 0; i < len(out); {
		j, low, differ := i, out[i].ttl, -1
		for ; j < len(out) && out[j].typ == out[i].typ && out[j].group == out[i].group; j++ {
			low = min(low, out[j].ttl)
			if out[j].ttl != out[i].ttl {
				differ = j
			}
		}
		if differ >= 0 && out[i].typ != rr.TypeRRSIG { // signatures are no RRset (RFC 4035 §2.2)
			c := Conflict{Type: out[i].typ, TTL: out[differ].ttl, First: out[i].ttl}
			if out[differ].pos < out[i].pos {
				c.TTL, c.First = c.First, c.TTL
			}
			e.conflict(key, c, out[differ], out[i])
		}
		for ; i < j; i++ {
			out[i].ttl = low
		}
	}
	e.items = out
}

func (e *encoder) conflict(key []byte, c Conflict, x, y nodeItem) {
	if len(e.conflicts) >= MaxConflicts {
		return
	}
	c.Pos, c.Other = source.Pos(max(x.pos, y.pos)), source.Pos(min(x.pos, y.pos))
	c.Owner, _ = dnsname.FromWire(append(dnsname.AppendKeyWire(nil, key), e.apex.Wire()...))
	e.conflicts = append(e.conflicts, c)
}

// itemSorter puts a node's records in the order of the page: by type, the
// signatures after what they cover, the data canonically (RFC 4034 §6.3).
type itemSorter struct{ x, y []byte }

func (s *itemSorter) sort(items []nodeItem) {
	slices.SortStableFunc(items, func(a, b nodeItem) int {
		if a.group != b.group {
			return cmp.Compare(a.group, b.group)
		}
		if a.typ != b.typ { // one of them is RRSIG
			if a.typ == rr.TypeRRSIG {
				return 1
			}
			return -1
		}
		return s.compare(&a, &b)
	})
}

func (s *itemSorter) compare(a, b *nodeItem) int {
	if !rr.HasCanonicalNames(a.typ) {
		return bytes.Compare(a.data, b.data)
	}
	s.x = rr.AppendCanonical(s.x[:0], a.typ, a.data)
	s.y = rr.AppendCanonical(s.y[:0], b.typ, b.data)
	return bytes.Compare(s.x, s.y)
}

func (s *itemSorter) equal(a, b *nodeItem) bool {
	return s.compare(a, b) == 0
}
