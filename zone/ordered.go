package zone

import (
	"bytes"
	"slices"
	"sync"
)

// ExpectOrder says, before the first record comes, that records will come in canonical
// order, as servers mostly send them: pages are made while more come, and the memory of
// records that are in pages is used again. Where the order ends, all is built once more.
func (b *Builder) ExpectOrder() {
	b.ordered = &ordered{before: make(chan struct{}), free: make(chan []byte, freeChunks)}
	b.ordered.e.init(b)
	close(b.ordered.before)
}

// freeChunks is how many chunks wait to be used again, at most.
const freeChunks = 16

// ordered makes pages of blocks of runs, one block after the other.
type ordered struct {
	free   chan []byte
	before chan struct{} // closed when the block before is done; guards what is below
	e      encoder
	oldest uint64  // the first chunk that is not used again yet
	held   []run   // of the last name so far: the next block may have more of it
	rest   [][]run // where the order ended: what is in no page
}

// used is a chunk with room for need octets that is used again; nil: there is none.
func (o *ordered) used(need int) []byte {
	if o == nil || need > maxChunk {
		return nil
	}
	select {
	case chunk := <-o.free:
		return chunk[:0]
	default:
		return nil
	}
}

// take sorts a block in the background, then makes pages of it in its turn.
func (o *ordered) take(wg *sync.WaitGroup, a arena, block []run) {
	before, done := o.before, make(chan struct{})
	o.before = done
	wg.Go(func() {
		defer close(done)
		sortRuns(a, block)
		<-before
		o.block(a, block)
	})
}

func (o *ordered) block(a arena, block []run) {
	if len(block) == 0 {
		return
	}
	if o.rest != nil || len(o.held) > 0 && a.compare(o.held[len(o.held)-1], block[0]) > 0 {
		if o.rest == nil {
			o.rest = append(o.rest, o.held)
		}
		o.rest = append(o.rest, block)
		return
	}
	runs := block
	if len(o.held) > 0 {
		runs = slices.Concat(o.held, block)
	}
	last := len(runs)
	for last > 0 && bytes.Equal(a.key(runs[last-1]), a.key(runs[len(runs)-1])) {
		last--
	}
	o.e.encode(a, runs[:last])
	o.held = append([]run(nil), runs[last:]...)
	o.release(a)
}

// release lets chunks be used again that lie before what is held and what comes.
func (o *ordered) release(a arena) {
	for ; o.oldest < o.held[0].at>>32; o.oldest++ {
		if chunk := a[o.oldest]; cap(chunk) == maxChunk {
			select {
			case o.free <- chunk:
			default:
			}
		}
	}
}

// finish takes the last block, which is sorted, when all others are done; nil where the
// order ended.
func (o *ordered) finish(a arena, block []run) []encoder {
	o.block(a, block)
	if o.rest != nil {
		return nil
	}
	o.e.encode(a, o.held)
	o.e.w.flush()
	return []encoder{o.e}
}

// startAgain builds what came as if no order had been expected: of what is in pages, and of
// the rest. All blocks are done.
func (b *Builder) startAgain() *Built {
	o := b.ordered
	plain := NewBuilder(b.apex, b.positions)
	if b.hashed == b {
		plain = NewHashedBuilder(b.apex)
	}
	o.e.w.flush()
	done := newSnapshot(b.apex, o.e.w.pages, &o.e.counted)
	var owner []byte
	for n := range done.Nodes {
		owner = done.AppendOwner(owner[:0], n)
		for set := range n.RRsets {
			for data := range set.Data {
				_ = plain.Add(owner, set.Type, set.TTL, data, 0) // it was taken once
			}
		}
	}
	b.ordered, b.runs, b.blocks = nil, nil, o.rest
	plain.Absorb(b)
	out := plain.Build()
	out.Conflicts = slices.Concat(o.e.conflicts, out.Conflicts)
	return out
}
