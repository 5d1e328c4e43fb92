package transfer

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"

	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/zone"
)

// sendSize is about how large the messages of a transfer are; limited so that
// compression pointers and signatures always fit.
const sendSize = 60000

// put takes the next record of a transfer: its owner is the labels relative, without
// root, below the apex.
type put func(relative []byte, t rr.Type, ttl uint32, data []byte) error

// Body is what a transfer holds, from the first SOA to the last.
type Body interface{ each(put) error }

// Send writes the response to the AXFR or IXFR query q, signed if stream is not nil. It
// sends what it was given, whatever happens to the zone meanwhile (RFC 5936 §6).
//
// expire is for how many seconds the zone may still be served; it is told in the first
// message to whoever asked (RFC 7314 §3). Negative says nothing.
func Send(w io.Writer, body Body, q *message.Query, stream *tsig.Stream, expire int64, now func() time.Time) error {
	s := sender{w: w, q: q, stream: stream, now: now, buf: make([]byte, 2, sendSize+2048)}
	s.b.Begin(s.buf[:2], q, sendSize, resolve.OurUDPSize)
	if q.WantsExpire && expire >= 0 {
		s.b.AddExpire(uint32(expire))
	}
	s.begin()
	if err := body.each(s.record); err != nil {
		return err
	}
	return s.flush()
}

var errFull = errors.New("it does not fit")

// Datagram writes the response into one message, which b has begun; false where it does
// not fit. room is what is added behind it, as a signature is.
func Datagram(b *message.Builder, body Body, q *message.Query, room int) bool {
	b.Transfer(q, room)
	b.SetFlag(message.FlagAA)
	return body.each(func(relative []byte, t rr.Type, ttl uint32, data []byte) error {
		if !b.TransferRecord(relative, t, ttl, data) {
			return errFull
		}
		return nil
	}) == nil
}

type whole struct{ z *zone.Snapshot }

// Whole is a zone with all its records (RFC 5936 §2.2).
func Whole(z *zone.Snapshot) Body { return whole{z} }

func (t whole) each(f put) error {
	var apex zone.Node
	t.z.ApexNode(&apex)
	soa, ok := apex.Find(rr.TypeSOA)
	if !ok {
		return errors.New("the zone has no SOA record")
	}
	if err := f(nil, rr.TypeSOA, soa.TTL, soa.First()); err != nil {
		return err
	}
	var relative []byte
	for n := range t.z.AllNodes {
		relative = n.AppendRelative(relative[:0])
		for set := range n.RRsets {
			if set.Type == rr.TypeSOA && n.IsApex() {
				continue
			}
			t, ttl := set.Type, set.TTL
			var data []byte
			for set.N > 0 {
				data, set = set.Next()
				if err := f(relative, t, ttl, data); err != nil {
					return err
				}
			}
		}
	}
	return f(nil, rr.TypeSOA, soa.TTL, soa.First())
}

type steps struct {
	deltas []*zone.Delta
	soa    zone.RRset // the newest
}

// Steps is what leads from the version that the client has to the newest, in the order
// of time (RFC 1995 §4). ok is false where the deltas cannot be sent so: there are none,
// or one changes no SOA.
func Steps(deltas []*zone.Delta) (body Body, ok bool) {
	var newest zone.RRset
	for _, d := range deltas {
		c := soaOf(d)
		if c == nil || c.Removed.N != 1 || c.Added.N != 1 {
			return nil, false
		}
		newest = c.Added
	}
	return steps{deltas, newest}, len(deltas) > 0
}

// soaOf is what becomes of the SOA of a zone; nil if nothing does.
func soaOf(d *zone.Delta) *zone.SetDelta {
	for i := range d.Sets {
		if d.Sets[i].Type() == rr.TypeSOA && d.Sets[i].Owner.Equal(d.Apex) {
			return &d.Sets[i]
		}
	}
	return nil
}

func (t steps) each(f put) error {
	soa := func(set zone.RRset) error { return f(nil, rr.TypeSOA, set.TTL, set.First()) }
	if err := soa(t.soa); err != nil {
		return err
	}
	for _, d := range t.deltas {
		c := soaOf(d)
		err := soa(c.Removed)
		if err == nil {
			err = eachPart(d, c, f, func(c *zone.SetDelta) zone.RRset { return c.Removed })
		}
		if err == nil {
			err = soa(c.Added)
		}
		if err == nil {
			err = eachPart(d, c, f, func(c *zone.SetDelta) zone.RRset { return c.Added })
		}
		if err != nil {
			return err
		}
	}
	return soa(t.soa)
}

// eachPart puts the removed or the added records of a delta, but for its SOA.
func eachPart(d *zone.Delta, soa *zone.SetDelta, f put, part func(*zone.SetDelta) zone.RRset) error {
	for i := range d.Sets {
		c := &d.Sets[i]
		if c == soa {
			continue
		}
		owner := c.Owner.Wire()
		relative := []byte(owner[:len(owner)-len(d.Apex.Wire())])
		set := part(c)
		for data := range set.Data {
			if err := f(relative, set.Type, set.TTL, data); err != nil {
				return err
			}
		}
	}
	return nil
}

type sender struct {
	w      io.Writer
	b      message.Builder
	q      *message.Query
	stream *tsig.Stream
	now    func() time.Time
	buf    []byte
}

func (s *sender) begin() {
	room := 0
	if s.stream != nil {
		room = s.stream.Key().Size()
	}
	s.b.Transfer(s.q, room)
	s.b.SetFlag(message.FlagAA)
}

func (s *sender) record(relative []byte, t rr.Type, ttl uint32, data []byte) error {
	if s.b.TransferRecord(relative, t, ttl, data) {
		return nil
	}
	if err := s.flush(); err != nil {
		return err
	}
	s.b.Begin(s.buf[:2], s.q, sendSize, resolve.OurUDPSize)
	s.begin()
	if !s.b.TransferRecord(relative, t, ttl, data) {
		return fmt.Errorf("a %s record is too large for a message", t)
	}
	return nil
}

func (s *sender) flush() error {
	out := s.b.Finish()
	if s.stream != nil {
		out = append(out[:2], s.stream.Sign(out[2:], s.now())...)
	}
	s.buf = out
	binary.BigEndian.PutUint16(out, uint16(len(out)-2))
	_, err := s.w.Write(out)
	return err
}
