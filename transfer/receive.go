// Package transfer moves zones between servers, whole (AXFR, RFC 5936) or by what
// changed (IXFR, RFC 1995), and keeps the clock of a secondary (RFC 1034 §4.3.5).
//
// A difference is applied exactly: one that removes what is not there, or adds what is,
// shows that something was damaged, and the whole zone is fetched in its place.
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
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/zone"
)

// Fetch says what is fetched.
type Fetch struct {
	Zone   dnsname.Name
	Server netip.AddrPort
	Key    *tsig.Key // nil: unsigned
	// Have is the version we have: what differs from it is asked for. Nil asks for the
	// whole zone.
	Have *zone.Snapshot
	// Expire asks how long the zone may still be served (RFC 7314 §4): of servers that are
	// known to say, as others may not know EDNS in transfers.
	Expire  bool
	Timeout time.Duration // between two messages; 0 is 30 seconds
	// Patience is how long the transfer may take, besides a second for each 2,048
	// octets that came; 0 is a minute.
	Patience time.Duration
	Max      int64         // most octets of a transfer; 0 is DefaultMax
	Budget   *Budget       // octets that all transfers may take together; nil: any
	Net      netio.Network // nil is the system's
	Local    netip.Addr    // to connect from; invalid leaves it to the system
	Conns    *Conns        // connections to be used again; nil opens one for each transfer
}

// Fetched is what came.
type Fetched struct {
	Zone   *zone.Snapshot // the newest version; Have itself where the server has no newer one
	Serial uint32         // what the server says it has
	// Steps is how many differences came; 0 where the whole zone did.
	Steps  int
	Octets int64 // of all messages
	// Expire is for how many seconds the server may serve it; HasExpire that it said so.
	Expire    uint32
	HasExpire bool
	// Fallback is why the whole zone was fetched though a difference was asked for; nil:
	// the server sent it of its own accord, or it was not asked for.
	Fallback error
}

// RefusedError says that the server will not give the zone.
type RefusedError struct {
	Server netip.AddrPort
	Zone   dnsname.Name
	Rcode  message.Rcode
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("%s does not hand over %s: %s (%s)", e.Server, e.Zone, e.Rcode.Description(), e.Rcode)
}

// ErrDamaged means that a difference cannot be right: it does not begin at our version,
// does not fit it, or is not in the form of RFC 1995 §4.
var ErrDamaged = errors.New("the difference that came cannot be right")

// Receive fetches a zone over TCP: what changed since Have, where the server knows that,
// else all of it (RFC 1995 §2). Anything but a clean end is an error, and then there is
// no zone (RFC 5936 §2.2).
func Receive(ctx context.Context, f Fetch) (Fetched, error) {
	f.fill()
	if f.Have == nil {
		return f.receive(ctx)
	}
	got, err := f.receive(ctx)
	var refused *RefusedError
	again := errors.Is(err, ErrDamaged) ||
		errors.As(err, &refused) && (refused.Rcode == message.NotImp || refused.Rcode == message.FormErr || refused.Rcode == message.Refused)
	if !again {
		return got, err
	}
	f.Have = nil
	got, whole := f.receive(ctx)
	if whole != nil {
		return got, whole
	}
	got.Fallback = err
	return got, nil
}

func (f *Fetch) fill() {
	if f.Timeout == 0 {
		f.Timeout = 30 * time.Second
	}
	if f.Patience == 0 {
		f.Patience = firstMinute
	}
	if f.Max == 0 {
		f.Max = DefaultMax
	}
	f.Net = netio.Or(f.Net)
}

func (f *Fetch) now() time.Time { return f.Net.Clock().Now() }

// receive makes one transfer. On a connection that was used before and that the server
// has closed meanwhile it is made again on a new one.
func (f *Fetch) receive(ctx context.Context) (Fetched, error) {
	for {
		conn, used, err := f.Conns.get(ctx, f)
		if err != nil {
			return Fetched{}, err
		}
		r, err := f.receiveOn(ctx, conn)
		f.Conns.put(f, conn, err == nil && ctx.Err() == nil)
		if err != nil && used && r.octets == 0 && ctx.Err() == nil {
			continue
		}
		if err != nil {
			return Fetched{Octets: r.octets}, err
		}
		return r.finish()
	}
}

