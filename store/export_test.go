package store

import "testing"

// KeepApart has bases of so many octets on kept outside of transactions.
func KeepApart(t *testing.T, octets int) {
	was := inBlob
	inBlob = octets
	t.Cleanup(func() { inBlob = was })
}
