package message_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// TestBuilderAgainstModel writes random records, names that share endings at every
// offset up to and past 16 KiB among them, and reads them back: what was accepted is
// there, octet for octet, whatever the limit; what was not left no trace.
func TestBuilderAgainstModel(t *testing.T) {
	labels := []string{"a", "A", "b", "mail", "sub", "\x00", "c0\xc0", strings.Repeat("l", 63), strings.Repeat("m", 30)}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 8))
		randomName := func() dnsname.Name {
			n := dnsname.Root
			if r.IntN(3) > 0 {
				n = dnsname.MustParse("Saltmarsh.example.")
			}
			for range r.IntN(7) {
				if longer, err := n.Child(labels[r.IntN(len(labels))]); err == nil {
					n = longer
				}
			}
			return n
		}
		asked := randomName()
		limit := []int{512, 1232, 16383, 16384, 16400, 40000, message.MaxLen}[r.IntN(7)]
		var q message.Query
		o := message.QueryOptions{ID: uint16(seed), EDNS: r.IntN(2) == 0, UDPSize: 4096, DO: r.IntN(2) == 0}
		message.ParseQuery(message.AppendQuery(nil, asked, rr.TypeA, o), &q)
		var b message.Builder
		prefix := bytes.Repeat([]byte{0xee}, r.IntN(5)) // a response follows what is in the buffer
		b.Begin(bytes.Clone(prefix), &q, limit, 1232)
		var want [4][]string
		var whole [][]byte                   // data whose names must not be compressed (RFC 3597 §4)
		if r.IntN(3) == 0 && limit > 20000 { // few names before the place that pointers do not reach
			filler := bytes.Repeat([]byte{1}, 16300+r.IntN(100))
			b.Record(message.AnswerSection, message.QName, 700, 1, filler)
			want[1] = append(want[1], fmt.Sprintf("%s %s %x", asked, rr.Type(700), filler))
		}
		for section := message.AnswerSection; section <= message.AdditionalSection; section++ {
			for range r.IntN(400) {
				owner := randomName()
				t, data := randomData(r, randomName)
				mark, wire := b.Mark(), []byte(owner.Wire())
				if owner.Equal(asked) && r.IntN(2) == 0 {
					wire, owner = message.QName, asked
				}
				if !b.Record(section, wire, t, uint32(seed), data) {
					b.Rollback(mark)
					continue
				}
				if t == 33 {
					whole = append(whole, data)
				}
				want[section] = append(want[section], fmt.Sprintf("%s %s %x", owner, t, data))
			}
		}
		out := b.Finish()
		if !bytes.HasPrefix(out, prefix) || len(out)-len(prefix) > limit {
			t.Fatalf("seed %d: %d octets, limit %d", seed, len(out)-len(prefix), limit)
		}
		m, err := message.Decode(out[len(prefix):])
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		for _, data := range whole {
			if !bytes.Contains(out, data) {
				t.Fatalf("seed %d: the data %x is compressed", seed, data)
			}
		}
		if (m.EDNS != nil) != o.EDNS || m.ID != uint16(seed) {
			t.Errorf("seed %d: EDNS %v, ID %d", seed, m.EDNS != nil, m.ID)
		}
		for s, records := range map[message.Section][]rr.Record{1: m.Answer, 2: m.Authority, 3: m.Additional} {
			var got []string
			for _, rec := range records {
				got = append(got, fmt.Sprintf("%s %s %x", rec.Name, rec.Type, rec.Data))
			}
			if strings.Join(got, "\n") != strings.Join(want[s], "\n") {
				t.Fatalf("seed %d, section %d:\n%s\nwant\n%s", seed, s, strings.Join(got, "\n"), strings.Join(want[s], "\n"))
			}
		}
	}
}

// randomData is data with names that are compressed, names that must not be, and none.
func randomData(r *rand.Rand, name func() dnsname.Name) (rr.Type, []byte) {
	switch r.IntN(6) {
	case 0:
		return rr.TypeNS, []byte(name().Wire())
	case 1:
		return rr.TypeMX, append([]byte{0, 1}, name().Wire()...)
	case 2:
		return rr.TypeSOA, append(append([]byte(name().Wire()), name().Wire()...), make([]byte, 20)...)
	case 3:
		return 33, append([]byte{0, 1, 0, 2, 0, 3}, name().Wire()...) // SRV (RFC 2782: not compressed)
	case 4:
		return 700, bytes.Repeat([]byte{0xc0}, r.IntN(300))
	}
	return rr.TypeA, []byte{192, 0, 2, byte(r.IntN(256))}
}

// A pointer has 14 bits (RFC 1035 §4.1.4): a name whose labels begin at any octet about
// the last that it reaches is read back as it was, the second time too.
func TestLastOctetOfPointers(t *testing.T) {
	owner := dnsname.MustParse("a.b.mail.saltmarsh.example.")
	var q message.Query
	message.ParseQuery(message.AppendQuery(nil, dnsname.Root, rr.TypeA, message.QueryOptions{ID: 1}), &q)
	for size := 16310; size <= 16384; size++ {
		var b message.Builder
		b.Begin(nil, &q, message.MaxLen, message.MaxLen)
		b.Record(message.AnswerSection, []byte{0}, 700, 1, make([]byte, size))
		for range 3 {
			b.Record(message.AnswerSection, []byte(owner.Wire()), rr.TypeA, 1, []byte{192, 0, 2, 1})
		}
		m, err := message.Decode(b.Finish())
		if err != nil || len(m.Answer) != 4 {
			t.Fatalf("behind %d octets: %v", size, err)
		}
		for _, rec := range m.Answer[1:] {
			if !rec.Name.Equal(owner) {
				t.Errorf("behind %d octets: %s", size, rec.Name)
			}
		}
	}
}