func (f *Fetch) receiveOn(ctx context.Context, conn net.Conn) (*receiver, error) {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	var id [2]byte
	_, _ = rand.Read(id[:])
	o := message.QueryOptions{ID: binary.BigEndian.Uint16(id[:])}
	t := rr.TypeAXFR
	if f.Have != nil {
		t, o.SOA = rr.TypeIXFR, soaData(f.Have)
	}
	if f.Expire {
		o.EDNS, o.UDPSize, o.Expire = true, resolve.OurUDPSize, true
	}
	query := message.AppendQuery(nil, f.Zone, t, o)
	start := f.now()
	r := &receiver{f: f, id: o.ID}
	if f.Key != nil {
		r.stream = tsig.NewStream(f.Key)
		query = r.stream.Sign(query, f.now())
	}
	defer func() { f.Budget.release(r.octets) }()
	_ = conn.SetDeadline(f.now().Add(f.Timeout))
	if err := resolve.WriteTCP(conn, query); err != nil {
		return r, err
	}
	var buf []byte
	for !r.done {
		// A message may take a while, all of them together only so long.
		_ = conn.SetDeadline(sooner(f.now().Add(f.Timeout), start.Add(f.allowed(r.octets))))
		if ctx.Err() != nil {
			return r, ctx.Err()
		}
		var err error
		if buf, err = resolve.ReadTCP(conn, buf); err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				err = errors.New("the server ended the transfer before its end")
			}
			if late := net.Error(nil); errors.As(err, &late) && late.Timeout() {
				err = fmt.Errorf("%w: %d octets came in %s", ErrSlow, r.octets, f.now().Sub(start).Round(time.Second))
			}
			return r, fmt.Errorf("transfer of %s from %s: %w", f.Zone, f.Server, err)
		}
		if err := r.message(buf); err != nil {
			return r, err
		}
	}
	return r, nil
}

// soaData is the SOA of a version as it is asked with.
func soaData(z *zone.Snapshot) []byte {
	var apex zone.Node
	z.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeSOA)
	return set.First()
}

// receiver takes the messages of one transfer.
type receiver struct {
	f      *Fetch
	id     uint16
	stream *tsig.Stream
	octets int64
	it     message.Records
	done   bool

	expire    uint32
	hasExpire bool

	records int       // so far
	first   rr.Record // the SOA that it began with
	serial  uint32    // of it
	builder *zone.Builder
	deltas  deltaReader
	current bool // the server has no newer version
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
		} else if msg, err = r.stream.Verify(msg, off, r.f.now()); err != nil {
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
	if r.records == 0 && r.f.Expire {
		r.expire, r.hasExpire = message.ExpireIn(msg)
	}
	r.it.Reset(msg, off, int(h.Counts[1]))
	for r.it.Next() {
		if r.done {
			return fail("records follow the end")
		}
		if err := r.record(); err != nil {
			return fail("%w", err)
		}
		r.records++
	}
	if r.it.Err != nil && r.deltas.reading {
		return fail("%w: %w", ErrDamaged, r.it.Err)
	}
	if r.it.Err != nil {
		return fail("%w", r.it.Err)
	}
	// Whoever has nothing newer sends one SOA and no more (RFC 1995 §2).
	if r.f.Have != nil && r.records == 1 && !rr.NewerSerial(r.serial, r.f.Have.Serial()) {
		r.done, r.current = true, true
	}
	if r.done && r.stream != nil && !r.stream.Last {
		return fail("its last message is not signed")
	}
	return nil
}

