package audit

import "slices"

// Tests is every test, in the order of a report.
var Tests = inOrder(delegationTests, serverTests, addressTests, probes(), zoneTests, mailTests, dnssecTests, recordTests())

func inOrder(families ...[]*Test) []*Test {
	all := slices.Concat(families...)
	slices.SortStableFunc(all, func(a, b *Test) int { return int(a.Area) - int(b.Area) })
	return all
}
