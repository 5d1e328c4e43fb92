package request

import (
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/zone"
)

// Job is a transfer that is to be sent over a connection.
type Job struct {
	Zone   dnsname.Name
	Body   transfer.Body
	Stream *tsig.Stream // nil: it is not signed
	Expire int64        // see transfer.Send
	Done   func()       // called when all of it was sent
}

// transfer answers AXFR and IXFR. The whole zone goes over TCP only (RFC 5936
// §4.2); an IXFR over UDP that does not fit is answered with the present SOA, so that the
// client comes back over TCP (RFC 1995 §2).
func (h *Handler) transfer(dst []byte) ([]byte, *Job) {
	r := &h.r
	wrong := r.Type == rr.TypeAXFR && (r.Transport == UDP || r.Authority != 0) || r.Type == rr.TypeIXFR && (r.Authority != 1 || !r.HasSerial)
	if r.Class != rr.ClassIN || wrong {
		return h.code(dst, message.FormErr), nil
	}
	z := r.View.Exact(r.Name)
	if z == nil {
		return h.because(dst, message.NotAuth, message.NotAuthoritative), nil
	}
	peer := r.senderAmong(z.Receivers())
	if peer == nil {
		h.Stranger("transfer refused: neither key nor address is that of a peer in send-to", "zone", z.Name().String(), "to", r.From.String())
		return h.because(dst, message.Refused, message.Prohibited), nil
	}
	h.Zones.Heard(peer.Address)
	snap := z.Snapshot()
	if snap == nil {
		_, state := r.View.Find(r.Name, false)
		return h.because(dst, message.ServFail, state.Why()), nil
	}
	// Whoever has our version, or a newer one, gets the SOA alone (RFC 1995 §2).
	current := r.Type == rr.TypeIXFR && !rr.NewerSerial(snap.Serial(), r.Serial)
	var steps transfer.Body
	if r.Type == rr.TypeIXFR && !current {
		steps = z.Steps(snap, r.Serial)
	}
	if r.Transport != UDP && !current {
		h.Counts.Transfers.Add(1)
		body, form := transfer.Whole(snap), "whole"
		if steps != nil {
			h.Counts.Increments.Add(1)
			body, form = steps, "changes"
		}
		h.Log.Info("transfer", "zone", z.Name().String(), "serial", snap.Serial(), "to", peer.Name, "form", form)
		return dst, &Job{z.Name(), body, r.TSIG, z.Expire(), func() { z.Fetched(peer.Name, snap.Serial()) }}
	}
	h.b.Begin(dst, &r.Query, r.Limit, udpLimit)
	if left := z.Expire(); r.WantsExpire && left >= 0 {
		h.b.AddExpire(uint32(left))
	}
	if steps != nil && transfer.Datagram(&h.b, steps, &r.Query, 0) {
		h.Counts.Transfers.Add(1)
		h.Counts.Increments.Add(1)
		return h.b.Finish(), nil // which may be lost: whether it came is asked later
	}
	return h.soaAlone(dst, snap), nil
}

// soaAlone is a response with the present SOA.
func (h *Handler) soaAlone(dst []byte, snap *zone.Snapshot) []byte {
	var apex zone.Node
	snap.ApexNode(&apex)
	soa, _ := apex.Find(rr.TypeSOA)
	h.b.Begin(dst, &h.r.Query, h.r.Limit, udpLimit)
	h.b.SetFlag(message.FlagAA)
	h.b.Record(message.AnswerSection, message.QName, rr.TypeSOA, soa.TTL, soa.First())
	return h.b.Finish()
}

// notify takes a NOTIFY from a primary (RFC 1996 §3.10, §3.11).
func (h *Handler) notify(dst []byte) ([]byte, *Job) {
	r := &h.r
	z := r.View.Exact(r.Name)
	if z == nil || len(z.Primaries()) == 0 || r.Type != rr.TypeSOA {
		return h.because(dst, message.NotAuth, message.NotAuthoritative), nil
	}
	p := r.senderAmong(z.Primaries())
	if p == nil {
		h.Stranger("NOTIFY from a stranger refused", "zone", z.Name().String(), "from", r.From.String())
		return h.because(dst, message.Refused, message.Prohibited), nil
	}
	h.Zones.Heard(p.Address)
	if snap := z.Snapshot(); !r.HasSerial || snap == nil || rr.NewerSerial(r.Serial, snap.Serial()) {
		z.Changed()
	}
	h.b.Begin(dst, &r.Query, r.Limit, udpLimit)
	h.b.SetFlag(message.FlagAA)
	return h.b.Finish(), nil
}
