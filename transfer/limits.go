package transfer

import (
	"errors"
	"sync/atomic"
	"time"
)

// DefaultMax is the most octets of a transfer where nothing else is said.
const DefaultMax = 4 << 30

// A transfer may take Fetch.Patience, firstMinute if that is 0, and longer by a second
// for each leastRate octets that came: one that drips ends soon, one over a slow line
// does not.
const (
	firstMinute = time.Minute
	leastRate   = 2048
)

// ErrSlow means that a transfer brought too little for its time.
var ErrSlow = errors.New("the transfer is too slow")

// allowed is how long a transfer may have lasted when so many octets came.
func (f *Fetch) allowed(octets int64) time.Duration {
	return f.Patience + time.Duration(octets/leastRate)*time.Second
}

func sooner(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// Budget bounds the octets that transfers take together while they last. The nil
// Budget has no bound.
type Budget struct{ most, used atomic.Int64 }

// SetMost sets how many octets there may be; 0 is no bound. What is under way goes on
// until it would take more.
func (b *Budget) SetMost(octets int64) { b.most.Store(octets) }

func (b *Budget) take(n int64) bool {
	if b == nil {
		return true
	}
	if used, most := b.used.Add(n), b.most.Load(); most > 0 && used > most {
		b.used.Add(-n)
		return false
	}
	return true
}

func (b *Budget) release(n int64) {
	if b != nil {
		b.used.Add(-n)
	}
}
