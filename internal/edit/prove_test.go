package edit

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// oddZone is a zone as people lay it out: with owners and TTLs left out, records twice, names
// in any case.
func oddZone(r *rand.Rand) string {
	var b strings.Builder
	if r.IntN(3) > 0 {
		b.WriteString("$TTL 3600\n@")
	} else {
		b.WriteString("@ 3600")
	}
	b.WriteString(" SOA ns1 hostmaster 2026112801 5400 1200 1209600 600\n  NS ns1\n  NS ns2.saltmarsh.example.\nns1 A 192.0.2.53\n")
	for range r.IntN(12) {
		owner := []string{"", "a", "A", "b", "web", "c.d"}[r.IntN(6)]
		ttl := []string{"", "", "", "60 ", "1h "}[r.IntN(5)]
		data := []string{"A 192.0.2.%d", "A 192.0.2.%d", "TXT text%d", "MX 10 m%d", "NS N%d.other.example."}[r.IntN(5)]
		fmt.Fprintf(&b, "%s %s%s\n", owner, ttl, fmt.Sprintf(data, r.IntN(3)))
	}
	return b.String()
}

// What is proved by the difference of the zones is proved by the texts too, whatever else
// happened to the text; and plain edits of plain zones need the first alone.
func TestProofByDelta(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "tides.example.zone")
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	a := &Files{Now: func() time.Time { return now }}
	quick, slow, refused := 0, 0, 0
	for seed := range uint64(1500) {
		r := rand.New(rand.NewPCG(seed, 2026))
		if err := os.WriteFile(path, []byte(oddZone(r)), 0o644); err != nil {
			t.Fatal(err)
		}
		b, e, err := a.edit(path)
		if err != nil {
			t.Fatal(seed, err)
		}
		for range 1 + r.IntN(3) {
			if records := e.file.All; r.IntN(2) == 0 && len(records) > 4 {
				if gone := records[4+r.IntN(len(records)-4)]; gone.Kind == zonefile.Record && !e.ed.Removed(gone) {
					owner, _ := dnsname.FromWire(gone.Owner)
					e.ed.Remove(gone)
					e.expect(owner, gone.Type, gone.Data, -1)
				}
				continue
			}
			s, err := e.subject(RecordArg{Owner: []string{"a", "web", "new"}[r.IntN(3)], Type: "A", Data: []string{fmt.Sprintf("192.0.2.%d", r.IntN(5))}, TTL: []string{"", "60"}[r.IntN(2)]}, false)
			if err != nil {
				t.Fatal(err)
			}
			_ = e.add(s) // it may be there already
		}
		if err := e.makeText(); err != nil {
			t.Fatal(seed, err)
		}
		if r.IntN(2) == 0 { // something else happens to the text
			lines := bytes.SplitAfter(e.text, []byte("\n"))
			i := 3 + r.IntN(len(lines)-3)
			switch r.IntN(3) {
			case 0:
				lines[i] = nil
			case 1:
				lines[i] = append(bytes.Clone(lines[i]), lines[i]...)
			default:
				lines[i] = []byte("web TXT changed\n")
			}
			e.text = bytes.Join(lines, nil)
		}
		src := &source.Set{}
		f, err := src.Add(path, e.text)
		if err != nil {
			t.Fatal(err)
		}
		text := e.reading(src, f, nil)
		after, err := a.Reader().Read(text, &diag.List{})
		if err == nil {
			err = e.readBefore()
		}
		if err != nil {
			t.Fatal(seed, err)
		}
		byText := e.proveText(zonefile.Parse(f, text.Options, &diag.List{}))
		switch byDelta := e.asExpected(zone.Diff(e.before.Snapshot, after.Snapshot)); {
		case byDelta && byText != nil && !onlyTwice(e, text.Main.Content):
			t.Fatalf("seed %d: proved by the difference, and by the text: %v\n%s\n-- becomes\n%s", seed, byText, e.file.Source.Content, e.text)
		case byDelta:
			quick++
		case byText == nil:
			slow++
		default:
			refused++
		}
		b.close()
	}
	if quick < 500 || slow == 0 || refused < 200 {
		t.Errorf("%d were proved by the difference, %d by the text alone, %d refused", quick, slow, refused)
	}
}

// onlyTwice reports whether all that a text has too much is there already: such lines make no
// difference to the zone.
func onlyTwice(e *ZoneEdit, text []byte) bool {
	src := &source.Set{}
	f, err := src.Add("x", text)
	if err != nil {
		return false
	}
	count := map[string]int{}
	for _, r := range zonefile.Parse(f, e.opts, &diag.List{}).All {
		if r.Kind == zonefile.Record && r.Type != rr.TypeSOA {
			count[key(r.Owner, r.Type, 0, r.Data)]++
		}
	}
	for k, n := range count {
		if is, want := n, e.written(k)+e.expected[k]; is != want && (is > 0) != (want > 0) {
			return false
		}
	}
	return true
}
