package eventlog

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

// reader takes lines as a test wants it to.
type reader struct {
	mu   sync.Mutex
	got  bytes.Buffer
	slow chan struct{} // each line waits for one of these, if not nil
	gone bool
}

func (r *reader) Write(p []byte) (int, error) {
	if r.slow != nil {
		<-r.slow
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.gone {
		return 0, errors.New("broken pipe")
	}
	return r.got.Write(p)
}

// Every line is either handed on, in order, or counted as dropped; nobody waits.
func TestQueue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for round := range 30 {
			r := rand.New(rand.NewPCG(uint64(round), 1))
			to := &reader{}
			if round%3 > 0 {
				to.slow = make(chan struct{}, 1<<20)
			}
			to.gone = round%3 == 2
			w := New(to, Text)
			lines := r.IntN(3 * queueLines)
			size, big := []int{0, 10, 3000}[r.IntN(3)], r.IntN(2)*r.IntN(400)
			for i := range lines {
				n := r.IntN(size + 1)
				if big > 0 && i%big == 0 {
					n = r.IntN(queueOctets)
				}
				fmt.Fprintf(w, "%d %s\n", i, strings.Repeat("x", n))
				if to.slow == nil && r.IntN(500) == 0 {
					w.Flush(time.Hour)
					if text := to.got.String(); !strings.Contains(text, fmt.Sprintf("\n%d ", i)) && i > 0 && !strings.HasPrefix(text, fmt.Sprintf("%d ", i)) && !strings.Contains(text, "dropped") {
						t.Errorf("round %d: line %d is not there after a flush", round, i)
					}
				}
				if to.slow != nil && r.IntN(3) == 0 {
					to.slow <- struct{}{}
				}
			}
			if to.slow != nil {
				close(to.slow)
			}
			synctest.Wait()
			to.mu.Lock()
			to.gone = false
			to.mu.Unlock()
			fmt.Fprintf(w, "%d end\n", lines)
			w.Close(time.Hour)
			next, dropped := 0, 0
			seen := 0
			for line := range strings.Lines(to.got.String()) {
				var n int
				_, _ = fmt.Sscan(line, &n)
				if strings.Contains(line, "were dropped") {
					dropped += n
					continue
				}
				if n < next {
					t.Fatalf("round %d: line %d after %d", round, n, next-1)
				}
				next = n + 1
				seen++
			}
			if seen+dropped != lines+1 || next != lines+1 {
				t.Errorf("round %d: %d lines came and %d were counted, of %d", round, seen, dropped, lines+1)
			}
		}
	})
}

// A reader that never takes anything does not keep the end from coming.
func TestCloseEnds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		to := &reader{slow: make(chan struct{})}
		w := New(to, JSON)
		fmt.Fprintln(w, "a")
		before := time.Now()
		w.Close(time.Second)
		if d := time.Since(before); d != time.Second {
			t.Errorf("it took %s", d)
		}
		fmt.Fprintln(w, "after the end")
		before = time.Now()
		w.Flush(time.Second) // what is closed keeps nobody waiting
		if d := time.Since(before); d != 0 {
			t.Errorf("flushing what is closed took %s", d)
		}
		w.Close(0)
		close(to.slow)
	})
}
