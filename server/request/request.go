// Package request turns requests into responses. A request goes through stages: its limits,
// its signature (RFC 8945 §5.2), its EDNS options, and then what its opcode and type ask
// for: an answer, a transfer (RFC 5936, RFC 1995), a notification (RFC 1996) or a change (RFC 2136).
// What zones there are, and what is planned for them, is somebody else's business.
package request

import (
	"log/slog"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/zone"
)

// udpLimit is the most octets we send over UDP, and say that we take: no
// fragments on any usual path (RFC 9715 §3).
const udpLimit = 1232

// Transport is how a request came.
type Transport uint8

// The transports.
const (
	UDP Transport = iota
	TCP
	// Encrypted is a stream that nobody reads on the way (RFC 7858); none is served yet.
	Encrypted
)

// padTo is what the lengths of responses over encrypted transports are multiples of, where
// padding is asked for (RFC 8467 §4.1).
const padTo = 468

// Request is a request with what the stages found out about it.
type Request struct {
	message.Query // its EDNS options are in fields of their own
	Raw           []byte
	From, Local   netip.AddrPort // Local is the address that is listened on
	Transport     Transport
	Limit         int          // most octets of the response
	TSIG          *tsig.Stream // nil: it is not signed
	View          View         // what whoever asks sees
}

// Zones is what requests are about. It is safe for concurrent use.
type Zones interface {
	View // as everyone sees them
	// SourceFor and ViewFor are what somebody at an address sees; a key that a request was signed
	// with counts before that, nil is none.
	SourceFor(from netip.Addr) answer.Source
	ViewFor(from netip.Addr, key *dnsname.Name) View
	// Key is the key of that name that some peer shares with us, or nil.
	Key(name dnsname.Name) *tsig.Key
	// Heard is told that a peer is alive.
	Heard(at netip.AddrPort)
	// Identity is what the server says of itself; nil: nothing.
	Identity() *Identity
}

// View is zones as some askers see them.
type View interface {
	answer.Source
	// Exact is the zone of that name in wire form; nil if there is none.
	Exact(name []byte) Zone
}

// Zone is one zone.
type Zone interface {
	Name() dnsname.Name
	Snapshot() *zone.Snapshot // nil: there is nothing to answer from
	// Expire is for how many seconds it may still be served, for whoever takes it from us
	// (RFC 7314); negative: it is not.
	Expire() int64
	Receivers() []resolve.Server // those who may transfer it
	Primaries() []resolve.Server // those whose NOTIFY counts; none: we are the primary
	// Steps is what leads from a serial to a version; nil where that is not kept or is no
	// less than the version.
	Steps(to *zone.Snapshot, from uint32) transfer.Body
	// Fetched is told that a peer has all of a version.
	Fetched(peer string, serial uint32)
	// Changed is told that a primary has a newer version.
	Changed()
	// Update has a change carried out. done is told once, by any goroutine, what came of it; nil: it
	// is done, and on stable storage.
	Update(u Update, done func(*update.Refusal))
}

// Env is what all handlers of a server share.
type Env struct {
	Zones  Zones
	Clock  func() time.Time // of signed messages
	Log    *slog.Logger
	Counts *Counts
	// Stranger logs what anybody can cause; the texts of kind are few.
	Stranger func(kind string, args ...any)
}

// Counts are statistics of requests.
type Counts struct {
	UDP, TCP, Dropped     atomic.Uint64
	Transfers, Increments atomic.Uint64 // all that were sent, and those of what changed
}

// Handler turns requests into responses. Each goroutine that reads a socket has its own.
type Handler struct {
	*Env
	r         Request
	responder answer.Responder
	b         message.Builder
	options   [maxOptions]byte // of the response
	seen      uint64           // requests since the last flush
	dropped   uint64
	// wayBack leads to whoever sent the datagram that is worked on; nil: nothing does later.
	wayBack func() (send func(msg []byte))
}

// New makes a handler for requests to an address.
func New(env *Env, local netip.AddrPort) *Handler {
	return &Handler{Env: env, r: Request{Local: local}}
}

// Flush adds what was counted to the counters, which goroutines share.
func (h *Handler) Flush() {
	h.Counts.UDP.Add(h.seen)
	h.Counts.Dropped.Add(h.dropped)
	h.seen, h.dropped = 0, 0
}

// Datagram appends the response to a request over UDP to dst; nothing is
// appended where no answer is due.
func (h *Handler) Datagram(dst, msg []byte, from netip.AddrPort) []byte {
	h.seen++
	if from.Port() == 0 {
		return dst
	}
	verdict, code := message.ParseQuery(msg, &h.r.Query)
	if verdict == message.Drop {
		h.dropped++
		return dst
	}
	if q := &h.r.Query; verdict == message.Answer && q.TSIG == 0 && q.Opcode() == message.OpQuery && !q.WantsExpire && q.Cookie == nil && !q.WantsNSID && !q.WantsAddress && q.Class == rr.ClassIN && q.Type != rr.TypeAXFR && q.Type != rr.TypeIXFR {
		// By far the most requests.
		return h.responder.Respond(dst, q, h.Zones.SourceFor(from.Addr()), answer.Options{Limit: limitOf(q, UDP), UDPSize: udpLimit, Expire: -1})
	}
	out, _ := h.handle(dst, msg, from, UDP, verdict, code)
	return out
}

