package message_test

import (
	"math/rand/v2"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// A response that is padded has a multiple of the length wanted, or all the room there is, and never
// more; where there is no room for the option it is left out (RFC 7830 §3, RFC 8467 §4.1).
func TestPaddedResponses(t *testing.T) {
	r := rand.New(rand.NewPCG(7830, 12))
	var b message.Builder
	cut, none := 0, 0
	for range 5000 {
		var q message.Query
		msg := message.AppendQuery(nil, dnsname.MustParse("tides.example."), rr.TypeTXT, message.QueryOptions{EDNS: true})
		if verdict, _ := message.ParseQuery(msg, &q); verdict != message.Answer {
			t.Fatal(verdict)
		}
		q.PadTo = 1 + r.IntN(600)
		limit := 60 + r.IntN(900)
		before := make([]byte, r.IntN(3))
		b.Begin(before, &q, limit, 1232)
		if r.IntN(2) == 0 {
			b.AddOption(message.OptionNSID, make([]byte, r.IntN(40)))
		}
		if r.IntN(2) == 0 {
			b.SetEDE(20)
		}
		out := b.Finish()[len(before):]
		m, err := message.Decode(out)
		if err != nil || len(out) > limit {
			t.Fatalf("limit %d, to %d: %d octets, %v", limit, q.PadTo, len(out), err)
		}
		n := len(m.EDNS.Options)
		switch has := n > 0 && m.EDNS.Options[n-1].Code == message.OptionPadding; {
		case !has && len(out)+4 > limit:
			none++
		case has && len(out) == limit:
			cut++
		case !has || len(out)%q.PadTo != 0:
			t.Fatalf("limit %d, to %d: %d octets, padded %v", limit, q.PadTo, len(out), has)
		}
	}
	if cut == 0 || none == 0 {
		t.Errorf("%d were cut, %d had no room", cut, none)
	}
}
