package zone

import (
	"bytes"
	"slices"

	"fencepost/rr"
)

// Difference is a record set that is not the same in two versions. N is 0 where a
// version does not have it. Sets of RRSIG are told apart by the type they cover.
type Difference struct {
	Node     *Node // with its name, of the version that has the name; valid during the call
	In       *Snapshot
	Old, New RRset
	// OldName tells that the old version has the name, with whatever records.
	OldName bool
}

// Diff calls f for each record set that differs between two versions of a zone,
// in canonical order of the names, until f returns false.
//
// What the versions share is skipped, so the cost is that of the difference where
// one was made from the other. Hashed names come after all others.
func Diff(old, new *Snapshot, f func(Difference) bool) {
	if old == new {
		return
	}
	more := diffTrees(old, new, f)
	switch {
	case !more || old.hashed == new.hashed:
	case old.hashed == nil:
		diffTrees(&Snapshot{apex: old.apex}, new.hashed, f)
	case new.hashed == nil:
		diffTrees(old.hashed, &Snapshot{apex: old.apex}, f)
	default:
		diffTrees(old.hashed, new.hashed, f)
	}
}

func diffTrees(old, new *Snapshot, f func(Difference) bool) bool {
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
		if !diffNodes(old, new, &x, &y, order, f) {
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

// diffNodes compares the sets of one name; order tells which version has it.
func diffNodes(old, new *Snapshot, x, y *Node, order int, f func(Difference) bool) bool {
	var a, b []RRset
	if order <= 0 {
		a = slices.Collect(x.RRsets)
	}
	if order >= 0 {
		b = slices.Collect(y.RRsets)
	}
	for _, set := range a {
		i := slices.IndexFunc(b, func(o RRset) bool { return sameKind(set, o) })
		if i >= 0 && set.Equal(b[i]) {
			continue
		}
		d := Difference{Node: x, In: old, Old: set, OldName: true}
		if i >= 0 {
			d.New = b[i]
		}
		if !f(d) {
			return false
		}
	}
	for _, set := range b {
		if slices.ContainsFunc(a, func(o RRset) bool { return sameKind(set, o) }) {
			continue
		}
		if !f(Difference{Node: y, In: new, New: set, OldName: order == 0}) {
			return false
		}
	}
	return true
}

func sameKind(a, b RRset) bool {
	return a.Type == b.Type && (a.Type != rr.TypeRRSIG || a.Covered() == b.Covered())
}
