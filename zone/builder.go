package zone

import (
	"encoding/binary"
	"errors"
	"runtime"
	"slices"
	"sync"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// ErrOutside is returned for a record whose owner is not at or below the apex.
var ErrOutside = errors.New("the owner is not in the zone")

// Builder collects records in any order and makes a Snapshot of them. It takes
// copies of what it is given. Sorting goes on in the background while records
// arrive.
type Builder struct {
	apex       dnsname.Name
	apexLabels int
	apexLower  []byte

	chunk     []byte // the chunk being filled
	chunks    [][]byte
	owner     []byte // wire form of the last owner, case kept
	runs      []run
	blocks    [][]run
	sorting   sync.WaitGroup
	positions bool
	ordered   *ordered // makes pages already; nil: when all has come
	key       []byte
	// sizes of the chunks grow so that small zones stay small
	nextChunk int
	hashed    *Builder // takes what belongs among the hashed names
}

// run is the records of one owner that arrived one after another. Its octets in
// the arena are: key length uint16, key, original-case length uint8 (0: all
// lower case), relative wire name, then n records.
type run struct {
	head [2]uint64 // first sixteen octets of the key: enough to part most names
	at   uint64    // chunk number << 32 | offset
	n    uint32    // records
}

// A record in the arena: type uint16, TTL uint32, position uint32, length
// uint16, data.
const recordHead = 12

const firstChunk = 4 << 10

// Tests lower these.
var (
	maxChunk  = 4 << 20
	blockRuns = 1 << 16 // runs that are sorted together
)

// NewBuilder makes a builder for the zone with the given apex. With positions,
// Build also returns where each record was written.
func NewBuilder(apex dnsname.Name, positions bool) *Builder {
	return &Builder{apex: apex, apexLabels: apex.Labels(), apexLower: []byte(apex.Key()),
		positions: positions, nextChunk: firstChunk}
}

// NewHashedBuilder makes a builder for NSEC3 records and their signatures alone;
// what it builds is for WithHashed.
func NewHashedBuilder(apex dnsname.Name) *Builder {
	b := NewBuilder(apex, false)
	b.hashed = b
	return b
}

// Apex is the apex that the builder was made for.
func (b *Builder) Apex() dnsname.Name { return b.apex }

// Add takes a record: owner in absolute wire form, data in uncompressed wire
// form of at most rr.MaxData octets, well-formed for the type. It returns
// ErrOutside for an owner that is not in the zone.
func (b *Builder) Add(owner []byte, t rr.Type, ttl uint32, data []byte, pos source.Pos) error {
	if belongsHashed(t, data) && b.hashed != b {
		if b.hashed == nil {
			b.hashed = NewBuilder(b.apex, b.positions)
			b.hashed.hashed = b.hashed
			if b.ordered != nil {
				b.hashed.ExpectOrder()
			}
		}
		return b.hashed.Add(owner, t, ttl, data, pos)
	}
	need := recordHead + len(data)
	if len(b.runs) == 0 || string(owner) != string(b.owner) || cap(b.chunk)-len(b.chunk) < need {
		if err := b.startRun(owner, need); err != nil {
			return err
		}
	}
	c := binary.BigEndian.AppendUint16(b.chunk, uint16(t))
	c = binary.BigEndian.AppendUint32(c, ttl)
	c = binary.BigEndian.AppendUint32(c, uint32(pos))
	c = binary.BigEndian.AppendUint16(c, uint16(len(data)))
	b.chunk = append(c, data...)
	b.runs[len(b.runs)-1].n++
	return nil
}

// AddRecord is Add for a Record.
func (b *Builder) AddRecord(r rr.Record) error {
	return b.Add([]byte(r.Name.Wire()), r.Type, r.TTL, r.Data, 0)
}

func (b *Builder) startRun(owner []byte, need int) error {
	d := len(owner) - len(b.apexLower)
	i := 0
	for i < d {
		i += 1 + int(owner[i])
	}
	if d < 0 || i != d || !dnsname.EqualWire(owner[d:], b.apexLower) {
		return ErrOutside
	}
	b.owner = append(b.owner[:0], owner...)
	b.key = dnsname.AppendSortKey(b.key[:0], owner, b.apexLabels)
	relative := owner[:d]
	if !hasUpper(relative) {
		relative = nil
	}
	need += 3 + len(b.key) + len(relative)
	if cap(b.chunk)-len(b.chunk) < need {
		b.closeChunk()
		if b.chunk = b.ordered.used(need); b.chunk == nil {
			b.chunk = make([]byte, 0, max(b.nextChunk, need))
			b.nextChunk = min(4*b.nextChunk, maxChunk)
		}
	}
	if len(b.runs) == blockRuns {
		b.closeBlock()
	}
	b.runs = append(b.runs, run{head: keyHead(b.key), at: uint64(len(b.chunks))<<32 | uint64(len(b.chunk))})
	c := binary.BigEndian.AppendUint16(b.chunk, uint16(len(b.key)))
	c = append(c, b.key...)
	c = append(c, byte(len(relative)))
	b.chunk = append(c, relative...)
	return nil
}

// closeChunk keeps the present chunk; runs refer to it by its number.
func (b *Builder) closeChunk() {
	if b.chunk != nil {
		b.chunks = append(b.chunks, b.chunk)
		b.chunk = nil
	}
}

// closeBlock hands the present runs over for sorting. The chunks that they lie
// in must not move any more, so the slice of chunks is passed as it is now.
func (b *Builder) closeBlock() {
	block := b.runs
	arena := append(slices.Clone(b.chunks), b.chunk[:len(b.chunk):len(b.chunk)])
	b.runs = make([]run, 0, blockRuns)
	if b.ordered != nil {
		b.ordered.take(&b.sorting, arena, block)
		return
	}
	b.blocks = append(b.blocks, block)
	b.sorting.Go(func() { sortRuns(arena, block) })
}

func hasUpper(w []byte) bool {
	for _, c := range w {
		if c >= 'A' && c <= 'Z' {
			return true
		}
	}
	return false
}

func keyHead(key []byte) [2]uint64 {
	var h [16]byte
	copy(h[:], key)
	return [2]uint64{binary.BigEndian.Uint64(h[:]), binary.BigEndian.Uint64(h[8:])}
}

type arena [][]byte

func (a arena) key(r run) []byte {
	b := a[r.at>>32][uint32(r.at):]
	return b[2 : 2+binary.BigEndian.Uint16(b)]
}

func (a arena) compare(x, y run) int {
	for i := range x.head {
		if x.head[i] != y.head[i] {
			if x.head[i] < y.head[i] {
				return -1
			}
			return 1
		}
	}
	kx, ky := a.key(x), a.key(y)
	if string(kx) < string(ky) {
		return -1
	}
	if string(kx) > string(ky) {
		return 1
	}
	if x.at < y.at { // same name: keep the order of arrival
		return -1
	}
	return 1
}

func sortRuns(a arena, runs []run) {
	if !slices.IsSortedFunc(runs, a.compare) {
		slices.SortFunc(runs, a.compare)
	}
}

// mergeBlocks merges sorted blocks, two by two, side by side.
func mergeBlocks(a arena, blocks [][]run) []run {
	for len(blocks) > 1 {
		var wg sync.WaitGroup
		out := make([][]run, (len(blocks)+1)/2)
		for i := range out {
			if 2*i+1 == len(blocks) {
				out[i] = blocks[2*i]
				continue
			}
			wg.Go(func() { out[i] = merge(a, blocks[2*i], blocks[2*i+1]) })
		}
		wg.Wait()
		blocks = out
	}
	return blocks[0]
}

func merge(a arena, x, y []run) []run {
	if len(x) == 0 || len(y) == 0 || a.compare(x[len(x)-1], y[0]) < 0 {
		return append(x[:len(x):len(x)], y...)
	}
	out := make([]run, 0, len(x)+len(y))
	for len(x) > 0 && len(y) > 0 {
		if a.compare(x[0], y[0]) < 0 {
			out, x = append(out, x[0]), x[1:]
		} else {
			out, y = append(out, y[0]), y[1:]
		}
	}
	return append(append(out, x...), y...)
}

// Absorb takes all records of another builder for the same apex, as if they had
// been added after its own. The other is used up. Neither expects order.
func (b *Builder) Absorb(o *Builder) {
	if h := o.hashed; h != nil && h != o {
		if b.hashed == nil {
			b.hashed = h
		} else {
			b.hashed.Absorb(h)
		}
	}
	o.closeChunk()
	o.sorting.Wait()
	sortRuns(arena(o.chunks), o.runs)
	b.closeChunk()
	offset := uint64(len(b.chunks)) << 32
	for _, block := range append(o.blocks, o.runs) {
		for i := range block {
			block[i].at += offset
		}
		b.blocks = append(b.blocks, block)
	}
	b.chunks = append(b.chunks, o.chunks...)
	b.owner = b.owner[:0] // the next record begins a run of its own
	if len(b.runs) > 0 {
		b.closeBlock()
	}
}

// Conflict is a pair of records that cannot both stand as they are written.
type Conflict struct {
	Duplicate  bool // equal records; else one set with two TTLs
	Owner      dnsname.Name
	Type       rr.Type
	Pos, Other source.Pos // the later and the earlier record
	TTL, First uint32     // where not Duplicate: their TTLs
}

// Built is a snapshot with what was learnt while building it.
type Built struct {
	*Snapshot
	// Positions has the position of each record in the order in which Nodes and
	// RRsets walk over them; nil if the builder was made without.
	Positions []source.Pos
	// Conflicts lists equal records (kept once) and sets with several TTLs (the
	// least is used, RFC 2181 §5.2), at most MaxConflicts of them.
	Conflicts []Conflict
	// Hashed is the same for the NSEC3 records; nil when there are none.
	Hashed *Built

	firstRecord []int // of each page
}

// splitRuns is from how many runs on Build works with several goroutines.
var splitRuns = 10000

// MaxConflicts bounds Built.Conflicts.
const MaxConflicts = 10000

// Build makes the snapshot. The builder is used up.
func (b *Builder) Build() *Built {
	b.closeChunk()
	a := arena(b.chunks)
	last := b.runs
	sortRuns(a, last)
	b.sorting.Wait()
	var parts []encoder
	if b.ordered == nil {
		parts = b.encode(a, mergeBlocks(a, append(b.blocks, last)))
	} else if parts = b.ordered.finish(a, last); parts == nil {
		return b.startAgain()
	}
	b.runs, b.blocks, b.ordered = nil, nil, nil

	out := &Built{}
	var leaves []leaf
	var total counted
	for i := range parts {
		p := &parts[i]
		leaves = append(leaves, p.w.pages...)
		total.join(&p.counted)
		if len(parts) == 1 {
			out.Positions, out.Conflicts = p.positions, p.conflicts
			break
		}
		out.Positions = append(out.Positions, p.positions...)
		out.Conflicts = append(out.Conflicts, p.conflicts...)
	}
	out.Snapshot = newSnapshot(b.apex, leaves, &total)
	at := 0
	for _, l := range leaves {
		out.firstRecord = append(out.firstRecord, at)
		at += l.records
	}
	if b.hashed != nil && b.hashed != b {
		out.Hashed = b.hashed.Build()
		out.hashed = out.Hashed.Snapshot
		out.Conflicts = append(out.Conflicts, out.Hashed.Conflicts...)
	}
	return out
}

// encode makes pages of all runs, which are sorted, with several goroutines.
func (b *Builder) encode(a arena, runs []run) []encoder {
	bounds := partition(a, runs, runtime.GOMAXPROCS(0))
	parts := make([]encoder, len(bounds)-1)
	var wg sync.WaitGroup
	for i := range parts {
		parts[i].init(b)
		wg.Go(func() {
			parts[i].encode(a, runs[bounds[i]:bounds[i+1]])
			parts[i].w.flush()
		})
	}
	wg.Wait()
	return parts
}

// partition finds bounds that part runs into about n pieces, each beginning
// where the label next to the apex changes, so that no cut spans two pieces, nor
// the runs of one name, of which the apex may have many.
func partition(a arena, runs []run, n int) []int {
	bounds := []int{0}
	if len(runs) >= splitRuns && !apexHasDNAME(a, runs) {
		for i := 1; i < n; i++ {
			at := max(i*len(runs)/n, bounds[len(bounds)-1]+1)
			for at < len(runs) && (len(a.key(runs[at])) == 0 || dnsname.SharedLabels(a.key(runs[at-1]), a.key(runs[at])) > 0) {
				at++
			}
			if at < len(runs) {
				bounds = append(bounds, at)
			}
		}
	}
	return append(bounds, len(runs))
}

func apexHasDNAME(a arena, runs []run) bool {
	for _, r := range runs {
		if len(a.key(r)) > 0 {
			break
		}
		for it := a.records(r); it.next(); {
			if it.item.typ == rr.TypeDNAME {
				return true
			}
		}
	}
	return false
}
