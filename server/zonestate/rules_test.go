package zonestate

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/server/frontend"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/zone"
)

// The rules for transfers by their number in the list that docs/conformance.md explains.

// running starts a server on loopback.
func running(t *testing.T, s *Zones, zones ...Zone) netip.AddrPort {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	e, err := netio.System.Listen(netip.MustParseAddrPort("127.0.0.1:0"), 1)
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	loaded := s.Begin(ctx, &Config{Zones: zones}, []netip.AddrPort{e.Addr}, &wg)
	(&frontend.Frontend{Env: s.Requests(), Clock: netio.Real, IsPeer: s.IsPeer}).Serve(ctx, e, &wg)
	t.Cleanup(wg.Wait)
	t.Cleanup(e.Close)
	t.Cleanup(cancel)
	<-loaded
	return e.Addr
}

var localPeer = Peer{Name: "p", Address: netip.MustParseAddrPort("127.0.0.1:53")}

// bigZone has so many hosts, a delegation with glue, and a name below it.
func bigZone(t *testing.T, serial uint32, hosts int) *zone.Snapshot {
	t.Helper()
	b := zone.NewBuilder(dnsname.MustParse("a."), false)
	add := func(owner string, typ rr.Type, data string) {
		if err := b.AddRecord(rr.Record{Name: dnsname.MustParse(owner), Type: typ, TTL: 60, Data: []byte(data)}); err != nil {
			t.Fatal(err)
		}
	}
	add("a.", rr.TypeSOA, string(soa(serial)))
	add("a.", rr.TypeNS, "\x02ns\x01a\x00")
	add("child.a.", rr.TypeNS, "\x02ns\x05child\x01a\x00")
	add("ns.child.a.", rr.TypeA, "\xc0\x00\x02\x01")
	add("hidden.child.a.", rr.TypeTXT, "\x05never")
	for i := range hosts {
		add(fmt.Sprintf("h%d.a.", i), rr.TypeA, "\xc0\x00\x02\x02")
	}
	return b.Build().Snapshot
}

// stream collects what Send writes, message by message.
type stream [][]byte

func (s *stream) Write(b []byte) (int, error) {
	*s = append(*s, bytes.Clone(b[2:]))
	return len(b), nil
}

// H-02 is in TestRights and here: a question with more in it than there may be is a format
// error.
func TestH02_H11(t *testing.T) {
	s := New(Options{})
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: zoneVersion("a.", 7, 1)}).load}, SendTo: []Peer{localPeer}}}}, "")
	from := netip.MustParseAddrPort("127.0.0.1:5")
	filled := ixfr("a.", 1)
	copy(filled[12+3:], []byte{0, byte(rr.TypeAXFR)}) // AXFR with an authority section
	empty := message.AppendQuery(nil, dnsname.MustParse("a."), rr.TypeIXFR, message.QueryOptions{ID: 9})
	for what, msg := range map[string][]byte{"AXFR with an authority section": filled, "IXFR without one": empty} {
		out, job := s.handlerOf().Stream(nil, msg, from)
		if m, err := message.Decode(out); job != nil || err != nil || m.Rcode() != message.FormErr {
			t.Errorf("%s: %v, %v", what, m, err)
		}
	}
}

