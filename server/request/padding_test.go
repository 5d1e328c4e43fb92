package request

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"fencepost/message"
	"fencepost/rr"
)

// D-47: over an encrypted transport a response to a request with PADDING has a multiple of 468 octets,
// whatever else is in it; over others, and to who did not ask, it is not padded.
func TestD47(t *testing.T) {
	w := newWorld(t)
	w.identity = &Identity{NSID: []byte("ns1")}
	h, r := New(w.env(), friend), rand.New(rand.NewPCG(7830, 8467))
	padded := 0
	for range 500 {
		q := message.QueryOptions{ID: 7, EDNS: true, UDPSize: 1232, DO: r.IntN(2) == 0}
		asked := r.IntN(3) > 0
		if asked {
			q.Options = append(q.Options, message.Option{Code: message.OptionPadding, Data: make([]byte, r.IntN(300))})
		}
		if r.IntN(2) == 0 {
			q.Options = append(q.Options, message.Option{Code: message.OptionNSID})
		}
		msg := message.AppendQuery(nil, apex, []rr.Type{rr.TypeSOA, rr.TypeNS, rr.TypeTXT, rr.TypeANY}[r.IntN(4)], q)
		over := []Transport{UDP, TCP, Encrypted}[r.IntN(3)]
		before := make([]byte, r.IntN(20)) // such as a length
		verdict, code := message.ParseQuery(msg, &h.r.Query)
		out, _ := h.handle(before, msg, other, over, verdict, code)
		out = out[len(before):]
		m, err := message.Decode(out)
		if err != nil || m.EDNS == nil {
			t.Fatalf("%v: %x", err, out)
		}
		n := 0
		for i, o := range m.EDNS.Options {
			if o.Code == message.OptionPadding {
				n++
				if i != len(m.EDNS.Options)-1 || len(bytes.Trim(o.Data, "\x00")) > 0 {
					t.Fatalf("the padding is %v", m.EDNS.Options)
				}
			}
		}
		if want := asked && over == Encrypted; n > 1 || (n == 1) != want || want && len(out)%468 != 0 {
			t.Fatalf("asked %v, over %d: %d octets with %d paddings", asked, over, len(out), n)
		}
		padded += n
	}
	if padded < 50 {
		t.Errorf("%d were padded", padded)
	}
}
