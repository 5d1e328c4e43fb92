package server

import (
	"container/heap"
	"context"
	"sync"
	"time"
)

// maxTasks is how many tasks of the scheduler run at once: refreshes, NOTIFYs,
// re-signing. More zones wait their turn.
const maxTasks = 16

// scheduler runs tasks at their time. There is one for all zones: waiting costs
// a place in a heap and no goroutine.
type scheduler struct {
	now  func() time.Time
	mu   sync.Mutex
	heap taskHeap
	byID map[string]*task
	wake chan struct{}
	busy int // tasks that run now
}

type task struct {
	id    string
	owner *served // the zone that it is about, or nil
	at    time.Time
	do    func(ctx context.Context)
	index int
}

func newScheduler(now func() time.Time) *scheduler {
	return &scheduler{now: now, byID: map[string]*task{}, wake: make(chan struct{}, 1)}
}

// set plans a task in place of the one with the same id.
func (s *scheduler) set(id string, at time.Time, do func(ctx context.Context)) {
	s.plan(nil, id, at, do)
}

// plan is set for a task that is about a zone. For a zone that is no longer served
// nothing is planned: a task that still runs cannot bring itself back.
func (s *scheduler) plan(z *served, id string, at time.Time, do func(ctx context.Context)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if z != nil && z.gone {
		return
	}
	if t := s.byID[id]; t != nil {
		t.at, t.do, t.owner = at, do, z
		heap.Fix(&s.heap, t.index)
	} else {
		t = &task{id: id, owner: z, at: at, do: do}
		s.byID[id] = t
		heap.Push(&s.heap, t)
	}
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// cancel forgets a task that has not begun.
func (s *scheduler) cancel(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.byID[id]; t != nil {
		heap.Remove(&s.heap, t.index)
		delete(s.byID, id)
	}
}

// forget ends all that is planned for zones, for good.
func (s *scheduler) forget(zones []*served) {
	if len(zones) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, z := range zones {
		z.gone = true
	}
	for id, t := range s.byID {
		if t.owner != nil && t.owner.gone {
			heap.Remove(&s.heap, t.index)
			delete(s.byID, id)
		}
	}
}

// run runs tasks until ctx is done, and waits for those that have begun.
func (s *scheduler) run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	slots := make(chan struct{}, maxTasks)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		t, wait := s.due()
		if t == nil {
			timer.Reset(wait)
			select {
			case <-ctx.Done():
				return
			case <-timer.C:
			case <-s.wake:
			}
			continue
		}
		select {
		case <-ctx.Done():
			s.done()
			return
		case slots <- struct{}{}:
		}
		wg.Go(func() {
			defer func() { <-slots }()
			defer s.done()
			t.do(ctx)
		})
	}
}

// due takes the first task whose time has come, or tells how long to wait.
func (s *scheduler) due() (*task, time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.heap) == 0 {
		return nil, time.Hour
	}
	if wait := s.heap[0].at.Sub(s.now()); wait > 0 {
		return nil, wait
	}
	t := heap.Pop(&s.heap).(*task)
	delete(s.byID, t.id)
	s.busy++
	return t, 0
}

func (s *scheduler) done() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.busy--
}

// settle wakes the scheduler, whose clock may have been set, and waits until
// nothing is due any more.
func (s *scheduler) settle(ctx context.Context) error {
	for {
		s.mu.Lock()
		quiet := s.busy == 0 && (len(s.heap) == 0 || s.heap[0].at.After(s.now()))
		s.mu.Unlock()
		if quiet {
			return nil
		}
		select {
		case s.wake <- struct{}{}:
		default:
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Millisecond):
		}
	}
}

type taskHeap []*task

func (h taskHeap) Len() int           { return len(h) }
func (h taskHeap) Less(i, j int) bool { return h[i].at.Before(h[j].at) }
func (h taskHeap) Swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].index, h[j].index = i, j
}
func (h *taskHeap) Push(x any) {
	t := x.(*task)
	t.index = len(*h)
	*h = append(*h, t)
}
func (h *taskHeap) Pop() any {
	old := *h
	t := old[len(old)-1]
	*h = old[:len(old)-1]
	return t
}
