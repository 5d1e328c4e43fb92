package server

import (
	"errors"
	"net/netip"

	"fencepost/answer"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/zone"
)

// udpLimit is the most octets we send over UDP, and say that we take: no
// fragments on any usual path (RFC 9715 §3).
const udpLimit = 1232

// handler turns requests into responses. Each goroutine that reads a socket
// has its own.
type handler struct {
	s         *Server
	q         message.Query
	responder answer.Responder
	b         message.Builder
	seen      uint64 // questions since the last flush
	dropped   uint64
}

// Flush adds what was counted to the server's counters, which goroutines share.
func (h *handler) Flush() {
	h.s.counts.udp.Add(h.seen)
	h.s.counts.dropped.Add(h.dropped)
	h.seen, h.dropped = 0, 0
}

func (s *Server) newHandler() *handler { return &handler{s: s} }

// Datagram appends the response to a request over UDP to dst; nothing is
// appended where no answer is due.
func (h *handler) Datagram(dst, msg []byte, from netip.AddrPort) []byte {
	h.seen++
	if from.Port() == 0 {
		return dst
	}
	verdict, code := message.ParseQuery(msg, &h.q)
	if verdict == message.Drop {
		h.dropped++
		return dst
	}
	limit := message.MinUDP
	if h.q.HasEDNS {
		limit = min(h.q.UDPSize, udpLimit)
	}
	if verdict == message.Answer && h.q.TSIG == 0 && h.q.Opcode() == message.OpQuery && h.q.Type != rr.TypeAXFR && h.q.Type != rr.TypeIXFR {
		// By far the most requests.
		return h.responder.Respond(dst, &h.q, h.s, answer.Options{Limit: limit, UDPSize: udpLimit})
	}
	out, _ := h.special(dst, msg, from, verdict, code, limit, false)
	return out
}

// transferJob is a transfer that is to be sent over a TCP connection.
type transferJob struct {
	z      *zone.Snapshot
	stream *tsig.Stream
	done   func() // called when all of it was sent
}

// overTCP is Datagram for a connection. A transfer comes back as a job.
func (h *handler) overTCP(dst, msg []byte, from netip.AddrPort) ([]byte, *transferJob) {
	h.s.counts.tcp.Add(1)
	verdict, code := message.ParseQuery(msg, &h.q)
	if verdict == message.Drop {
		return dst, nil
	}
	return h.special(dst, msg, from, verdict, code, message.MaxLen, true)
}

// special handles everything but a plain question over UDP.
func (h *handler) special(dst, msg []byte, from netip.AddrPort, verdict message.Verdict, code message.Rcode, limit int, tcp bool) ([]byte, *transferJob) {
	if verdict == message.Respond && h.q.TSIG == 0 {
		h.q.TSIG, _ = message.FindTSIG(msg) // what is wrong may stand before it
	}
	var stream *tsig.Stream
	if h.q.TSIG != 0 {
		var ok bool
		if stream, ok, dst = h.verify(dst, msg, from, limit); !ok {
			return dst, nil
		}
		limit -= stream.Key().Size()
	}
	at := len(dst)
	var job *transferJob
	switch {
	case verdict == message.Respond: // signed where the request was (RFC 8945 §5.3)
		dst = h.code(dst, code, limit)
	case h.q.Opcode() == message.OpNotify:
		dst = h.notify(dst, from, stream, limit)
	case h.q.Type == rr.TypeAXFR || h.q.Type == rr.TypeIXFR:
		dst, job = h.transfer(dst, from, stream, limit, tcp)
		if job != nil {
			return dst, job
		}
	default:
		dst = h.responder.Respond(dst, &h.q, h.s, answer.Options{Limit: limit, UDPSize: udpLimit, TCP: tcp})
	}
	if stream != nil {
		dst = append(dst[:at], stream.Sign(dst[at:len(dst):len(dst)], h.s.Wall())...)
	}
	return dst, nil
}

// code is a response without data.
func (h *handler) code(dst []byte, code message.Rcode, limit int) []byte {
	h.b.Begin(dst, &h.q, limit, udpLimit)
	h.b.SetRcode(code)
	return h.b.Finish()
}

