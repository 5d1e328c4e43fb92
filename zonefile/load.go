package zonefile

import (
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
)

// Loaded is a zone read from a file.
type Loaded struct {
	*zone.Built
	File *source.File
	// SOASpan is where the SOA record stands; zero when there is none. ExtraSOA
	// are further SOA records, which are not part of the zone. Asides are where records
	// are set aside.
	SOASpan   source.Span
	ExtraSOA  []SOAPlace
	Asides    []AsidePlace
	Outside   int  // records that are not in the zone
	UnreadSOA bool // there is a SOA record that could not be read
	NotText   bool // the file is no text: nothing of it was read
	unread    map[string]bool
	cut       map[string]bool
}

// loadBuilder parts reading from building: records are handed over in batches
// to a goroutine, so that both cores have work.
type loadBuilder struct {
	b     *zone.Builder
	batch *batch
	work  chan *batch
	free  chan *batch
	done  chan struct{}
	apex  []byte
}

// batch is a few thousand records in one piece of memory.
type batch struct {
	octets []byte
	recs   []batchRecord
}

type batchRecord struct {
	owner, data int // where they end in octets
	t           rr.Type
	ttl         uint32
	pos         source.Pos
}

const batchRecords = 2048

func (l *loader) start(apex dnsname.Name) {
	l.builder = loadBuilder{b: zone.NewBuilder(apex, true), batch: &batch{}, apex: []byte(apex.Wire())}
	for _, r := range l.early {
		if l.builder.add(r.owner, r.t, r.ttl, r.data, r.pos) != nil {
			l.notInZone(r.owner, r.span)
		}
	}
	l.early = nil
}

// add takes a record, or returns an error when its owner is not in the zone.
func (lb *loadBuilder) add(owner []byte, t rr.Type, ttl uint32, data []byte, pos source.Pos) error {
	if !inZone(owner, lb.apex) {
		return zone.ErrOutside
	}
	b := lb.batch
	b.octets = append(b.octets, owner...)
	at := len(b.octets)
	b.octets = append(b.octets, data...)
	b.recs = append(b.recs, batchRecord{at, len(b.octets), t, ttl, pos})
	if len(b.recs) == batchRecords {
		lb.hand()
	}
	return nil
}

func inZone(owner, apex []byte) bool {
	d := len(owner) - len(apex)
	i := 0
	for i < d {
		i += 1 + int(owner[i])
	}
	return i == d && dnsname.EqualWire(owner[d:], apex)
}

// hand gives the full batch to the building goroutine, which is started with
// the first: small zones have none.
func (lb *loadBuilder) hand() {
	if lb.work == nil {
		lb.work, lb.free, lb.done = make(chan *batch, 4), make(chan *batch, 6), make(chan struct{})
		go func() {
			defer close(lb.done)
			for b := range lb.work {
				lb.build(b)
				lb.free <- b
			}
		}()
		for range cap(lb.free) - 1 {
			lb.free <- &batch{}
		}
	}
	lb.work <- lb.batch
	lb.batch = <-lb.free
	lb.batch.octets, lb.batch.recs = lb.batch.octets[:0], lb.batch.recs[:0]
}

func (lb *loadBuilder) build(b *batch) {
	at := 0
	for i := range b.recs {
		r := &b.recs[i]
		// The owner was checked by add, so this cannot fail.
		_ = lb.b.Add(b.octets[at:r.owner], r.t, r.ttl, b.octets[r.owner:r.data], r.pos)
		at = r.data
	}
}

// drain hands over what was added and waits until it is in the builder. More may
// be added after it.
func (lb *loadBuilder) drain() {
	if lb.work != nil {
		close(lb.work)
		<-lb.done
		lb.work = nil
	}
	lb.build(lb.batch)
	lb.batch.octets, lb.batch.recs = lb.batch.octets[:0], lb.batch.recs[:0]
}

func (l *loader) finish(file *source.File) *Loaded {
	if l.builder.b == nil {
		if l.origin.IsZero() {
			return nil
		}
		l.start(l.origin)
	}
	l.builder.drain()
	if l.twice.owner != nil {
		l.diags.Add(l.twice.found)
	}
	return &Loaded{Built: l.builder.b.Build(), File: file, SOASpan: l.soa, ExtraSOA: l.extra, Outside: l.outside, Asides: l.asides, UnreadSOA: l.badSOA, NotText: l.notText, unread: l.unread, cut: l.cut}
}

// Unread reports whether the name has a record that could not be read: then
// nothing is known about what it lacks.
func (l *Loaded) Unread(wire []byte) bool {
	return l.unread != nil && l.unread[strings.ToLower(string(wire))]
}

// AnyUnread reports whether Unread is true of any name.
func (l *Loaded) AnyUnread() bool { return l.unread != nil || l.UnreadSOA }

// AnyCut reports whether CutText is true of any name.
func (l *Loaded) AnyCut() bool { return l.cut != nil }

// CutText reports whether a text of the name ends at a semicolon, which was reported: what
// it lacks stands in the file.
func (l *Loaded) CutText(wire []byte) bool {
	return l.cut != nil && l.cut[strings.ToLower(string(wire))]
}
