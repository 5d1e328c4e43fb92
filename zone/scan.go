package zone

import (
	"context"
	"sync"
	"sync/atomic"

	"fencepost/rr"
)

// Visit is called for one name. next is on the following name that is not
// occluded: for the last one, on the apex.
type Visit func(n *Node, next *Node) error

// Scan visits all names with several goroutines. worker makes the function that
// one of them calls, so that each can have memory of its own; names are visited
// in no special order. done, if not nil, is told now and then how many names
// have been visited since it was last called; it must be safe for concurrent use.
func (s *Snapshot) Scan(ctx context.Context, workers int, done func(names int), worker func() Visit) error {
	return s.eachPage(ctx, workers, done, func() func(int, []byte, *pages) error {
		visit := worker()
		var n, next Node
		return func(i int, page []byte, all *pages) error {
			for j := range pageCount(page) {
				pageNode(page, j, &n)
				all.after(i, j, &next)
				if err := visit(&n, &next); err != nil {
					return err
				}
			}
			return nil
		}
	})
}

// NodeWriter takes the records of one name in Rewrite.
type NodeWriter struct{ items []nodeItem }

// Add adds a record. data is not copied and must not change until the name is
// finished.
func (w *NodeWriter) Add(t rr.Type, ttl uint32, data []byte) {
	w.items = append(w.items, makeItem(t, ttl, data, 0))
}

// AddSet adds all records of a set.
func (w *NodeWriter) AddSet(set RRset) {
	for set.N > 0 {
		t, ttl := set.Type, set.TTL
		var data []byte
		data, set = set.Next()
		w.Add(t, ttl, data)
	}
}

// Records is what was added, for Content.
func (w *NodeWriter) Records() []rr.Record {
	out := make([]rr.Record, len(w.items))
	for i, it := range w.items {
		out[i] = rr.Record{Type: it.typ, TTL: it.ttl, Class: rr.ClassIN, Data: it.data}
	}
	return out
}

// Transform writes the new records of one name into w; see Visit for next.
type Transform func(n *Node, next *Node, w *NodeWriter) error

// Rewrite makes a new version with other records at the same names, with
// several goroutines. A name must not gain or lose NS or DNAME, and keeps at
// least one record. The result depends on the zone and the transformation only,
// never on the number of workers.
func (s *Snapshot) Rewrite(ctx context.Context, workers int, done func(names int), worker func() Transform) (*Snapshot, error) {
	all := s.listPages()
	out := make([][]leaf, len(all.list))
	var names, records, octets atomic.Int64
	err := s.eachPage(ctx, workers, done, func() func(int, []byte, *pages) error {
		transform := worker()
		var n, next Node
		var nw NodeWriter
		var sorter itemSorter
		var key, tail []byte
		return func(i int, page []byte, all *pages) error {
			var w pageWriter
			count := pageCount(page)
			for j := range count {
				pageNode(page, j, &n)
				all.after(i, j, &next)
				nw.items = nw.items[:0]
				if err := transform(&n, &next, &nw); err != nil {
					return err
				}
				sorter.sort(nw.items)
				tail = appendTail(tail[:0], n.flags, n.relative, n.cutLabels, nw.items)
				key = n.AppendKey(key[:0])
				w.add(key, tail, len(nw.items))
				records.Add(int64(len(nw.items)))
			}
			w.flush()
			out[i] = w.pages
			names.Add(int64(count))
			for _, l := range w.pages {
				octets.Add(int64(len(l.page)))
			}
			return nil
		}
	})
	if err != nil {
		return nil, err
	}
	var leaves []leaf
	for _, l := range out {
		leaves = append(leaves, l...)
	}
	t := *s
	t.names, t.records, t.octets, t.sum = int(names.Load()), int(records.Load()), int(octets.Load()), &factsCell{}
	t.setTree(makeTree(leafChildren(leaves)))
	return &t, nil
}

// pages is all pages of a snapshot in order.
type pages struct {
	list [][]byte
	// visible[i] is the place of the first name in page i or a later one that is
	// not occluded; the last element is that of the apex. Without it a walk would
	// look through all that a large cut hides for each name below it.
	visible []place
}

