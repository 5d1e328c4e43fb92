package workspace

import (
	"fmt"
	"strconv"
	"strings"

	"fencepost/rr"
)

// Takes is what the party that runs a parent supports; empty lists are everything.
type Takes struct{ Algorithms, Digests []uint8 }

// ParseTakes reads text such as "algorithms=8,13 digests=1,2".
func ParseTakes(text string) (t Takes, err error) {
	for _, part := range strings.Fields(text) {
		name, list, _ := strings.Cut(part, "=")
		to := map[string]*[]uint8{"algorithms": &t.Algorithms, "digests": &t.Digests}[name]
		if to == nil {
			return t, fmt.Errorf("%q: write 'algorithms=8,13 digests=1,2', either part or both", text)
		}
		for _, word := range strings.Split(list, ",") {
			if a, ok := rr.ParseAlgorithm(word); ok && name == "algorithms" {
				*to = append(*to, uint8(a))
				continue
			}
			n, err := strconv.ParseUint(word, 10, 8)
			if err != nil {
				return t, fmt.Errorf("%q is not a number of %s", word, name)
			}
			*to = append(*to, uint8(n))
		}
	}
	return t, nil
}
