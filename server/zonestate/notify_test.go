package zonestate

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// udpPeer is a server that answers every request over UDP as fill says.
func udpPeer(t *testing.T, fill func(b *message.Builder)) netip.AddrPort {
	t.Helper()
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFromUDP(buf)
			if err != nil {
				return
			}
			var q message.Query
			message.ParseQuery(buf[:n], &q)
			var b message.Builder
			b.Begin(nil, &q, 512, 512)
			fill(&b)
			_, _ = conn.WriteToUDP(b.Finish(), from)
		}
	}()
	at := conn.LocalAddr().(*net.UDPAddr).AddrPort()
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
}

// showsSerial answers with a SOA.
func showsSerial(serial uint32) func(*message.Builder) {
	return func(b *message.Builder) {
		b.SetFlag(message.FlagAA)
		b.Record(message.AnswerSection, message.QName, rr.TypeSOA, 60, soa(serial))
	}
}

// A peer that answers NOTIFY and has a newer serial is told of: it will never fetch.
func TestPeerAhead(t *testing.T) {
	peer := Peer{Name: "second", Address: udpPeer(t, showsSerial(9))}
	src := &source{snap: zoneVersion("a.", 7, 1)}
	s := New(Options{})
	ctx := context.Background()
	s.Apply(ctx, &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, SendTo: []Peer{peer}}}}, "")
	z := s.table.Load().zones[dnsname.MustParse("a.").Key()]
	s.lookAtPeer(ctx, z, peer, 7)
	st := s.Status().Zones[0]
	if !st.Peers[0].Newer || st.Trouble != Ahead || !strings.Contains(fmt.Sprint(st.Peers[0].Problem), "serial 9") {
		t.Errorf("a peer with serial 9, we have 7: %+v, trouble %q", st.Peers[0], st.Trouble)
	}
	// Our next version goes past it: what was is forgotten, and a peer that follows is well.
	src.snap = zoneVersion("a.", 12, 1)
	s.Apply(ctx, &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, SendTo: []Peer{peer}}}}, "")
	s.lookAtPeer(ctx, z, peer, 12)
	s.lookAtPeer(ctx, z, peer, 7) // an old look that comes late
	if st := s.Status().Zones[0]; st.Peers[0].Newer || st.Trouble != NoTrouble {
		t.Errorf("a peer with serial 9, we have 12: %+v, trouble %q", st.Peers[0], st.Trouble)
	}
}

// Of a peer that answers it is noted that it was told, of one that does not why and how
// often, and that it is told again.
func TestTellOnce(t *testing.T) {
	closed, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	good := Peer{Name: "good", Address: udpPeer(t, func(*message.Builder) {})}
	bad := Peer{Name: "bad", Address: closed.LocalAddr().(*net.UDPAddr).AddrPort()}
	closed.Close()
	s := New(Options{})
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: (&source{snap: zoneVersion("a.", 7, 1)}).load}, SendTo: []Peer{good, bad}}}}, "")
	z := s.table.Load().zones[dnsname.MustParse("a.").Key()]
	for try, p := range []Peer{good, bad} {
		s.sched.cancel(notifyID(z, p)) // it begins now
		s.notifyOnce(t.Context(), z, p, 7, try+1)
		s.notifyOnce(t.Context(), z, p, 6, 3) // an old one that comes late is of no account
	}
	for _, p := range s.Status().Zones[0].Peers {
		if told := p.Peer == "good"; p.Told != told || (p.Problem == nil) != told || p.Tries != map[bool]int{true: 1, false: 2}[told] {
			t.Errorf("%+v", p)
		}
	}
	s.sched.mu.Lock()
	defer s.sched.mu.Unlock()
	if next := s.sched.byID[notifyID(z, bad)]; next == nil || next.at.Before(s.Now().Add(notifyGap)) {
		t.Errorf("the peer that did not answer is told again: %+v", next)
	}
}

// Signatures that end are told of before, and when they have ended, while the version
// that holds them is in service and not after.
func TestLapseIsTold(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	var log bytes.Buffer
	s := New(Options{Now: func() time.Time { return now }, Log: slog.New(slog.NewTextHandler(&log, nil))})
	z := &zoneState{name: dnsname.MustParse("a."), notified: map[string]peerState{}}
	ending := func(serial uint32, in time.Duration) {
		v := versionOf("a.", serial, 1)
		v.expires = now.Add(in)
		z.version.Store(v)
	}
	ending(7, 5*24*time.Hour)
	step := func(days int, want string) {
		t.Helper()
		log.Reset()
		now = now.AddDate(0, 0, days)
		s.sched.runDue(t.Context())
		if got := log.String(); want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("on %s: %q, want %q", now, got, want)
		}
	}
	s.planLapse(z)
	step(1, "")
	step(1, "signatures expire soon")
	step(1, "")
	step(2, "signatures have expired")
	step(5, "")
	ending(7, 24*time.Hour)
	s.planLapse(z)
	ending(8, 9*24*time.Hour) // another version, with signatures of its own
	step(2, "")
}
