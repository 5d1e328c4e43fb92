package zonestate

import (
	"container/heap"
	"context"
	"slices"
	"sync"
	"time"

	"fencepost/netio"
)

// queueWidth is how many tasks of one queue run at once; more wait their turn.
const queueWidth = 16

// queue is what tasks wait for. Those of one queue wait for each other and for no others:
// a dead peer, or a primary that drips, keeps neither signatures nor other peers waiting.
// There are as many queues as the configuration has peers, and a few.
type queue string

const (
	here    queue = "here"    // work that waits for nobody outside: signing, storing, expiry
	keyCare queue = "keyCare" // asks parents and secondaries about keys
	jobs    queue = "jobs"

	following queue = "following" // asks resolvers for addresses that zones follow
)

func toPeer(p Peer) queue { return queue("to " + p.Address.String()) }

// fromPrimary is the queue of the primary that is asked first.
func (z *zoneState) fromPrimary() queue {
	if from := z.cfg.Load().fetchFrom(); len(from) > 0 {
		return queue("from " + from[0].Address.String())
	}
	return here
}

// scheduler runs tasks at their time. There is one for all zones: waiting costs
// a place in a heap, or in a queue, and no goroutine.
type scheduler struct {
	now    func() time.Time
	clock  netio.Clock
	made   uint64 // number of the task that was planned last
	mu     sync.Mutex
	heap   taskHeap              // tasks whose time is to come
	byID   map[string]*task      // all that have not begun
	queues map[queue]*queueState // those with something to do
	wake   chan struct{}
}

// queueState is what goes on in a queue.
type queueState struct {
	running int
	due     []*task // wait for a place, in the order of their time
	dropped int     // of due, those that are planned no more
}

type task struct {
	id    string
	owner *zoneState // the zone that it is about, or nil
	queue queue
	at    time.Time
	n     uint64 // tasks of one moment come in the order in which they were planned
	do    func(ctx context.Context)
	index int // in the heap; notInHeap: in its queue, or begun
}

const notInHeap = -1

func newScheduler(now func() time.Time, clock netio.Clock) *scheduler {
	return &scheduler{now: now, clock: clock, byID: map[string]*task{}, queues: map[queue]*queueState{}, wake: make(chan struct{}, 1)}
}

// plan plans a task in place of the one with the same id. z is the zone that it is
// about, or nil: for a zone that is no longer served nothing is planned, so a task that
// still runs cannot bring itself back.
func (s *scheduler) plan(z *zoneState, l queue, id string, at time.Time, do func(ctx context.Context)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.planLocked(z, l, id, at, do)
}

// planNext is plan for a task that is at its end and plans its next turn: what was planned under
// its id since it began, for the same time or an earlier one, stays. Somebody asked for that while
// the task was at work, which may have come too late for it.
func (s *scheduler) planNext(z *zoneState, l queue, id string, at time.Time, do func(ctx context.Context)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.byID[id]; t != nil && !t.at.After(at) {
		return
	}
	s.planLocked(z, l, id, at, do)
}

func (s *scheduler) planLocked(z *zoneState, l queue, id string, at time.Time, do func(ctx context.Context)) {
	if z != nil && z.gone {
		return
	}
	old := s.byID[id]
	if old != nil && old.index == notInHeap && old.queue == l && !at.After(s.now()) {
		old.owner, old.do = z, do // it keeps its place in the queue
		return
	}
	s.drop(old)
	s.made++
	t := &task{id: id, owner: z, queue: l, at: at, n: s.made, do: do}
	s.byID[id] = t
	heap.Push(&s.heap, t)
	s.awake()
}

// awake has the scheduler look again what is due.
func (s *scheduler) awake() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// cancel forgets a task that has not begun.
func (s *scheduler) cancel(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drop(s.byID[id])
}

