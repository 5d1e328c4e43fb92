package validate_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/testrun"
	"fencepost/internal/testworld"
	"fencepost/internal/worlds"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

// chain validates as the command does.
func chain(w *testworld.World, t testing.TB, name string, typ rr.Type) *validate.Chain {
	t.Helper()
	records := collected(w, t, name, typ)
	anchor, _ := w.Anchor(dnsname.Root)
	return validate.NewRRsets(records).Explain([]rr.Record{anchor}, dnsname.MustParse(name), typ, w.Clock.Now())
}

// verdict is what a model says of a name whose chain goes through zones, one row for each
// alias: what the first zone from above makes of it that has the fault.
func verdict(legs [][]string, kind, zone string) validate.Status {
	of := map[string]validate.Status{"old-ds": validate.Bogus, "no-ds": validate.Insecure, "strange-ds": validate.Insecure,
		"expired-signatures": validate.Bogus, "wrong-signatures": validate.Bogus, "no-signatures": validate.Bogus}
	for _, leg := range legs {
		for _, z := range leg {
			switch {
			case z == zone:
				return of[kind]
			case z == "island.example": // which is not signed
				return validate.Insecure
			}
		}
	}
	return validate.Secure
}

// Names of every kind under faults of every kind: the chain is what a model says, it ends at
// the zone that is at fault, and a validating resolver of the world agrees.
func TestChainConstructions(t *testing.T) {
	top, salt := []string{".", "example"}, []string{".", "example", "saltmarsh.example"}
	harbour := []string{".", "example", "harbour.example"}
	names := []struct {
		name    string
		typ     rr.Type
		outcome validate.Outcome
		legs    [][]string
	}{
		{"www.saltmarsh.example.", rr.TypeA, validate.Positive, [][]string{salt}},
		{"tides.saltmarsh.example.", rr.TypeA, validate.Positive, [][]string{salt}},
		{"cams.saltmarsh.example.", rr.TypeA, validate.Positive, [][]string{salt, harbour}},
		{"old.archive.saltmarsh.example.", rr.TypeA, validate.Positive, [][]string{salt, harbour}},
		{"x.cams-old.saltmarsh.example.", rr.TypeA, validate.Positive, [][]string{salt}},
		{"north.gauges.saltmarsh.example.", rr.TypeA, validate.Positive, [][]string{append(append([]string(nil), salt...), "gauges.saltmarsh.example")}},
		{"nosuch.saltmarsh.example.", rr.TypeA, validate.NXDomain, [][]string{salt}},
		{"www.saltmarsh.example.", rr.TypeTXT, validate.NoData, [][]string{salt}},
		{"nosuch.example.", rr.TypeA, validate.NXDomain, [][]string{top}},
		{"www.island.example.", rr.TypeA, validate.NoOutcome, [][]string{append(append([]string(nil), top...), "island.example")}},
		{"mail.harbour.example.", rr.TypeA, validate.Positive, [][]string{harbour}},
		{"saltmarsh.example.", rr.TypeDNSKEY, validate.Positive, [][]string{salt}},
	}
	kinds := []string{"old-ds", "no-ds", "strange-ds", "expired-signatures", "wrong-signatures", "no-signatures"}
	zones := []string{"example", "saltmarsh.example", "gauges.saltmarsh.example", "harbour.example"}
	constructions := 0
	var all strings.Builder // the links of each chain
	seen := links{}
	for _, kind := range append([]string{""}, kinds...) {
		for _, zone := range zones {
			if kind == "" && zone != zones[0] {
				continue
			}
			text := string(worlds.Demo)
			if kind == "" {
				zone = ""
			} else {
				text += testworld.Fault(`kind = "`+kind+`"`, `zone = "`+zone+`"`)
			}
			w := testworld.Play(t, text)
			for _, n := range names {
				constructions++
				want := verdict(n.legs, kind, zone)
				if n.typ == rr.TypeDNSKEY && kind == "wrong-signatures" && zone == "saltmarsh.example" {
					want = validate.Secure // those over the keys are right
				}
				what := fmt.Sprintf("%s %s with %s of %s", n.name, n.typ, kind, zone)
				c := chain(w, t, n.name, n.typ)
				fmt.Fprintf(&all, "# %s: %s %s\n", what, c.Status, c.Reason)
				seen.tell(&all, c)
				if c.Status != want || want == validate.Secure && c.Outcome != n.outcome {
					t.Errorf("%s: %s %d (%s), want %s %d", what, c.Status, c.Outcome, c.Reason, want, n.outcome)
					continue
				}
				if c.Status == validate.Bogus {
					last := c.Links[len(c.Links)-1]
					if last.Status != validate.Bogus || c.Reason == "" || c.EDE == 0 || !strings.Contains(last.Name.Plain()+" "+last.Zone.Plain(), zone) {
						t.Errorf("%s: the broken link is %s %s of %s (%s)", what, last.Kind, last.Name, last.Zone, last.Reason)
					}
				}
				agrees(w, t, what, n.name, n.typ, want)
			}
		}
	}
	testrun.Golden(t, "testdata/chains.txt", all.String())
	if constructions < 100 {
		t.Errorf("%d constructions", constructions)
	}
}

// links numbers those that were met, in words, but for keys, which are others each time.
type links map[string]int

