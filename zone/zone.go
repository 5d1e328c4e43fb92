// Package zone holds one version of a zone: immutable, ordered, small.
//
// A Snapshot is a tree whose leaves are pages of packed octets, each holding
// the names of a stretch of the zone in canonical order (RFC 4034 §6.1) with
// all their records in wire form. Pages hold no pointers, so a million names
// cost the garbage collector nothing, and a changed version shares all pages
// that did not change. Readers need no lock.
//
// # Terminology
//
// The apex is the zone's top name; a cut is a name below it with NS records; a
// name below a cut is occluded (glue, or data that is never answered). The
// closest encloser of a name is its longest ancestor that exists; an empty
// non-terminal exists only because names below it do (RFC 4592 §2.2.2). Keys
// are sort keys of package dnsname, relative to the apex, whose own key is empty.
package zone

import (
	"encoding/binary"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Snapshot is one version of a zone. It never changes.
type Snapshot struct {
	apex       dnsname.Name
	apexLabels int
	apexLower  []byte // canonical wire form of the apex
	class      rr.Class
	root       *inner
	height     int // inner levels above the pages, at least 1

	names, records int
	octets         int // of all pages
	wildcards      int // owners with a label *
	wild           wildFilter

	apexNode Node // the apex, if it has records; a view into a page
	hasApex  bool
	soa      rr.SOA
	hasSOA   bool
	signed   bool // there is a DNSKEY set at the apex

	hashed *Snapshot // the NSEC3 records; see NSEC3
	param  []byte    // data of the NSEC3PARAM record with flags 0, or nil

	sum *factsCell // of what is not hashed
}

// Apex is the zone's top name.
func (s *Snapshot) Apex() dnsname.Name { return s.apex }

// NSEC3 holds the NSEC3 records with their signatures, at owner names that are
// hashes; nil when there are none. They live apart from the names of the zone,
// because nobody asks for them by name (RFC 5155 §7.2.8) and because the order of
// hashes has nothing to do with that of names.
func (s *Snapshot) NSEC3() *Snapshot { return s.hashed }

// HashParams is the data of the NSEC3PARAM record that says how names are hashed
// (RFC 5155 §4); nil when there is none, or no NSEC3 record.
func (s *Snapshot) HashParams() []byte {
	if s.hashed == nil {
		return nil
	}
	return s.param
}

// WithNSEC3 is the same version with other NSEC3 records, or none for nil.
func (s *Snapshot) WithNSEC3(h *Snapshot) *Snapshot {
	t := *s
	t.hashed = h
	return &t
}

// belongsHashed reports whether a record has its place among the hashed names.
func belongsHashed(t rr.Type, data []byte) bool {
	return t == rr.TypeNSEC3 || t == rr.TypeRRSIG && coveredType(data) == rr.TypeNSEC3
}

// Names counts the owner names, occluded and hashed ones included.
func (s *Snapshot) Names() int { return s.names + s.ofHashed((*Snapshot).Names) }

// Records counts the records, signatures included.
func (s *Snapshot) Records() int { return s.records + s.ofHashed((*Snapshot).Records) }

// Octets is the memory that names and records take, in octets.
func (s *Snapshot) Octets() int { return s.octets + s.ofHashed((*Snapshot).Octets) }

func (s *Snapshot) ofHashed(f func(*Snapshot) int) int {
	if s.hashed == nil {
		return 0
	}
	return f(s.hashed)
}

// SOA is the data of the SOA record; ok is false when there is none.
func (s *Snapshot) SOA() (soa rr.SOA, ok bool) { return s.soa, s.hasSOA }

// Serial is the serial of the SOA, 0 when there is none.
func (s *Snapshot) Serial() uint32 { return s.soa.Serial }

// Signed reports whether the apex has DNSKEY records.
func (s *Snapshot) Signed() bool { return s.signed }

// AppendKey appends the key of an absolute wire name; ok is false when the name
// is not at or below the apex.
func (s *Snapshot) AppendKey(dst, wire []byte) (key []byte, ok bool) {
	d := len(wire) - len(s.apexLower)
	if d < 0 {
		return dst, false
	}
	i := 0
	for i < d {
		i += 1 + int(wire[i])
	}
	if i != d || !dnsname.EqualWire(wire[d:], s.apexLower) {
		return dst, false
	}
	if d > 0 && 1+int(wire[0]) == d { // one label below the apex, as most names are
		return dnsname.AppendLabelKey(dst, wire[1:d]), true
	}
	return dnsname.AppendSortKey(dst, wire, s.apexLabels), true
}

// AppendKeyName appends the lower-case wire form of the name whose key is given.
func (s *Snapshot) AppendKeyName(dst, key []byte) []byte {
	return append(dnsname.AppendKeyWire(dst, key), s.apexLower...)
}

// RRset is the records of one type at one name; for RRSIG, those that cover one
// type. It is a view into a page and valid as long as the snapshot.
type RRset struct {
	Type  rr.Type
	TTL   uint32 // seconds
	N     int    // number of records
	items []byte // each: length as uvarint, data
}

// Covered is the type that an RRSIG set covers.
func (r RRset) Covered() rr.Type {
	if r.Type != rr.TypeRRSIG {
		return r.Type
	}
	data, _ := cutItem(r.items)
	return coveredType(data)
}

// Data walks over the data of the records in canonical order.
func (r RRset) Data(yield func([]byte) bool) {
	for b := r.items; len(b) > 0; {
		var data []byte
		data, b = cutItem(b)
		if !yield(data) {
			return
		}
	}
}

// First is the data of the first record.
func (r RRset) First() []byte {
	data, _ := cutItem(r.items)
	return data
}

// Next parts the data of the first record from the rest of the set; it is the
// loop for hot paths: for set.N > 0 { data, set = set.Next() }.
func (r RRset) Next() ([]byte, RRset) {
	data, rest := cutItem(r.items)
	r.items = rest
	r.N--
	return data, r
}

// Equal reports whether two sets hold the same records with the same TTL.
func (r RRset) Equal(o RRset) bool {
	return r.Type == o.Type && r.TTL == o.TTL && string(r.items) == string(o.items)
}

func coveredType(sig []byte) rr.Type {
	if len(sig) < 2 {
		return 0
	}
	return rr.Type(sig[0])<<8 | rr.Type(sig[1])
}

func cutItem(b []byte) (data, rest []byte) {
	n, w := uvarint(b)
	return b[w : w+n], b[w+n:]
}

// uvarint reads the lengths in pages, which we wrote ourselves.
func uvarint(b []byte) (v, width int) {
	if b[0] < 0x80 {
		return int(b[0]), 1
	}
	shift := 0
	for i, c := range b {
		v |= int(c&0x7f) << shift
		if c < 0x80 {
			return v, i + 1
		}
		shift += 7
	}
	return v, len(b)
}

// NewRRset makes a set of data in wire form, which it puts in canonical order
// and keeps once each. It is not tied to a snapshot.
func NewRRset(t rr.Type, ttl uint32, data [][]byte) RRset {
	items := make([]nodeItem, len(data))
	for i, d := range data {
		items[i] = makeItem(t, ttl, d, 0)
	}
	var s itemSorter
	s.sort(items)
	set := RRset{Type: t, TTL: ttl}
	for i := range items {
		if i > 0 && s.equal(&items[i], &items[i-1]) {
			continue
		}
		set.items = binary.AppendUvarint(set.items, uint64(len(items[i].data)))
		set.items = append(set.items, items[i].data...)
		set.N++
	}
	return set
}

// With is the set with one other record in place of all of its own.
func (r RRset) With(data []byte) RRset { return NewRRset(r.Type, r.TTL, [][]byte{data}) }
