package control

import (
	"math/rand/v2"
	"testing"
)

// Whatever others do, each user has the places that are theirs, the owner too, and nobody has more.
func TestPlaces(t *testing.T) {
	const known, stranger = 60001, 60002
	r := rand.New(rand.NewPCG(20, 2026))
	p := &places{known: func(id *Identity) bool { return id.UID < stranger }}
	open := map[int][]*placed{}
	users := []int{0, known, stranger, stranger + 1, 0, known, known - 1}
	for i := range 40 {
		users = append(users, stranger+2+i)
	}
	most := map[bool]int{true: userPlaces, false: strangerPlaces}
	for range 20000 {
		uid := users[r.IntN(len(users))]
		if have := open[uid]; r.IntN(3) == 0 && len(have) > 0 {
			have[0].leave()
			have[0].leave() // closed twice
			open[uid] = have[1:]
			continue
		}
		others := 0
		for u, have := range open {
			if u != 0 {
				others += len(have)
			}
		}
		want := len(open[uid]) < ownerPlaces
		if uid != 0 {
			want = len(open[uid]) < most[uid < stranger] && others < othersPlaces
		}
		c := &placed{id: &Identity{UID: uid}}
		if got := p.take(c); got != want {
			t.Fatalf("user %d with %d connections, all others %d: a place: %v, want %v", uid, len(open[uid]), others, got, want)
		} else if got {
			open[uid] = append(open[uid], c)
		}
	}
}
