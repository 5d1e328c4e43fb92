package server

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
)

// A peer that answers NOTIFY and has a newer serial is told of: it will never fetch.
func TestPeerAhead(t *testing.T) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	has := uint32(9)
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
			b.SetFlag(message.FlagAA)
			b.Record(message.AnswerSection, message.QName, rr.TypeSOA, 60, soa(has))
			_, _ = conn.WriteToUDP(b.Finish(), from)
		}
	}()
	peer := Peer{Name: "second", Address: conn.LocalAddr().(*net.UDPAddr).AddrPort()}
	peer.Address = netip.AddrPortFrom(peer.Address.Addr().Unmap(), peer.Address.Port())
	src := &source{snap: version("a.", 7, 1)}
	s := New(Options{})
	ctx := context.Background()
	s.Reload(ctx, &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: src.load, SendTo: []Peer{peer}}}})
	z := s.table.Load().zones[dnsname.MustParse("a.").Key()]
	s.lookAtPeer(ctx, z, peer, 7)
	st := s.Status().Zones[0]
	if !st.Peers[0].Newer || st.Trouble != Ahead || !strings.Contains(st.Peers[0].Problem, "serial 9") {
		t.Errorf("a peer with serial 9, we have 7: %+v, trouble %q", st.Peers[0], st.Trouble)
	}
	// Our next version goes past it: what was is forgotten, and a peer that follows is well.
	src.snap = version("a.", 12, 1)
	s.Reload(ctx, &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: src.load, SendTo: []Peer{peer}}}})
	s.lookAtPeer(ctx, z, peer, 12)
	s.lookAtPeer(ctx, z, peer, 7) // an old look that comes late
	if st := s.Status().Zones[0]; st.Peers[0].Newer || st.Trouble != NoTrouble {
		t.Errorf("a peer with serial 9, we have 12: %+v, trouble %q", st.Peers[0], st.Trouble)
	}
}
