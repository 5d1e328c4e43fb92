package keyring

import (
	"reflect"
	"testing"

	"fencepost/wholefile"
)

// ManyIterations are those of new protected keys outside of tests.
const ManyIterations = manyIterations

func init() { fewer = "1000" }

// Settled makes files count as settled that were written just now.
func Settled(t testing.TB) {
	was := isFresh
	t.Cleanup(func() { isFresh = was })
	isFresh = func(wholefile.Mark) bool { return false }
}

// Same reports whether two rings say the same.
func Same(a, b *Ring) bool {
	a, b = a.clone(), b.clone()
	for _, r := range []*Ring{a, b} {
		r.cache = nil
		for _, e := range r.Keys { // what holds functions is never equal
			e.Note += PublicText(e.Public.Data)
			e.Public, e.Private = nil, nil
		}
	}
	return reflect.DeepEqual(a, b)
}
