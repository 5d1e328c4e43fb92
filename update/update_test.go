package update

import (
	"fmt"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/zone"
)

func rec(name string, c rr.Class, t rr.Type, ttl uint32, data string) rr.Record {
	return rr.Record{Name: dnsname.MustParse(name), Class: c, Type: t, TTL: ttl, Data: []byte(data)}
}

const (
	in, none, all = rr.ClassIN, rr.ClassNone, rr.ClassAny
	addr          = "\xc0\x00\x02\x01"
)

// I-01: one zone, with type SOA.
func TestI01(t *testing.T) {
	q := message.Question{Name: apex, Type: rr.TypeSOA, Class: in}
	other := q
	other.Type = rr.TypeA
	chaos := q
	chaos.Class = rr.ClassCH
	for _, c := range []struct {
		zone []message.Question
		want message.Rcode
	}{{nil, message.FormErr}, {[]message.Question{q, q}, message.FormErr}, {[]message.Question{other}, message.FormErr}, {[]message.Question{chaos}, message.NotAuth}, {[]message.Question{q}, message.NoError}} {
		_, no := Read(&message.Message{Question: c.zone})
		if got := codeOf(no); got != c.want {
			t.Errorf("%v: %s, want %s", c.zone, got, c.want)
		}
	}
}

func codeOf(r *Refusal) message.Rcode {
	if r == nil {
		return message.NoError
	}
	return r.Code
}

// I-03 to I-09: what prerequisites may look like, and when they hold.
func TestI03_I09(t *testing.T) {
	z := build(t, start(1))
	for _, c := range []struct {
		x    []rr.Record
		want message.Rcode
	}{
		{[]rr.Record{rec("other.", all, rr.TypeANY, 0, "")}, message.NotZone},
		{[]rr.Record{rec("xtides.example.", none, rr.TypeANY, 0, "")}, message.NotZone},
		{[]rr.Record{rec("a.tides.example.", all, rr.TypeANY, 0, "")}, message.NoError},
		{[]rr.Record{rec("A.TIDES.example.", all, rr.TypeANY, 0, "")}, message.NoError},
		{[]rr.Record{rec("y.tides.example.", all, rr.TypeANY, 0, "")}, message.NXDomain}, // only names below it
		{[]rr.Record{rec("y.tides.example.", none, rr.TypeANY, 0, "")}, message.NoError},
		{[]rr.Record{rec("q.w.tides.example.", all, rr.TypeANY, 0, "")}, message.NXDomain}, // only by a wildcard
		{[]rr.Record{rec("*.w.tides.example.", all, rr.TypeTXT, 0, "")}, message.NoError},
		{[]rr.Record{rec("c.tides.example.", all, rr.TypeA, 0, "")}, message.NXRRSet}, // only by an alias
		{[]rr.Record{rec("ns.sub.tides.example.", all, rr.TypeA, 0, "")}, message.NoError},
		{[]rr.Record{rec("a.tides.example.", all, rr.TypeMX, 0, "")}, message.NXRRSet},
		{[]rr.Record{rec("a.tides.example.", none, rr.TypeANY, 0, "")}, message.YXDomain},
		{[]rr.Record{rec("a.tides.example.", none, rr.TypeTXT, 0, "")}, message.YXRRSet},
		{[]rr.Record{rec("a.tides.example.", in, rr.TypeA, 0, addr)}, message.NXRRSet}, // a part
		{[]rr.Record{rec("a.tides.example.", in, rr.TypeA, 0, "\xc0\x00\x02\x02"), rec("A.tides.example.", in, rr.TypeA, 0, addr), rec("a.tides.example.", in, rr.TypeA, 0, addr)}, message.NoError},
		{[]rr.Record{rec("a.tides.example.", in, rr.TypeA, 0, addr), rec("a.tides.example.", in, rr.TypeA, 0, "\xc0\x00\x02\x02"), rec("a.tides.example.", in, rr.TypeA, 0, "\xc0\x00\x02\x05")}, message.NXRRSet},
		{[]rr.Record{rec("c.tides.example.", in, rr.TypeCNAME, 0, "\x01A\x05tides\x07example\x00")}, message.NoError},
		{[]rr.Record{rec("a.tides.example.", in, rr.TypeA, 60, addr)}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", all, rr.TypeANY, 1, "")}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", none, rr.TypeA, 0, addr)}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", all, rr.TypeA, 0, addr)}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", in, rr.TypeA, 0, "")}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", rr.ClassCH, rr.TypeA, 0, addr)}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", in, rr.TypeANY, 0, "")}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", all, rr.TypeAXFR, 0, "")}, message.FormErr},
		{[]rr.Record{rec("a.tides.example.", all, rr.TypeANY, 0, ""), rec("a.tides.example.", none, rr.TypeANY, 0, "")}, message.YXDomain},
	} {
		if got := codeOf((&Request{Zone: apex, Prerequisites: c.x}).Check(z)); got != c.want {
			t.Errorf("%v: %s, want %s", c.x, got, c.want)
		}
	}
}