// drop takes back a task that has not begun; nil is none. The lock is held.
func (s *scheduler) drop(t *task) {
	if t == nil {
		return
	}
	delete(s.byID, t.id)
	if t.index != notInHeap {
		heap.Remove(&s.heap, t.index)
		return
	}
	// A queue passes over what is not planned. Now and then that is thrown out.
	l := s.queues[t.queue]
	if l.dropped++; 2*l.dropped > len(l.due) {
		l.due, l.dropped = slices.DeleteFunc(l.due, func(t *task) bool { return s.byID[t.id] != t }), 0
	}
}

// forget ends all that is planned for zones, for good.
func (s *scheduler) forget(zones []*zoneState) {
	if len(zones) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, z := range zones {
		z.gone = true
	}
	for _, t := range s.byID {
		if t.owner != nil && t.owner.gone {
			s.drop(t)
		}
	}
}

// run runs tasks until ctx is done, and waits for those that have begun.
func (s *scheduler) run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	for ctx.Err() == nil {
		stop := s.clock.AfterFunc(s.release(ctx, &wg), s.awake)
		select {
		case <-ctx.Done():
		case <-s.wake:
		}
		stop()
	}
}

// release lets the tasks begin whose time has come, as far as their queues have places,
// and tells how long to wait for the next.
func (s *scheduler) release(ctx context.Context, wg *sync.WaitGroup) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(s.heap) > 0 {
		if wait := s.heap[0].at.Sub(s.now()); wait > 0 {
			return wait
		}
		t := heap.Pop(&s.heap).(*task)
		l := s.queues[t.queue]
		if l == nil {
			l = &queueState{}
			s.queues[t.queue] = l
		}
		l.due = append(l.due, t)
		s.fill(ctx, wg, t.queue, l)
	}
	return time.Hour
}

// fill begins tasks of a queue that has places. The lock is held.
func (s *scheduler) fill(ctx context.Context, wg *sync.WaitGroup, name queue, l *queueState) {
	for len(l.due) > 0 && l.running < queueWidth && ctx.Err() == nil {
		t := l.due[0]
		l.due = l.due[1:]
		if s.byID[t.id] != t { // taken back, or planned anew
			l.dropped--
			continue
		}
		delete(s.byID, t.id)
		l.running++
		wg.Go(func() {
			t.do(ctx)
			s.mu.Lock()
			defer s.mu.Unlock()
			l.running--
			s.fill(ctx, wg, name, l)
		})
	}
	if l.running == 0 && len(l.due) == 0 {
		delete(s.queues, name)
	}
}

// next is when the next task is due; ok is false when there is none.
func (s *scheduler) next() (at time.Time, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.heap) == 0 {
		return at, false
	}
	return s.heap[0].at, true
}

// step runs what is due, and what comes due by that, one after another.
func (s *scheduler) step(ctx context.Context) (ran bool) {
	for ctx.Err() == nil {
		s.mu.Lock()
		if len(s.heap) == 0 || s.heap[0].at.After(s.now()) {
			s.mu.Unlock()
			return ran
		}
		t := heap.Pop(&s.heap).(*task)
		delete(s.byID, t.id)
		s.mu.Unlock()
		t.do(ctx)
		ran = true
	}
	return ran
}

// settle wakes the scheduler, whose clock may have been set, and waits until
// nothing is due any more.
func (s *scheduler) settle(ctx context.Context) error {
	for {
		s.mu.Lock()
		quiet := len(s.queues) == 0 && (len(s.heap) == 0 || s.heap[0].at.After(s.now()))
		s.mu.Unlock()
		if quiet {
			return nil
		}
		s.awake()
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-netio.After(s.clock, time.Millisecond):
		}
	}
}

type taskHeap []*task

func (h taskHeap) Len() int { return len(h) }
func (h taskHeap) Less(i, j int) bool {
	if !h[i].at.Equal(h[j].at) {
		return h[i].at.Before(h[j].at)
	}
	return h[i].n < h[j].n
}
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
	t.index = notInHeap
	*h = old[:len(old)-1]
	return t
}
