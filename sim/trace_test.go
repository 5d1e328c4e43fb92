package sim_test

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/worlds"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/sim"
)

var begin = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// world is the demo's, with more in it, in memory on a clock that stands still.
type world struct {
	*sim.Internet
	net   netio.Network
	clock *netio.Virtual
}

func play(t testing.TB, text string) *world {
	t.Helper()
	w, err := worlds.Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	clock := netio.NewVirtual(begin)
	n, err := sim.New(w, clock)
	if err != nil {
		t.Fatal(err)
	}
	memory := netio.NewMemory(clock)
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	if err := n.InMemory(ctx, memory, &wg); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cancel(); wg.Wait() })
	return &world{n, memory.Host(netip.MustParseAddr("192.0.2.250")), clock}
}

func (w *world) tracer() *resolve.Tracer {
	t := &resolve.Tracer{Asker: resolve.Asker{Net: w.net}}
	for _, s := range w.Hints() {
		h := resolve.Host{Name: s.Name}
		for _, a := range s.Addrs {
			h.Addrs = append(h.Addrs, netip.AddrPortFrom(a, 53))
		}
		t.Roots = append(t.Roots, h)
	}
	return t
}

// saltmarsh is what the observatory's workspace knows of its zone.
func saltmarsh(name, below dnsname.Name) *resolve.KnownZone {
	z := dnsname.MustParse("saltmarsh.example.")
	if !name.AtOrBelow(z) || !z.Below(below) {
		return nil
	}
	return &resolve.KnownZone{Name: z, Records: []rr.Record{{Name: z, Type: rr.TypeNS, TTL: 3600, Data: []byte(dnsname.MustParse("ns1.saltmarsh.example.").Wire())},
		{Name: dnsname.MustParse("ns1.saltmarsh.example."), Type: rr.TypeA, TTL: 3600, Data: []byte{198, 51, 100, 53}}}}
}

// found is the troubles of a trace as ZONE CODE, each once, and its end.
func found(tr *resolve.Trace) (codes []string, end resolve.End) {
	for _, leg := range tr.Legs {
		for _, s := range leg.Steps {
			for _, x := range s.Troubles {
				codes = append(codes, s.Zone.Plain()+" "+x.Code)
			}
		}
		end = leg.End
	}
	slices.Sort(codes)
	return slices.Compact(codes), end
}

// more are zones that lead nowhere in ways of their own.
const more = `
[[zone]]
name = "one.example"
servers = ["ns.two.example"]
[[zone]]
name = "two.example"
servers = ["ns.one.example"]
[[server]]
name = "ns.one.example"
addresses = ["203.0.113.1"]
[[server]]
name = "ns.two.example"
addresses = ["203.0.113.2"]
[[zone]]
name = "circle.example"
servers = ["ns.harbour.example"]
records = """
a CNAME b
b CNAME c.island.example.
c CNAME x
"""
[[zone]]
name = "round.example"
servers = ["ns.island.example"]
records = """
a CNAME a.square.example.
"""
[[zone]]
name = "square.example"
servers = ["ns.harbour.example"]
records = """
a CNAME a.round.example.
"""
`

func fault(lines ...string) string { return "\n[[fault]]\n" + strings.Join(lines, "\n") + "\n" }

