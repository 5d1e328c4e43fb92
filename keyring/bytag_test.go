package keyring

import (
	"testing"

	"fencepost/roll"
)

// Keys are found by their tags, each its own.
func TestByTag(t *testing.T) {
	r := &Ring{Keys: []*Entry{{Key: &roll.Key{Tag: 1}}, {Key: &roll.Key{Tag: 2}}, {Key: &roll.Key{Tag: 65535}}}}
	for _, e := range r.Keys {
		if r.ByTag(e.Tag) != e {
			t.Errorf("another key is found for %d", e.Tag)
		}
	}
	if r.ByTag(3) != nil || (&Ring{}).ByTag(0) != nil {
		t.Error("a key is found that is not there")
	}
}
