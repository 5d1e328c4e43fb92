package zone

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Delta is the difference between two versions of a zone: what an edit makes, what an
// incremental transfer carries (RFC 1995 §4) and what is kept of a zone's history. It
// never changes; its sets may be views into the pages of the versions.
type Delta struct {
	Apex     dnsname.Name
	From, To uint32 // serials
	// Sets are in canonical order of the names, those of NSEC3 records last. The SOA is
	// one of them.
	Sets []SetDelta
}

// SetDelta is what became of one RRset; of RRSIG, those that cover one type. A record
// that stays is in neither part; where the TTL changed, or the spelling of the name, all
// records are in both.
type SetDelta struct {
	Owner          dnsname.Name // as it is spelled after the change, where anything is added
	Removed, Added RRset        // N is 0 where there are none
	// Respelled says that the name was spelled in another way before.
	Respelled bool
}

// Type is the type of the set.
func (c *SetDelta) Type() rr.Type {
	if c.Removed.N > 0 {
		return c.Removed.Type
	}
	return c.Added.Type
}

// Covered is the type that signatures cover, and the type of any other set.
func (c *SetDelta) Covered() rr.Type {
	if c.Removed.N > 0 {
		return c.Removed.Covered()
	}
	return c.Added.Covered()
}

// Hashed reports whether the set is of those that are kept at hashed names.
func (c *SetDelta) Hashed() bool { return c.Covered() == rr.TypeNSEC3 }

// SerialAlone reports whether the set is an SOA in which nothing but the serial moved.
func (c *SetDelta) SerialAlone() bool {
	if c.Type() != rr.TypeSOA || c.Removed.N != 1 || c.Added.N != 1 || c.Removed.TTL != c.Added.TTL {
		return false
	}
	a, err1 := rr.ParseSOA(c.Removed.First())
	b, err2 := rr.ParseSOA(c.Added.First())
	b.Serial = a.Serial
	return err1 == nil && err2 == nil && a == b
}

// Empty reports whether nothing differs.
func (d *Delta) Empty() bool { return len(d.Sets) == 0 }

// Records counts what went and what came.
func (d *Delta) Records() (removed, added int) {
	for i := range d.Sets {
		removed += d.Sets[i].Removed.N
		added += d.Sets[i].Added.N
	}
	return removed, added
}

// Octets is about how many octets names and records of both parts have.
func (d *Delta) Octets() (n int) {
	const perSet = 16 // type, class, TTL and what tells sets apart
	for i := range d.Sets {
		c := &d.Sets[i]
		n += perSet + len(c.Owner.Wire()) + len(c.Removed.items) + len(c.Added.items)
	}
	return n
}

// Reverse is the way back.
func (d *Delta) Reverse() *Delta {
	out := &Delta{Apex: d.Apex, From: d.To, To: d.From, Sets: slices.Clone(d.Sets)}
	for i := range out.Sets {
		c := &out.Sets[i]
		c.Removed, c.Added = c.Added, c.Removed
	}
	return out
}

// setKey tells sets apart.
type setKey struct {
	owner        string
	typ, covered rr.Type
}

func (c *SetDelta) key() setKey { return setKey{c.Owner.Key(), c.Type(), c.Covered()} }

// Join condenses deltas that follow one another into one (RFC 1995 §6): what came and
// went again is in none of its parts. There must be at least one.
func Join(deltas ...*Delta) *Delta {
	if len(deltas) == 1 {
		return deltas[0]
	}
	out := &Delta{Apex: deltas[0].Apex, From: deltas[0].From, To: deltas[len(deltas)-1].To}
	at := map[setKey]int{}
	for _, d := range deltas {
		for i := range d.Sets {
			c := d.Sets[i]
			k := c.key()
			j, known := at[k]
			if !known {
				at[k] = len(out.Sets)
				out.Sets = append(out.Sets, c)
				continue
			}
			out.Sets[j] = out.Sets[j].then(&c)
		}
	}
	out.Sets = slices.DeleteFunc(out.Sets, func(c SetDelta) bool { return c.Removed.N+c.Added.N == 0 })
	out.sort()
	return out
}

// then is what became of a set by two changes in turn.
func (c *SetDelta) then(next *SetDelta) SetDelta {
	out := SetDelta{Owner: next.Owner, Respelled: c.Respelled || next.Respelled || c.Owner != next.Owner}
	out.Removed = union(c.Removed, minus(next.Removed, c.Added))
	out.Added = union(minus(c.Added, next.Removed), next.Added)
	if out.Removed.TTL == out.Added.TTL && !out.Respelled {
		out.Removed, out.Added = minus(out.Removed, out.Added), minus(out.Added, out.Removed)
	}
	return out
}

// sort puts the sets in canonical order.
func (d *Delta) sort() {
	slices.SortStableFunc(d.Sets, func(a, b SetDelta) int {
		if x, y := a.Hashed(), b.Hashed(); x != y {
			if y {
				return -1
			}
			return 1
		}
		if c := a.Owner.Compare(b.Owner); c != 0 {
			return c
		}
		if c := int(a.Covered()) - int(b.Covered()); c != 0 {
			return c
		}
		if a.Type() == rr.TypeRRSIG {
			return 1
		}
		return -1
	})
}