// Each fault that trace claims to find is found in a world that has it, where it is, and
// nothing else is said; in the healthy world nothing is.
func TestTraceFaults(t *testing.T) {
	demo := string(worlds.Demo) + more
	ns1 := `server = "ns1.saltmarsh.example"`
	salt := `zone = "saltmarsh.example"`
	for what, c := range map[string]struct {
		fault string
		name  string // empty: www.saltmarsh.example
		end   resolve.End
		want  []string
	}{
		"nothing":                   {"", "", resolve.Answered, nil},
		"nothing, an alias":         {"", "cams.saltmarsh.example", resolve.Answered, nil},
		"nothing, a DNAME":          {"", "old.archive.saltmarsh.example", resolve.Answered, nil},
		"nothing, a wildcard":       {"", "x.cams-old.saltmarsh.example", resolve.Answered, nil},
		"nothing, below a child":    {"", "north.gauges.saltmarsh.example", resolve.Answered, nil},
		"nothing, no such name":     {"", "nosuch.saltmarsh.example", resolve.NoName, nil},
		"nothing, no data":          {"", "_dmarc.saltmarsh.example", resolve.NoData, nil},
		"nothing, unsigned":         {"", "www.island.example", resolve.Answered, nil},
		"one is away":               {fault(`kind = "away"`, ns1, `address = "198.51.100.53"`), "", resolve.Answered, []string{"saltmarsh.example server-silent"}},
		"one is away at the top":    {fault(`kind = "away"`, `server = "ns2.nic.example"`), "", resolve.Answered, []string{"example server-silent"}},
		"one is too slow":           {fault(`kind = "slow"`, `delay = "9s"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-silent"}},
		"one is slow, not too slow": {fault(`kind = "slow"`, `delay = "900ms"`, ns1), "", resolve.Answered, nil},
		"not over TCP":              {fault(`kind = "no-tcp"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-tcp"}},
		"over TCP alone":            {fault(`kind = "no-udp"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-silent"}},
		"cut short":                 {fault(`kind = "cuts-short"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-tcp"}},
		"drops EDNS":                {fault(`kind = "drops-edns"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-edns"}},
		"calls EDNS malformed":      {fault(`kind = "edns-formerr"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-edns"}},
		"refuses":                   {fault(`kind = "refuses"`, ns1, salt), "", resolve.Answered, []string{"saltmarsh.example server-lame"}},
		"not loaded":                {fault(`kind = "not-loaded"`, ns1, salt), "", resolve.Answered, []string{"saltmarsh.example server-lame"}},
		"without authority":         {fault(`kind = "no-authority"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-lame"}},
		"stale":                     {fault(`kind = "stale"`, ns1, salt), "", resolve.Answered, []string{"saltmarsh.example servers-disagree"}},
		"another address":           {fault(`kind = "differs"`, ns1, salt, `records = "www A 198.51.100.99"`), "", resolve.Answered, []string{"saltmarsh.example servers-disagree"}},
		"a lie":                     {fault(`kind = "lies"`, ns1, salt, `records = "www A 192.0.2.66"`), "", resolve.Answered, []string{"saltmarsh.example servers-disagree"}},
		"another parent":            {fault(`kind = "no-delegation"`, `server = "ns2.nic.example"`, salt), "", resolve.Answered, []string{"example servers-disagree"}},
		"no delegation":             {fault(`kind = "no-delegation"`, salt), "", resolve.Stopped, []string{"example delegation-missing"}},
		"other servers above":       {fault(`kind = "wrong-ns"`, salt, `ns = ["ns1.saltmarsh.example"]`), "", resolve.Answered, []string{"saltmarsh.example servers-differ-above"}},
		"a lame one above":          {fault(`kind = "wrong-ns"`, salt, `ns = ["ns1.saltmarsh.example", "ns.island.example"]`), "", resolve.Answered, []string{"saltmarsh.example server-lame", "saltmarsh.example servers-differ-above"}},
		"one that does not exist":   {fault(`kind = "wrong-ns"`, salt, `ns = ["ns1.saltmarsh.example", "ns.harbour.example", "ns3.harbour.example"]`), "", resolve.Answered, []string{"example server-without-address", "saltmarsh.example servers-differ-above"}},
		"no glue":                   {fault(`kind = "no-glue"`, salt), "", resolve.Answered, []string{"example glue-missing"}},
		"other glue":                {fault(`kind = "wrong-glue"`, salt, `host = "ns1.saltmarsh.example"`, `glue = ["203.0.113.77"]`), "", resolve.Answered, []string{"saltmarsh.example glue-other-address", "saltmarsh.example server-lame"}},
		"all are away":              {fault(`kind = "away"`, ns1) + fault(`kind = "away"`, `server = "ns.harbour.example"`), "", resolve.Stopped, []string{"saltmarsh.example server-silent", "saltmarsh.example zone-unreachable"}},
		"the zone's are away":       {fault(`kind = "away"`, salt), "", resolve.Stopped, []string{"saltmarsh.example server-silent", "saltmarsh.example zone-unreachable"}},
		"nothing, another zone's":   {fault(`kind = "away"`, salt), "nosuch.island.example", resolve.NoName, []string{"island.example server-silent"}},
		"all are lame":              {fault(`kind = "refuses"`, salt), "", resolve.Stopped, []string{"saltmarsh.example server-lame", "saltmarsh.example zone-unreachable"}},
		"a loop of delegations":     {fault(`kind = "no-glue"`, `zone = "one.example"`) + fault(`kind = "no-glue"`, `zone = "two.example"`), "www.one.example", resolve.Stopped, []string{"example delegation-loop"}},
		"a circle of aliases":       {"", "a.round.example", resolve.Stopped, []string{"square.example alias-circle"}},
	} {
		w := play(t, demo+c.fault)
		tr := w.tracer()
		tr.Known = saltmarsh
		name := c.name
		if name == "" {
			name = "www.saltmarsh.example"
		}
		got, err := tr.Trace(t.Context(), dnsname.MustParse(name), rr.TypeA)
		if err != nil {
			t.Fatal(err)
		}
		codes, end := found(got)
		if !slices.Equal(codes, c.want) || end != c.end {
			t.Errorf("%s: %q, %s; want %q, %s", what, codes, end, c.want, c.end)
			for _, leg := range got.Legs {
				for _, s := range leg.Steps {
					for _, x := range s.Troubles {
						t.Log(s.Zone, x.Message)
					}
				}
			}
		}
	}
}

// reach is where a server of the world is reached.
func (w *world) reach(ctx context.Context, host dnsname.Name, glue [][]byte) ([]netip.AddrPort, error) {
	return w.tracer().Reach(ctx, host, glue)
}
