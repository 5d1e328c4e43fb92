// Package transfer moves whole zones between servers (RFC 5936) and keeps the
// clock of a secondary (RFC 1034 §4.3.5).
package transfer

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/zone"
)

// sendSize is about how large the messages of a transfer are; limited so that
// compression pointers and signatures always fit.
const sendSize = 60000

// Send writes the zone as the response to the AXFR (or IXFR) query q, signed if
// stream is not nil. It sends the one version it was given, whatever happens to
// the zone meanwhile (RFC 5936 §6).
func Send(w io.Writer, z *zone.Snapshot, q *message.Query, stream *tsig.Stream, now func() time.Time) error {
	s := sender{w: w, q: q, stream: stream, now: now, buf: make([]byte, 2, sendSize+2048)}
	s.b.Begin(s.buf[:2], q, sendSize, resolve.OurUDPSize)
	s.begin()
	var apex zone.Node
	z.ApexNode(&apex)
	soa, ok := apex.Find(rr.TypeSOA)
	if !ok {
		return errors.New("the zone has no SOA record")
	}
	if err := s.record(nil, rr.TypeSOA, soa.TTL, soa.First()); err != nil {
		return err
	}
	for n := range z.AllNodes {
		s.relative = n.AppendRelative(s.relative[:0])
		for set := range n.RRsets {
			if set.Type == rr.TypeSOA && n.IsApex() {
				continue
			}
			t, ttl := set.Type, set.TTL
			var data []byte
			for set.N > 0 {
				data, set = set.Cut()
				if err := s.record(s.relative, t, ttl, data); err != nil {
					return err
				}
			}
		}
	}
	if err := s.record(nil, rr.TypeSOA, soa.TTL, soa.First()); err != nil {
		return err
	}
	return s.flush()
}

type sender struct {
	w        io.Writer
	b        message.Builder
	q        *message.Query
	stream   *tsig.Stream
	now      func() time.Time
	buf      []byte
	relative []byte
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

// Fetch options.
type Fetch struct {
	Zone    dnsname.Name
	Server  netip.AddrPort
	Key     *tsig.Key     // nil: unsigned
	Timeout time.Duration // between two messages; 0 is 30 seconds
	// Patience is how long the transfer may take, besides a second for each 2,048
	// octets that came; 0 is a minute.
	Patience time.Duration
	Max      int64   // most octets of a transfer; 0 is DefaultMax
	Budget   *Budget // octets that all transfers may take together; nil: any
	Now      func() time.Time
	Local    netip.Addr // to connect from; invalid leaves it to the system
}

// RefusedError says that the server will not give the zone.
type RefusedError struct {
	Server netip.AddrPort
	Zone   dnsname.Name
	Rcode  message.Rcode
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("%s does not hand over %s: %s (%s)", e.Server, e.Zone, e.Rcode.Words(), e.Rcode)
}

// Receive fetches a whole zone by AXFR over TCP. Anything but a clean end is an
// error, and then there is no zone (RFC 5936 §2.2).
func Receive(ctx context.Context, f Fetch) (*zone.Snapshot, error) {
	if f.Timeout == 0 {
		f.Timeout = 30 * time.Second
	}
	if f.Patience == 0 {
		f.Patience = firstMinute
	}
	if f.Max == 0 {
		f.Max = DefaultMax
	}
	if f.Now == nil {
		f.Now = time.Now
	}
	conn, err := resolve.Dial(ctx, f.Server, f.Local, f.Timeout)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()

	var id [2]byte
	_, _ = rand.Read(id[:])
	query := message.AppendQuery(nil, f.Zone, rr.TypeAXFR, message.QueryOptions{ID: binary.BigEndian.Uint16(id[:])})
	start := time.Now()
	r := &receiver{f: f, id: binary.BigEndian.Uint16(id[:]), builder: zone.NewBuilder(f.Zone, false)}
	if f.Key != nil {
		r.stream = tsig.NewStream(f.Key)
		query = r.stream.Sign(query, f.Now())
	}
	defer func() { f.Budget.release(r.octets) }()
	_ = conn.SetDeadline(time.Now().Add(f.Timeout))
	if err := resolve.WriteTCP(conn, query); err != nil {
		return nil, err
	}
	var buf []byte
	for !r.done {
		// A message may take a while, all of them together only so long.
		_ = conn.SetDeadline(sooner(time.Now().Add(f.Timeout), start.Add(f.allowed(r.octets))))
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if buf, err = resolve.ReadTCP(conn, buf); err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				err = errors.New("the server ended the transfer before its end")
			}
			if late := net.Error(nil); errors.As(err, &late) && late.Timeout() {
				err = fmt.Errorf("%w: %d octets came in %s", ErrSlow, r.octets, time.Since(start).Round(time.Second))
			}
			return nil, fmt.Errorf("transfer of %s from %s: %w", f.Zone, f.Server, err)
		}
		if err := r.message(buf); err != nil {
			return nil, err
		}
	}
	return r.builder.Build().Snapshot, nil
}

