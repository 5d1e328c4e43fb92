package request

import (
	"errors"

	"fencepost/message"
	"fencepost/tsig"
)

// refusal says why the signature of a request is not accepted.
type refusal struct {
	code   message.Rcode
	tsig   uint16 // what is said in a TSIG record of the response; 0: it has none
	stream *tsig.Stream
}

// identify checks the TSIG of a request (RFC 8945 §5.2). Nil means that it has none, or that
// it is right: then the response is to be signed, for which room is left.
func (h *Handler) identify() *refusal {
	r := &h.r
	if r.Query.TSIG == 0 {
		return nil
	}
	name, err := tsig.KeyName(r.Raw, r.Query.TSIG)
	if err != nil {
		return &refusal{code: message.FormErr}
	}
	var stream *tsig.Stream
	var wrong error = &tsig.Error{Code: tsig.BadKey, Why: "unknown key " + name.String()}
	if key := h.Zones.Key(name); key != nil {
		stream = tsig.NewStream(key)
		_, wrong = stream.Verify(r.Raw, r.Query.TSIG, h.Clock())
	}
	if wrong == nil {
		r.TSIG = stream
		r.Limit -= stream.Key().Size()
		return nil
	}
	var te *tsig.Error
	if !errors.As(wrong, &te) || te.Code == 0 {
		return &refusal{code: message.FormErr}
	}
	h.Stranger("a request with a wrong signature", "from", r.From.String(), "key", name.String(), "why", te.Why)
	return &refusal{message.NotAuth, te.Code, stream}
}

// refuse is the response that says what is wrong with a signature (RFC 8945 §5.3.2).
func (h *Handler) refuse(dst []byte, why *refusal) []byte {
	at := len(dst)
	out := h.code(dst, why.code)
	if why.tsig == 0 {
		return out
	}
	signed := tsig.Refuse(out[at:len(out):len(out)], h.r.Raw, h.r.Query.TSIG, why.tsig, why.stream, h.Clock())
	return append(out[:at], signed...)
}