// verify checks the TSIG of a request (RFC 8945 §5.2). When it is wrong, dst
// holds the response that says so.
func (h *handler) verify(dst, msg []byte, from netip.AddrPort, limit int) (*tsig.Stream, bool, []byte) {
	name, formErr := tsig.KeyName(msg, h.q.TSIG)
	if formErr != nil {
		return nil, false, h.code(dst, message.FormErr, limit)
	}
	key := h.s.table.Load().keys[name.Key()]
	var stream *tsig.Stream
	var err error = &tsig.Error{Code: tsig.BadKey, Why: "unknown key " + name.String()}
	if key != nil {
		stream = tsig.NewStream(key)
		_, err = stream.Verify(msg, h.q.TSIG, h.s.Wall())
	}
	if err == nil {
		return stream, true, dst
	}
	var te *tsig.Error
	if !errors.As(err, &te) || te.Code == 0 {
		return nil, false, h.code(dst, message.FormErr, limit)
	}
	h.s.logStranger("a request with a wrong signature", "from", from.String(), "key", name.String(), "why", te.Why)
	at := len(dst)
	out := h.code(dst, message.NotAuth, limit)
	signed := tsig.Refuse(out[at:len(out):len(out)], msg, h.q.TSIG, te.Code, stream, h.s.Wall())
	return nil, false, append(out[:at], signed...)
}

// isPeer tells whether a request comes from the peer: by its key if it has
// one, else by its address.
func isPeer(p *Peer, from netip.AddrPort, stream *tsig.Stream) bool {
	if p.Key != nil {
		return stream != nil && stream.Key().Name.Equal(p.Key.Name)
	}
	return from.Addr().Unmap() == p.Address.Addr().Unmap()
}

func anyPeer(peers []Peer, from netip.AddrPort, stream *tsig.Stream) *Peer {
	for i := range peers {
		if isPeer(&peers[i], from, stream) {
			return &peers[i]
		}
	}
	return nil
}

// transfer answers AXFR and IXFR. The whole zone goes over TCP only (RFC 5936
// §4.2); an IXFR over UDP is answered with the present SOA, so that the client
// comes back over TCP (RFC 1995 §2), and over TCP with the whole zone (§4).
func (h *handler) transfer(dst []byte, from netip.AddrPort, stream *tsig.Stream, limit int, tcp bool) ([]byte, *transferJob) {
	wrong := h.q.Type == rr.TypeAXFR && (!tcp || h.q.Authority != 0) || h.q.Type == rr.TypeIXFR && (h.q.Authority != 1 || !h.q.HasSerial)
	if h.q.Class != rr.ClassIN || wrong {
		return h.code(dst, message.FormErr, limit), nil
	}
	z := h.s.table.Load().exact(h.q.Name)
	if z == nil {
		return h.code(dst, message.NotAuth, limit), nil
	}
	peer := anyPeer(z.cfg.Load().SendTo, from, stream)
	if peer == nil {
		h.s.logStranger("transfer refused: neither key nor address is that of a peer in send-to", "zone", z.name.String(), "to", from.String())
		return h.code(dst, message.Refused, limit), nil
	}
	snap := z.snap.Load()
	if snap == nil {
		return h.code(dst, message.ServFail, limit), nil
	}
	// Whoever has our version, or a newer one, gets the SOA alone (RFC 1995 §2).
	current := h.q.Type == rr.TypeIXFR && !rr.NewerSerial(snap.Serial(), h.q.Serial)
	if tcp && !current {
		h.s.counts.transfers.Add(1)
		h.s.Log.Info("transfer", "zone", z.name.String(), "serial", snap.Serial(), "to", peer.Name)
		return dst, &transferJob{snap, stream, func() { z.fetched(peer.Name, snap.Serial()) }}
	}
	var apex zone.Node
	snap.ApexNode(&apex)
	soa, _ := apex.Find(rr.TypeSOA)
	h.b.Begin(dst, &h.q, limit, udpLimit)
	h.b.SetFlag(message.FlagAA)
	h.b.Record(message.AnswerSection, message.QName, rr.TypeSOA, soa.TTL, soa.First())
	return h.b.Finish(), nil
}

// notify takes a NOTIFY from a primary (RFC 1996 §3.10, §3.11).
func (h *handler) notify(dst []byte, from netip.AddrPort, stream *tsig.Stream, limit int) []byte {
	z := h.s.table.Load().exact(h.q.Name)
	if z == nil || len(z.cfg.Load().FetchFrom) == 0 || h.q.Type != rr.TypeSOA {
		return h.code(dst, message.NotAuth, limit)
	}
	if anyPeer(z.cfg.Load().FetchFrom, from, stream) == nil {
		h.s.logStranger("NOTIFY from a stranger refused", "zone", z.name.String(), "from", from.String())
		return h.code(dst, message.Refused, limit)
	}
	snap := z.snap.Load()
	if !h.q.HasSerial || snap == nil || rr.NewerSerial(h.q.Serial, snap.Serial()) {
		h.s.refreshSoon(z)
	}
	h.b.Begin(dst, &h.q, limit, udpLimit)
	h.b.SetFlag(message.FlagAA)
	return h.b.Finish()
}
