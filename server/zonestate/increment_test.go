package zonestate

import (
	"bytes"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/transfer"
	"fencepost/zone"
)

// From each version that was in service there is a way to the newest (RFC 1995 §4), in a
// datagram where it fits (§2); from others, and where the way is longer than the zone,
// the whole zone comes over TCP and the SOA alone over UDP (§4, §5).
func TestChangesAreSent(t *testing.T) {
	s := New(Options{Store: store.InMemory()})
	src := &source{snap: zoneVersion("a.", 1, 0)}
	peer := Peer{Name: "p", Address: netip.MustParseAddrPort("192.0.2.1:53")}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, SendTo: []Peer{peer}}}}
	reload := func(want string) {
		t.Helper()
		if got := results(s.Apply(t.Context(), cfg, "ada")); got != want {
			t.Fatalf("%s, want %s", got, want)
		}
	}
	reload("a. loaded 1 false")
	const versions = 40
	for serial := uint32(2); serial <= versions; serial++ {
		var contents []zone.Content
		for n := range src.snap.Nodes { // what there is, each version read anew as from a file
			c := zone.Content{Owner: src.snap.Owner(n)}
			for set := range n.RRsets {
				for data := range set.Data {
					if set.Type == rr.TypeSOA {
						data = soa(serial)
					}
					c.Records = append(c.Records, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
				}
			}
			contents = append(contents, c)
		}
		contents = append(contents, zone.Content{Owner: dnsname.MustParse(fmt.Sprintf("h%d.a.", serial)), Records: []rr.Record{{Type: rr.TypeTXT, TTL: 60, Data: append([]byte{100}, bytes.Repeat([]byte{'x'}, 100)...)}}})
		fresh, err := zone.NewBuilder(dnsname.MustParse("a."), false).Build().Replace(contents)
		if err != nil {
			t.Fatal(err)
		}
		src.snap = fresh
		reload(fmt.Sprintf("a. loaded %d false", serial))
	}
	from := netip.MustParseAddrPort("192.0.2.1:5")
	records := func(out []byte) []rr.Record {
		t.Helper()
		m, err := message.Decode(out)
		if err != nil || m.Flags&message.FlagAA == 0 {
			t.Fatalf("%v", err)
		}
		return m.Answer
	}
	for serial := uint32(0); serial <= versions+2; serial++ {
		behind := versions - int(serial)
		udp := records(s.handlerOf().Datagram(nil, ixfr("a.", serial), from))
		fits := serial >= 1 && behind > 0 && len(udp) > 1
		if want := serial >= 1 && behind > 0 && behind <= 2; want && !fits || len(udp) > 1 && len(udp) != 4+behind {
			t.Errorf("over UDP from %d: %d records", serial, len(udp))
		}
		_, job := s.handlerOf().Stream(nil, ixfr("a.", serial), from)
		if (job != nil) != (behind > 0) {
			t.Fatalf("over TCP from %d: a transfer: %v", serial, job != nil)
		}
		if job == nil {
			continue
		}
		var sent bytes.Buffer
		var q message.Query
		message.ParseQuery(ixfr("a.", serial), &q)
		if err := transfer.Send(&sent, job.Body, &q, nil, -1, time.Now); err != nil {
			t.Fatal(err)
		}
		got := records(sent.Bytes()[2:])
		wholeZone := got[1].Type != rr.TypeSOA
		// What changed since 2 is nearly all of it: either will do.
		if !wholeZone && len(got) != 4+behind || wholeZone != (serial <= 1) && serial != 2 {
			t.Errorf("over TCP from %d: %d records, whole: %v", serial, len(got), wholeZone)
		}
	}
	list, complete, err := s.Store.History(dnsname.MustParse("a."), dnsname.Name{})
	if err != nil || !complete || len(list) != versions-1 || list[0].By != "ada" || list[0].Way != store.FromFile || list[0].Added != 1 || list[0].Removed != 0 {
		t.Errorf("%d steps, the newest %+v; %v", len(list), list[0], err)
	}
}

// What was read anew and is the same is not another version; what shares most of its
// content shares its pages.
func TestRelated(t *testing.T) {
	b := func(last byte) *zone.Snapshot {
		build := zone.NewBuilder(dnsname.MustParse("a."), false)
		for i := range 5000 {
			data := []byte{192, 0, 2, 1}
			if i == 77 {
				data[3] = last
			}
			name := dnsname.MustParse(fmt.Sprintf("h%d.a.", i))
			if err := build.Add([]byte(name.Wire()), rr.TypeA, 60, data, 0); err != nil {
				t.Fatal(err)
			}
		}
		return build.Build().Snapshot
	}
	one := b(1)
	if same, _ := zone.Share(one, b(1)); same != one {
		t.Error("the same content is another version")
	}
	two := b(2)
	next, _ := zone.Share(one, two)
	if !zone.Equal(next, two) || next == two {
		t.Error("what differs in one record shares nothing")
	}
	start := time.Now()
	for range 1000 {
		zone.Diff(one, next)
	}
	t.Logf("a difference in %s", time.Since(start)/1000)
}