type place struct{ page, node int }

func (s *Snapshot) listPages() *pages {
	p := &pages{}
	var walk func(in *inner)
	walk = func(in *inner) {
		p.list = append(p.list, in.pages...)
		for _, kid := range in.kids {
			walk(kid)
		}
	}
	walk(s.root)
	p.visible = make([]place, len(p.list)+1)
	for i := len(p.list) - 1; i >= 0; i-- {
		p.visible[i] = p.visible[i+1]
		if j := firstVisible(p.list[i], 0); j >= 0 {
			p.visible[i] = place{i, j}
		}
	}
	return p
}

// firstVisible is the first node of a page from j on that is not occluded, -1 if
// there is none.
func firstVisible(page []byte, j int) int {
	for ; j < pageCount(page); j++ {
		if _, at := pageSuffix(page, j); page[at]&flagOccluded == 0 {
			return j
		}
	}
	return -1
}

// after reads the next name behind the j-th of page i that is not occluded, or
// the apex behind the last.
func (p *pages) after(i, j int, n *Node) {
	if j = firstVisible(p.list[i], j+1); j < 0 {
		i, j = p.visible[i+1].page, p.visible[i+1].node
	}
	pageNode(p.list[i], j, n)
}

func (s *Snapshot) eachPage(ctx context.Context, workers int, done func(int), worker func() func(int, []byte, *pages) error) error {
	all := s.listPages()
	workers = max(1, min(workers, len(all.list)))
	var turn atomic.Int64
	var wg sync.WaitGroup
	var once sync.Once
	var failure error
	stop := func(err error) {
		once.Do(func() { failure = err })
		turn.Store(int64(len(all.list)))
	}
	for range workers {
		wg.Go(func() {
			do := worker()
			for {
				i := int(turn.Add(1)) - 1
				if i >= len(all.list) {
					return
				}
				if err := ctx.Err(); err != nil {
					stop(err)
					return
				}
				if err := do(i, all.list[i], all); err != nil {
					stop(err)
					return
				}
				if done != nil {
					done(pageCount(all.list[i]))
				}
			}
		})
	}
	wg.Wait()
	return failure
}

// Visit is like Scan without order or neighbours, for a zone that was just built:
// visit is also told the number of the name's first record, as Positions counts
// them.
func (b *Built) Visit(ctx context.Context, workers int, worker func() func(n *Node, first int)) error {
	return b.eachPage(ctx, workers, nil, func() func(int, []byte, *pages) error {
		visit := worker()
		var n Node
		return func(i int, page []byte, _ *pages) error {
			at := b.firstRecord[i]
			for j := range pageCount(page) {
				pageNode(page, j, &n)
				visit(&n, at)
				at += nodeRecords(&n)
			}
			return nil
		}
	})
}

// Equal reports whether two versions hold the same names and records. Pages that
// they share are not looked at.
func Equal(a, b *Snapshot) bool {
	if (a.hashed == nil) != (b.hashed == nil) || a.hashed != nil && !Equal(a.hashed, b.hashed) {
		return false
	}
	if a.names != b.names || a.records != b.records || !a.apex.Equal(b.apex) {
		return false
	}
	if a.root == b.root {
		return true
	}
	var x, y Cursor
	var n, m Node
	for okX, okY := x.First(a), y.First(b); okX && okY; okX, okY = x.Next(), y.Next() {
		if x.i == 0 && y.i == 0 && len(x.page) == len(y.page) && &x.page[0] == &y.page[0] {
			x.i, y.i = pageCount(x.page)-1, pageCount(y.page)-1
			continue
		}
		x.Node(&n)
		y.Node(&m)
		if n.flags != m.flags || string(n.body) != string(m.body) || string(n.relative) != string(m.relative) || !sameKey(&n, &m) {
			return false
		}
	}
	return true
}

func sameKey(n, m *Node) bool {
	return len(n.prefix)+len(n.suffix) == len(m.prefix)+len(m.suffix) && n.HasKeyPrefix(m.AppendKey(nil))
}
