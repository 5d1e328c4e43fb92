package sim

import (
	"encoding/binary"

	"fencepost/message"
	"fencepost/rr"
)

// otherwise is a response as a host sends it that answers some questions in another way, over UDP
// and TCP; nil: it does not answer them.
func (h *host) otherwise(out []byte, faults map[Kind]*Fault) []byte {
	alias, fails := faults[AliasAtApex], faults[FailsType]
	if alias == nil && fails == nil {
		return out
	}
	end, err := message.AfterQuestions(out)
	if err != nil {
		return out
	}
	m, err := message.Decode(out)
	if err != nil || len(m.Question) != 1 {
		return out
	}
	q := m.Question[0]
	switch {
	case fails != nil && fails.Type == q.Type && (fails.Zone.IsZero() || q.Name.AtOrBelow(fails.Zone)):
		if fails.Says == Nothing {
			return nil
		}
		return replied(out, end, byte(codes[fails.Says]), nil)
	case alias != nil && q.Name.Equal(alias.Zone):
		target := []byte(alias.Host.Wire())
		answer := append([]byte{0xc0, message.HeaderLen, 0, byte(rr.TypeCNAME), 0, byte(rr.ClassIN), 0, 0, 1, 44, 0, byte(len(target))}, target...)
		return replied(out, end, byte(message.NoError), answer)
	}
	return out
}

// replied is a response with another code and at most one record in its answer; EDNS stays. end is
// where its questions end.
func replied(out []byte, end int, code byte, answer []byte) []byte {
	var opt []byte
	if at := optAt(out); at >= 0 {
		opt = out[at : at+11+int(binary.BigEndian.Uint16(out[at+9:]))]
	}
	next := append([]byte(nil), out[:end]...)
	next[3] = next[3]&0xf0 | code
	clear(next[6:message.HeaderLen])
	if answer != nil {
		next[7] = 1
	}
	if opt != nil {
		next[11] = 1
	}
	return append(append(next, answer...), opt...)
}
