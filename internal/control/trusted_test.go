package control

import "testing"

// Who is trusted with a private key: we, root, and for root who owns the folder.
func TestTrusted(t *testing.T) {
	for _, c := range []struct {
		me, owner, folder int
		want              bool
	}{
		{1000, 1000, 1000, true}, {1000, 0, 1000, true}, {1000, 1001, 1000, false}, {1000, 1001, 1001, false},
		{0, 0, 1000, true}, {0, 1000, 1000, true}, {0, 1001, 1000, false}, {0, 1001, 0, false},
	} {
		if got := trusted(c.me, c.owner, c.folder); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}