// I-03, I-10, I-24: malformed changes, and records that are not anybody's to make, are found
// before anything is done.
func TestI10_I24(t *testing.T) {
	good := rec("a.tides.example.", in, rr.TypeA, 60, addr)
	for _, c := range []struct {
		x    rr.Record
		want message.Rcode
	}{
		{good, message.NoError},
		{rec("b.tides.example.", all, rr.TypeANY, 0, ""), message.NoError},
		{rec("b.tides.example.", none, rr.TypeA, 0, addr), message.NoError},
		{rec("b.tides.example.", in, 65500, 60, ""), message.NoError},
		{rec("other.example.", in, rr.TypeA, 60, addr), message.NotZone},
		{rec("b.tides.example.", rr.ClassCH, rr.TypeA, 60, addr), message.FormErr},
		{rec("b.tides.example.", in, rr.TypeANY, 60, ""), message.FormErr},
		{rec("b.tides.example.", none, rr.TypeANY, 0, ""), message.FormErr},
		{rec("b.tides.example.", in, rr.TypeOPT, 60, ""), message.FormErr},
		{rec("b.tides.example.", all, 252, 0, ""), message.FormErr},
		{rec("b.tides.example.", all, 253, 0, ""), message.FormErr},
		{rec("b.tides.example.", in, 0, 60, ""), message.FormErr},
		{rec("b.tides.example.", in, 200, 60, ""), message.FormErr},
		{rec("b.tides.example.", none, rr.TypeA, 1<<31, addr), message.FormErr},
		{rec("b.tides.example.", all, rr.TypeA, 60, ""), message.FormErr},
		{rec("b.tides.example.", none, rr.TypeA, 60, addr), message.FormErr},
		{rec("b.tides.example.", all, rr.TypeA, 0, addr), message.FormErr},
		{rec("b.tides.example.", none, rr.TypeA, 0, ""), message.FormErr},
		{rec("b.tides.example.", in, rr.TypeA, 60, addr+"x"), message.FormErr},
		{rec("b.tides.example.", all, rr.TypeRRSIG, 0, ""), message.Refused},
		{rec("b.tides.example.", in, rr.TypeNSEC, 60, "\x00\x00\x01\x40"), message.Refused},
		{rec("b.tides.example.", all, rr.TypeNSEC3, 0, ""), message.Refused},
	} {
		req := &Request{Zone: apex, Changes: []rr.Record{good, c.x, good}}
		if got := codeOf(req.Scan()); got != c.want {
			t.Errorf("%v: %s, want %s", c.x, got, c.want)
		}
		m, err := message.Decode(req.Append(nil, 1)) // what is malformed in itself cannot be read
		if err != nil {
			continue
		}
		came, _ := Read(m)
		if got := codeOf(came.Scan()); got != c.want {
			t.Errorf("%v as a message: %s, want %s", c.x, got, c.want)
		}
	}
}