type receiver struct {
	f       Fetch
	id      uint16
	stream  *tsig.Stream
	builder *zone.Builder
	it      message.Records
	soa     []byte // data of the first SOA
	done    bool
	octets  int64
}

// message takes one message of the transfer.
func (r *receiver) message(msg []byte) error {
	fail := func(format string, args ...any) error {
		return fmt.Errorf("transfer of %s from %s: %w", r.f.Zone, r.f.Server, fmt.Errorf(format, args...))
	}
	if !r.f.Budget.take(int64(len(msg))) {
		return fail("all transfers together would take more than they may (fetched-together in [limits])")
	}
	r.octets += int64(len(msg))
	if r.octets > r.f.Max {
		return fail("it is larger than %d octets, the most that a fetched zone may have (fetched-zone in [limits])", r.f.Max)
	}
	h := message.ParseHeader(msg)
	if h.ID != r.id || h.Flags&message.FlagQR == 0 {
		return fail("a message does not belong to it")
	}
	if r.stream != nil {
		off, err := message.FindTSIG(msg)
		if err != nil {
			return fail("%w", err)
		}
		if off == 0 {
			if h.Rcode() != message.NoError {
				return &RefusedError{r.f.Server, r.f.Zone, h.Rcode()}
			}
			if err := r.stream.Unsigned(msg); err != nil {
				return fail("%w", err)
			}
		} else if msg, err = r.stream.Verify(msg, off, r.f.Now()); err != nil {
			return fail("%w", err)
		}
	}
	if h.Rcode() != message.NoError {
		return &RefusedError{r.f.Server, r.f.Zone, h.Rcode()}
	}
	off, err := message.AfterQuestions(msg)
	if err != nil {
		return fail("%w", err)
	}
	r.it.Reset(msg, off, int(h.Counts[1]))
	for r.it.Next() {
		if r.done {
			return fail("records follow the end")
		}
		if err := r.record(); err != nil {
			return fail("%w", err)
		}
	}
	if r.it.Err != nil {
		return fail("%w", r.it.Err)
	}
	if r.done && r.stream != nil && !r.stream.Last {
		return fail("its last message is not signed")
	}
	return nil
}

func (r *receiver) record() error {
	it := &r.it
	if r.soa == nil {
		if it.Type != rr.TypeSOA || !dnsname.EqualWire(it.Owner, r.f.Zone.Wire()) {
			return errors.New("it does not begin with the zone's SOA")
		}
		r.soa = append([]byte(nil), it.Data...)
	} else if it.Type == rr.TypeSOA && dnsname.EqualWire(it.Owner, r.f.Zone.Wire()) {
		if string(it.Data) != string(r.soa) {
			return errors.New("it ends with another SOA than it began")
		}
		r.done = true
		return nil
	}
	if it.Class != rr.ClassIN {
		return fmt.Errorf("a record is of class %s", it.Class)
	}
	if info := rr.Lookup(it.Type); info != nil && info.Use != rr.Data {
		return fmt.Errorf("it holds a record of type %s", it.Type)
	}
	if err := r.builder.Add(it.Owner, it.Type, it.TTL, it.Data, 0); err != nil {
		return fmt.Errorf("%s: %w", dnsname.AppendText(nil, it.Owner), err)
	}
	return nil
}
