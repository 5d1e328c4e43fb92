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

// messageRoom is the memory for one message: its length, what stands in it, a signature.
const messageRoom = 2 + sendSize + 2048

// Body is what a transfer holds, from the first SOA to the last: Whole or Steps.
type Body interface {
	send(w *writer, f form, expire int64) error
}

// Send writes the response to the AXFR or IXFR query q, signed if stream is not nil. It
// sends what it was given, whatever happens to the zone meanwhile (RFC 5936 §6).
//
// expire is for how many seconds the zone may still be served; it is told in the first
// message to whoever asked (RFC 7314 §3). Negative says nothing.
func Send(w io.Writer, body Body, q *message.Query, stream *tsig.Stream, expire int64, now func() time.Time) error {
	f := form{q: q}
	if stream != nil {
		f.room = stream.Key().Size()
	}
	return body.send(&writer{w: w, stream: stream, now: now}, f, expire)
}

var errFull = errors.New("it does not fit")

// Datagram writes the response into one message, which b has begun; false where it does
// not fit, as a whole zone never does (RFC 5936 §4.2). room is what is added behind it, as a
// signature is.
func Datagram(b *message.Builder, body Body, q *message.Query, room int) bool {
	t, ok := body.(steps)
	if !ok {
		return false
	}
	b.Transfer(q, room)
	b.SetFlag(message.FlagAA)
	return t.each(func(relative []byte, set zone.RRset) error {
		if len(b.TransferSet(relative, set.Type, set.TTL, set.Items())) > 0 {
			return errFull
		}
		return nil
	}) == nil
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

func (t steps) send(w *writer, f form, expire int64) error {
	e := f.encoder(w.send, make([]byte, 0, messageRoom), expire)
	err := t.each(func(relative []byte, set zone.RRset) error {
		return e.set(relative, set.Type, set.TTL, set.Items())
	})
	if err != nil {
		return err
	}
	return e.finish()
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

// put takes the next set of a transfer: its owner is the labels relative, without root, below
// the apex.
type put func(relative []byte, set zone.RRset) error

func (t steps) each(f put) error {
	if err := f(nil, t.soa); err != nil {
		return err
	}
	for _, d := range t.deltas {
		c := soaOf(d)
		err := f(nil, c.Removed)
		if err == nil {
			err = eachPart(d, c, f, func(c *zone.SetDelta) zone.RRset { return c.Removed })
		}
		if err == nil {
			err = f(nil, c.Added)
		}
		if err == nil {
			err = eachPart(d, c, f, func(c *zone.SetDelta) zone.RRset { return c.Added })
		}
		if err != nil {
			return err
		}
	}
	return f(nil, t.soa)
}

// eachPart puts the removed or the added sets of a delta, but for its SOA.
func eachPart(d *zone.Delta, soa *zone.SetDelta, f put, part func(*zone.SetDelta) zone.RRset) error {
	for i := range d.Sets {
		c := &d.Sets[i]
		if c == soa {
			continue
		}
		owner := c.Owner.Wire()
		if err := f([]byte(owner[:len(owner)-len(d.Apex.Wire())]), part(c)); err != nil {
			return err
		}
	}
	return nil
}

// form is what all messages of a transfer have in common.
type form struct {
	q    *message.Query
	room int // for a signature
}

// encoder makes messages of sets. Each has the place of its length in front, as over TCP.
type encoder struct {
	form
	b message.Builder
	// emit takes a message that is complete, and gives the memory for the next one.
	emit func(msg []byte) ([]byte, error)
}

// encoder begins the first message. expire of zero and more stands in it where the client asked
// for it.
func (f form) encoder(emit func([]byte) ([]byte, error), buf []byte, expire int64) *encoder {
	e := &encoder{form: f, emit: emit}
	e.begin(buf, expire)
	return e
}

func (e *encoder) begin(buf []byte, expire int64) {
	e.b.Begin(append(buf[:0], 0, 0), e.q, sendSize, resolve.OurUDPSize)
	if e.q.WantsExpire && expire >= 0 {
		e.b.AddExpire(uint32(expire))
	}
	e.b.Transfer(e.q, e.room)
	e.b.SetFlag(message.FlagAA)
}

// set writes the records of a set, into as many messages as they need.
func (e *encoder) set(relative []byte, t rr.Type, ttl uint32, items zone.Items) error {
	for {
		rest := e.b.TransferSet(relative, t, ttl, items)
		if len(rest) == 0 {
			return nil
		}
		if e.b.Count(message.AnswerSection) == 0 {
			return fmt.Errorf("a %s record is too large for a message", t)
		}
		buf, err := e.emit(e.b.Finish())
		if err != nil {
			return err
		}
		e.begin(buf, -1)
		items = rest
	}
}

// finish completes the last message.
func (e *encoder) finish() error {
	_, err := e.emit(e.b.Finish())
	return err
}

// writer signs messages and writes them.
type writer struct {
	w      io.Writer
	stream *tsig.Stream
	now    func() time.Time
}

// send writes a message whose length is to stand in its first two octets. It returns its memory.
func (w *writer) send(msg []byte) ([]byte, error) {
	if w.stream != nil {
		msg = append(msg[:2], w.stream.Sign(msg[2:], w.now())...)
	}
	binary.BigEndian.PutUint16(msg, uint16(len(msg)-2))
	_, err := w.w.Write(msg)
	return msg, err
}
