package store

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// What was answered is known again after any restart, at most the oldest is forgotten, and an end that
// was not written whole harms nothing.
func TestAnswered(t *testing.T) {
	path := filepath.Join(t.TempDir(), "store")
	open := func() *Store {
		s, err := Open(path)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		return s
	}
	var model []Answered
	check := func(s *Store, since time.Time) {
		t.Helper()
		got, err := s.For("inside").AnsweredSince(since)
		want := slices.DeleteFunc(slices.Clone(model), func(r Answered) bool { return r.At.Before(since) })
		if err != nil || len(got) < min(len(want), maxAnswered) || len(got) > len(want) {
			t.Fatalf("%d are known (%v), want %d", len(got), err, len(want))
		}
		if !slices.EqualFunc(got, want[len(want)-len(got):], func(a, b Answered) bool { return a.Digest == b.Digest && a.At.Equal(b.At) && a.Code == b.Code }) {
			t.Fatal("others are known than were answered")
		}
	}
	rnd, now := rand.New(rand.NewPCG(1, 2)), time.Unix(1_790_000_000, 0)
	s := open()
	check(s, time.Time{})
	for range 40 {
		for range rnd.IntN(5) {
			r := Answered{At: now, Code: uint16(rnd.IntN(10))}
			for i := range r.Digest {
				r.Digest[i] = byte(rnd.Uint32())
			}
			if err := s.For("inside").NoteAnswered(r); err != nil {
				t.Fatal(err)
			}
			model = append(model, r)
			now = now.Add(time.Duration(rnd.IntN(3)) * time.Second)
		}
		if rnd.IntN(3) == 0 {
			s.Close()
			if rnd.IntN(2) == 0 && len(model) > 0 { // killed while it wrote
				info, err := os.Stat(answeredPath(path))
				if err != nil || os.Truncate(answeredPath(path), info.Size()-int64(1+rnd.IntN(answeredLen-1))) != nil {
					t.Fatal(err)
				}
				model = model[:len(model)-1]
			}
			s = open()
		}
		check(s, now.Add(-time.Duration(rnd.IntN(20))*time.Second))
	}
	for i := range 3 * maxAnswered {
		r := Answered{Digest: [16]byte{byte(i), byte(i >> 8), byte(i >> 16)}, At: now}
		if err := s.NoteAnswered(r); err != nil {
			t.Fatal(err)
		}
		model = append(model, r)
	}
	check(s, time.Time{})
	if info, err := os.Stat(answeredPath(path)); err != nil || info.Size() > 2*maxAnswered*answeredLen {
		t.Errorf("the file has %d octets (%v)", info.Size(), err)
	}
}