// minus is the records of a that are not in b.
func minus(a, b RRset) RRset {
	if a.N == 0 || b.N == 0 {
		return a
	}
	in := membership(b)
	out := RRset{Type: a.Type, TTL: a.TTL}
	for data := range a.Data {
		if !in(data) {
			out = out.plus(data)
		}
	}
	return out
}

// union is the records of both, which have none in common.
func union(a, b RRset) RRset {
	switch {
	case a.N == 0:
		return b
	case b.N == 0:
		return a
	}
	data := slices.AppendSeq(slices.Collect(a.Data), b.Data)
	return NewRRset(a.Type, b.TTL, data)
}

// few is how many records are looked through rather than put in a table.
const few = 8

// membership reports whether data is in a set, octet for octet.
func membership(set RRset) func([]byte) bool {
	if set.N <= few {
		return func(data []byte) bool {
			for have := range set.Data {
				if string(have) == string(data) {
					return true
				}
			}
			return false
		}
	}
	table := make(map[string]struct{}, set.N)
	for have := range set.Data {
		table[string(have)] = struct{}{}
	}
	return func(data []byte) bool { _, found := table[string(data)]; return found }
}

// plus is the set with one more record, which has to be the last in canonical order.
func (r RRset) plus(data []byte) RRset {
	r.items = append(binary.AppendUvarint(r.items, uint64(len(data))), data...)
	r.N++
	return r
}

// ErrMismatch means that a delta does not belong to the version it is used on: it
// removes what is not there, or adds what is.
var ErrMismatch = errors.New("the difference does not fit this version of the zone")

func (s *Snapshot) mismatch(c *SetDelta, what string) error {
	return fmt.Errorf("%w: it %s of %s %s", ErrMismatch, what, c.Owner, c.Type())
}

// With makes the next version from a delta, sharing all pages that are not touched: the
// cost is that of the change and not of the zone. The error wraps ErrMismatch unless
// each record that goes is there, with the same TTL, and none that comes is.
func (s *Snapshot) With(d *Delta) (*Snapshot, error) {
	if s.Serial() != d.From {
		return nil, fmt.Errorf("%w: it is for serial %d, not for %d", ErrMismatch, d.From, s.Serial())
	}
	plain := d.Sets
	hashed := slices.IndexFunc(d.Sets, func(c SetDelta) bool { return c.Hashed() })
	var below *Snapshot
	if hashed >= 0 {
		plain = d.Sets[:hashed]
		if below = s.hashed; below == nil {
			below = NewHashedBuilder(s.apex).Build().Snapshot
		}
		var err error
		if below, err = below.apply(d.Sets[hashed:], true); err != nil {
			return nil, err
		}
		if below.names == 0 {
			below = nil
		}
	}
	out, err := s.apply(plain, false)
	if err != nil {
		return nil, err
	}
	if hashed >= 0 {
		out.hashed = below
	}
	if out.Serial() != d.To {
		return nil, fmt.Errorf("%w: it makes serial %d, not %d", ErrMismatch, out.Serial(), d.To)
	}
	return out, nil
}

// apply changes the sets, which are in the order of their names.
func (s *Snapshot) apply(sets []SetDelta, hashed bool) (*Snapshot, error) {
	t := s.begin()
	for len(sets) > 0 {
		n := 1
		for n < len(sets) && sets[n].Owner.Equal(sets[0].Owner) {
			n++
		}
		for i := range sets[:n] {
			if sets[i].Hashed() != hashed {
				return nil, s.mismatch(&sets[i], "has NSEC3 records among others, out of order,")
			}
		}
		if err := t.applyName(sets[:n]); err != nil {
			return nil, err
		}
		sets = sets[n:]
	}
	return t.commit(), nil
}

// applyName changes the sets of one name.
func (t *txn) applyName(sets []SetDelta) error {
	wire := []byte(sets[0].Owner.Wire())
	key, ok := t.s.AppendKey(nil, wire)
	if !ok {
		return fmt.Errorf("%s: %w %s", sets[0].Owner, ErrOutside, t.s.apex)
	}
	var n Node
	p := patch{key: key, relative: spelling(wire, t.s)}
	if t.s.Get(key, &n) {
		p.relative = n.relative // what stays is spelled as it was
	}
	for i := range sets {
		if sets[i].Added.N > 0 { // what comes says how from now on
			p.relative = spelling([]byte(sets[i].Owner.Wire()), t.s)
		}
	}
	met := make([]bool, len(sets))
	for set := range n.RRsets {
		i := slices.IndexFunc(sets, func(c SetDelta) bool { return c.Type() == set.Type && c.Covered() == set.Covered() })
		if i < 0 {
			p.items = appendItems(p.items, set)
			continue
		}
		met[i] = true
		c := &sets[i]
		left := minus(set, c.Removed)
		if set.N-left.N != c.Removed.N || c.Removed.N > 0 && c.Removed.TTL != set.TTL {
			return t.s.mismatch(c, "removes records that are not there")
		}
		if left.N > 0 && c.Added.N > 0 && c.Added.TTL != left.TTL {
			return t.s.mismatch(c, "changes the TTL of some records")
		}
		p.items = appendItems(appendItems(p.items, left), c.Added)
	}
	for i := range sets {
		c := &sets[i]
		if !met[i] && c.Removed.N > 0 {
			return t.s.mismatch(c, "removes records that are not there")
		}
		if !met[i] {
			p.items = appendItems(p.items, c.Added)
		}
	}
	if want := len(p.items); t.add(p) != want {
		return t.s.mismatch(&sets[0], "adds records that are there already, at the name")
	}
	return nil
}