// I-13 to I-22: what each kind of change does, one after another, and what it leaves alone.
func TestI13_I22(t *testing.T) {
	for _, c := range []struct {
		what   string
		x      []rr.Record
		serial uint32   // afterwards; it was 10
		has    []string // lines of the zone afterwards
		not    []string // and what is not in it
	}{
		{"I-13: an equal record", []rr.Record{rec("A.tides.example.", in, rr.TypeA, 60, addr)}, 10, nil, nil},
		{"I-13: another TTL", []rr.Record{rec("a.tides.example.", in, rr.TypeA, 120, addr)}, 11, []string{"120 a.tides.example. A c0000201", "120 a.tides.example. A c0000202", "60 a.tides.example. TXT"}, nil},
		{"I-13: the same service of an address", []rr.Record{rec("a.tides.example.", in, 11, 60, addr+"\x06\x01"), rec("a.tides.example.", in, 11, 60, addr+"\x11\x01"), rec("a.tides.example.", in, 11, 60, addr+"\x06\x02")},
			11, []string{"WKS c00002010602", "WKS c00002011101"}, []string{"WKS c00002010601"}},
		{"I-14: an alias beside data", []rr.Record{rec("a.tides.example.", in, rr.TypeCNAME, 60, "\x01b\x00")}, 10, nil, nil},
		{"I-14: data beside an alias", []rr.Record{rec("c.tides.example.", in, rr.TypeA, 60, addr)}, 10, nil, nil},
		{"I-14: another alias", []rr.Record{rec("c.tides.example.", in, rr.TypeCNAME, 60, "\x01b\x00")}, 11, []string{"60 c.tides.example. CNAME 016200"}, []string{"CNAME 0161"}},
		{"I-14: an alias in place of data", []rr.Record{rec("a.tides.example.", all, rr.TypeANY, 0, ""), rec("a.tides.example.", in, rr.TypeCNAME, 60, "\x01b\x00")}, 11, []string{"60 a.tides.example. CNAME 016200"}, []string{"a.tides.example. A c0000201"}},
		{"I-15: an older SOA", []rr.Record{rec("tides.example.", in, rr.TypeSOA, 60, string(soa(9, 1)))}, 10, nil, nil},
		{"I-15: the same serial", []rr.Record{rec("tides.example.", in, rr.TypeSOA, 60, string(soa(10, 1)))}, 10, nil, nil},
		{"I-15: a newer SOA", []rr.Record{rec("tides.example.", in, rr.TypeSOA, 60, string(soa(99, 1)))}, 99, []string{"minimum 1"}, nil},
		{"I-15: an SOA elsewhere", []rr.Record{rec("a.tides.example.", in, rr.TypeSOA, 60, string(soa(99, 1)))}, 10, nil, nil},
		{"I-16: the servers of the zone", []rr.Record{rec("tides.example.", all, rr.TypeNS, 0, ""), rec("tides.example.", all, rr.TypeSOA, 0, "")}, 10, nil, nil},
		{"I-16: a set", []rr.Record{rec("a.tides.example.", all, rr.TypeA, 0, "")}, 11, []string{"a.tides.example. TXT"}, []string{"a.tides.example. A "}},
		{"I-17: a name", []rr.Record{rec("a.tides.example.", all, rr.TypeANY, 0, "")}, 11, nil, []string{" a.tides.example."}},
		{"I-17: all of the apex", []rr.Record{rec("tides.example.", in, rr.TypeTXT, 60, "\x01x"), rec("tides.example.", all, rr.TypeANY, 0, "")}, 10, nil, nil},
		{"I-18: one server, then the other", []rr.Record{rec("tides.example.", none, rr.TypeNS, 0, "\x02NS\x00"), rec("tides.example.", none, rr.TypeNS, 0, "\x02nt\x00")}, 11, []string{"60 tides.example. NS 026e7400"}, []string{"NS 026e7300"}},
		{"I-18: the only server of a child", []rr.Record{rec("sub.tides.example.", none, rr.TypeNS, 0, "\x02ns\x03sub\x05tides\x07example\x00")}, 11, nil, []string{"sub.tides.example. NS"}},
		{"I-19: what is not there", []rr.Record{rec("b.tides.example.", all, rr.TypeANY, 0, ""), rec("a.tides.example.", none, rr.TypeA, 0, "\x09\x09\x09\x09")}, 10, nil, nil},
		{"I-20: there and back", []rr.Record{rec("b.tides.example.", in, rr.TypeA, 60, addr), rec("b.tides.example.", all, rr.TypeA, 0, "")}, 10, nil, nil},
		{"I-20: a serial and more", []rr.Record{rec("b.tides.example.", in, rr.TypeA, 60, addr), rec("tides.example.", in, rr.TypeSOA, 60, string(soa(50, 9)))}, 50, []string{"b.tides.example."}, nil},
		{"I-22: a DNAME beside an alias", []rr.Record{rec("c.tides.example.", in, rr.TypeDNAME, 60, "\x01b\x00")}, 10, nil, nil},
	} {
		z := build(t, start(10))
		next, err := (&Request{Zone: apex, Changes: c.x}).Apply(z, func(s uint32) uint32 { return s + 1 })
		if err != nil {
			t.Fatal(err)
		}
		text := "\n" + records(next).dump()
		if next.Serial() != c.serial || (next == z) != (c.serial == 10) || c.serial == 10 && text != "\n"+records(z).dump() {
			t.Errorf("%s: serial %d, want %d:%s", c.what, next.Serial(), c.serial, text)
		}
		for _, l := range c.has {
			if !strings.Contains(text, l) {
				t.Errorf("%s: there is no %q in%s", c.what, l, text)
			}
		}
		for _, l := range c.not {
			if strings.Contains(text, l) {
				t.Errorf("%s: there is %q in%s", c.what, l, text)
			}
		}
	}
}

