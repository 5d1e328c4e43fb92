package zonestate

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"fencepost/netio"
)

// runDue runs what is due, and what becomes due by that, on a clock that stands.
func (s *scheduler) runDue(ctx context.Context) {
	var wg sync.WaitGroup
	for wait := time.Duration(0); wait <= 0; {
		s.release(ctx, &wg)
		wg.Wait()
		wait = s.release(ctx, &wg)
	}
	wg.Wait()
}

func TestScheduler(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newScheduler(time.Now, netio.Real)
		ctx, cancel := context.WithCancel(context.Background())
		ended := make(chan struct{})
		go func() { s.run(ctx); close(ended) }()
		start := time.Now()
		var log []string
		note := func(name string) func(context.Context) {
			return func(context.Context) { log = append(log, fmt.Sprintf("%s@%s", name, time.Since(start))) }
		}
		s.plan(nil, here, "b", start.Add(2*time.Hour), note("b"))
		s.plan(nil, here, "a", start.Add(time.Hour), note("a"))
		s.plan(nil, here, "c", start.Add(3*time.Hour), note("never"))
		s.plan(nil, here, "c", start.Add(30*time.Minute), note("c")) // the later plan counts
		s.plan(nil, here, "d", start.Add(time.Minute), note("never"))
		s.cancel("d")
		s.cancel("nosuch")
		time.Sleep(24 * time.Hour)
		synctest.Wait()
		if got := strings.Join(log, " "); got != "c@30m0s a@1h0m0s b@2h0m0s" {
			t.Errorf("ran %s", got)
		}
		// Many tasks at one time run, but only so many at once.
		var now, most atomic.Int32
		for i := range 100 {
			s.plan(nil, here, fmt.Sprint("n", i), time.Now(), func(context.Context) {
				if n := now.Add(1); n > most.Load() {
					most.Store(n)
				}
				time.Sleep(time.Second)
				now.Add(-1)
			})
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		if most.Load() > queueWidth || most.Load() == 0 || now.Load() != 0 {
			t.Errorf("%d tasks ran at once", most.Load())
		}
		cancel()
		<-ended
	})
}

// planned is what the model knows of a task.
type planned struct {
	version int
	queue   queue
	at      time.Time
	owner   *zoneState
}

// Whatever is planned, planned anew, taken back and forgotten, for queues that are free
// or held up: a task runs once, not before its time, at its time if its queue has places,
// and never after it was taken back; no queue runs more than its width.
func TestSchedulerAgainstModel(t *testing.T) {
	for seed := range uint64(40) {
		synctest.Test(t, func(t *testing.T) { schedulerRun(t, rand.New(rand.NewPCG(seed, 1))) })
	}
}

