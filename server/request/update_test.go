package request

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"fencepost/message"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/update"
)

// Requests to change a zone: what is asked for goes on as it is, what comes of it comes back, signed
// with the key of whoever asked, at once over connections and later over datagrams (I-01, I-23, I-26).
func TestUpdates(t *testing.T) {
	change := (&update.Request{Zone: apex, Changes: []rr.Record{{Name: apex, Type: rr.TypeTXT, Class: rr.ClassIN, TTL: 60, Data: []byte("\x01x")}}}).Append(nil, 4711)
	sign := func(msg []byte) []byte { return tsig.NewStream(peerKey).Sign(bytes.Clone(msg), at) }
	end := message.HeaderLen + len(apex.Wire()) + 4
	two := slices.Concat(change[:end], change[message.HeaderLen:]) // zones in the zone section
	two[5] = 2
	elsewhere := (&update.Request{Zone: apex.Parent()}).Append(nil, 4711)
	asNotify := query("tides.example.", rr.TypeA, message.QueryOptions{Opcode: message.OpUpdate})
	no := &update.Refusal{Code: message.YXRRSet, Why: "tides.example. TXT exists"}
	for _, c := range []struct {
		what    string
		msg     []byte
		outcome *update.Refusal
		code    message.Rcode
		asked   bool // the zone is
	}{
		{"signed", sign(change), nil, message.NoError, true},
		{"that is refused", sign(change), no, message.YXRRSet, true},
		{"not signed", change, nil, message.Refused, false},
		{"two zones", sign(two), nil, message.FormErr, false},
		{"another zone", sign(elsewhere), nil, message.NotAuth, false},
		{"another type than SOA", sign(asNotify), nil, message.FormErr, false},
	} {
		for _, over := range []Transport{UDP, TCP} {
			w := newWorld(t)
			var asked []Update
			var later func(*update.Refusal)
			w.update = func(u Update, done func(*update.Refusal)) {
				asked = append(asked, u)
				if later = done; over == TCP {
					done(c.outcome)
				}
			}
			h := New(w.env(), netip.AddrPort{})
			var sent []byte
			h.AnswersLater(func() func([]byte) { return func(msg []byte) { sent = msg } })
			var out []byte
			if over == TCP {
				out, _ = h.Stream(nil, c.msg, other)
			} else if out = h.Datagram(nil, bytes.Clone(c.msg), other); c.asked {
				if len(out) > 0 {
					t.Errorf("%s: there is an answer before anything is done", c.what)
				}
				// The handler works on something else meanwhile.
				if len(h.Datagram(nil, query("tides.example.", rr.TypeNS, message.QueryOptions{}), friend)) == 0 {
					t.Errorf("%s: a question meanwhile has no answer", c.what)
				}
				later(c.outcome)
				out = sent
			}
			m, err := message.Decode(out)
			if err != nil || m.Rcode() != c.code || m.ID != message.ParseHeader(c.msg).ID || m.Opcode() != message.OpUpdate || m.Flags&message.FlagQR == 0 {
				t.Errorf("%s: %+v (%v), want %s", c.what, m, err, c.code)
				continue
			}
			if (len(asked) == 1) != c.asked || c.asked && (asked[0].From != other.Addr() || !asked[0].Key.Equal(peerKey.Name) || len(asked[0].Changes) != 1 || asked[0].Digest != digest(c.msg)) {
				t.Errorf("%s: the zone was asked for %+v", c.what, asked)
			}
			if at, err := message.FindTSIG(out); c.msg[11] == 1 && (err != nil || at == 0) {
				t.Errorf("%s: the answer is not signed", c.what)
			}
		}
	}
}

// The reason goes with the answer to whoever takes EDNS, as far as there is room.
func TestUpdateReason(t *testing.T) {
	edns := []byte{0, 0, 41, 0x10, 0, 0, 0, 0, 0, 0, 0}
	msg := append((&update.Request{Zone: apex}).Append(nil, 1), edns...)
	msg[11] = 1
	w := newWorld(t)
	for _, why := range []string{"no", strings.Repeat("tides ", 100), strings.Repeat("ü", 300)} {
		w.update = func(_ Update, done func(*update.Refusal)) {
			done(&update.Refusal{Code: message.Refused, Why: why})
		}
		out, _ := New(w.env(), netip.AddrPort{}).Stream(nil, tsig.NewStream(peerKey).Sign(bytes.Clone(msg), at), other)
		m, err := message.Decode(out)
		if err != nil {
			t.Fatal(err)
		}
		said := m.EDNS.Errors()
		if len(said) != 1 || said[0].Code != message.Prohibited || said[0].Text == "" || !strings.HasPrefix(why, said[0].Text) || strings.ContainsRune(said[0].Text, '\ufffd') {
			t.Errorf("%.20s: %q", why, said)
		}
	}
}
