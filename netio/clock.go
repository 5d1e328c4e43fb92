package netio

import (
	"container/heap"
	"context"
	"sync"
	"time"
)

// Clock tells the time and wakes. It is safe for concurrent use.
type Clock interface {
	Now() time.Time
	// AfterFunc calls f when d has passed. stop takes that back, and reports whether it did.
	AfterFunc(d time.Duration, f func()) (stop func() bool)
}

// Real is the clock of this machine.
var Real Clock = realClock{}

type realClock struct{}

func (realClock) Now() time.Time { return time.Now() }

func (realClock) AfterFunc(d time.Duration, f func()) func() bool {
	return time.AfterFunc(d, f).Stop
}

// Shifted is a clock that is by so much ahead of another. It is not for the deadlines of
// sockets: those go by the clock of the machine.
func Shifted(c Clock, by time.Duration) Clock { return shifted{c, by} }

type shifted struct {
	Clock
	by time.Duration
}

func (s shifted) Now() time.Time { return s.Clock.Now().Add(s.by) }

// After is a channel that is closed when d has passed.
func After(c Clock, d time.Duration) <-chan struct{} {
	over := make(chan struct{})
	c.AfterFunc(d, func() { close(over) })
	return over
}

// WithTimeout is context.WithTimeout by a clock.
func WithTimeout(ctx context.Context, c Clock, d time.Duration) (context.Context, context.CancelFunc) {
	if c == Real {
		return context.WithTimeout(ctx, d)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	stop := c.AfterFunc(d, func() { cancel(context.DeadlineExceeded) })
	return ctx, func() { stop(); cancel(nil) }
}

// Virtual is a clock that stands still until somebody moves it.
type Virtual struct {
	mu     sync.Mutex
	now    time.Time
	timers timerHeap
	last   uint64 // number of the timer that was made last
}

type timer struct {
	at    time.Time
	n     uint64 // timers of one moment go off in the order in which they were made
	f     func()
	index int // in the heap; negative: it is over
}

// NewVirtual is a clock that says at.
func NewVirtual(at time.Time) *Virtual { return &Virtual{now: at} }

// Now implements Clock.
func (v *Virtual) Now() time.Time {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.now
}

// AfterFunc implements Clock; f is called by Advance.
func (v *Virtual) AfterFunc(d time.Duration, f func()) func() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.last++
	t := &timer{at: v.now.Add(d), n: v.last, f: f}
	heap.Push(&v.timers, t)
	return func() bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		if t.index < 0 {
			return false
		}
		heap.Remove(&v.timers, t.index)
		return true
	}
}

// Next is when the next timer goes off; ok is false when there is none.
func (v *Virtual) Next() (at time.Time, ok bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if len(v.timers) == 0 {
		return at, false
	}
	return v.timers[0].at, true
}

// Advance moves the clock to a time, unless that is past, and lets go off what is due until
// then, each at its time and one after another.
func (v *Virtual) Advance(to time.Time) {
	for {
		v.mu.Lock()
		if len(v.timers) == 0 || v.timers[0].at.After(to) {
			if to.After(v.now) {
				v.now = to
			}
			v.mu.Unlock()
			return
		}
		t := heap.Pop(&v.timers).(*timer)
		if t.at.After(v.now) {
			v.now = t.at
		}
		v.mu.Unlock()
		t.f()
	}
}

type timerHeap []*timer

func (h timerHeap) Len() int { return len(h) }
func (h timerHeap) Less(i, j int) bool {
	if !h[i].at.Equal(h[j].at) {
		return h[i].at.Before(h[j].at)
	}
	return h[i].n < h[j].n
}
func (h timerHeap) Swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].index, h[j].index = i, j
}
func (h *timerHeap) Push(x any) {
	t := x.(*timer)
	t.index = len(*h)
	*h = append(*h, t)
}
func (h *timerHeap) Pop() any {
	old := *h
	t := old[len(old)-1]
	t.index = -1
	*h = old[:len(old)-1]
	return t
}
