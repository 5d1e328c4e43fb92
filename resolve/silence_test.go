package resolve_test

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"fencepost/netio"
	"fencepost/netio/datagram"
	"fencepost/resolve"
	"fencepost/rr"
)

// moody answers when it likes to, and counts what comes.
type moody struct{ answers, asked *int }

func (m moody) Datagram(dst, msg []byte, _ netip.AddrPort) []byte {
	if *m.asked++; *m.answers == 0 {
		return dst
	}
	return append(dst, respond(msg, nil)...)
}
func (moody) Flush() {}

// A server that answers nothing is asked twice, and one that ever answered each time; one over which
// nothing is remembered, too.
func TestSilence(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 2026))
	net := netio.NewMemory(netio.NewVirtual(time.Unix(0, 0)))
	here := net.Host(netip.MustParseAddr("192.0.2.1"))
	for round := range 60 {
		host := net.Host(netip.AddrFrom4([4]byte{198, 51, 100, byte(round)}))
		e, err := host.Listen(netip.AddrPortFrom(netip.AddrFrom4([4]byte{198, 51, 100, byte(round)}), 53), 1)
		if err != nil {
			t.Fatal(err)
		}
		m := moody{new(int), new(int)}
		go e.UDP[0].Serve(func() datagram.Handler { return m })
		var remembers *resolve.Silence
		if round%6 > 0 {
			remembers = &resolve.Silence{}
		}
		answered, silent := false, 0
		for i := range 12 {
			*m.answers = r.IntN(1 + round%3)
			before := *m.asked
			_, err := resolve.Ask(context.Background(), e.Addr, resolve.Request{Net: here, Name: name, Type: rr.TypeA, NoEDNS: i%2 == 1, Silent: remembers})
			known := remembers != nil && !answered && silent >= 2
			switch asked := *m.asked - before; {
			case known:
				if asked != 0 || !errors.Is(err, resolve.ErrNoAnswer) {
					t.Errorf("round %d: a silent server is asked %d times more: %v", round, asked, err)
				}
			case *m.answers > 0:
				if answered = true; err != nil || asked != 1 {
					t.Errorf("round %d: %d tries: %v", round, asked, err)
				}
			default:
				if silent++; asked != resolve.Tries || !errors.Is(err, resolve.ErrNoAnswer) {
					t.Errorf("round %d: %d tries: %v", round, asked, err)
				}
			}
		}
		e.Close()
	}
}
