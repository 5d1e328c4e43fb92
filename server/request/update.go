package request

import (
	"bytes"
	"crypto/sha256"
	"unicode/utf8"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/update"
)

// Update is a request to change a zone (RFC 2136), and who asks for it.
type Update struct {
	*update.Request
	Key dnsname.Name // that signed it
	update.Asker
	By string // who gave it, in words, where no key is asked for; else empty
	// Digest tells requests apart: one that comes again has the same.
	Digest [16]byte
}

// AnswersLater implements datagram.Later: changes are answered when they are on stable storage.
func (h *Handler) AnswersLater(wayBack func() func(msg []byte)) { h.wayBack = wayBack }

// update takes a request to change a zone (RFC 2136 §3.1). Requests have to be signed: an address is
// easily made up (RFC 3007 §2).
func (h *Handler) update(dst []byte) ([]byte, *Job) {
	r := &h.r
	z := r.View.Exact(r.Name)
	m, err := message.Decode(r.Raw)
	if err != nil {
		return h.code(dst, message.FormErr), nil
	}
	req, no := update.Read(m)
	switch {
	case no != nil:
		return h.refusing(dst, no), nil
	case z == nil:
		return h.because(dst, message.NotAuth, message.NotAuthoritative), nil
	case r.TSIG == nil:
		h.Stranger("an update that is not signed is refused", "zone", z.Name().String(), "from", r.From.String())
		return h.refusing(dst, &update.Refusal{Code: message.Refused, Why: "changes have to be signed with a key"}), nil
	}
	u := Update{Request: req, Key: r.TSIG.Key().Name, Asker: update.Asker{From: r.From.Addr().Unmap(), Proven: h.proven()}, Digest: digest(r.Raw)}
	if r.Transport != UDP || h.wayBack == nil {
		done := make(chan *update.Refusal, 1)
		z.Update(u, func(no *update.Refusal) { done <- no })
		return h.refusing(dst, <-done), nil
	}
	later, send := h.asItIs(), h.wayBack()
	z.Update(u, func(no *update.Refusal) { send(later.signed(later.refusing(nil, no), 0)) })
	return dst, nil
}

// proven reports whether the request came from where it says: over a connection, or with a cookie that
// counts.
func (h *Handler) proven() bool {
	r := &h.r
	if r.Transport != UDP {
		return true
	}
	id := h.Zones.Identity()
	return id != nil && len(id.Cookies) > 0 && r.Cookie != nil && validLength(r.Cookie) && id.Cookies.Valid(r.Cookie, r.From.Addr(), h.Clock())
}

func digest(msg []byte) [16]byte {
	sum := sha256.Sum256(msg)
	return [16]byte(sum[:])
}

// asItIs is a handler that can respond to the request when h works on another.
func (h *Handler) asItIs() *Handler {
	later := &Handler{Env: h.Env, r: h.r}
	later.r.Raw = bytes.Clone(h.r.Raw)
	message.ParseQuery(later.r.Raw, &later.r.Query)
	return later
}

// refusing is the response to a request to change something; nil: it was done.
func (h *Handler) refusing(dst []byte, no *update.Refusal) []byte {
	if no == nil {
		return h.code(dst, message.NoError)
	}
	h.b.Begin(dst, &h.r.Query, h.r.Limit, udpLimit)
	h.b.AddOptions(h.optionsDue())
	h.b.SetRcode(no.Code)
	if !h.b.AddOption(message.OptionEDE, append([]byte{0, byte(whyRefused[no.Code])}, clipped(no.Why)...)) {
		h.b.SetEDE(whyRefused[no.Code])
	}
	return h.b.Finish()
}

// whyRefused are the extended errors that the reason of a refusal goes with (RFC 8914 §4); others go
// with 0, which means no more than its text.
var whyRefused = map[message.Rcode]message.ExtendedError{message.Refused: message.Prohibited, message.NotAuth: message.NotAuthoritative}

// clipped is a text that fits beside what else a response has.
func clipped(s string) string {
	const most = 100
	for s = s[:min(len(s), most)]; !utf8.ValidString(s); {
		s = s[:len(s)-1]
	}
	return s
}
