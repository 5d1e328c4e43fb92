package message_test

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

var name = dnsname.MustParse("www.Saltmarsh.example.")

func query(o message.QueryOptions) []byte { return message.AppendQuery(nil, name, rr.TypeA, o) }

// with replaces octets of a message.
func with(msg []byte, at int, octets ...byte) []byte {
	out := bytes.Clone(msg)
	copy(out[at:], octets)
	return out
}

func TestParseQuery(t *testing.T) {
	plain := query(message.QueryOptions{ID: 7, RD: true})
	edns := query(message.QueryOptions{EDNS: true, UDPSize: 4096, DO: true})
	opt := edns[len(plain):]
	two := append(bytes.Clone(edns), opt...)
	two[11] = 2
	for _, c := range []struct {
		what    string
		msg     []byte
		verdict message.Verdict
		code    message.Rcode
	}{
		{"a plain question", plain, message.Answer, 0},
		{"EDNS", edns, message.Answer, 0},
		{"shorter than a header", plain[:11], message.Drop, 0},
		{"an answer", with(plain, 2, 0x80), message.Drop, 0},
		{"opcode 2", with(plain, 2, 2<<3), message.Respond, message.NotImp},
		{"opcode 15", with(plain, 2, 15<<3), message.Respond, message.NotImp},
		{"two questions", with(plain, 5, 2), message.Respond, message.FormErr},
		{"no question", with(plain[:12], 5, 0), message.Respond, message.FormErr},
		{"a question that is announced and missing", plain[:12], message.Respond, message.FormErr},
		{"a cut name", plain[:20], message.Respond, message.FormErr},
		{"a compressed question", append(bytes.Clone(plain[:12]), 0xc0, 0, 0, 1, 0, 1), message.Respond, message.FormErr},
		{"stray octets", append(bytes.Clone(plain), 0, 0, 0), message.Respond, message.FormErr},
		{"two OPT records", two, message.Respond, message.FormErr},
		{"EDNS version 1", with(edns, len(edns)-5, 1), message.Respond, message.BadVers},
		{"an option past the end", append(with(edns, len(edns)-1, 4), 0, 10, 0, 8), message.Respond, message.FormErr},
		{"a record count without records", with(plain, 11, 1), message.Respond, message.FormErr},
		{"reserved bits set", with(plain, 3, 0x40), message.Answer, 0},
	} {
		var q message.Query
		if v, code := message.ParseQuery(c.msg, &q); v != c.verdict || code != c.code {
			t.Errorf("%s: verdict %d, code %s; want %d, %s", c.what, v, code, c.verdict, c.code)
		}
	}
	var q message.Query
	message.ParseQuery(edns, &q)
	if !q.HasEDNS || q.UDPSize != 4096 || !q.DO || string(q.Name) != name.Wire() || q.Type != rr.TypeA {
		t.Errorf("read as %+v", q)
	}
	message.ParseQuery(query(message.QueryOptions{EDNS: true, UDPSize: 100}), &q)
	if q.UDPSize != message.MinUDP {
		t.Errorf("a size of 100 counts as %d (RFC 6891 §6.2.3)", q.UDPSize)
	}
}

func begin(t *testing.T, msg []byte, limit int) (*message.Builder, *message.Query) {
	t.Helper()
	var q message.Query
	if v, _ := message.ParseQuery(msg, &q); v == message.Drop {
		t.Fatal("the query is not a query")
	}
	b := &message.Builder{}
	b.Begin(nil, &q, limit, 1232)
	return b, &q
}

