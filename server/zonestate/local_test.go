package zonestate

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/netio"
)

// dialedFrom notes from which addresses is dialled to which, and reaches nobody.
type dialedFrom struct {
	netio.Network
	mu   sync.Mutex
	from map[netip.Addr]map[netip.Addr]int
}

func (d *dialedFrom) Dial(_ context.Context, _ string, local netip.Addr, to netip.AddrPort, _ time.Duration) (net.Conn, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.from[to.Addr()] == nil {
		d.from[to.Addr()] = map[netip.Addr]int{}
	}
	d.from[to.Addr()][local]++
	return nil, syscall.ECONNREFUSED
}

// Peers know us by the address that we listen on: all that is sent to them comes from there, by its
// family, whether it looks for a version, tells of one, or asks a peer for what it has.
func TestSentFromOurs(t *testing.T) {
	four, six := netip.MustParseAddrPort("203.0.113.1:53"), netip.MustParseAddrPort("[2001:db8:1::1]:53")
	ours := []netip.AddrPort{netip.MustParseAddrPort("127.0.0.1:53"), netip.MustParseAddrPort("192.0.2.53:53"), netip.MustParseAddrPort("[2001:db8::53]:53")}
	peers := []Peer{{Name: "four", Address: four}, {Name: "six", Address: six}}
	fetched := Zone{Name: dnsname.MustParse("f."), Origin: &Primaries{Servers: peers}}
	sent := Zone{Name: updated, Origin: &Files{Load: (&source{snap: zoneVersion("a.", 1, 1)}).load}, SendTo: peers}
	at := func(s *Zones, zone string) *zoneState { return s.table.Load().zones[dnsname.MustParse(zone).Key()] }
	for what, do := range map[string]func(s *Zones, p Peer){
		"a look for a version": func(s *Zones, _ Peer) { _ = s.lookForVersion(t.Context(), at(s, "f.")) },
		"a NOTIFY":             func(s *Zones, p Peer) { s.notifyOnce(t.Context(), at(s, "a."), p, 1, 1) },
		"a look at a peer":     func(s *Zones, p Peer) { s.lookAtPeer(t.Context(), at(s, "a."), p, 1) },
	} {
		d := &dialedFrom{Network: netio.Or(nil), from: map[netip.Addr]map[netip.Addr]int{}}
		s := New(Options{Net: d, Stepped: true})
		s.Apply(t.Context(), &Config{Zones: []Zone{fetched, sent}}, "")
		s.local = ours
		for _, p := range peers {
			do(s, p)
		}
		if len(d.from[four.Addr()]) != 1 || d.from[four.Addr()][ours[1].Addr()] == 0 || len(d.from[six.Addr()]) != 1 || d.from[six.Addr()][ours[2].Addr()] == 0 {
			t.Errorf("%s is sent from %v", what, d.from)
		}
	}
}
