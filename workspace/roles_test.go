package workspace

import (
	"testing"

	"fencepost/tsig"
)

// A zone has a file unless it comes from elsewhere, is kept in the store, or is a catalog that is made here;
// a peer's further key goes with it.
func TestRoles(t *testing.T) {
	for what, c := range map[string]struct {
		z    Zone
		file bool
	}{"plain": {Zone{}, true}, "fetched": {Zone{FetchFrom: []*Peer{{}}}, false}, "kept": {Zone{Kept: true}, false}, "a catalog": {Zone{Catalog: &Catalog{}}, false}} {
		if c.z.HasFile() != c.file {
			t.Errorf("%s: %v", what, c.z.HasFile())
		}
	}
	key := &tsig.Key{}
	if s := (&Peer{Also: key}).Server(); len(s.Also) != 1 || s.Also[0] != key {
		t.Errorf("%+v", s)
	}
	if s := (&Peer{}).Server(); len(s.Also) != 0 {
		t.Errorf("%+v", s)
	}
}
