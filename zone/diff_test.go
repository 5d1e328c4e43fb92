package zone_test

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// version builds a zone of "owner ttl type data" lines, data in the generic form
// of one octet per word.
func version(t *testing.T, lines ...string) *zone.Snapshot {
	t.Helper()
	apex := dnsname.MustParse("example.")
	b := zone.NewBuilder(apex, false)
	for _, l := range lines {
		var owner, typ, data string
		var ttl uint32
		if _, err := fmt.Sscan(l, &owner, &ttl, &typ, &data); err != nil {
			t.Fatalf("%s: %v", l, err)
		}
		name, err := dnsname.Parse(owner, apex)
		if err != nil {
			t.Fatal(err)
		}
		rtype, _ := rr.ParseType(typ)
		if err := b.Add([]byte(name.Wire()), rtype, ttl, []byte(data), 0); err != nil {
			t.Fatal(err)
		}
	}
	return b.Build().Snapshot
}

func TestDiff(t *testing.T) {
	old := version(t, "a 60 TYPE700 one", "a 60 TYPE701 x", "b 60 TYPE700 gone", "c 60 TYPE700 same", "d 60 TYPE700 ttl", "e.d 60 TYPE700 p", "e.d 60 TYPE700 q")
	new := version(t, "a 60 TYPE700 two", "a 60 TYPE701 x", "a 60 TYPE702 more", "c 60 TYPE700 same", "d 90 TYPE700 ttl", "e.d 60 TYPE700 q", "f 60 TYPE700 came")
	var got []string
	zone.Diff(old, new, func(d zone.Difference) bool {
		got = append(got, fmt.Sprintf("%s %d/%d %d/%d %v", d.In.Owner(d.Node), d.Old.N, d.New.N, d.Old.TTL, d.New.TTL, d.OldName))
		return true
	})
	want := []string{"a.example. 1/1 60/60 true", "a.example. 0/1 0/60 true", "b.example. 1/0 60/0 true", "d.example. 1/1 60/90 true",
		"e.d.example. 2/1 60/60 true", "f.example. 0/1 0/60 false"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	n := 0
	zone.Diff(old, new, func(zone.Difference) bool { n++; return n < 2 })
	if n != 2 {
		t.Errorf("the walk went on for %d", n)
	}
	zone.Diff(old, old, func(d zone.Difference) bool { t.Errorf("%s differs from itself", d.In.Owner(d.Node)); return true })
}

// A difference has each change once, whatever side it is on, and none is lost.
func TestDiffSymmetry(t *testing.T) {
	var a, b []string
	for i := range 3000 {
		line := fmt.Sprintf("h%d.x%d 60 TYPE700 d%d", i, i%7, i%3)
		if i%5 != 0 {
			a = append(a, line)
		}
		if i%3 != 0 {
			b = append(b, strings.Replace(line, " d", fmt.Sprintf(" e%d", i%2), 1)[:len(line)])
		}
	}
	x, y := version(t, a...), version(t, b...)
	count := func(from, to *zone.Snapshot) (gone, came, changed int) {
		zone.Diff(from, to, func(d zone.Difference) bool {
			switch {
			case d.New.N == 0:
				gone++
			case d.Old.N == 0:
				came++
			default:
				changed++
			}
			return true
		})
		return
	}
	g1, c1, m1 := count(x, y)
	g2, c2, m2 := count(y, x)
	if g1 != c2 || c1 != g2 || m1 != m2 || g1 == 0 || c1 == 0 {
		t.Errorf("%d gone, %d came, %d changed; back %d, %d, %d", g1, c1, m1, g2, c2, m2)
	}
	if len(a)+c1-g1 != len(b) {
		t.Errorf("%d + %d - %d is not %d", len(a), c1, g1, len(b))
	}
}
