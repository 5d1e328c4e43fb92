package zone

import (
	"bytes"
	"encoding/binary"

	"fencepost/dnsname"
	"fencepost/rr"
)

// partPages is how many pages a part has at most. Tests lower it.
var partPages = 32

// Part is a run of names of a zone that can be read beside others.
type Part struct{ pages [][]byte }

// Parts walks over the parts of a zone: names in canonical order, and then those of NSEC3
// records.
func (s *Snapshot) Parts(yield func(Part) bool) {
	var run [][]byte
	for page := range s.Pages {
		if run = append(run, page); len(run) == partPages {
			if !yield(Part{run}) {
				return
			}
			run = nil
		}
	}
	if len(run) > 0 {
		yield(Part{run})
	}
}

// Walk goes over all sets of a part, for a transfer, which would spend most of its time on
// calls and copies with a walk for names and one for their sets.
//
//	for w := part.Walk(); w.Next(); {
type Walk struct {
	// Relative is the owner as it was written, in wire form without the labels of the apex and
	// without the root. It is to be read only, and until Next is called.
	Relative []byte
	Type     rr.Type
	TTL      uint32
	// Items are the data of the records, in the page: to be read only.
	Items Items

	pages [][]byte // that come after this one
	page  []byte
	left  int // names of the page that are still to be read
	at    int // in the page, the set that is next
	end   int // of the name that is read, where the next one begins

	owner  [1 + 2*dnsname.MaxWire]byte // a length, then the key where it is one label
	prefix int                         // octets of the page's prefix, which stand there
	plain  bool                        // the prefix is the beginning of one label
	wire   []byte                      // any other owner
}

// Items are the data of the records of a set in canonical order: for each its length, as the
// varint of encoding/binary, and its octets.
type Items []byte

// Items are the data of a set.
func (r RRset) Items() Items { return r.items }

// Walk begins before the first set.
func (p Part) Walk() *Walk { return &Walk{pages: p.pages} }

// Next reads the next set; false at the end.
func (w *Walk) Next() bool {
	for w.at == w.end {
		if w.left == 0 && !w.turn() {
			return false
		}
		w.nextName()
	}
	b := w.page[w.at:w.end]
	size, at := int(b[rrsetHead+1]), rrsetHead+2
	if b[rrsetHead] >= 0x80 || size >= 0x80 {
		size, at = longSize(b)
	}
	w.Type, w.TTL = rr.Type(binary.BigEndian.Uint16(b)), binary.BigEndian.Uint32(b[2:])
	w.Items = Items(b[at : at+size])
	w.at += at + size
	return true
}

// longSize is for how many octets the items of a set take and where they begin, whatever lengths
// these numbers have.
func longSize(b []byte) (size, at int) {
	_, n := uvarint(b[rrsetHead:])
	size, m := uvarint(b[rrsetHead+n:])
	return size, rrsetHead + n + m
}

// nextName reads the head of the next name, which begins at end.
func (w *Walk) nextName() {
	p := w.page
	n, width := uvarint(p[w.end:])
	from := w.end + width
	at := from + n
	w.left--
	if w.end = len(p); w.left > 0 {
		w.end = pageOffset(p, pageCount(p)-w.left)
	}
	flags := p[at]
	at++
	if flags&(flagCase|flagOccluded) != 0 {
		if flags&flagCase != 0 {
			w.Relative = p[at+1 : at+1+int(p[at])]
			at += 1 + int(p[at])
		}
		if flags&flagOccluded != 0 {
			at++
		}
	}
	if w.at = at; flags&flagCase == 0 {
		w.name(p[from : from+n])
	}
}

// turn goes to the next page; false at the end.
func (w *Walk) turn() bool {
	if len(w.pages) == 0 {
		return false
	}
	w.page, w.pages = w.pages[0], w.pages[1:]
	w.left = pageCount(w.page)
	w.end = pageOffset(w.page, 0)
	w.at = w.end
	prefix := pagePrefix(w.page)
	w.prefix = copy(w.owner[1:], prefix)
	w.plain = bytes.IndexByte(prefix, 0) < 0 && bytes.IndexByte(prefix, 1) < 0
	return true
}

// name makes the owner of a key that ends in suffix. Most are one label in which nothing is
// escaped, so that only the octets that differ from the name before are to be written.
func (w *Walk) name(suffix []byte) {
	key := append(w.owner[:1+w.prefix], suffix...)
	last := len(key) - 1
	if w.plain && len(suffix) > 0 && bytes.IndexByte(suffix, 0) == len(suffix)-1 && bytes.IndexByte(suffix, 1) < 0 {
		key[0] = byte(last - 1)
		w.Relative = key[:last]
		return
	}
	w.wire = dnsname.AppendKeyWire(w.wire[:0], key[1:])
	w.Relative = w.wire
}
