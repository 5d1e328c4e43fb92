package message_test

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// What is asked for with options arrives as it was written, and a padded query has the length
// that it is to have, whatever else is in it.
func TestQueryOptions(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 2026))
	for range 2000 {
		o := message.QueryOptions{ID: uint16(r.Uint32()), EDNS: true, UDPSize: 1232, DO: r.IntN(2) == 0, Expire: r.IntN(3) == 0}
		for range r.IntN(4) {
			data := make([]byte, r.IntN(40))
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			o.Options = append(o.Options, message.Option{Code: uint16(100 + r.IntN(60000)), Data: data})
		}
		if r.IntN(2) == 0 {
			o.Pad = 1 + r.IntN(500)
		}
		name := dnsname.MustParse(strings.Repeat("x", 1+r.IntN(60)) + ".example.")
		msg := message.AppendQuery(nil, name, rr.TypeA, o)
		m, err := message.Decode(msg)
		if err != nil || m.EDNS == nil || m.EDNS.DO != o.DO {
			t.Fatalf("%+v makes %x: %v", o, msg, err)
		}
		got := m.EDNS.Options
		if o.Expire {
			if len(got) == 0 || got[0].Code != message.OptionExpire || len(got[0].Data) != 0 {
				t.Fatalf("%+v has the options %v", o, got)
			}
			got = got[1:]
		}
		if o.Pad > 0 {
			last := got[len(got)-1]
			if len(msg)%o.Pad != 0 || last.Code != message.OptionPadding || len(last.Data) >= o.Pad || strings.Trim(string(last.Data), "\x00") != "" {
				t.Fatalf("padded to %d there are %d octets, with %v", o.Pad, len(msg), last)
			}
			got = got[:len(got)-1]
		}
		if len(got) != len(o.Options) {
			t.Fatalf("%d options became %d", len(o.Options), len(got))
		}
		for i := range got {
			if got[i].Code != o.Options[i].Code || !bytes.Equal(got[i].Data, o.Options[i].Data) {
				t.Fatalf("option %d became %v", i, got[i])
			}
		}
		var q message.Query
		if verdict, _ := message.ParseQuery(msg, &q); verdict != message.Answer || !q.HasEDNS || q.WantsExpire != o.Expire {
			t.Fatalf("the server takes %x for %v", msg, verdict)
		}
	}
}

// Options are told in words; whatever stands in them, something is said.
func TestOptionWords(t *testing.T) {
	for _, c := range []struct {
		o          message.Option
		name, text string
	}{
		{message.Option{Code: 3, Data: []byte("ns7")}, "server", "ns7 (6e7337)"},
		{message.Option{Code: 3, Data: []byte{1, 2}}, "server", "0102"},
		{message.Option{Code: 8, Data: []byte{0, 1, 24, 16, 198, 51, 100}}, "client subnet", "198.51.100.0/24, answer for /16"},
		{message.Subnet(netip.MustParsePrefix("2001:db8:5a17::/48")), "client subnet", "2001:db8:5a17::/48, answer for /0"},
		{message.Option{Code: 9, Data: []byte{0, 0, 14, 16}}, "expires", "in 3600 s"},
		{message.Option{Code: 10, Data: []byte{0xab, 0xcd}}, "cookie", "abcd"},
		{message.Option{Code: 11, Data: []byte{0, 100}}, "connection kept", "10000 ms"},
		{message.Option{Code: 12, Data: make([]byte, 30)}, "padding", "30 octets"},
		{message.Option{Code: 18, Data: []byte("\x06report\x05tides\x07example\x00")}, "reports go to", "report.tides.example."},
		{message.Option{Code: 18, Data: []byte{9, 1}}, "reports go to", "0901"},
		{message.Option{Code: 19, Data: []byte{2, 0, 0, 0, 0, 7}}, "zone version", "serial 7 of the last 2 labels"},
		{message.Option{Code: 65001, Data: []byte{1}}, "option 65001", "01"},
	} {
		if name, text := c.o.Words(); name != c.name || text != c.text {
			t.Errorf("%v is %q: %q, want %q: %q", c.o, name, text, c.name, c.text)
		}
	}
	for code := range uint16(25) {
		for n := range 24 {
			if name, _ := (message.Option{Code: code, Data: bytes.Repeat([]byte{0xff}, n)}).Words(); name == "" {
				t.Errorf("option %d of %d octets has no name", code, n)
			}
		}
	}
	for text, want := range map[string]string{"65001=0a0b": "", "3": "", "x": "is not an option", "70000": "is not an option", "3=0": "not a hexadecimal number"} {
		if _, err := message.ParseOption(text); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
