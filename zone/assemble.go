package zone

import (
	"encoding/binary"
	"errors"

	"fencepost/dnsname"
	"fencepost/rr"
)

// PageForm is the number of the form in which Pages gives a version, and the only one that
// an Assembler reads. Whoever changes the layout of pages raises it: what was kept in
// another form is read as records or made anew.
const PageForm = 1

// ErrPage means that octets are not the next page of a version.
var ErrPage = errors.New("this is not the next page of a zone")

// Pages walks over the pages of a version: those of its names in canonical order, then
// those of its NSEC3 records. They belong to the version and must not be changed.
func (s *Snapshot) Pages(yield func(page []byte, hashed bool) bool) {
	var c Cursor
	for ok := c.First(s); ok; ok = c.turn(1) {
		if !yield(c.page, false) {
			return
		}
	}
	if s.hashed == nil {
		return
	}
	for ok := c.First(s.hashed); ok; ok = c.turn(1) {
		if !yield(c.page, true) {
			return
		}
	}
}

// Assembler makes a version of its pages again. It looks at all that a reader of pages
// relies on; that records are well-formed for their type is left to whoever kept them.
type Assembler struct {
	apex          dnsname.Name
	names, hashed shelf
}

// NewAssembler makes one for a version of the zone with the given apex.
func NewAssembler(apex dnsname.Name) *Assembler {
	room := dnsname.MaxWire - len(apex.Wire())
	return &Assembler{apex: apex, names: shelf{room: room}, hashed: shelf{room: room}}
}

// Add takes a copy of the next page, as Pages gave it; ErrPage where it cannot be that.
func (a *Assembler) Add(page []byte, hashed bool) error {
	to := &a.names
	if hashed {
		to = &a.hashed
	}
	if !to.add(append(make([]byte, 0, len(page)), page...)) {
		return ErrPage
	}
	return nil
}

// Snapshot is the version. The assembler is used up.
func (a *Assembler) Snapshot() *Snapshot {
	s := a.names.snapshot(a.apex)
	if len(a.hashed.leaves) > 0 {
		s.hashed = a.hashed.snapshot(a.apex)
	}
	return s
}

// shelf takes pages that follow one another.
type shelf struct {
	room      int // octets that an owner may have before the apex
	leaves    []leaf
	key, next []byte // of the last name, of the next
	counted
}

func (sh *shelf) snapshot(apex dnsname.Name) *Snapshot {
	return newSnapshot(apex, sh.leaves, &sh.counted)
}

func (sh *shelf) add(p []byte) bool {
	if len(p) < pageFixed {
		return false
	}
	n := pageCount(p)
	at := pageEntries(p) + perNode*n
	if n == 0 || len(p) < at {
		return false
	}
	l := leaf{page: p}
	for i := range n {
		end := len(p)
		if i+1 < n {
			end = pageOffset(p, i+1)
		}
		if pageOffset(p, i) != at || end <= at || end > len(p) || !sh.name(p, i, p[at:end]) {
			return false
		}
		if i == 0 {
			l.first = append([]byte(nil), sh.key...)
		}
		at = end
	}
	l.last = append([]byte(nil), sh.key...)
	sh.leaves = append(sh.leaves, l)
	return true
}

// name takes the i-th name of a page, which stands in b.
func (sh *shelf) name(p []byte, i int, b []byte) bool {
	suffix, b, ok := cutOctets(b)
	if !ok || len(b) == 0 || binary.BigEndian.Uint32(p[pageEntries(p)+perNode*i:]) != head(suffix) {
		return false
	}
	sh.next = append(append(sh.next[:0], pagePrefix(p)...), suffix...)
	if !dnsname.ValidSortKey(sh.next, sh.room) || sh.names > 0 && string(sh.next) <= string(sh.key) {
		return false
	}
	sh.key, sh.next = sh.next, sh.key
	flags, b := b[0], b[1:]
	if b, ok = afterFlags(flags, sh.key, b); !ok {
		return false
	}
	records, found, ok := checkSets(b, len(sh.key) == 0)
	if !ok || found != flags&^(flagCase|flagOccluded) {
		return false
	}
	sh.counted.add(sh.key, records)
	return true
}

// afterFlags checks what the flags say that follows them.
func afterFlags(flags byte, key, b []byte) (rest []byte, ok bool) {
	if flags&flagCase != 0 {
		if len(b) == 0 || len(b) < 1+int(b[0]) {
			return nil, false
		}
		var lower, want [dnsname.MaxWire]byte
		relative := b[1 : 1+int(b[0])]
		if !hasUpper(relative) || string(dnsname.AppendLower(lower[:0], relative)) != string(dnsname.AppendKeyWire(want[:0], key)) {
			return nil, false
		}
		b = b[1+len(relative):]
	}
	if flags&flagOccluded != 0 {
		if len(b) == 0 || int(b[0]) >= dnsname.KeyLabels(key) {
			return nil, false
		}
		b = b[1:]
	}
	return b, true
}

// checkSets walks over the RRsets of a name. flags are those that the types bring.
func checkSets(b []byte, apex bool) (records int, flags byte, ok bool) {
	for len(b) > 0 {
		if len(b) < rrsetHead {
			return 0, 0, false
		}
		t := rr.Type(binary.BigEndian.Uint16(b))
		count, w := binary.Uvarint(b[rrsetHead:])
		if w <= 0 || count == 0 || count > uint64(len(b)) {
			return 0, 0, false
		}
		items, rest, ok := cutOctets(b[rrsetHead+w:])
		if !ok {
			return 0, 0, false
		}
		for range count {
			var data []byte
			if data, items, ok = cutOctets(items); !ok || len(data) > rr.MaxData {
				return 0, 0, false
			}
		}
		if len(items) > 0 {
			return 0, 0, false
		}
		records += int(count)
		flags |= typeFlags(t, apex)
		b = rest
	}
	return records, flags, true
}

// cutOctets cuts octets off that stand behind their number.
func cutOctets(b []byte) (octets, rest []byte, ok bool) {
	n, w := binary.Uvarint(b)
	if w <= 0 || n > uint64(len(b)-w) {
		return nil, nil, false
	}
	return b[w : w+int(n)], b[w+int(n):], true
}