// tell writes the links of a chain, each in words once.
func (seen links) tell(b *strings.Builder, c *validate.Chain) {
	for _, l := range c.Links {
		text := fmt.Sprintf("%s of %s: %s %s: %s %s, anchor %v", l.Kind, l.Zone, l.Name, l.Type, l.Status, l.Reason, l.Anchor)
		for _, k := range l.Keys {
			text += fmt.Sprintf(", key %d sep %v revoked %v led to %v signs %v", k.Algorithm, k.SEP, k.Revoked, k.Led, k.Signs)
		}
		text += fmt.Sprintf(", %d DS, %d records, %d of proof, %d signatures", len(l.DS), len(l.Records), len(l.Proof), len(l.Sigs))
		if seen[text] == 0 {
			seen[text] = len(seen) + 1
			fmt.Fprintf(b, "%d: %s\n", seen[text], text)
			continue
		}
		fmt.Fprintf(b, "%d\n", seen[text])
	}
}

// agrees asks a resolver of the world.
func agrees(w *testworld.World, t *testing.T, what, name string, typ rr.Type, want validate.Status) {
	t.Helper()
	resp, err := resolve.Ask(t.Context(), netip.MustParseAddrPort("192.0.2.100:53"), resolve.Request{Net: w.Net, Name: dnsname.MustParse(name), Type: typ, RD: true, DO: true})
	if err != nil {
		t.Fatal(err)
	}
	const ad = 0x0020
	failed, secure := resp.Rcode() == message.ServFail, resp.Flags&ad != 0
	if failed != (want == validate.Bogus) || secure != (want == validate.Secure) {
		t.Errorf("%s: the resolver says %s, secure %v, where the chain is %s", what, resp.Rcode(), secure, want)
	}
}

// A lie is bogus where it is told and nowhere else.
func TestChainLie(t *testing.T) {
	w := testworld.Play(t, string(worlds.Demo)+testworld.Fault(`kind = "lies"`, `zone = "saltmarsh.example"`, `records = "www A 192.0.2.66"`))
	if c := chain(w, t, "www.saltmarsh.example.", rr.TypeA); c.Status != validate.Bogus {
		t.Errorf("the lie is %s", c.Status)
	}
	if c := chain(w, t, "mail.saltmarsh.example.", rr.TypeA); c.Status != validate.Secure {
		t.Errorf("beside it: %s, %s", c.Status, c.Reason)
	}
}

// collected is all that a chain is made of.
func collected(w *testworld.World, t testing.TB, name string, typ rr.Type) []rr.Record {
	t.Helper()
	records, err := w.Walker().CollectAll(t.Context(), dnsname.MustParse(name), typ)
	if err != nil {
		t.Fatal(err)
	}
	return records
}

// F-05: wrong signatures beside a right one do no harm (RFC 6840 §5.12), and alone they are worth
// nothing. F-15: what a child says of itself is no proof that its parent has no DS (RFC 4035 §5.2).
func TestF05_F15(t *testing.T) {
	w := testworld.Play(t, string(worlds.Demo))
	anchor, _ := w.Anchor(dnsname.Root)
	judge := func(name string, typ rr.Type, change func(rr.Record) []rr.Record) validate.Status {
		var out []rr.Record
		for _, r := range collected(w, t, name, typ) {
			out = append(out, change(r)...)
		}
		return validate.NewRRsets(out).Validate([]rr.Record{anchor}, dnsname.MustParse(name), typ, w.Clock.Now()).Status
	}
	broken := func(r rr.Record) rr.Record {
		r.Data = append([]byte(nil), r.Data...)
		r.Data[len(r.Data)-1] ^= 1
		return r
	}
	salt := dnsname.MustParse("saltmarsh.example.")
	for _, name := range []string{"www.saltmarsh.example.", "nosuch.saltmarsh.example.", "x.cams-old.saltmarsh.example."} {
		if got := judge(name, rr.TypeA, func(r rr.Record) []rr.Record {
			if r.Type != rr.TypeRRSIG {
				return []rr.Record{r}
			}
			return []rr.Record{broken(r), r}
		}); got != validate.Secure {
			t.Errorf("%s with wrong signatures beside the right ones is %s", name, got)
		}
		if got := judge(name, rr.TypeA, func(r rr.Record) []rr.Record {
			if r.Type != rr.TypeRRSIG {
				return []rr.Record{r}
			}
			return []rr.Record{broken(r)}
		}); got != validate.Bogus {
			t.Errorf("%s with wrong signatures alone is %s", name, got)
		}
	}
	// The answer that the apex has no AAAA comes with the child's own NSEC, which shows no DS.
	if got := judge("saltmarsh.example.", rr.TypeAAAA, func(r rr.Record) []rr.Record {
		covers := rr.Type(0)
		if r.Type == rr.TypeRRSIG {
			covers = rr.Type(r.Data[0])<<8 | rr.Type(r.Data[1])
		}
		if r.Name.Equal(salt) && (r.Type == rr.TypeDS || covers == rr.TypeDS) {
			return nil
		}
		return []rr.Record{r}
	}); got != validate.Bogus {
		t.Errorf("without the DS, and with the child's NSEC, the child is %s", got)
	}
}
