// Package resolve asks other servers: one question to one server, with the
// checks that keep forged answers out (RFC 5452 §9.1).
package resolve

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/rr"
	"fencepost/tsig"
)

// Tries is how often a question is sent over UDP before the server counts as
// silent (RFC 9520 §3.1).
const Tries = 3

// DefaultTimeout is how long one try waits.
const DefaultTimeout = 2 * time.Second

// OurUDPSize is what we say we take over UDP.
const OurUDPSize = 1232

// Request is what is asked and how.
type Request struct {
	Name    dnsname.Name
	Type    rr.Type
	Class   rr.Class // 0 is IN
	DO      bool     // with signatures
	RD      bool
	CD      bool // unchecked, if a validator is asked
	Size    int  // what we say we take over UDP; 0 is OurUDPSize
	Options []message.Option
	Pad     int           // see message.QueryOptions
	Tries   int           // over UDP; 0 is Tries
	TCP     bool          // not over UDP first
	UDPOnly bool          // not over TCP when cut off
	Expire  bool          // ask how long the zone may still be served (RFC 7314)
	NoEDNS  bool          // as servers are asked that do not know EDNS (RFC 6891 §6.2.2)
	Timeout time.Duration // of one try; 0 is DefaultTimeout
	TSIG    *tsig.Key     // sign, and accept only signed answers
	Local   netip.Addr    // to send from; invalid leaves it to the system
	Net     netio.Network // nil is the system's
	Silent  *Silence      // nil: each question is asked, whatever became of those before

	change *change // is sent in place of a question
}

// Response is an answer with how it came.
type Response struct {
	*message.Message
	Raw       []byte
	Server    netip.AddrPort
	Transport string // "udp" or "tcp"
	Elapsed   time.Duration
	Truncated bool // it came over UDP first and did not fit
	Try       int  // which try over UDP it came at, from 1
	// Passed counts what came from the server's address meanwhile and was no answer to this
	// question: somebody may be guessing (RFC 5452 §9.1).
	Passed int
	// OtherClass is how many records were left out that are of another class than the question: the
	// same words mean other things there.
	OtherClass int
}

// Errors of asking.
var (
	ErrNoAnswer = errors.New("no answer")
	// ErrCutOff means that an answer did not fit into a datagram, and could not be had over TCP.
	ErrCutOff  = errors.New("the answer over UDP was cut off")
	errNotOurs = errors.New("the answer belongs to another query")
)

// Ask puts a question to a server, over UDP and, if the answer does not fit,
// over TCP.
func Ask(ctx context.Context, server netip.AddrPort, r Request) (*Response, error) {
	r.fill()
	if r.TCP {
		return once(ctx, server, r, true)
	}
	resp, err := once(ctx, server, r, false)
	if err == nil && resp.Flags&message.FlagTC != 0 && !r.UDPOnly {
		over, tcpErr := once(ctx, server, r, true)
		if tcpErr != nil {
			return nil, fmt.Errorf("%w, and over TCP: %w", ErrCutOff, tcpErr)
		}
		over.Truncated = true
		return over, nil
	}
	return resp, err
}

// fill puts what counts where nothing is said.
func (r *Request) fill() {
	r.Timeout = cmp.Or(r.Timeout, DefaultTimeout)
	r.Tries = cmp.Or(r.Tries, Tries)
	r.Size = cmp.Or(r.Size, OurUDPSize)
	r.Net = netio.Or(r.Net)
}

// ErrUnreachable means that a server cannot be reached: nothing listens there, or there
// is no way to it.
var ErrUnreachable = errors.New("the server cannot be reached")

type unreachable struct{ text string }

func (e *unreachable) Error() string { return e.text }
func (e *unreachable) Unwrap() error { return ErrUnreachable }

// describe puts the errors people meet into words.
func describe(server netip.AddrPort, err error) error {
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return &unreachable{fmt.Sprintf("nothing listens on %s", server)}
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH):
		return &unreachable{fmt.Sprintf("there is no way to %s", server)}
	}
	return err
}

// query writes the question.
func (r *Request) query() ([]byte, *tsig.Stream) {
	if r.change != nil {
		return r.change.write(r.TSIG)
	}
	if r.NoEDNS {
		return r.write(message.QueryOptions{Class: r.Class, RD: r.RD, CD: r.CD})
	}
	return r.write(message.QueryOptions{Class: r.Class, RD: r.RD, CD: r.CD, EDNS: true, UDPSize: uint16(r.Size), DO: r.DO, Expire: r.Expire, Options: r.Options, Pad: r.Pad})
}

// write writes a request and, where it is signed, begins the exchange.
func (r *Request) write(o message.QueryOptions) ([]byte, *tsig.Stream) {
	var id [2]byte
	_, _ = rand.Read(id[:]) // never fails (crypto/rand)
	o.ID = binary.BigEndian.Uint16(id[:])
	msg := message.AppendQuery(nil, r.Name, r.Type, o)
	if r.TSIG == nil {
		return msg, nil
	}
	s := tsig.NewStream(r.TSIG)
	return s.Sign(msg, r.Net.Clock().Now()), s
}

