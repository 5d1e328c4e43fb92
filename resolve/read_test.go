package resolve_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/testworld"
	"fencepost/internal/worlds"
	"fencepost/resolve"
	"fencepost/rr"
)

// A zone with NSEC that is read by asking is the zone, whatever stands in it, and said to be
// complete; another is said not to be, and has nothing that the zone has not.
func TestReadByAsking(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 2026))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	at := netip.MustParseAddrPort("198.51.100.53:53")
	apex := dnsname.MustParse("dunes.example.")
	for round := range 60 {
		want := map[string]bool{}
		var lines []string
		for range r.IntN(25) {
			line := pick("a", "b", "www", "mail", "x.y.z", "*.w", "a-b", strings.Repeat("l", 63), `odd\.dot`, `zero\000`) + " " +
				pick("A 192.0.2."+pick("1", "2"), "AAAA 2001:db8::1", `TXT "`+pick("one", "two")+`"`, "MX 10 mail", `CAA 0 issue "ca.example"`)
			lines = append(lines, line)
		}
		for _, cut := range []string{"cut", "zz", "mm"} {
			if r.IntN(2) == 0 {
				lines = append(lines, cut+" NS ns."+cut, cut+" NS ns.harbour.example.", "ns."+cut+" A 192.0.2.53")
				if r.IntN(2) == 0 {
					lines = append(lines, cut+" DS 12345 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A")
				}
			}
		}
		child := ""
		if r.IntN(2) == 0 { // whose answers are not to be taken for the zone's
			child = "\n[[zone]]\nname = \"kid.dunes.example\"\nservers = [\"ns1.saltmarsh.example\"]\n" + pick("signed = true", "") + "\nrecords = \"www A 192.0.2.99\"\n"
		}
		how := pick("signed = true", "signed = true\nnsec3 = true", "")
		w := testworld.Play(t, string(worlds.Demo)+fmt.Sprintf("\n[[zone]]\nname = \"dunes.example\"\nservers = [\"ns1.saltmarsh.example\"]\n%s\nrecords = '''\n%s\n'''\n", how, strings.Join(lines, "\n"))+child)
		z := w.Snapshot(apex)
		for node := range z.Nodes {
			for set := range node.RRsets {
				if set.Type == rr.TypeRRSIG || set.Type == rr.TypeNSEC || rr.MadeBySigner(set.Type) {
					continue
				}
				for data := range set.Data {
					want[fmt.Sprintf("%s %s %s", z.Owner(node).Lower(), set.Type, strings.ToLower(rr.DataText(set.Type, data)))] = true
				}
			}
		}
		asker := &resolve.Asker{Net: w.Net}
		got, err := asker.Read(t.Context(), at, apex)
		if err != nil {
			t.Fatal(err)
		}
		have := map[string]bool{}
		for _, rec := range got.Records {
			have[fmt.Sprintf("%s %s %s", rec.Name.Lower(), rec.Type, strings.ToLower(rr.DataText(rec.Type, rec.Data)))] = true
		}
		for k := range have {
			if !want[k] {
				t.Fatalf("round %d (%s): %s was read, and the zone has no such record", round, how, k)
			}
		}
		if walked := how == "signed = true"; got.Complete != walked || walked && len(have) != len(want) {
			var missing []string
			for k := range want {
				if !have[k] {
					missing = append(missing, k)
				}
			}
			slices.Sort(missing)
			t.Fatalf("round %d (%s): complete is %v (%s), and %q are missing", round, how, got.Complete, got.Why, missing)
		}
		if !got.Complete && got.Why != "the zone has no NSEC records that lead from name to name" {
			t.Errorf("round %d: it is not complete because %s", round, got.Why)
		}
	}
}