func schedulerRun(t *testing.T, rnd *rand.Rand) {
	s := newScheduler(time.Now, netio.Real)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { s.run(ctx); close(ended) }()
	var mu sync.Mutex
	model, running, ran := map[string]planned{}, map[queue]int{}, 0
	queues := []queue{here, keyCare, "to a", "from b"}
	owners := []*zoneState{nil, {}, {}}
	plan := func(version int) {
		id := fmt.Sprint("t", rnd.IntN(120))
		p := planned{version, queues[rnd.IntN(len(queues))], time.Now().Add(time.Duration(rnd.IntN(8)-3) * time.Second), owners[rnd.IntN(len(owners))]}
		lasts := time.Duration(rnd.IntN(30)) * time.Second
		mu.Lock()
		if p.owner == nil || !p.owner.gone {
			model[id] = p
		}
		s.plan(p.owner, p.queue, id, p.at, func(ctx context.Context) {
			mu.Lock()
			if now := model[id]; now.version != p.version || time.Now().Before(p.at) {
				t.Errorf("%s ran as version %d at %s; planned is %+v", id, p.version, time.Now(), now)
			}
			delete(model, id)
			ran++
			if running[p.queue]++; running[p.queue] > queueWidth {
				t.Errorf("%d tasks of %q run", running[p.queue], p.queue)
			}
			mu.Unlock()
			select {
			case <-time.After(lasts):
			case <-ctx.Done():
			}
			mu.Lock()
			running[p.queue]--
			mu.Unlock()
		})
		mu.Unlock()
	}
	for step := range 600 {
		synctest.Wait() // what has begun cannot be taken back
		switch rnd.IntN(12) {
		case 0:
			id := fmt.Sprint("t", rnd.IntN(120))
			mu.Lock()
			delete(model, id)
			s.cancel(id)
			mu.Unlock()
		case 1:
			time.Sleep(time.Duration(rnd.IntN(3000)) * time.Millisecond)
			synctest.Wait()
			mu.Lock()
			for id, p := range model {
				if !p.at.After(time.Now()) && running[p.queue] < queueWidth {
					t.Errorf("%s is due since %s, %q runs %d", id, time.Since(p.at), p.queue, running[p.queue])
				}
			}
			s.mu.Lock()
			for name, l := range s.queues { // what is planned no more is counted, to be thrown out
				dead := 0
				for _, queued := range l.due {
					if s.byID[queued.id] != queued {
						dead++
					}
				}
				if dead != l.dropped {
					t.Errorf("%q: %d of %d in the queue are planned no more, %d are noted", name, dead, len(l.due), l.dropped)
				}
			}
			s.mu.Unlock()
			mu.Unlock()
		case 2:
			if rnd.IntN(8) == 0 {
				z := owners[1+rnd.IntN(2)]
				mu.Lock()
				s.forget([]*zoneState{z})
				for id, p := range model {
					if p.owner == z {
						delete(model, id)
					}
				}
				mu.Unlock()
			}
		default:
			plan(step)
		}
	}
	time.Sleep(time.Hour)
	synctest.Wait()
	if len(model) > 0 || len(s.queues) > 0 || len(s.byID) > 0 || ran == 0 {
		t.Errorf("%d tasks did not run, %d queues are held, %d ran", len(model), len(s.queues), ran)
	}
	cancel()
	<-ended
}

// A peer that does not answer holds up what is for it, and nothing else: all places of
// its queues are taken, and signing, the other peer and the other primary go on.
func TestDeadPeerHoldsUpItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(Options{})
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan struct{})
		go func() { s.sched.run(ctx); close(ended) }()
		dead := Peer{Name: "dead", Address: netip.MustParseAddrPort("192.0.2.1:53")}
		alive := Peer{Name: "alive", Address: netip.MustParseAddrPort("192.0.2.2:53")}
		zone := func(from ...Peer) *zoneState {
			z := &zoneState{}
			z.cfg.Store(&Zone{Origin: &Primaries{Servers: from}})
			return z
		}
		for i := range 1000 {
			for _, l := range []queue{toPeer(dead), zone(dead).fromPrimary()} {
				s.sched.plan(nil, l, fmt.Sprint(l, i), s.Now(), func(ctx context.Context) { <-ctx.Done() })
			}
		}
		synctest.Wait()
		ran := map[queue]bool{}
		free := []queue{here, keyCare, jobs, toPeer(alive), zone(alive, dead).fromPrimary(), zone().fromPrimary()}
		for _, l := range free {
			s.sched.plan(nil, l, "free "+string(l), s.Now(), func(context.Context) { ran[l] = true })
			synctest.Wait()
			if !ran[l] {
				t.Errorf("%q waits for a dead peer", l)
			}
		}
		cancel()
		<-ended
	})
}

// What is asked for while a task is at work comes before its next turn, and stays where it is sooner.
func TestPlanNext(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	for _, c := range []struct {
		asked, next time.Duration // since now; asked 0: nothing is asked for meanwhile
		want        string
	}{
		{0, time.Hour, "next at 1h0m0s"}, {time.Second, time.Hour, "asked at 1s"}, {time.Hour, time.Second, "next at 1s"}, {time.Second, time.Second, "asked at 1s"},
	} {
		s := newScheduler(func() time.Time { return now }, netio.Real)
		said := ""
		say := func(what string, at time.Duration) func(context.Context) {
			return func(context.Context) { said += what + " at " + at.String() }
		}
		s.plan(nil, here, "x", now, func(context.Context) {
			if c.asked > 0 {
				s.plan(nil, here, "x", now.Add(c.asked), say("asked", c.asked))
			}
			s.planNext(nil, here, "x", now.Add(c.next), say("next", c.next))
		})
		s.step(t.Context())
		now = now.Add(2 * time.Hour)
		if s.step(t.Context()); said != c.want {
			t.Errorf("asked for at %s, the next turn at %s: %s, want %s", c.asked, c.next, said, c.want)
		}
	}
}