// accept takes an answer apart if it is one to our question.
func (r *Request) accept(raw, query []byte, s *tsig.Stream) (*message.Message, error) {
	if len(raw) < message.HeaderLen || raw[0] != query[0] || raw[1] != query[1] || raw[2]&0x80 == 0 {
		return nil, errNotOurs
	}
	plain := raw
	if s != nil {
		off, err := message.FindTSIG(raw)
		if err != nil {
			return nil, err
		}
		if off == 0 {
			return nil, fmt.Errorf("the answer is not signed with the key %s: %s", s.Key().Name, message.ParseHeader(raw).Rcode().Description())
		}
		if plain, err = s.Verify(raw, off, r.Net.Clock().Now()); err != nil {
			return nil, err
		}
	}
	m, err := message.Decode(plain)
	if err != nil {
		return nil, fmt.Errorf("the answer is malformed: %w", err)
	}
	if len(m.Question) > 0 && !(m.Question[0].Name.Equal(r.Name) && m.Question[0].Type == r.Type && m.Question[0].Class == cmp.Or(r.Class, rr.ClassIN)) {
		return nil, errNotOurs
	}
	return m, nil
}

// leaveOut takes the records out of an answer that are of another class than the question, and counts
// them. OPT and TSIG have none (RFC 6891 §6.1.2, RFC 8945 §4.2).
func (r *Request) leaveOut(m *message.Message) (n int) {
	class := cmp.Or(r.Class, rr.ClassIN)
	if class == rr.ClassAny || r.change != nil {
		return 0
	}
	for _, section := range []*[]rr.Record{&m.Answer, &m.Authority, &m.Additional} {
		before := len(*section)
		*section = slices.DeleteFunc(*section, func(x rr.Record) bool {
			return x.Class != class && x.Type != rr.TypeOPT && x.Type != rr.TypeTSIG
		})
		n += before - len(*section)
	}
	return n
}

// Dial connects to a server over TCP, from local if that is a valid address. A nil network
// is the system's.
func Dial(ctx context.Context, n netio.Network, server netip.AddrPort, local netip.Addr, timeout time.Duration) (net.Conn, error) {
	conn, err := netio.Or(n).Dial(ctx, "tcp", local, server, timeout)
	if err != nil {
		return nil, describe(server, err)
	}
	return conn, nil
}

