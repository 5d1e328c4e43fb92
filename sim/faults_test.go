package sim_test

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/testworld"
	"fencepost/internal/worlds"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/sim"
)

// Each fault of a server is seen on the wire, and there alone: for its time, at its server.
func TestFaultsOfServers(t *testing.T) {
	name := dnsname.MustParse("www.saltmarsh.example.")
	at, other := netip.MustParseAddrPort("198.51.100.53:53"), netip.MustParseAddrPort("203.0.113.53:53")
	q := resolve.Request{Name: name, Type: rr.TypeA, UDPOnly: true, DO: true}
	over, plain := q, q
	over.TCP, over.UDPOnly = true, false
	plain.NoEDNS, plain.DO = true, false
	const aa, ra = 0x0400, 0x0080
	says := func(r *resolve.Response, err error) string {
		switch {
		case err != nil:
			return "nothing"
		case r.Rcode() != message.NoError:
			return r.Rcode().String()
		case r.Flags&message.FlagTC != 0:
			return "cut off"
		case r.Flags&aa == 0:
			return "without authority"
		case r.Flags&ra != 0:
			return "offers recursion"
		}
		return "answers"
	}
	for _, c := range []struct {
		fault            sim.Fault
		udp, tcp, noEDNS string
	}{
		{sim.Fault{Kind: sim.Away}, "nothing", "nothing", "nothing"},
		{sim.Fault{Kind: sim.Slow, Delay: 5 * time.Second}, "nothing", "answers", "nothing"},
		{sim.Fault{Kind: sim.NoTCP}, "answers", "nothing", "answers"},
		{sim.Fault{Kind: sim.NoUDP}, "nothing", "answers", "nothing"},
		{sim.Fault{Kind: sim.CutsShort}, "cut off", "nothing", "cut off"},
		{sim.Fault{Kind: sim.DropsEDNS}, "nothing", "answers", "answers"},
		{sim.Fault{Kind: sim.BadEDNS}, "FORMERR", "answers", "answers"},
		{sim.Fault{Kind: sim.LosesLarge, Size: 100}, "nothing", "answers", "answers"},
		{sim.Fault{Kind: sim.NoAuthor}, "without authority", "without authority", "without authority"},
		{sim.Fault{Kind: sim.Recurses}, "offers recursion", "offers recursion", "offers recursion"},
	} {
		w := testworld.Play(t, string(worlds.Demo))
		ask := func(at netip.AddrPort, r resolve.Request) string {
			r.Net = w.Net
			resp, err := resolve.Ask(t.Context(), at, r)
			if err != nil && errors.Is(err, t.Context().Err()) {
				t.Fatal(err)
			}
			return says(resp, err)
		}
		c.fault.Server, c.fault.From, c.fault.Until = dnsname.MustParse("ns1.saltmarsh.example."), time.Hour, 2*time.Hour
		mend := w.Order(c.fault)
		for _, moment := range []struct {
			at    time.Duration
			there bool
		}{{0, false}, {time.Hour, true}, {2*time.Hour - time.Second, true}, {2 * time.Hour, false}} {
			w.Clock.Advance(testworld.Begin.Add(moment.at))
			want := [3]string{"answers", "answers", "answers"}
			if moment.there {
				want = [3]string{c.udp, c.tcp, c.noEDNS}
			}
			if got := [3]string{ask(at, q), ask(at, over), ask(at, plain)}; got != want {
				t.Errorf("%s after %s: over UDP, TCP and without EDNS %q, want %q", c.fault.Kind, moment.at, got, want)
			}
			if got := ask(other, q); got != "answers" {
				t.Errorf("%s: another server %s", c.fault.Kind, got)
			}
		}
		mend()
	}
}

// What nobody can be meant by is told, with what was probably meant.
func TestWorldErrors(t *testing.T) {
	for more, want := range map[string]string{
		testworld.Fault(`kind = "no-udpp"`):                  "did you mean no-udp?",
		testworld.Fault(`kind = "xyzzy"`):                    "there are adds-edns, alias-at-apex, away, ",
		testworld.Fault(`kind = "away"`, `zone = "nowhere"`): "not a zone here",
		"\n[[zone]]\nname = \"x.example\"\nservers = [\"ns1.saltmarsh.example\"]\nrecords = \"a A 192.0.2.256\"\n": "",
	} {
		w, err := worlds.Read([]byte(string(worlds.Demo) + more))
		if want != "" {
			if err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %q", more, err, want)
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		if _, err := sim.New(w, netio.NewVirtual(testworld.Begin)); !errors.Is(err, sim.ErrWorld) || !strings.Contains(err.Error(), "the records of x.example, line 1: 256 is over 255") {
			t.Errorf("wrong records: %v", err)
		}
	}
}
