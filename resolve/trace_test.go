package resolve_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/testrun"
	"fencepost/internal/testworld"
	"fencepost/internal/worlds"
	"fencepost/resolve"
	"fencepost/rr"
)

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

// Each fault that trace claims to find is found in a world that has it, where it is, and
// nothing else is said; in the healthy world nothing is.
func TestTraceFaults(t *testing.T) {
	demo := string(worlds.Demo) + testworld.Astray
	ns1 := `server = "ns1.saltmarsh.example"`
	salt := `zone = "saltmarsh.example"`
	worldsOf := map[string]struct {
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
		"one is away":               {testworld.Fault(`kind = "away"`, ns1, `address = "198.51.100.53"`), "", resolve.Answered, []string{"saltmarsh.example server-silent"}},
		"one is away at the top":    {testworld.Fault(`kind = "away"`, `server = "ns2.nic.example"`), "", resolve.Answered, []string{"example server-silent"}},
		"one is too slow":           {testworld.Fault(`kind = "slow"`, `delay = "9s"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-silent"}},
		"one is slow, not too slow": {testworld.Fault(`kind = "slow"`, `delay = "900ms"`, ns1), "", resolve.Answered, nil},
		"not over TCP":              {testworld.Fault(`kind = "no-tcp"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-tcp"}},
		"over TCP alone":            {testworld.Fault(`kind = "no-udp"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-silent"}},
		"cut short":                 {testworld.Fault(`kind = "cuts-short"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-tcp"}},
		"drops EDNS":                {testworld.Fault(`kind = "drops-edns"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-edns"}},
		"calls EDNS malformed":      {testworld.Fault(`kind = "edns-formerr"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-without-edns"}},
		"refuses":                   {testworld.Fault(`kind = "refuses"`, ns1, salt), "", resolve.Answered, []string{"saltmarsh.example server-lame"}},
		"not loaded":                {testworld.Fault(`kind = "not-loaded"`, ns1, salt), "", resolve.Answered, []string{"saltmarsh.example server-lame"}},
		"without authority":         {testworld.Fault(`kind = "no-authority"`, ns1), "", resolve.Answered, []string{"saltmarsh.example server-lame"}},
		"stale":                     {testworld.Fault(`kind = "stale"`, ns1, salt), "", resolve.Answered, []string{"saltmarsh.example servers-disagree"}},
		"another address":           {testworld.Fault(`kind = "differs"`, ns1, salt, `records = "www A 198.51.100.99"`), "", resolve.Answered, []string{"saltmarsh.example servers-disagree"}},
		"a lie":                     {testworld.Fault(`kind = "lies"`, ns1, salt, `records = "www A 192.0.2.66"`), "", resolve.Answered, []string{"saltmarsh.example servers-disagree"}},
		"another parent":            {testworld.Fault(`kind = "no-delegation"`, `server = "ns2.nic.example"`, salt), "", resolve.Answered, []string{"example servers-disagree"}},
		"no delegation":             {testworld.Fault(`kind = "no-delegation"`, salt), "", resolve.Stopped, []string{"example delegation-missing"}},
		"other servers above":       {testworld.Fault(`kind = "wrong-ns"`, salt, `ns = ["ns1.saltmarsh.example"]`), "", resolve.Answered, []string{"saltmarsh.example servers-differ-above"}},
		"a lame one above":          {testworld.Fault(`kind = "wrong-ns"`, salt, `ns = ["ns1.saltmarsh.example", "ns.island.example"]`), "", resolve.Answered, []string{"saltmarsh.example server-lame", "saltmarsh.example servers-differ-above"}},
		"one that does not exist":   {testworld.Fault(`kind = "wrong-ns"`, salt, `ns = ["ns1.saltmarsh.example", "ns.harbour.example", "ns3.harbour.example"]`), "", resolve.Answered, []string{"example server-without-address", "saltmarsh.example servers-differ-above"}},
		"no glue":                   {testworld.Fault(`kind = "no-glue"`, salt), "", resolve.Answered, []string{"example glue-missing"}},
		"other glue":                {testworld.Fault(`kind = "wrong-glue"`, salt, `host = "ns1.saltmarsh.example"`, `glue = ["203.0.113.77"]`), "", resolve.Answered, []string{"saltmarsh.example glue-other-address", "saltmarsh.example server-lame"}},
		"all are away":              {testworld.Fault(`kind = "away"`, ns1) + testworld.Fault(`kind = "away"`, `server = "ns.harbour.example"`), "", resolve.Stopped, []string{"saltmarsh.example server-silent", "saltmarsh.example zone-unreachable"}},
		"the zone's are away":       {testworld.Fault(`kind = "away"`, salt), "", resolve.Stopped, []string{"saltmarsh.example server-silent", "saltmarsh.example zone-unreachable"}},
		"nothing, another zone's":   {testworld.Fault(`kind = "away"`, salt), "nosuch.island.example", resolve.NoName, []string{"island.example server-silent"}},
		"all are lame":              {testworld.Fault(`kind = "refuses"`, salt), "", resolve.Stopped, []string{"saltmarsh.example server-lame", "saltmarsh.example zone-unreachable"}},
		"a loop of delegations":     {testworld.Fault(`kind = "no-glue"`, `zone = "one.example"`) + testworld.Fault(`kind = "no-glue"`, `zone = "two.example"`), "www.one.example", resolve.Stopped, []string{"example delegation-loop"}},
		"a circle of aliases":       {"", "a.round.example", resolve.Stopped, []string{"square.example alias-circle"}},
	}
	var all strings.Builder // what is said, in detail
	for _, what := range slices.Sorted(maps.Keys(worldsOf)) {
		c := worldsOf[what]
		w := testworld.Play(t, demo+c.fault)
		tr := w.Tracer()
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
		}
		fmt.Fprintf(&all, "# %s\n", what)
		tell(&all, got)
	}
	testrun.Golden(t, "testdata/traces.txt", all.String())
}

// tell writes all that a trace has, but how long things took.
func tell(b *strings.Builder, tr *resolve.Trace) {
	fmt.Fprintf(b, "%s %s, asked %d\n", tr.Name, tr.Type, tr.Asked)
	for _, leg := range tr.Legs {
		fmt.Fprintf(b, "%s: %s\n", leg.Name, leg.End)
		for _, s := range leg.Steps {
			fmt.Fprintf(b, "  zone %s\n", s.Zone)
			for _, h := range s.Hosts {
				fmt.Fprintf(b, "    host %s %v glue %v %v\n", h.Name, h.Addrs, h.Glue, h.Why)
			}
			for _, h := range s.Glue {
				fmt.Fprintf(b, "    glue %s %v\n", h.Name, h.Addrs)
			}
			for _, a := range s.Said {
				fmt.Fprintf(b, "    %s at %s: %s %s %s, NS %v, plain %v, UDP %v, TCP %v\n", a.Host, a.At.Addr(), a.Kind, a.Cut, a.Code, a.NS, a.Plain, a.Err, a.TCP)
			}
			for _, r := range s.Answer {
				if r.Type != rr.TypeRRSIG {
					fmt.Fprintf(b, "    answer %s\n", r)
				}
			}
			for _, x := range s.Troubles {
				fmt.Fprintf(b, "    %s, grave %v: %s; %s\n", x.Code, x.Grave, x.Message, x.Advice)
				for _, r := range x.Records {
					fmt.Fprintf(b, "      in %s: %s\n", x.In, r)
				}
			}
		}
	}
}
