package diag

import "strings"

// Closest is the candidate nearest to word by edit distance, without regard to
// case, or "" when none is near enough to be what was meant.
func Closest(word string, candidates []string) string {
	if word == "" {
		return ""
	}
	best, bestDistance := "", max(2, len(word)/3+1)
	lower := strings.ToLower(word)
	for _, c := range candidates {
		if d := distance(lower, strings.ToLower(c)); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}

// distance counts the insertions, deletions, replacements and swaps of
// neighbours that turn a into b.
func distance(a, b string) int {
	prev2, prev, cur := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return prev[len(b)]
}