func TestBuilder(t *testing.T) {
	b, _ := begin(t, query(message.QueryOptions{ID: 0x1234, RD: true, EDNS: true, UDPSize: 1232, DO: true}), 1232)
	b.SetFlag(message.FlagAA)
	mx := "\x00\x0a\x04mail\x09Saltmarsh\x07example\x00"
	if !b.Record(message.AnswerSection, message.QName, rr.TypeMX, 300, []byte(mx)) ||
		!b.Record(message.AuthoritySection, []byte("\x09Saltmarsh\x07example\x00"), rr.TypeNS, 60, []byte("\x02ns\x05other\x00")) ||
		!b.Record(message.AdditionalSection, []byte("\x04mail\x09Saltmarsh\x07example\x00"), rr.TypeA, 60, []byte{192, 0, 2, 1}) ||
		!b.Record(message.AdditionalSection, []byte("\x04mail\x09saltmarsh\x07example\x00"), rr.TypeSRV, 60, []byte("\x00\x00\x00\x00\x00\x01\x04mail\x09Saltmarsh\x07example\x00")) {
		t.Fatal("records do not fit")
	}
	b.SetEDE(20)
	raw := b.Finish()
	m, err := message.Decode(raw)
	if err != nil {
		t.Fatal(err)
	}
	if m.ID != 0x1234 || m.Flags&(message.FlagQR|message.FlagAA|message.FlagRD) != message.FlagQR|message.FlagAA|message.FlagRD || m.Trailing != 0 {
		t.Errorf("header %+v", m.Header)
	}
	if more, err := message.Decode(append(bytes.Clone(raw), 1, 2, 3)); err != nil || more.Trailing != 3 {
		t.Errorf("three octets behind the message: %+v, %v", more, err)
	}
	if m.Question[0].Name != name || string(m.Answer[0].Data) != mx || m.Answer[0].Name != name {
		t.Errorf("answer %v", m.Answer)
	}
	if m.EDNS == nil || !m.EDNS.DO || len(m.EDNS.Options) != 1 || m.EDNS.Options[0].Code != message.OptionEDE || m.EDNS.Options[0].Data[1] != 20 {
		t.Errorf("EDNS %+v", m.EDNS)
	}
	// The names of the old types point, case by case; the target of SRV does not
	// (RFC 3597 §4).
	if bytes.Count(raw, []byte("\x09Saltmarsh")) != 2 || bytes.Count(raw, []byte("\x09saltmarsh")) != 1 {
		t.Errorf("compression: %q", raw)
	}
	if m.Additional[1].Name.String() != "mail.saltmarsh.example." {
		t.Errorf("the case of an owner was lost: %s", m.Additional[1].Name)
	}
}

func TestRollback(t *testing.T) {
	b, _ := begin(t, query(message.QueryOptions{EDNS: true}), 120)
	mark := b.Mark()
	n := 0
	for b.Record(message.AnswerSection, message.QName, rr.TypeA, 60, []byte{192, 0, 2, byte(n)}) {
		mark = b.Mark()
		n++
	}
	b.Rollback(mark)
	raw := b.Finish()
	m, err := message.Decode(raw)
	if err != nil || len(m.Answer) != n || len(raw) > 120 || n == 0 || m.EDNS == nil {
		t.Errorf("%d records in %d octets, %v", n, len(raw), err)
	}
}

// Responses without EDNS have none, whatever the code (RFC 6891 §7).
func TestCodes(t *testing.T) {
	for _, edns := range []bool{true, false} {
		b, _ := begin(t, query(message.QueryOptions{EDNS: edns}), 512)
		b.SetRcode(message.BadVers)
		m, err := message.Decode(b.Finish())
		if err != nil || (m.EDNS != nil) != edns || edns && m.ExtendedRcode != message.BadVers {
			t.Errorf("EDNS %v: %+v, %v", edns, m, err)
		}
	}
}

func TestTransferNames(t *testing.T) {
	apex := dnsname.MustParse("saltmarsh.example.")
	raw := message.AppendQuery(nil, apex, rr.TypeAXFR, message.QueryOptions{})
	for _, c := range []struct {
		t      rr.Type
		data   string
		text   string
		octets int // of the data in the message
	}{
		{rr.TypeCNAME, "\x03web\x09saltmarsh\x07example\x00", "web.saltmarsh.example.", 6},
		{rr.TypeNS, "\x02ns\x0bxsaltmarsh9\x07example\x00", "ns.xsaltmarsh9.example.", 24},
		{rr.TypeMX, "\x00\x0a\x04mail\x09saltmarsh\x07example\x00", "10 mail.saltmarsh.example.", 9},
		{rr.TypePTR, "\x09saltmarsh\x07example\x00", "saltmarsh.example.", 2},
		{14, "\x01a\x09saltmarsh\x07example\x00\x01b\x09saltmarsh\x07example\x00", "a.saltmarsh.example. b.saltmarsh.example.", 8},
		{rr.TypeSRV, "\x00\x01\x00\x02\x00\x03\x09saltmarsh\x07example\x00", "1 2 3 saltmarsh.example.", 25},
	} {
		b, q := begin(t, raw, message.MaxLen)
		b.Transfer(q, 0)
		before := b.Len()
		rest := b.TransferSet([]byte("\x03www"), c.t, 60, append([]byte{byte(len(c.data))}, c.data...))
		octets := b.Len() - before - len("\x03www") - 12
		m, err := message.Decode(b.Finish())
		if err != nil || len(rest) > 0 || m.Answer[0].Name.String() != "www.saltmarsh.example." || rr.DataText(c.t, m.Answer[0].Data) != c.text || octets != c.octets {
			t.Errorf("%s: %v in %d octets, %v", c.t, m.Answer, octets, err)
		}
	}
}

