package zonefile

import (
	"bytes"
	"sort"

	"fencepost/dnsname"
)

// order is the runs of records of one owner in a file that is kept in order, without
// those of the zone itself, which come first.
type order struct {
	owners []dnsname.Name
	last   []*Entry // the last record of each run
	head   *Entry   // the last record before them
	less   func(a, b dnsname.Name) bool
}

// fewest is how many owners must stand in order before that is no chance.
const fewest = 3

// inOrder finds out whether the owners of a file stand in order, numbers in labels as
// numbers or digit by digit; nil if they do not.
func inOrder(f *File) *order {
	o := &order{}
	for _, e := range f.All {
		if e.Kind != Record {
			if e.Kind == Directive && len(o.owners) > 0 && !bytes.EqualFold(e.Tokens[0].Text, []byte("$TTL")) {
				return nil // another origin, or another file
			}
			continue
		}
		owner, err := dnsname.FromWire(e.Owner)
		if err != nil || e.File != f.Source {
			return nil
		}
		n := len(o.owners)
		switch {
		case owner.Equal(f.Apex) && n == 0:
			o.head = e
		case n > 0 && owner.Equal(o.owners[n-1]):
			o.last[n-1] = e
		default:
			o.owners, o.last = append(o.owners, owner), append(o.last, e)
		}
	}
	if len(o.owners) < fewest {
		return nil
	}
	for _, less := range []func(a, b dnsname.Name) bool{byNumber, func(a, b dnsname.Name) bool { return a.Compare(b) < 0 }} {
		if sort.SliceIsSorted(o.owners, func(i, j int) bool { return less(o.owners[i], o.owners[j]) }) {
			o.less = less
			return o
		}
	}
	return nil
}

// before is the record behind which one of owner belongs; nil at the very beginning.
func (o *order) before(owner dnsname.Name) *Entry {
	i := sort.Search(len(o.owners), func(i int) bool { return o.less(owner, o.owners[i]) })
	if i == 0 {
		return o.head
	}
	return o.last[i-1]
}

// byNumber is the order of names label by label from the root, as people count: in it
// gauge9 comes before gauge10.
func byNumber(a, b dnsname.Name) bool {
	x, y := labelsOf(a), labelsOf(b)
	for i := 0; i < len(x) && i < len(y); i++ {
		if c := compareCounting(x[len(x)-1-i], y[len(y)-1-i]); c != 0 {
			return c < 0
		}
	}
	return len(x) < len(y)
}

func labelsOf(n dnsname.Name) (out [][]byte) {
	w := []byte(n.Key())
	for i := 0; w[i] != 0; i += 1 + int(w[i]) {
		out = append(out, w[i+1:i+1+int(w[i])])
	}
	return out
}

// compareCounting compares labels, runs of digits by their value.
func compareCounting(a, b []byte) int {
	for len(a) > 0 && len(b) > 0 {
		x, y := digits(a), digits(b)
		if x == 0 || y == 0 {
			if a[0] != b[0] {
				return int(a[0]) - int(b[0])
			}
			a, b = a[1:], b[1:]
			continue
		}
		m, n := bytes.TrimLeft(a[:x], "0"), bytes.TrimLeft(b[:y], "0")
		if len(m) != len(n) {
			return len(m) - len(n)
		}
		if c := bytes.Compare(m, n); c != 0 {
			return c
		}
		if x != y {
			return x - y
		}
		a, b = a[x:], b[y:]
	}
	return len(a) - len(b)
}

// digits counts those at the beginning.
func digits(b []byte) (n int) {
	for n < len(b) && b[n] >= '0' && b[n] <= '9' {
		n++
	}
	return n
}
