package publish

import (
	"cmp"
	"slices"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
)

// arpa is what reverse zones lie in.
var arpa = dnsname.MustParse("arpa.")

// inOrder puts zones into the order to publish them in, by what would change in each (by the
// key of its name). What is pointed at is there before the pointer, and goes after it:
//
//   - a child comes before the zone above it, whose DS leads to the child's keys and whose NS
//     lead to its servers; where the zone above only takes away what leads there, it comes first;
//   - reverse zones come after the others, whose hosts their PTR records name; one that only
//     takes PTR records away comes before them.
func inOrder(zones []dnsname.Name, changes map[string][]ops.SetChange) (out []dnsname.Name) {
	group := func(z dnsname.Name) int {
		switch {
		case !z.AtOrBelow(arpa):
			return 0
		case onlyTakes(changes[z.Key()], func(c *ops.SetChange) bool { return c.Type == "PTR" }):
			return -1
		}
		return 1
	}
	zones = slices.Clone(zones)
	slices.SortStableFunc(zones, func(a, b dnsname.Name) int {
		return cmp.Or(group(a)-group(b), b.Labels()-a.Labels())
	})
	there := map[string]dnsname.Name{}
	for _, z := range zones {
		there[z.Key()] = z
	}
	waits := map[string][]dnsname.Name{} // for whom
	for _, z := range zones {
		up := above(z, there)
		switch {
		case up.IsZero() || group(up) != group(z):
		case onlyTakes(changes[up.Key()], func(c *ops.SetChange) bool { return delegates(c, z) }):
			waits[z.Key()] = append(waits[z.Key()], up)
		default:
			waits[up.Key()] = append(waits[up.Key()], z)
		}
	}
	done := map[string]bool{}
	var visit func(z dnsname.Name) // each zone has one above it at most, so there are no circles
	visit = func(z dnsname.Name) {
		if done[z.Key()] {
			return
		}
		done[z.Key()] = true
		for _, first := range waits[z.Key()] {
			visit(first)
		}
		out = append(out, z)
	}
	for _, z := range zones {
		visit(z)
	}
	return out
}

// above is the nearest of some zones above one; the zero name: there is none.
func above(z dnsname.Name, there map[string]dnsname.Name) dnsname.Name {
	for z != dnsname.Root {
		z = z.Parent()
		if up, ok := there[z.Key()]; ok {
			return up
		}
	}
	return dnsname.Name{}
}

func delegates(c *ops.SetChange, child dnsname.Name) bool {
	n, err := edit.WholeName(c.Name)
	return err == nil && n.Equal(child) && (c.Type == "NS" || c.Type == "DS")
}

// onlyTakes reports whether of the changes that are meant some take records away and none
// brings any.
func onlyTakes(list []ops.SetChange, meant func(*ops.SetChange) bool) bool {
	took := false
	for i := range list {
		if c := &list[i]; meant(c) {
			if len(c.New) > 0 {
				return false
			}
			took = took || len(c.Old) > 0
		}
	}
	return took
}