// What is written does not depend on the memory that it is written to, up to the longest names.
func TestTransferMemory(t *testing.T) {
	raw := message.AppendQuery(nil, dnsname.Root, rr.TypeAXFR, message.QueryOptions{})
	write := func(memory, owner, data int) []byte {
		var q message.Query
		message.ParseQuery(raw, &q)
		var b message.Builder
		b.Begin(make([]byte, 0, memory), &q, message.MaxLen, 1232)
		b.Transfer(&q, 0)
		var relative []byte
		for left := owner; left > 0; left = owner - len(relative) {
			n := min(63, left-1)
			relative = append(append(relative, byte(n)), bytes.Repeat([]byte{'x'}, n)...)
		}
		items := append([]byte{byte(data)}, bytes.Repeat([]byte{'d'}, data)...)
		more := len(items) % 2 * 16 // octets behind them, as in a page, or none
		items = slices.Repeat(items, 2+more)[:2*len(items)]
		if rest := b.TransferSet(relative, rr.TypeTXT, 60, items); len(rest) > 0 {
			t.Fatalf("%d octets were left", len(rest))
		}
		return b.Finish()
	}
	for _, owner := range []int{0, 2, 15, 16, 17, 64, 200, 254} {
		for _, data := range []int{0, 1, 4, 5, 15, 16, 17, 100} {
			want := write(4096, owner, data)
			for memory := range 900 {
				if got := write(memory, owner, data); !bytes.Equal(got, want) {
					t.Fatalf("owner %d, data %d, memory %d: %x, want %x", owner, data, memory, got, want)
				}
			}
		}
	}
}

func TestDecodeFaults(t *testing.T) {
	b, _ := begin(t, query(message.QueryOptions{EDNS: true}), 512)
	b.Record(message.AnswerSection, message.QName, rr.TypeA, 1<<31+5, []byte{192, 0, 2, 1})
	raw := b.Finish()
	m, err := message.Decode(raw)
	if err != nil || m.Answer[0].TTL != 0 {
		t.Errorf("a TTL with the top bit counts as 0 (RFC 2181 §8): %v, %v", m.Answer, err)
	}
	for n := range raw {
		if _, err := message.Decode(raw[:n]); err == nil {
			t.Errorf("cut to %d octets it is read without error", n)
		}
	}
	if _, err := message.Decode(raw[:5]); !errors.Is(err, message.ErrShort) {
		t.Error("a short message")
	}
	short := with(raw, len(raw)-11-4-1, 3) // RDLENGTH of the A record
	if _, err := message.Decode(short); err == nil {
		t.Error("an A record of three octets was read")
	}
}

func TestFindTSIG(t *testing.T) {
	raw := query(message.QueryOptions{EDNS: true})
	if off, err := message.FindTSIG(raw); off != 0 || err != nil {
		t.Errorf("found at %d, %v", off, err)
	}
	signed := append(bytes.Clone(raw), 0, 0, byte(rr.TypeTSIG), 0, 255, 0, 0, 0, 0, 0, 0)
	signed[11]++
	if off, err := message.FindTSIG(signed); off != len(raw) || err != nil {
		t.Errorf("found at %d, %v; want %d", off, err, len(raw))
	}
	if _, err := message.FindTSIG(signed[:len(signed)-1]); err == nil {
		t.Error("a cut message")
	}
}

