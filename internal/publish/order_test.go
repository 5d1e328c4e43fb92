package publish

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/ops"
)

func names(list string) (out []dnsname.Name) {
	for _, n := range strings.Fields(list) {
		out = append(out, dnsname.MustParse(n+"."))
	}
	return out
}

func plain(list []dnsname.Name) string {
	var out []string
	for _, n := range list {
		out = append(out, n.Plain())
	}
	return strings.Join(out, " ")
}

func TestOrder(t *testing.T) {
	come, go_ := []string{"x"}, []string{"y"}
	for _, c := range []struct {
		zones   string
		changes map[string]ops.SetChange // by the zone
		want    string
	}{
		{"example a.example b.a.example", nil, "b.a.example a.example example"},
		{"2.0.192.in-addr.arpa example", nil, "example 2.0.192.in-addr.arpa"},
		{"example a.example", map[string]ops.SetChange{"example": {Name: "a.example.", Type: "DS", New: come}}, "a.example example"},
		{"example a.example", map[string]ops.SetChange{"example": {Name: "A.Example.", Type: "DS", Old: go_}}, "example a.example"},
		{"example a.example", map[string]ops.SetChange{"example": {Name: "a.example.", Type: "DS", Old: go_, New: come}}, "a.example example"},
		{"example a.example", map[string]ops.SetChange{"example": {Name: "b.example.", Type: "NS", Old: go_}}, "a.example example"},
		{"example a.example", map[string]ops.SetChange{"example": {Name: "a.example.", Type: "A", Old: go_}}, "a.example example"},
		{"example b.a.example a.example", map[string]ops.SetChange{"example": {Name: "a.example.", Type: "NS", Old: go_}}, "b.a.example example a.example"},
		{"example 2.0.192.in-addr.arpa", map[string]ops.SetChange{"2.0.192.in-addr.arpa": {Name: "1.2.0.192.in-addr.arpa.", Type: "PTR", Old: go_}}, "2.0.192.in-addr.arpa example"},
		{"example 2.0.192.in-addr.arpa", map[string]ops.SetChange{"2.0.192.in-addr.arpa": {Name: "1.2.0.192.in-addr.arpa.", Type: "PTR", New: come}}, "example 2.0.192.in-addr.arpa"},
	} {
		changes := map[string][]ops.SetChange{}
		for z, x := range c.changes {
			changes[dnsname.MustParse(z+".").Key()] = []ops.SetChange{x}
		}
		if got := plain(inOrder(names(c.zones), changes)); got != c.want {
			t.Errorf("%s with %v: %s, want %s", c.zones, c.changes, got, c.want)
		}
	}
}

// Whatever changes: each zone comes once, and of a zone and the one above it the right one first.
func TestOrderRandom(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 2026))
	for range 2000 {
		var zones []dnsname.Name
		changes := map[string][]ops.SetChange{}
		for range 1 + r.IntN(12) {
			name := []string{"example.", "192.in-addr.arpa."}[r.IntN(2)]
			for range r.IntN(4) {
				name = fmt.Sprintf("%d.%s", r.IntN(3), name)
			}
			if n := dnsname.MustParse(name); !slices.ContainsFunc(zones, n.Equal) {
				zones = append(zones, n)
			}
		}
		for _, z := range zones {
			for _, child := range zones {
				if child.Below(z) && r.IntN(2) == 0 {
					c := ops.SetChange{Name: child.String(), Type: []string{"NS", "DS", "PTR"}[r.IntN(3)], Old: []string{"y"}}
					if r.IntN(3) == 0 {
						c.New = []string{"x"}
					}
					changes[z.Key()] = append(changes[z.Key()], c)
				}
			}
		}
		got := inOrder(zones, changes)
		place := map[string]int{}
		there := map[string]dnsname.Name{}
		for i, z := range got {
			place[z.Key()] = i
			there[z.Key()] = z
		}
		if len(got) != len(zones) || len(place) != len(zones) {
			t.Fatalf("%s became %s", plain(zones), plain(got))
		}
		for _, z := range zones {
			up := above(z, there)
			if up.IsZero() || onlyTakes(changes[z.Key()], isPTR) != onlyTakes(changes[up.Key()], isPTR) && z.AtOrBelow(arpa) {
				continue
			}
			takes := onlyTakes(changes[up.Key()], func(c *ops.SetChange) bool { return delegates(c, z) })
			if (place[up.Key()] < place[z.Key()]) != takes {
				t.Fatalf("%s: %s and %s the wrong way round", plain(got), up.Plain(), z.Plain())
			}
		}
	}
}

func isPTR(c *ops.SetChange) bool { return c.Type == "PTR" }
