package edit

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/update"
	"fencepost/zone"
	"fencepost/zonefile"
)

// What messages may bring, by type: the last ones of a type put errors into a zone, alone or beside others.
var pendingData = map[string][]string{
	"A":     {"198.51.100.1", "198.51.100.2", "198.51.100.3"},
	"AAAA":  {"2001:db8::1", "2001:db8::2"},
	"TXT":   {`"one"`, `"two words"`, `"v=spf1 -all" "x"`},
	"CNAME": {"web", "other.example."},
	"MX":    {"10 web", "20 mail", "0 ."},
	"NS":    {"ns.other.example.", "ns2.other.example."},
	"APL":   {"1:192.0.2.0/24", "!2:2001:db8::/32", `\# 5 00090801ff`},
	"SRV":   {"0 1 443 web", "0 1 443 deep.down"},
	"TLSA":  {"3 1 1 00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff", "3 1 9 00"},
	"DS":    {"12345 13 2 00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff"},
	"DNAME": {"other.example."},
}

// Whatever is pending, and however the file is written: all that can be is written, what stays has a
// reason that holds, and nothing else changes.
func TestFoldAgainstModel(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 2026))
	apex := dnsname.MustParse("salt.example.")
	owners := []string{"web", "a", "b", "deep.down", "down", "mail", "*.wild", "x-y"}
	types := make([]string, 0, len(pendingData))
	for k := range pendingData {
		types = append(types, k)
	}
	slices.Sort(types)
	someLeft, allWritten := 0, 0
	for round := range 120 {
		path := filepath.Join(t.TempDir(), "salt.example.zone")
		write := func(text string) {
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		files := Files{Now: func() time.Time { return time.Unix(1_790_000_000, 0) }}
		read := func() *zone.Snapshot {
			src := &source.Set{}
			text, err := files.Reader().Open(src, path, apex)
			if err != nil {
				t.Fatal(err)
			}
			z, err := files.Reader().Read(text, &diag.List{})
			if err != nil {
				t.Fatal(err)
			}
			return z.Snapshot
		}
		write(randomLayout(r, owners, types))
		before := read()
		errorsBefore := errorsOf(t, &files, path)
		var changes []*update.Change
		for range 1 + r.IntN(6) {
			name := owners[r.IntN(len(owners))] + "." + apex.String()
			if r.IntN(8) == 0 {
				name = apex.String()
			}
			c := randomChange(r, before, dnsname.MustParse(name), types[r.IntN(len(types))])
			if !slices.ContainsFunc(changes, func(o *update.Change) bool { return o.Key() == c.Key() }) {
				changes = append(changes, c)
			}
		}
		fold := func(changes []*update.Change) (*Edited, error) {
			return files.Fold(Fold{Zone: path, Pending: func() ([]*update.Change, uint32, error) { return changes, before.Serial() + 5, nil }})
		}
		differing := slices.DeleteFunc(slices.Clone(changes), func(c *update.Change) bool { return !c.Differs() })
		text, _ := os.ReadFile(path)
		done, err := fold(changes)
		var conflicts *update.Conflicts
		if errors.As(err, &conflicts) { // no message is carried out that makes this
			continue
		}
		if err != nil {
			if len(differing) > 0 && !isRefusal(err) {
				t.Fatalf("round %d: %v\n%s\n%v", round, err, text, pendingText(changes))
			}
			if now, _ := os.ReadFile(path); string(now) != string(text) {
				t.Fatalf("round %d: refused, and written", round)
			}
			done = &Edited{}
			for _, c := range differing {
				done.Left = append(done.Left, Left{c.Owner, c.Type, "all of it"})
			}
		}
		left := map[string]bool{}
		for _, l := range done.Left {
			left[l.Owner.Key()] = true
			if l.Why == "" || strings.Contains(l.Why, "layout") { // the layouts here all allow what is asked
				t.Errorf("round %d: %s stays: %q\n%s\n%v", round, l.Owner, l.Why, text, pendingText(changes))
			}
		}
		now := read()
		want := map[string]string{}
		for c := range zone.Changes(before, now) {
			if !c.SerialAlone() {
				want[c.Owner.Key()+c.Type().String()] = "changed"
			}
		}
		for _, c := range differing {
			k := c.Owner.Key() + c.Type.String()
			if left[c.Owner.Key()] {
				if want[k] != "" {
					t.Fatalf("round %d: %s %s was to stay", round, c.Owner, c.Type)
				}
				continue
			}
			if got, _ := now.Find(c.Owner, c.Type, 0); got.N != c.Now.N || got.N > 0 && !got.Equal(c.Now) {
				t.Fatalf("round %d: %s %s is not as it is served\n%s\n%v", round, c.Owner, c.Type, text, pendingText(changes))
			}
			delete(want, k)
		}
		if len(want) > 0 {
			t.Fatalf("round %d: more was changed: %q", round, want)
		}
		if got := errorsOf(t, &files, path); got > errorsBefore {
			t.Fatalf("round %d: %d errors after, %d before", round, got, errorsBefore)
		}
		for owner := range left { // by itself it cannot be written either
			alone := slices.DeleteFunc(slices.Clone(changes), func(c *update.Change) bool { return c.Owner.Key() != owner })
			if r, err := fold(alone); !isRefusal(err) {
				t.Fatalf("round %d: it stayed, and can be written: %v %v (%v)\n%s\n%v", round, pendingText(alone), r, err, text, pendingText(changes))
			}
		}
		if len(left) > 0 && len(done.Files) > 0 {
			someLeft++
		} else if len(left) == 0 {
			allWritten++
		}
	}
	if someLeft < 10 || allWritten < 10 {
		t.Errorf("%d rounds left something, %d nothing: the test does not try what it is for", someLeft, allWritten)
	}
}