// record takes one record. The second tells which form the transfer has: another SOA
// begins a difference (RFC 1995 §4).
func (r *receiver) record() error {
	it := &r.it
	apexSOA := it.Type == rr.TypeSOA && dnsname.EqualWire(it.Owner, r.f.Zone.Wire())
	if r.records == 0 {
		if !apexSOA {
			return errors.New("it does not begin with the zone's SOA")
		}
		soa, err := rr.ParseSOA(it.Data)
		owner, _ := dnsname.FromWire(it.Owner)
		r.first = rr.Record{Name: owner, Type: it.Type, TTL: it.TTL, Data: append([]byte(nil), it.Data...)}
		r.serial = soa.Serial
		return err
	}
	if it.Class != rr.ClassIN {
		return fmt.Errorf("a record is of class %s", it.Class)
	}
	if info := rr.Lookup(it.Type); info != nil && info.Use != rr.Data {
		return fmt.Errorf("it holds a record of type %s", it.Type)
	}
	if r.records == 1 {
		if r.f.Have != nil && apexSOA && string(it.Data) != string(r.first.Data) {
			r.deltas = deltaReader{zone: r.f.Zone, last: r.serial, at: r.f.Have.Serial(), reading: true}
		} else {
			r.builder = zone.NewBuilder(r.f.Zone, false)
			r.builder.ExpectOrder()
			if err := r.builder.AddRecord(r.first); err != nil {
				return err
			}
		}
	}
	if r.deltas.reading {
		done, err := r.deltas.record(it, apexSOA)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		r.done = done
		return nil
	}
	if apexSOA {
		if string(it.Data) != string(r.first.Data) {
			return errors.New("it ends with another SOA than it began")
		}
		r.done = true
		return nil
	}
	if err := r.builder.Add(it.Owner, it.Type, it.TTL, it.Data, 0); err != nil {
		return fmt.Errorf("%s: %w", dnsname.AppendText(nil, it.Owner), err)
	}
	return nil
}

// finish makes the version of what came.
func (r *receiver) finish() (Fetched, error) {
	out := Fetched{Zone: r.f.Have, Serial: r.serial, Octets: r.octets, Expire: r.expire, HasExpire: r.hasExpire}
	switch {
	case r.current:
	case r.deltas.reading:
		for _, d := range r.deltas.list {
			next, err := out.Zone.With(d)
			if err != nil {
				return Fetched{}, fmt.Errorf("transfer of %s from %s: %w: %w", r.f.Zone, r.f.Server, ErrDamaged, err)
			}
			out.Zone = next
			out.Steps++
		}
	default:
		out.Zone = r.builder.Build().Snapshot
	}
	return out, nil
}

// deltaReader takes the records of differences: old SOA, what goes, new SOA, what comes,
// and so on until the newest SOA comes again (RFC 1995 §4).
type deltaReader struct {
	zone    dnsname.Name
	last    uint32 // serial of the newest version
	at      uint32 // serial of the version that the present part begins at
	reading bool

	b    *zone.DeltaBuilder
	adds bool
	to   uint32
	list []*zone.Delta
}

func (r *deltaReader) record(it *message.Records, apexSOA bool) (done bool, err error) {
	if !apexSOA {
		if r.adds {
			return false, r.b.Add(it.Owner, it.Type, it.TTL, it.Data)
		}
		return false, r.b.Remove(it.Owner, it.Type, it.TTL, it.Data)
	}
	soa, err := rr.ParseSOA(it.Data)
	if err != nil {
		return false, err
	}
	if r.b != nil && !r.adds {
		r.adds, r.to = true, soa.Serial
		return false, r.b.Add(it.Owner, it.Type, it.TTL, it.Data)
	}
	if r.b != nil {
		r.list = append(r.list, r.b.Delta(r.at, r.to))
		r.at = r.to
		if r.to == r.last {
			if soa.Serial != r.last {
				return false, fmt.Errorf("it continues after serial %d, which it says is the newest", r.last)
			}
			return true, nil
		}
	}
	if soa.Serial != r.at {
		return false, fmt.Errorf("a part begins at serial %d, not at %d", soa.Serial, r.at)
	}
	r.b, r.adds = zone.NewDelta(r.zone), false
	return false, r.b.Remove(it.Owner, it.Type, it.TTL, it.Data)
}
