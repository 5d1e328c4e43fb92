package zonestate

import (
	"context"
	"sync"
)

// cpuPlaces bound how much work that takes a processor is done at once. Work that waits
// for the disk or the network has no place there.
type cpuPlaces chan struct{}

type placeKey struct{}

// cpuPlace is a place that was taken for a piece of work before it began.
type cpuPlace struct {
	free func()
	mu   sync.Mutex
	gone bool
}

// take waits for a place, and gives a context whose work has it until done is called or
// the work waits for the disk.
func (c cpuPlaces) take(ctx context.Context) (_ context.Context, done func()) {
	c <- struct{}{}
	p := &cpuPlace{free: func() { <-c }}
	return context.WithValue(ctx, placeKey{}, p), p.release
}

func (p *cpuPlace) release() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.gone {
		p.gone = true
		p.free()
	}
}

func (p *cpuPlace) held() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return !p.gone
}

// do does work in the place that its context has, or waits for one.
func (c cpuPlaces) do(ctx context.Context, f func()) {
	if p, _ := ctx.Value(placeKey{}).(*cpuPlace); p != nil && p.held() {
		f()
		return
	}
	c <- struct{}{}
	defer func() { <-c }()
	f()
}

// waits gives the place that a context has to others: what follows waits for the disk.
func (c cpuPlaces) waits(ctx context.Context) {
	if p, _ := ctx.Value(placeKey{}).(*cpuPlace); p != nil {
		p.release()
	}
}