func appendItems(items []nodeItem, set RRset) []nodeItem {
	for data := range set.Data {
		items = append(items, makeItem(set.Type, set.TTL, data, 0))
	}
	return items
}

// Share is a version that was read anew, made of the one before by what differs: it
// shares with that what is the same, so that all that follows costs what the change does.
// It is the one before where nothing differs. The delta is nil where the two share little.
func Share(before, fresh *Snapshot) (*Snapshot, *Delta) {
	if before == nil {
		return fresh, nil
	}
	delta := Diff(before, fresh)
	if delta.Empty() {
		return before, delta
	}
	if removed, added := delta.Records(); removed+added > fresh.Records()/2 {
		return fresh, nil
	}
	if out, err := before.With(delta); err == nil {
		return out, delta
	}
	return fresh, nil
}

// Diff is the difference between two versions. What they share is skipped, so the cost
// is that of the difference where one was made from the other.
func Diff(old, new *Snapshot) *Delta {
	d := &Delta{Apex: new.apex, From: old.Serial(), To: new.Serial()}
	for c := range Changes(old, new) {
		d.Sets = append(d.Sets, c)
	}
	return d
}

// Changes walks over what is in Diff, for those who need it once.
func Changes(old, new *Snapshot) func(yield func(SetDelta) bool) {
	return func(yield func(SetDelta) bool) {
		if old == new || !diffTrees(old, new, yield) || old.hashed == new.hashed {
			return
		}
		a, b := old.hashed, new.hashed
		if a == nil {
			a = &Snapshot{apex: old.apex}
		}
		if b == nil {
			b = &Snapshot{apex: new.apex}
		}
		diffTrees(a, b, yield)
	}
}

func diffTrees(old, new *Snapshot, f func(SetDelta) bool) bool {
	var a, b Cursor
	okA, okB := a.First(old), b.First(new)
	var x, y Node
	var keyA, keyB []byte
	for okA || okB {
		if okA && okB && a.i == 0 && b.i == 0 {
			if la, lb, same := sharedChild(&a, &b); same {
				okA, okB = a.skip(la), b.skip(lb)
				continue
			}
		}
		order := 0
		if okA {
			a.Node(&x)
			keyA = x.AppendKey(keyA[:0])
		}
		if okB {
			b.Node(&y)
			keyB = y.AppendKey(keyB[:0])
		}
		switch {
		case !okB:
			order = -1
		case !okA:
			order = 1
		default:
			order = bytes.Compare(keyA, keyB)
		}
		if !diffNames(old, new, &x, &y, order, f) {
			return false
		}
		if order <= 0 {
			okA = a.Next()
		}
		if order >= 0 {
			okB = b.Next()
		}
	}
	return true
}

// diffNames compares the sets of one name; order says which version has it: both for 0.
func diffNames(old, new *Snapshot, x, y *Node, order int, f func(SetDelta) bool) bool {
	switch {
	case order == 0 && string(x.body) == string(y.body) && string(x.relative) == string(y.relative):
		return true
	case order < 0:
		y = &Node{}
	case order > 0:
		x = &Node{}
	}
	owner := new.Owner(y)
	if order < 0 {
		owner = old.Owner(x)
	}
	respelled := order == 0 && string(x.relative) != string(y.relative)
	a, b := slices.Collect(x.RRsets), slices.Collect(y.RRsets)
	for len(a)+len(b) > 0 { // both in the order of pages
		c := SetDelta{Owner: owner, Respelled: respelled}
		which := orderOfSets(a, b)
		if which <= 0 {
			c.Removed, a = a[0], a[1:]
		}
		if which >= 0 {
			c.Added, b = b[0], b[1:]
		}
		if which == 0 && !respelled {
			if c.Removed.Equal(c.Added) {
				continue
			}
			if c.Removed.TTL == c.Added.TTL {
				c.Removed, c.Added = minus(c.Removed, c.Added), minus(c.Added, c.Removed)
			}
		}
		if !f(c) {
			return false
		}
	}
	return true
}

// orderOfSets tells which of the first sets stands before the other in a page; less
// than 0 is that of a.
func orderOfSets(a, b []RRset) int {
	switch {
	case len(a) == 0:
		return 1
	case len(b) == 0:
		return -1
	}
	if c := int(a[0].Covered()) - int(b[0].Covered()); c != 0 {
		return c
	}
	switch {
	case a[0].Type == b[0].Type:
		return 0
	case a[0].Type == rr.TypeRRSIG:
		return 1
	}
	return -1
}
