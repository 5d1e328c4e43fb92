package zone

import "testing"

// Shrink makes pages and nodes of trees so small, and work so parted, that a few
// names reach what else takes millions.
func Shrink(t testing.TB, fan, page, split int) {
	f, p, s, b, m, part := fanout, pageTarget, splitRuns, blockRuns, maxChunk, partPages
	t.Cleanup(func() { fanout, pageTarget, splitRuns, blockRuns, maxChunk, partPages = f, p, s, b, m, part })
	fanout, pageTarget, splitRuns, blockRuns, maxChunk, partPages = fan, page, split, split, firstChunk, 1+fan%5
}

// Height is the number of levels above the pages.
func (s *Snapshot) Height() int { return s.height }
