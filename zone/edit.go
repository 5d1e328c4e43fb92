package zone

import (
	"bytes"
	"fmt"
	"slices"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Content gives one name new records in place of all it had; no records remove
// the name.
type Content struct {
	Owner   dnsname.Name
	Records []rr.Record // Name and Class are not looked at
}

// Replace makes a new version of the zone in which names have other contents, sharing
// all pages that are not touched: the cost is that of the change and not of the zone.
// Of several contents of one name the last counts. See With for a Delta.
func (s *Snapshot) Replace(contents []Content) (*Snapshot, error) {
	t := s.begin()
	for _, c := range contents {
		if err := t.put(c); err != nil {
			return nil, err
		}
	}
	return t.commit(), nil
}

// patch is the new content of one name.
type patch struct {
	key      []byte
	relative []byte // original spelling if not all lower case
	items    []nodeItem
	flags    byte
	cut      int // labels of the occluder, where flagOccluded
	remove   bool
}

type txn struct {
	s                                 *Snapshot
	patches                           []patch
	sorter                            itemSorter
	names, records, wildcards, octets int
	sum                               *facts // where those of s are known
}

func (s *Snapshot) begin() *txn {
	t := &txn{s: s, names: s.names, records: s.records, wildcards: s.wildcards, octets: s.octets}
	if known := s.sum.get(); known != nil {
		t.sum = known.clone()
	}
	return t
}

func (t *txn) put(c Content) error {
	wire := []byte(c.Owner.Wire())
	key, ok := t.s.AppendKey(nil, wire)
	if !ok {
		return fmt.Errorf("%s: %w %s", c.Owner, ErrOutside, t.s.apex)
	}
	p := patch{key: key, relative: spelling(wire, t.s)}
	for _, r := range c.Records {
		p.items = append(p.items, makeItem(r.Type, r.TTL, r.Data, 0))
	}
	t.add(p)
	return nil
}

// spelling is a name as it is written, where that is not its key's.
func spelling(wire []byte, s *Snapshot) []byte {
	if rel := wire[:len(wire)-len(s.apexLower)]; hasUpper(rel) {
		return rel
	}
	return nil
}

// add adds a patch whose items are in any order, and reports how many of them are no
// duplicates.
func (t *txn) add(p patch) int {
	t.sorter.sort(p.items)
	e := encoder{items: p.items, apex: t.s.apex}
	if len(p.items) > 1 {
		e.settle(p.key)
	}
	p.items, p.remove = e.items, len(e.items) == 0
	p.flags = nodeFlags(len(p.key) == 0, p.relative, p.items)
	t.patches = append(t.patches, p)
	return len(p.items)
}

// order sorts the patches by key; of several for one name the last stays.
func (t *txn) order() {
	slices.SortStableFunc(t.patches, func(a, b patch) int { return bytes.Compare(a.key, b.key) })
	out := t.patches[:0]
	for _, p := range t.patches {
		if n := len(out); n > 0 && bytes.Equal(out[n-1].key, p.key) {
			out[n-1] = p
			continue
		}
		out = append(out, p)
	}
	t.patches = out
}

func (t *txn) find(key []byte) (int, bool) {
	return slices.BinarySearchFunc(t.patches, key, func(p patch, k []byte) int { return bytes.Compare(p.key, k) })
}

const hiding = flagCut | flagDNAME

// occlude works out which names are hidden after the changes. Where a cut or
// DNAME came or went, the names below it are rewritten too.
func (t *txn) occlude() {
	var touched []patch
	for _, p := range t.patches {
		var old Node
		had := t.s.Get(p.key, &old) && old.flags&hiding != 0
		if has := !p.remove && p.flags&hiding != 0; has != had {
			touched = t.touchBelow(touched, p.key)
		}
	}
	t.patches = append(t.patches, touched...)
	t.order()
	for i := range t.patches {
		p := &t.patches[i]
		if labels, hidden := t.occluder(p.key); hidden {
			p.flags |= flagOccluded
			p.cut = labels
		}
	}
}

// touchBelow adds a patch that changes nothing for each name below key that has
// none.
func (t *txn) touchBelow(touched []patch, key []byte) []patch {
	var c Cursor
	var n Node
	exact := c.Seek(t.s, key)
	switch {
	case exact && !c.Next():
		return touched
	case !c.Valid() && !c.First(t.s): // all names are greater, or there is none
		return touched
	}
	for {
		c.Node(&n)
		if n.HasKeyPrefix(key) {
			k := n.AppendKey(nil)
			if _, found := t.find(k); !found && len(k) > len(key) {
				touched = append(touched, patchOf(k, &n))
			}
		} else if bytes.Compare(n.AppendKey(nil), key) > 0 {
			return touched
		}
		if !c.Next() {
			return touched
		}
	}
}

func patchOf(key []byte, n *Node) patch {
	p := patch{key: key, relative: n.relative, flags: n.flags &^ flagOccluded}
	for set := range n.RRsets {
		for data := range set.Data {
			p.items = append(p.items, makeItem(set.Type, set.TTL, data, 0))
		}
	}
	return p
}

// occluder finds the topmost cut or DNAME above key, as the zone will be.
func (t *txn) occluder(key []byte) (labels int, hidden bool) {
	for n := range dnsname.KeyLabels(key) {
		above := dnsname.KeyPrefix(key, n)
		var flags byte
		if i, found := t.find(above); found {
			if !t.patches[i].remove {
				flags = t.patches[i].flags
			}
		} else {
			var node Node
			if t.s.Get(above, &node) {
				flags = node.flags
			}
		}
		if flags&hiding != 0 {
			return n, true
		}
	}
	return 0, false
}

// commit makes the version with the patches.
func (t *txn) commit() *Snapshot {
	t.order()
	t.occlude()
	s := *t.s
	s.sum = &factsCell{}
	var top []child
	if s.root == nil || s.root.len() == 0 {
		top = t.rewritePage(nil, nil, t.patches)
	} else {
		top = t.rewrite(s.root, nil, t.patches)
	}
	if len(top) == 0 {
		top = []child{}
	}
	var root *inner
	var height int
	switch {
	case len(top) == 1 && top[0].kid != nil:
		root, height = top[0].kid, s.height
		for root.len() == 1 && root.kids != nil { // a level that parts nothing
			root, height = root.kids[0], height-1
		}
	case len(top) > 0 && top[0].kid != nil:
		var more int
		root, more = makeTree(top)
		height = s.height + more
	default:
		root, height = makeTree(top)
	}
	s.names, s.records, s.wildcards, s.octets = t.names, t.records, t.wildcards, t.octets
	s.wild = t.wildFilter()
	s.setTree(root, height)
	if t.sum != nil {
		s.sum.set(t.sum)
	}
	return &s
}

// rewrite applies patches, all of which belong below in, and returns what
// stands in its place: inner nodes of the same level. sep is the separator of in.
func (t *txn) rewrite(in *inner, sep []byte, patches []patch) []child {
	repl := make(map[int][]child)
	same := true // each child is replaced by just one
	for len(patches) > 0 {
		i := in.search(patches[0].key)
		n := len(patches)
		if i+1 < in.len() {
			next := in.sep(i + 1)
			n, _ = slices.BinarySearchFunc(patches, next, func(p patch, k []byte) int { return bytes.Compare(p.key, k) })
		}
		if in.kids != nil {
			repl[i] = t.rewrite(in.kids[i], in.sep(i), patches[:n])
		} else {
			repl[i] = t.rewritePage(in.pages[i], in.sep(i), patches[:n])
		}
		same = same && len(repl[i]) == 1
		patches = patches[n:]
	}
	if same {
		return []child{{kid: in.with(repl), sep: sep}}
	}
	out := make([]child, 0, in.len()+1)
	for i, c := range in.children() {
		if r, touched := repl[i]; touched {
			out = append(out, r...)
		} else {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		return nil
	}
	// The first separator must stay what the parent knows, or be less.
	out[0].sep = sep
	if len(out) <= fanout {
		return []child{{kid: makeInner(out), sep: sep}}
	}
	return groupChildren(out)
}

// with is a copy of in with some children replaced one by one; what search needs
// is shared.
func (in *inner) with(repl map[int][]child) *inner {
	c := *in
	c.kids, c.pages = slices.Clone(in.kids), slices.Clone(in.pages)
	for i, r := range repl {
		if c.kids != nil {
			c.kids[i] = r[0].kid
		} else {
			c.pages[i] = r[0].page
		}
	}
	return &c
}

// rewritePage applies patches to one page, which may be nil.
func (t *txn) rewritePage(page, sep []byte, patches []patch) []child {
	var w pageWriter
	var tail []byte
	emit := func(p *patch) {
		if p.remove {
			return
		}
		tail = appendTail(tail[:0], p.flags, p.relative, p.cut, p.items)
		w.add(p.key, tail, len(p.items))
		t.count(+1, p.key, len(p.items))
		if t.sum != nil {
			t.sum.came(p.key, p.items)
		}
	}
	count := 0
	if page != nil {
		count = pageCount(page)
		t.octets -= len(page)
	}
	var n Node
	var key []byte
	for i := range count {
		pageNode(page, i, &n)
		key = n.AppendKey(key[:0])
		for len(patches) > 0 && bytes.Compare(patches[0].key, key) < 0 {
			emit(&patches[0])
			patches = patches[1:]
		}
		if len(patches) > 0 && bytes.Equal(patches[0].key, key) {
			t.count(-1, key, nodeRecords(&n))
			if t.sum != nil {
				t.sum.went(key, &n)
			}
			emit(&patches[0])
			patches = patches[1:]
			continue
		}
		_, at := pageSuffix(page, i)
		end := len(page)
		if i+1 < count {
			end = pageOffset(page, i+1)
		}
		w.add(key, page[at:end], 0) // records are counted by t.count
	}
	for i := range patches {
		emit(&patches[i])
	}
	w.flush()
	for _, l := range w.pages {
		t.octets += len(l.page)
	}
	out := leafChildren(w.pages)
	if len(out) > 0 {
		out[0].sep = sep
	}
	return out
}

// count books a name that came (+1) or went (-1) with its records.
func (t *txn) count(by int, key []byte, records int) {
	t.names += by
	t.records += by * records
	if hasStar(key) {
		t.wildcards += by
	}
}

func nodeRecords(n *Node) int {
	total := 0
	for set := range n.RRsets {
		total += set.N
	}
	return total
}

// wildFilter is the filter with the wildcards that came. Bits of those that went
// stay: they cost a look and no more.
func (t *txn) wildFilter() wildFilter {
	f := t.s.wild
	copied := false
	for _, p := range t.patches {
		if p.remove {
			continue
		}
		eachStar(p.key, func(above []byte) {
			if f.has(above) {
				return
			}
			if !copied {
				f, copied = append(make(wildFilter, 0, max(1, len(f))), f...), true
				if len(f) == 0 {
					f = make(wildFilter, 1)
				}
			}
			f.set(hashKey(above))
		})
	}
	return f
}