// I-21, I-22: what a new cut or DNAME hides is kept, and is there again when it is gone.
func TestI21_I22(t *testing.T) {
	for _, over := range []rr.Record{rec("y.tides.example.", in, rr.TypeNS, 60, "\x02ns\x00"), rec("y.tides.example.", in, rr.TypeDNAME, 60, "\x01d\x00")} {
		z := build(t, start(10))
		hidden := func(z *zone.Snapshot) bool {
			var n zone.Node
			if !z.GetName(dnsname.MustParse("x.y.tides.example."), &n) {
				t.Fatal("what was hidden is gone")
			}
			return n.Occluded()
		}
		raise := func(s uint32) uint32 { return s + 1 }
		covered, err := (&Request{Zone: apex, Changes: []rr.Record{over}}).Apply(z, raise)
		if err != nil || !hidden(covered) {
			t.Errorf("%s: %v", over.Type, err)
		}
		back, err := (&Request{Zone: apex, Changes: []rr.Record{rec("y.tides.example.", all, over.Type, 0, "")}}).Apply(covered, raise)
		if err != nil || hidden(back) || back.Serial() != 12 {
			t.Errorf("%s gone again: %v", over.Type, err)
		}
	}
}

// A request as large as a message can be, at one name and at many.
func TestLargeRequests(t *testing.T) {
	for _, names := range []int{1, 2500} {
		req := &Request{Zone: apex}
		for i := range 2500 {
			req.Changes = append(req.Changes, rec(fmt.Sprintf("n%d.tides.example.", i%names), in, rr.TypeA, 60, string([]byte{10, 0, byte(i >> 8), byte(i)})))
		}
		msg := req.Append(nil, 1)
		if len(msg) > 2*message.MaxLen {
			t.Fatalf("%d octets", len(msg))
		}
		z := build(t, start(10))
		next, err := req.Apply(z, func(s uint32) uint32 { return s + 1 })
		if err != nil || next.Records() != z.Records()+2500 {
			t.Fatalf("%d names: %d records, %v", names, next.Records(), err)
		}
		for i := range req.Changes {
			x := &req.Changes[i]
			x.Class, x.TTL = none, 0
		}
		if back, err := req.Apply(next, func(s uint32) uint32 { return s + 1 }); err != nil || records(back).dump() != records(z).dump() {
			t.Fatalf("%d names: %v", names, err)
		}
	}
}

// Whatever comes, nothing panics; what Scan lets through can be carried out, and what follows is a zone
// with an SOA and a server.
func FuzzRequest(f *testing.F) {
	f.Add((&Request{Zone: apex, Prerequisites: []rr.Record{rec("a.tides.example.", all, rr.TypeANY, 0, "")}, Changes: []rr.Record{rec("b.tides.example.", in, rr.TypeA, 60, addr)}}).Append(nil, 1))
	f.Add((&Request{Zone: apex, Changes: []rr.Record{rec("tides.example.", in, rr.TypeSOA, 60, string(soa(50, 9))), rec("tides.example.", none, rr.TypeNS, 0, "\x02ns\x00"), rec("c.tides.example.", all, rr.TypeANY, 0, "")}}).Append(nil, 1))
	z := build(f, start(10))
	f.Fuzz(func(t *testing.T, msg []byte) {
		m, err := message.Decode(msg)
		if err != nil {
			return
		}
		req, no := Read(m)
		if no != nil || !req.Zone.Equal(apex) {
			return
		}
		_ = req.Check(z)
		if req.Scan() != nil {
			return
		}
		next, err := req.Apply(z, func(s uint32) uint32 { return s + 1 })
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := next.SOA(); !ok || (next != z) != rr.NewerSerial(next.Serial(), 10) {
			t.Fatalf("serial %d", next.Serial())
		}
		if _, ok := next.Find(apex, rr.TypeNS, 0); !ok {
			t.Fatal("no server is left")
		}
	})
}
