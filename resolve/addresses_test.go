package resolve_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
)

// What resolvers say of the addresses of a host, and what that comes to.
func TestAddressesOf(t *testing.T) {
	type record struct {
		owner string
		t     rr.Type
		ttl   uint32
		data  string
	}
	wire := func(n string) string { return dnsname.MustParse(n).Wire() }
	four, six := "\xc0\x00\x02\x01", "\x20\x01\x0d\xb8\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01"
	answering := func(code message.Rcode, change func([]byte) []byte, records []record) netip.AddrPort {
		return server(t, func(query []byte, send func([]byte)) {
			var q message.Query
			message.ParseQuery(query, &q)
			var b message.Builder
			b.Begin(nil, &q, message.MaxLen, 1232)
			b.SetRcode(code)
			for _, r := range records {
				if r.t == q.Type || r.t == rr.TypeCNAME {
					b.Record(message.AnswerSection, []byte(wire(r.owner)), r.t, r.ttl, []byte(r.data))
				}
			}
			send(change(b.Finish()))
		})
	}
	resolver := func(code message.Rcode, records ...record) netip.AddrPort {
		return answering(code, func(msg []byte) []byte { return msg }, records)
	}
	chaos := func(x record) netip.AddrPort {
		fixed := binary.BigEndian.AppendUint32([]byte{0, byte(x.t), 0, byte(rr.ClassIN)}, x.ttl)
		other := binary.BigEndian.AppendUint32([]byte{0, byte(x.t), 0, byte(rr.ClassCH)}, x.ttl)
		return answering(0, func(msg []byte) []byte { return bytes.ReplaceAll(msg, fixed, other) }, []record{x})
	}
	many := func(n int) (out []record) {
		for i := range n {
			out = append(out, record{name.String(), rr.TypeA, 60, string([]byte{192, 0, 2, byte(i)})})
		}
		return out
	}
	host := name.String()
	for what, c := range map[string]struct {
		at   []netip.AddrPort
		want string
		err  error
	}{
		"both kinds":       {[]netip.AddrPort{resolver(0, record{host, rr.TypeA, 60, four}, record{host, rr.TypeAAAA, 30, six})}, "1 1 30s", nil},
		"one kind":         {[]netip.AddrPort{resolver(0, record{host, rr.TypeA, 60, four}, record{host, rr.TypeA, 60, "\xc0\x00\x02\x02"})}, "2 0 1m0s", nil},
		"behind aliases":   {[]netip.AddrPort{resolver(0, record{host, rr.TypeCNAME, 20, wire("a.example.")}, record{"a.example.", rr.TypeCNAME, 90, wire("b.example.")}, record{"b.example.", rr.TypeA, 60, four})}, "1 0 20s", nil},
		"in class CH":      {[]netip.AddrPort{chaos(record{host, rr.TypeA, 60, four})}, "0 0 0s", resolve.ErrNoAddresses},
		"as many as may":   {[]netip.AddrPort{resolver(0, many(64)...)}, "64 0 1m0s", nil},
		"one too many":     {[]netip.AddrPort{resolver(0, many(65)...)}, "0 0 0s", errAny},
		"of another":       {[]netip.AddrPort{resolver(0, record{"b.example.", rr.TypeA, 60, four})}, "0 0 0s", resolve.ErrNoAddresses},
		"aliases for ever": {[]netip.AddrPort{resolver(0, record{host, rr.TypeCNAME, 20, wire(host)}, record{"b.example.", rr.TypeA, 60, four})}, "0 0 0s", resolve.ErrNoAddresses},
		"nothing":          {[]netip.AddrPort{resolver(0)}, "0 0 0s", resolve.ErrNoAddresses},
		"no such name":     {[]netip.AddrPort{resolver(message.NXDomain, record{host, rr.TypeA, 60, four})}, "0 0 0s", resolve.ErrNoAddresses},
		"the second":       {[]netip.AddrPort{resolver(message.ServFail), resolver(0, record{host, rr.TypeA, 60, four})}, "1 0 1m0s", nil},
		"none that works":  {[]netip.AddrPort{resolver(message.ServFail), resolver(message.Refused)}, "0 0 0s", errAny},
		"nobody":           {nil, "0 0 0s", resolve.ErrUnreachable},
	} {
		got, err := resolve.AddressesOf(t.Context(), nil, c.at, name)
		if s := fmt.Sprintf("%d %d %s", len(got.Sets[rr.TypeA]), len(got.Sets[rr.TypeAAAA]), got.TTL); s != c.want {
			t.Errorf("%s: %s, want %s", what, s, c.want)
		}
		if c.err == errAny && err == nil || c.err != errAny && !errors.Is(err, c.err) {
			t.Errorf("%s: %v, want %v", what, err, c.err)
		}
	}
}

var errAny = errors.New("any error")