// Stream is Datagram for a request over a connection. A transfer comes back as a job.
func (h *Handler) Stream(dst, msg []byte, from netip.AddrPort) ([]byte, *Job) {
	h.Counts.TCP.Add(1)
	verdict, code := message.ParseQuery(msg, &h.r.Query)
	if verdict == message.Drop {
		return dst, nil
	}
	return h.handle(dst, msg, from, TCP, verdict, code)
}

// Query is the request that was handled last.
func (h *Handler) Query() *message.Query { return &h.r.Query }

// handle takes a request through its stages.
func (h *Handler) handle(dst, msg []byte, from netip.AddrPort, over Transport, verdict message.Verdict, code message.Rcode) ([]byte, *Job) {
	r := &h.r
	r.Raw, r.From, r.Transport, r.Limit, r.TSIG = msg, from, over, limitOf(&r.Query, over), nil
	if verdict == message.Respond && r.Query.TSIG == 0 {
		r.Query.TSIG, _ = message.FindTSIG(msg) // what is wrong may stand before it
	}
	refused := h.identify()
	if refused != nil {
		return h.refuse(dst, refused), nil
	}
	// Where everybody can read it, padding hides nothing (RFC 7830 §6); a signature comes behind it.
	if r.PadTo = 0; r.WantsPadding && over == Encrypted && r.TSIG == nil {
		r.PadTo = padTo
	}
	var key *dnsname.Name
	if r.TSIG != nil {
		key = &r.TSIG.Key().Name
	}
	r.View = h.Zones.ViewFor(from.Addr(), key)
	at := len(dst)
	var job *Job
	if verdict == message.Respond { // signed where the request was (RFC 8945 §5.3)
		dst = h.code(dst, code)
	} else if dst, job = kindOf(&r.Query)(h, dst); job != nil {
		return dst, job
	}
	return h.signed(dst, at), nil
}

// signed is a message with the response behind an offset signed, where there is one and the request
// was.
func (h *Handler) signed(dst []byte, at int) []byte {
	if h.r.TSIG == nil || len(dst) == at {
		return dst
	}
	return append(dst[:at], h.r.TSIG.Sign(dst[at:len(dst):len(dst)], h.Clock())...)
}

// kind carries out requests of one kind.
type kind func(h *Handler, dst []byte) ([]byte, *Job)

// byOpcode are the kinds of requests that are taken, others being refused as they are read.
// A question goes by its type besides.
var byOpcode = map[message.Opcode]kind{message.OpNotify: (*Handler).notify, message.OpUpdate: (*Handler).update}

// byType are the questions that are not for an answer.
var byType = map[rr.Type]kind{rr.TypeAXFR: (*Handler).transfer, rr.TypeIXFR: (*Handler).transfer}

func kindOf(q *message.Query) kind {
	if k := byOpcode[q.Opcode()]; k != nil {
		return k
	}
	if k := byType[q.Type]; k != nil {
		return k
	}
	return (*Handler).answer
}

// limitOf is how long a response may be.
func limitOf(q *message.Query, over Transport) int {
	switch {
	case over != UDP:
		return message.MaxLen
	case q.HasEDNS:
		return min(q.UDPSize, udpLimit)
	}
	return message.MinUDP
}

// answer answers a question.
func (h *Handler) answer(dst []byte) ([]byte, *Job) {
	r := &h.r
	if out, ok := h.chaos(dst); ok {
		return out, nil
	}
	return h.responder.Respond(dst, &r.Query, r.View, answer.Options{Limit: r.Limit, UDPSize: udpLimit, TCP: r.Transport != UDP, Expire: h.expireOfSOA(), EDNS: h.optionsDue()}), nil
}

// expireOfSOA is for how long a zone whose SOA is asked for may still be served, in
// seconds; negative where nothing is to be said of it (RFC 7314 §3).
func (h *Handler) expireOfSOA() int64 {
	if !h.r.WantsExpire || h.r.Type != rr.TypeSOA {
		return -1
	}
	if z := h.r.View.Exact(h.r.Name); z != nil {
		return z.Expire()
	}
	return -1
}

// code is a response without data.
func (h *Handler) code(dst []byte, code message.Rcode) []byte {
	return h.because(dst, code, nothingMore)
}

// nothingMore is no extended error.
const nothingMore message.ExtendedError = 0

// because is a response without data, and why (RFC 8914).
func (h *Handler) because(dst []byte, code message.Rcode, why message.ExtendedError) []byte {
	h.b.Begin(dst, &h.r.Query, h.r.Limit, udpLimit)
	h.b.AddOptions(h.optionsDue())
	h.b.SetRcode(code)
	if why != nothingMore {
		h.b.SetEDE(why)
	}
	return h.b.Finish()
}

// sentBy reports whether a request comes from a peer: by its key if it has one, else by its
// address.
func (r *Request) sentBy(p *resolve.Server) bool {
	if p.Key != nil {
		return r.TSIG != nil && (r.TSIG.Key().Name.Equal(p.Key.Name) || slices.ContainsFunc(p.Also, func(k *tsig.Key) bool { return r.TSIG.Key().Name.Equal(k.Name) }))
	}
	return r.From.Addr().Unmap() == p.Address.Addr().Unmap()
}

// senderAmong is the peer that a request comes from, or nil.
func (r *Request) senderAmong(peers []resolve.Server) *resolve.Server {
	for i := range peers {
		if r.sentBy(&peers[i]) {
			return &peers[i]
		}
	}
	return nil
}
