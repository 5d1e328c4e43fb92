package zone

import "testing"

// Shrink makes pages and nodes of trees so small, and work so parted, that a few
// names reach what else takes millions.
func Shrink(t testing.TB, fan, page, split int) {
	f, p, s := fanout, pageTarget, splitRuns
	t.Cleanup(func() { fanout, pageTarget, splitRuns = f, p, s })
	fanout, pageTarget, splitRuns = fan, page, split
}

// Height is the number of levels above the pages.
func (s *Snapshot) Height() int { return s.height }

// Pages are the pages of a version, in order.
func Pages(s *Snapshot) (out [][]byte) {
	var c Cursor
	for ok := c.First(s); ok; ok = c.turnAt(c.s.height-1, 1) {
		out = append(out, c.page)
	}
	return out
}