func TestNoAllocations(t *testing.T) {
	raw := query(message.QueryOptions{EDNS: true, UDPSize: 1232})
	var q message.Query
	var b message.Builder
	buf := make([]byte, 0, 1500)
	mx, a := []byte("\x00\x0a\x04mail\x09Saltmarsh\x07example\x00"), []byte{192, 0, 2, 1}
	if n := testing.AllocsPerRun(100, func() {
		message.ParseQuery(raw, &q)
		b.Begin(buf, &q, 1232, 1232)
		b.Record(message.AnswerSection, message.QName, rr.TypeMX, 300, mx)
		b.Record(message.AdditionalSection, mx[2:], rr.TypeA, 300, a)
		b.Finish()
	}); n != 0 {
		t.Errorf("reading a question and writing an answer allocates %v times", n)
	}
}

// pack writes a message taken apart anew.
func pack(m *message.Message, q *message.Query) ([]byte, bool) {
	var b message.Builder
	b.Begin(nil, q, message.MaxLen, 1232)
	for i, section := range [][]rr.Record{m.Answer, m.Authority, m.Additional} {
		for _, r := range section {
			if r.Class != rr.ClassIN || r.Type == rr.TypeTSIG || !b.Record(message.Section(i+1), []byte(r.Name.Wire()), r.Type, r.TTL, r.Data) {
				return nil, false
			}
		}
	}
	return b.Finish(), true
}

// FuzzMessage: nothing makes the readers panic, and what was read and written
// again reads as the same.
func FuzzMessage(f *testing.F) {
	f.Add(query(message.QueryOptions{EDNS: true, UDPSize: 1232, DO: true}))
	f.Add(query(message.QueryOptions{Opcode: message.OpNotify}))
	r := rand.New(rand.NewPCG(1, 1))
	for range 10 {
		var q message.Query
		raw := query(message.QueryOptions{EDNS: true})
		message.ParseQuery(raw, &q)
		var b message.Builder
		b.Begin(nil, &q, 512, 1232)
		b.Record(message.AnswerSection, message.QName, rr.TypeMX, 300, []byte("\x00\x0a\x04mail\x09Saltmarsh\x07example\x00"))
		b.Record(message.AnswerSection, []byte(name.Wire()), rr.TypeTXT, uint32(r.IntN(100)), []byte("\x03abc"))
		f.Add(b.Finish())
	}
	f.Fuzz(func(t *testing.T, msg []byte) {
		var q message.Query
		message.ParseQuery(msg, &q)
		_, _ = message.FindTSIG(msg)
		if off, err := message.AfterQuestions(msg); err == nil {
			var it message.Records
			it.Reset(msg, off, 100)
			for it.Next() {
			}
		}
		m, err := message.Decode(msg)
		if err != nil {
			return
		}
		asked := message.AppendQuery(nil, name, rr.TypeA, message.QueryOptions{})
		message.ParseQuery(asked, &q)
		raw, ok := pack(m, &q)
		if !ok {
			return
		}
		again, err := message.Decode(raw)
		if err != nil {
			t.Fatalf("%x is written as %x, which does not read: %v", msg, raw, err)
		}
		for i, s := range [][]rr.Record{m.Answer, m.Authority, m.Additional} {
			other := [][]rr.Record{again.Answer, again.Authority, again.Additional}[i]
			for j, r := range s {
				if o := other[j]; o.Name != r.Name || o.Type != r.Type || o.TTL != r.TTL || !bytes.Equal(o.Data, r.Data) {
					t.Fatalf("record %v comes back as %v", r, o)
				}
			}
		}
	})
}

func BenchmarkParseQuery(b *testing.B) {
	raw := query(message.QueryOptions{EDNS: true, UDPSize: 1232})
	var q message.Query
	for b.Loop() {
		message.ParseQuery(raw, &q)
	}
}

// Options are added as long as they fit, all of them or none.
func TestAddOptions(t *testing.T) {
	q := query(message.QueryOptions{EDNS: true, UDPSize: 1232})
	for room := range 40 {
		for size := range 40 {
			b, _ := begin(t, q, 1232)
			for b.Len()+room < 512 && b.Record(message.AnswerSection, message.QName, rr.TypeNULL, 1, make([]byte, max(0, min(100, 512-room-b.Len()-12)))) {
			}
			had := b.Len()
			ok := b.AddOptions(make([]byte, size))
			if fits := size > 0 && size <= 1232-had; ok != fits {
				t.Fatalf("%d octets of options at %d: %v", size, had, ok)
			}
		}
	}
}
