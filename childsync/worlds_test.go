package childsync_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"fencepost/childsync"
	"fencepost/dnsname"
	"fencepost/internal/testrun"
	"fencepost/internal/testworld"
	"fencepost/internal/worlds"
	"fencepost/resolve"
	"fencepost/rr"
)

// delegated is a child as its parent in a world has it.
func delegated(w *testworld.World, name dnsname.Name) *childsync.Child {
	parent := w.Snapshot(name.Parent())
	c := &childsync.Child{Name: name, Glue: map[string][][]byte{}}
	data := func(owner dnsname.Name, t rr.Type) (out [][]byte) {
		set, _ := parent.Find(owner, t, 0)
		return slices.Collect(set.Data)
	}
	c.DS = data(name, rr.TypeDS)
	for _, ns := range data(name, rr.TypeNS) {
		host, err := dnsname.FromWire(ns)
		if err != nil {
			panic(err)
		}
		c.Servers = append(c.Servers, host)
		if glue := slices.Concat(data(host, rr.TypeA), data(host, rr.TypeAAAA)); host.AtOrBelow(name) {
			c.Glue[host.Key()] = glue
		}
	}
	return c
}

// What a child wants, and why it does not get it, in worlds that are played: what its servers show, and
// those that it would have, is asked for on the wire.
func TestWants(t *testing.T) {
	const salt, first, second = `zone = "saltmarsh.example"`, `server = "ns1.saltmarsh.example"`, `server = "ns.harbour.example"`
	with := func(own, csync string) []string {
		more := "serial  = 2026112801\n" + own
		return []string{"serial  = 2026112801", more, "@        MX    10 mail\n", "@        MX    10 mail\n" + csync}
	}
	three := "own-ns  = [\"ns1.saltmarsh.example\", \"ns.harbour.example\", \"ns.island.example\"]\n"
	one := "own-ns  = [\"ns.harbour.example\"]\n"
	sync := "@ CSYNC 2026112801 3 NS A AAAA\n"
	var all strings.Builder
	cases := map[string]struct {
		swap  []string
		fault string
		zone  string
		trust bool
	}{
		"nothing is asked for":                    {},
		"another key":                             {swap: with("rolling = true\n", "")},
		"another key, one server away":            {swap: with("rolling = true\n", ""), fault: testworld.Fault(`kind = "away"`, first)},
		"another key, the last away":              {swap: with("rolling = true\n", ""), fault: testworld.Fault(`kind = "away"`, second)},
		"another key, servers disagree":           {swap: with("rolling = true\n", ""), fault: testworld.Fault(`kind = "stale"`, first, salt)},
		"another key, signatures expired":         {swap: with("rolling = true\n", ""), fault: testworld.Fault(`kind = "expired-signatures"`, salt)},
		"fewer servers":                           {swap: with(one, sync)},
		"fewer servers, without CSYNC":            {swap: with(one, "")},
		"fewer servers, not at once":              {swap: with(one, "@ CSYNC 2026112801 2 NS A AAAA\n")},
		"fewer servers, a serial to come":         {swap: with(one, "@ CSYNC 2026112809 3 NS A AAAA\n")},
		"fewer servers, and the key":              {swap: with("rolling = true\n"+one, sync)},
		"fewer servers, glue alone":               {swap: with(one, "@ CSYNC 2026112801 3 A AAAA\n")},
		"fewer servers, a type that is not":       {swap: with(one, "@ CSYNC 2026112801 3 NS TXT\n")},
		"a server that does not serve":            {swap: with(three, sync)},
		"a server that does not serve, and a key": {swap: with("rolling = true\n"+three, sync)},
		"an unsigned child":                       {zone: "island.example"},
		"an unsigned child, trusted":              {zone: "island.example", trust: true},
		"REFUSED":                                 {swap: with(one, sync), fault: testworld.Fault(`kind = "refuses"`, first, salt)},
		"without the AA flag":                     {swap: with(one, sync), fault: testworld.Fault(`kind = "no-authority"`, second)},
	}
	for _, what := range slices.Sorted(maps.Keys(cases)) {
		c := cases[what]
		text := strings.NewReplacer(c.swap...).Replace(string(worlds.Demo)) + c.fault
		if len(c.swap) > 0 && strings.HasPrefix(text, string(worlds.Demo)) {
			t.Fatalf("%s: nothing is replaced", what)
		}
		w := testworld.Play(t, text)
		zone := c.zone
		if zone == "" {
			zone = "saltmarsh.example"
		}
		child := delegated(w, dnsname.MustParse(zone+"."))
		asker := childsync.Asker{Asker: resolve.Asker{Net: w.Net}, Reach: w.Walker().Reach}
		want, err := asker.Want(t.Context(), child, childsync.First{Trusted: c.trust}, false, w.Clock.Now())
		same := len(want.DS) == len(child.DS) && slices.EqualFunc(want.DS, child.DS, func(a, b []byte) bool { return string(a) == string(b) })
		fmt.Fprintf(&all, "# %s\nDS changes %v: %d, as before %v; servers change %v", what, want.ChangeDS, len(want.DS), same, want.ChangeServers)
		if want.Servers != nil {
			fmt.Fprintf(&all, ": %v, glue of %d", want.Servers.Servers, len(want.Servers.Glue))
		}
		fmt.Fprintf(&all, "; %v\n", err)
		for _, r := range want.Refused {
			fmt.Fprintf(&all, "refused: %v\n", r)
		}
	}
	testrun.Golden(t, "testdata/wants.txt", all.String())
}