// H-03, H-04, H-05, H-06: the stream is one version, whole and in order, also when the zone
// changes meanwhile and when the child of one of its delegations is served too.
func TestH03_H04_H05_H06(t *testing.T) {
	s := New(Options{})
	src := &source{snap: bigZone(t, 7, 100000)}
	child := &source{snap: zoneVersion("child.a.", 3, 9)}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, SendTo: []Peer{localPeer}}, {Name: dnsname.MustParse("child.a."), Origin: &Files{Load: child.load}}}}
	s.Apply(t.Context(), cfg, "")
	query := message.AppendQuery(nil, dnsname.MustParse("a."), rr.TypeAXFR, message.QueryOptions{ID: 9})
	_, job := s.handlerOf().Stream(nil, query, netip.MustParseAddrPort("127.0.0.1:5"))
	if job == nil {
		t.Fatal("no transfer")
	}
	was := src.snap
	src.snap = bigZone(t, 8, 10)
	s.Apply(t.Context(), cfg, "")
	var q message.Query
	message.ParseQuery(query, &q)
	var sent stream
	if err := transfer.Send(&sent, job.Body, &q, nil, -1, time.Now); err != nil {
		t.Fatal(err)
	}
	if n := len(sent); n > was.Records()/100 || n < 2 {
		t.Errorf("%d messages for %d records", n, was.Records())
	}
	got := zone.NewBuilder(dnsname.MustParse("a."), false)
	soas, records := 0, 0
	for i, msg := range sent {
		m, err := message.Decode(msg)
		if err != nil || m.ID != 9 || m.Flags&(message.FlagAA|message.FlagTC) != message.FlagAA || len(m.Authority) != 0 || i == 0 && len(m.Question) != 1 {
			t.Fatalf("message %d: %+v, %v", i, m, err)
		}
		for _, r := range m.Answer {
			if records++; r.Type == rr.TypeSOA {
				if soas++; soas == 1 && records != 1 || soas == 2 && records != was.Records()+1 {
					t.Errorf("SOA %d is record %d", soas, records)
				}
			}
			if r.Type == rr.TypeNS && r.Name.Equal(dnsname.MustParse("child.a.")) && string(r.Data) != "\x02ns\x05child\x01a\x00" {
				t.Error("the NS records at the cut are the child's own")
			}
			if err := got.AddRecord(r); err != nil {
				t.Fatal(err)
			}
		}
	}
	if soas != 2 || !zone.Equal(got.Build().Snapshot, was) {
		t.Errorf("%d SOA records; it is the version that was asked for: %v", soas, soas == 2)
	}
}

// H-10: several transfers and questions at once on one connection, told apart by their ID.
func TestH10(t *testing.T) {
	snap := bigZone(t, 7, 5000)
	s := New(Options{})
	at := running(t, s, Zone{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: snap}).load}, SendTo: []Peer{localPeer}})
	conn, err := net.Dial("tcp", at.String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	var all []byte
	for id, typ := range []rr.Type{rr.TypeAXFR, rr.TypeSOA, rr.TypeAXFR, rr.TypeNS} {
		msg := message.AppendQuery(nil, dnsname.MustParse("a."), typ, message.QueryOptions{ID: uint16(id + 1)})
		all = append(binary.BigEndian.AppendUint16(all, uint16(len(msg))), msg...)
	}
	if _, err := conn.Write(all); err != nil {
		t.Fatal(err)
	}
	records := map[uint16]int{}
	want := map[uint16]int{1: snap.Records() + 1, 2: 1, 3: snap.Records() + 1, 4: 1}
	for done := false; !done; {
		_ = conn.SetReadDeadline(time.Now().Add(30 * time.Second))
		msg, err := resolve.ReadTCP(conn, nil)
		if err != nil {
			t.Fatalf("after %v: %v", records, err)
		}
		h := message.ParseHeader(msg)
		records[h.ID] += int(h.Counts[1])
		done = true
		for id, n := range want {
			done = done && records[id] >= n
		}
	}
	for id, n := range want {
		if records[id] != n {
			t.Errorf("request %d got %d records, want %d", id, records[id], n)
		}
	}
}

// H-32, H-45: TSIG stands at the end or the request is a format error, and an unsigned
// request has an unsigned answer.
func TestH32_H45(t *testing.T) {
	key := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}
	s := New(Options{})
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: zoneVersion("a.", 7, 1)}).load}, SendTo: []Peer{{Name: "k", Address: localPeer.Address, Key: key}}}}}, "")
	plain := message.AppendQuery(nil, dnsname.MustParse("a."), rr.TypeSOA, message.QueryOptions{ID: 9})
	signed := tsig.NewStream(key).Sign(plain, time.Now())
	behind := append(bytes.Clone(signed), 0, 0, byte(rr.TypeOPT), 4, 0xd0, 0, 0, 0, 0, 0, 0)
	behind[11]++
	twice := append(bytes.Clone(signed), signed[len(plain):]...)
	twice[11]++
	for what, msg := range map[string][]byte{"TSIG before OPT": behind, "two of them": twice} {
		m, err := message.Decode(s.handlerOf().Datagram(nil, msg, netip.MustParseAddrPort("127.0.0.1:5")))
		if err != nil || m.Rcode() != message.FormErr {
			t.Errorf("%s: %v, %v", what, m, err)
		}
	}
	if off, err := message.FindTSIG(s.handlerOf().Datagram(nil, plain, netip.MustParseAddrPort("127.0.0.1:5"))); off != 0 || err != nil {
		t.Errorf("an unsigned request has a signed answer: %v", err)
	}
}
