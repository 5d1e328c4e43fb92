package zone

import "testing"

// Shrink makes pages and nodes of trees so small, and work so parted, that a few
// names reach what else takes millions.
func Shrink(t testing.TB, fan, page, split int) {
	f, p, s, b, m := fanout, pageTarget, splitRuns, blockRuns, maxChunk
	t.Cleanup(func() { fanout, pageTarget, splitRuns, blockRuns, maxChunk = f, p, s, b, m })
	fanout, pageTarget, splitRuns, blockRuns, maxChunk = fan, page, split, split, firstChunk
}

// Height is the number of levels above the pages.
func (s *Snapshot) Height() int { return s.height }