func errorsOf(t *testing.T, files *Files, path string) int {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	reader := files.Reader()
	text, err := reader.Open(src, path, dnsname.MustParse("salt.example."))
	if err != nil {
		t.Fatal(err)
	}
	z, err := reader.Read(text, diags)
	if err != nil {
		t.Fatal(err)
	}
	reader.Check(text, z, diags)
	return reader.Settings.Settle(diags, src.Files(), false).Count(diag.Error)
}

// randomLayout is a file in which records stand in all ways that people write them.
func randomLayout(r *rand.Rand, owners, types []string) string {
	var b strings.Builder
	b.WriteString("$TTL 3600\n@ SOA web.salt.example. h.salt.example. 1 7200 900 1209600 300\n  NS ns.other.example.\n\tNS ns3.other.example.\nweb A 198.51.100.1\nmail\tA 198.51.100.9\n")
	origin, had := "", map[string]bool{}
	for range r.IntN(10) {
		owner := owners[r.IntN(len(owners))]
		if had[owner] || owner == "web" || owner == "mail" {
			continue
		}
		had[owner] = true
		if origin == "" && r.IntN(6) == 0 {
			origin = "sub"
			b.WriteString("$ORIGIN sub.salt.example.\n")
		}
		name := owner
		switch {
		case origin != "" || r.IntN(4) == 0:
			name = strings.ToUpper(owner) + ".Salt.example."
		}
		kinds := []string{types[r.IntN(len(types))]}
		if k := kinds[0]; k != "CNAME" && k != "NS" && k != "DNAME" && k != "DS" {
			for _, more := range []string{"A", "TXT", "AAAA"} {
				if more != k && r.IntN(2) == 0 {
					kinds = append(kinds, more)
				}
			}
		} else if k == "DS" {
			kinds = append(kinds, "NS")
		}
		for i, k := range kinds {
			list := pendingData[k]
			n := 1 + r.IntN(len(list))
			if k == "CNAME" || k == "DNAME" || k == "MX" && n == 3 {
				n = 1
			}
			for j, data := range list[:n] {
				if data == "3 1 9 00" {
					continue
				}
				switch {
				case i == 0 && j == 0:
					b.WriteString(name)
				case r.IntN(3) == 0:
					b.WriteString(name + " ")
				}
				if r.IntN(5) == 0 {
					fmt.Fprint(&b, "\tIN")
				}
				data = strings.ReplaceAll(data, " web", " web.salt.example.")
				if r.IntN(4) == 0 && k != "TXT" {
					data = "( " + data + " ; of old\n\t)"
				}
				fmt.Fprintf(&b, "\t%s %s", k, data)
				if r.IntN(4) == 0 {
					b.WriteString(" ; a remark")
				}
				b.WriteString("\n")
				if r.IntN(6) == 0 {
					b.WriteString("; between\n\n")
				}
			}
		}
	}
	return b.String()
}

// randomChange is what a message may have made of a set.
func randomChange(r *rand.Rand, z *zone.Snapshot, owner dnsname.Name, typ string) *update.Change {
	t, _ := rr.ParseType(typ)
	was, _ := z.Find(owner, t, 0)
	c := &update.Change{Owner: owner, Type: t, File: was, By: "key k"}
	c.Now = zone.RRset{Type: t, TTL: 3600}
	if r.IntN(4) == 0 && was.N > 0 {
		return c
	}
	var list [][]byte
	for _, data := range pendingData[typ] {
		if r.IntN(2) == 0 {
			list = append(list, wireOf(typ, data))
		}
		if len(list) > 0 && (typ == "CNAME" || typ == "DNAME") {
			break
		}
	}
	if len(list) == 0 {
		list = append(list, wireOf(typ, pendingData[typ][0]))
	}
	if r.IntN(5) == 0 {
		c.Now.TTL = 60 + uint32(r.IntN(1000))
	}
	c.Now = zone.NewRRset(t, c.Now.TTL, list)
	return c
}

func wireOf(typ, data string) []byte {
	src := &source.Set{}
	f, _ := src.Add("data", []byte("@ 1 IN "+typ+" "+data+"\n"))
	return zonefile.Parse(f, zonefile.Options{Origin: dnsname.MustParse("salt.example.")}, &diag.List{}).Entries[0].Data
}

func pendingText(changes []*update.Change) (out []string) {
	for _, c := range changes {
		s := fmt.Sprintf("%s %s %d→%d:", c.Owner, c.Type, c.File.N, c.Now.N)
		for data := range c.Now.Data {
			s += " " + rr.DataText(c.Type, data)
		}
		out = append(out, s)
	}
	return out
}