func askUDP(ctx context.Context, server netip.AddrPort, r Request) (*Response, error) {
	var last error = ErrNoAnswer
	for try := range r.Tries {
		// A connected socket takes packets from the server only, and each try
		// has a port of its own that cannot be guessed.
		conn, err := r.Net.Dial(ctx, "udp", r.Local, server, r.Timeout)
		if err != nil {
			return nil, err
		}
		query, stream := r.query()
		resp, err := r.exchange(ctx, conn, server, query, stream)
		conn.Close()
		if err == nil {
			resp.Try = try + 1
			return resp, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		last = err
		var nerr net.Error
		if !errors.As(err, &nerr) || !nerr.Timeout() {
			return nil, err
		}
	}
	var nerr net.Error
	if errors.As(last, &nerr) && nerr.Timeout() {
		last = fmt.Errorf("%w after %s of %s", ErrNoAnswer, tries(r.Tries), r.Timeout)
	}
	return nil, last
}

// Raw sends octets as they are, as often as Ask would, over UDP and no further, and gives the
// first answer that has their id, as it came: for questions that are odd on purpose. Of r it
// takes Net, Timeout, Tries and Local.
func Raw(ctx context.Context, server netip.AddrPort, msg []byte, r Request) (answer []byte, err error) {
	r.fill()
	for range r.Tries {
		if answer, err = r.raw(ctx, server, msg); err == nil || ctx.Err() != nil || errors.Is(err, ErrUnreachable) {
			return answer, err
		}
	}
	return nil, fmt.Errorf("%w after %s of %s", ErrNoAnswer, tries(r.Tries), r.Timeout)
}

func (r *Request) raw(ctx context.Context, server netip.AddrPort, msg []byte) ([]byte, error) {
	conn, err := r.Net.Dial(ctx, "udp", r.Local, server, r.Timeout)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	_ = conn.SetDeadline(r.Net.Clock().Now().Add(r.Timeout))
	if _, err := conn.Write(msg); err != nil {
		return nil, describe(server, err)
	}
	buf := largest.Get().(*[message.MaxLen]byte)
	defer largest.Put(buf)
	for {
		n, err := conn.Read(buf[:])
		if err != nil {
			return nil, describe(server, err)
		}
		if n >= message.HeaderLen && buf[0] == msg[0] && buf[1] == msg[1] && buf[2]&0x80 != 0 {
			return bytes.Clone(buf[:n]), nil
		}
	}
}

func tries(n int) string {
	if n == 1 {
		return "one try"
	}
	return fmt.Sprintf("%d tries", n)
}

// largest are buffers for answers over UDP, which may be as long as any message.
var largest = sync.Pool{New: func() any { return new([message.MaxLen]byte) }}

// exchange sends a request over UDP and waits for the answer to it.
func (r *Request) exchange(ctx context.Context, conn net.Conn, server netip.AddrPort, query []byte, stream *tsig.Stream) (*Response, error) {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	clock := r.Net.Clock()
	start := clock.Now()
	_ = conn.SetDeadline(start.Add(r.Timeout))
	if _, err := conn.Write(query); err != nil {
		return nil, err
	}
	buf := largest.Get().(*[message.MaxLen]byte)
	defer largest.Put(buf)
	for passed := 0; ; passed++ {
		n, err := conn.Read(buf[:])
		if err != nil {
			return nil, describe(server, err)
		}
		raw := bytes.Clone(buf[:n])
		m, err := r.accept(raw, query, stream)
		if err != nil {
			// A forger must not be able to end the wait (RFC 5452 §9.1), so only
			// an answer with our ID is reported.
			if errors.Is(err, errNotOurs) {
				continue
			}
			return nil, err
		}
		return &Response{Message: m, Raw: raw, Server: server, Transport: "udp", Elapsed: clock.Now().Sub(start), Passed: passed, OtherClass: r.leaveOut(m)}, nil
	}
}

func askTCP(ctx context.Context, server netip.AddrPort, r Request) (*Response, error) {
	conn, err := Dial(ctx, r.Net, server, r.Local, r.Timeout)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	clock := r.Net.Clock()
	start := clock.Now()
	_ = conn.SetDeadline(start.Add(r.Timeout))
	query, stream := r.query()
	if err := WriteTCP(conn, query); err != nil {
		return nil, closed(err)
	}
	for {
		raw, err := ReadTCP(conn, nil)
		if err != nil {
			return nil, closed(err)
		}
		m, err := r.accept(raw, query, stream)
		if errors.Is(err, errNotOurs) {
			continue
		}
		if err != nil {
			return nil, err
		}
		return &Response{Message: m, Raw: raw, Server: server, Transport: "tcp", Elapsed: clock.Now().Sub(start), OtherClass: r.leaveOut(m)}, nil
	}
}

// closedError says that a server closed a connection before it answered.
type closedError struct{ err error }

func (*closedError) Error() string   { return "the server closed the connection" }
func (e *closedError) Unwrap() error { return e.err }

// closed is an error in the words for a closed connection, where it is about one: which of its faces shows
// depends on how far the query had come.
func closed(err error) error {
	for _, face := range []error{io.EOF, io.ErrUnexpectedEOF, syscall.EPIPE, syscall.ECONNRESET, io.ErrClosedPipe} {
		if errors.Is(err, face) {
			return &closedError{err}
		}
	}
	return err
}

// WriteTCP writes a message with its length in one piece (RFC 7766 §8).
func WriteTCP(w io.Writer, msg []byte) error {
	buf := make([]byte, 2, 2+len(msg))
	binary.BigEndian.PutUint16(buf, uint16(len(msg)))
	_, err := w.Write(append(buf, msg...))
	return err
}

// ReadTCP reads a message with its length into buf, which is grown if needed.
func ReadTCP(r io.Reader, buf []byte) ([]byte, error) {
	var head [2]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint16(head[:]))
	if n < message.HeaderLen {
		return nil, fmt.Errorf("a message of %d octets is too short", n)
	}
	if cap(buf) < n {
		buf = make([]byte, n, max(n, 4096))
	}
	buf = buf[:n]
	_, err := io.ReadFull(r, buf)
	return buf, err
}

// Notification is a NOTIFY to be sent.
type Notification struct {
	Server  netip.AddrPort
	Zone    dnsname.Name
	Key     *tsig.Key // nil: unsigned
	Timeout time.Duration
	Local   netip.Addr
	Net     netio.Network // nil is the system's
}

// Notify tells a server that a zone has changed (RFC 1996) and waits for its
// answer: one try.
func Notify(ctx context.Context, n Notification) error {
	n.Net = netio.Or(n.Net)
	conn, err := n.Net.Dial(ctx, "udp", n.Local, n.Server, n.Timeout)
	if err != nil {
		return err
	}
	defer conn.Close()
	r := Request{Name: n.Zone, Type: rr.TypeSOA, Net: n.Net, TSIG: n.Key, Timeout: n.Timeout}
	query, stream := r.write(message.QueryOptions{Opcode: message.OpNotify})
	resp, err := r.exchange(ctx, conn, n.Server, query, stream)
	if err != nil {
		return err
	}
	if resp.Rcode() != message.NoError {
		return fmt.Errorf("%s: %s", resp.Rcode(), resp.Rcode().Description())
	}
	return nil
}
