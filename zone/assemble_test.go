package zone_test

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

func pagesOf(s *zone.Snapshot) (out [][]byte) {
	for p := range s.Pages {
		out = append(out, p)
	}
	return out
}

// assembled is a version made of the pages of another, which has to be the same.
func assembled(t *testing.T, s *zone.Snapshot) *zone.Snapshot {
	t.Helper()
	a := zone.NewAssembler(s.Apex())
	for p, hashed := range s.Pages {
		if err := a.Add(p, hashed); err != nil {
			t.Fatalf("page %x: %v", p, err)
		}
	}
	again := a.Snapshot()
	if !zone.Equal(s, again) || again.Octets() != s.Octets() || again.Digest() != s.Digest() || !bytes.Equal(again.HashParams(), s.HashParams()) {
		t.Fatalf("assembled of its pages a version is another: %d of %d names", again.Names(), s.Names())
	}
	return again
}

// inOrder builds the zone again with a builder that expects order, of records that have it,
// have it but for one, or have it for some time.
func inOrder(t *testing.T, g generator, records []rr.Record) {
	t.Helper()
	records = slices.Clone(records)
	slices.SortStableFunc(records, func(a, b rr.Record) int { return a.Name.Compare(b.Name) })
	if n := len(records); n > 1 {
		switch g.IntN(4) {
		case 0:
			i, j := g.IntN(n), g.IntN(n)
			records[i], records[j] = records[j], records[i]
		case 1:
			part := records[g.IntN(n):]
			g.Shuffle(len(part), func(i, j int) { part[i], part[j] = part[j], part[i] })
		}
	}
	want := build(t, records) // the first spelling of a name is kept
	b := zone.NewBuilder(apex, false)
	b.ExpectOrder()
	for _, r := range records {
		if err := b.AddRecord(r); err != nil {
			t.Fatal(err)
		}
	}
	got := b.Build().Snapshot
	if !zone.Equal(want, got) || got.Digest() != want.Digest() {
		t.Fatalf("built in order a zone has %d names and %d records, else %d and %d", got.Names(), got.Records(), want.Names(), want.Records())
	}
	assembled(t, got)
}

// The layout of pages is what stores hold. Where this falls because of more than where they are
// cut, raise zone.PageForm.
func TestPageForm(t *testing.T) {
	h := sha256.New()
	for p, hashed := range formZone(t).Pages {
		fmt.Fprintf(h, "%v %x\n", hashed, p)
	}
	if got := fmt.Sprintf("%d %x", zone.PageForm, h.Sum(nil)[:8]); got != "1 5b6f232c59b00d55" {
		t.Errorf("pages have form %s", got)
	}
}

// formZone has all that pages tell apart.
func formZone(t testing.TB) *zone.Snapshot {
	records := fewRecords()
	for i := range 300 {
		records = append(records, record(fmt.Sprintf("h%d.example.", i), rr.TypeA, "\xc0\x00\x02\x01"))
	}
	return build(t, append(records, record("big.example.", 700, string(make([]byte, 9000)))))
}

func fewRecords() []rr.Record {
	return []rr.Record{
		record("example.", rr.TypeSOA, soaData), record("example.", rr.TypeNSEC3PARAM, "\x01\x00\x00\x00\x00"),
		record("Upper.b.example.", rr.TypeTXT, "\x01x"), record("*.b.example.", rr.TypeCNAME, "\x01b\x07example\x00"),
		record("cut.example.", rr.TypeNS, "\x02ns\x03cut\x07example\x00"), record("ns.cut.example.", rr.TypeA, "\xc0\x00\x02\x35"),
		record("old.example.", rr.TypeDNAME, "\x03new\x07example\x00"), record("x.old.example.", rr.TypeTXT, "\x00"),
		record("h1.example.", rr.TypeRRSIG, "\x00\x01\x0d\x02"), record("h1.example.", rr.TypeTXT, "\x01\x01"),
		record("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.example.", rr.TypeNSEC3, "\x01\x00\x00\x00\x00"),
		record("0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.example.", rr.TypeRRSIG, "\x00\x32\x0d\x02"),
	}
}

// A page in which one octet is another, or that is cut off, is refused, or what is made of
// it can be walked over and asked all the same.
func TestDamagedPages(t *testing.T) {
	for _, p := range pagesOf(build(t, fewRecords())) {
		for at := range p {
			for c := range 256 {
				other := bytes.Clone(p)
				other[at] = byte(c)
				useAll(t, other)
			}
		}
	}
	g := generator{rand.New(rand.NewPCG(1, 2026))}
	refused := 0
	const rounds = 600
	pages := pagesOf(formZone(t))
	for range rounds {
		i := g.IntN(len(pages))
		p := bytes.Clone(pages[i])
		switch at := g.IntN(len(p)); g.IntN(3) {
		case 0:
			p = p[:at]
		case 1:
			p[at] ^= 1 << g.IntN(8)
		case 2:
			p[at%min(len(p), 600)] = []byte{0, 1, 0x7f, 0x80, 0xff}[g.IntN(5)]
		}
		if !useAll(t, p) {
			refused++
		}
	}
	if refused < rounds/3 {
		t.Errorf("only %d of %d damaged pages were refused", refused, rounds)
	}
	a := zone.NewAssembler(apex)
	if err := errors.Join(a.Add(pages[1], false), a.Add(pages[0], false)); !errors.Is(err, zone.ErrPage) {
		t.Errorf("pages in another order: %v", err)
	}
	long := dnsname.MustParse(fmt.Sprintf("%0[1]*d.%0[1]*d.%0[1]*d.%0[2]*d.", 63, 60, 0))
	if err := zone.NewAssembler(long).Add(pages[0], false); !errors.Is(err, zone.ErrPage) {
		t.Errorf("names of more than 255 octets: %v", err)
	}
}

// useAll reads all of a page by every way that there is; false where it is refused.
func useAll(t testing.TB, page []byte) bool {
	a := zone.NewAssembler(apex)
	if a.Add(page, false) != nil {
		return false
	}
	s := a.Snapshot()
	names, records := 0, 0
	var m zone.Match
	var found zone.Node
	for n := range s.Nodes {
		names++
		key := n.AppendKey(nil)
		if s.Lookup(key, &m); !s.Get(key, &found) || !found.Same(n) || !s.Owner(n).AtOrBelow(apex) {
			t.Fatalf("page %x: %s is not found again", page, s.Owner(n))
		}
		if n.Occluded() && len(n.OccluderKey(nil)) >= len(key) {
			t.Fatalf("page %x: %s lies below itself", page, s.Owner(n))
		}
		ns, alias := false, false
		for set := range n.RRsets {
			ns, alias = ns || set.Type == rr.TypeNS, alias || set.Type == rr.TypeCNAME
			for range set.Data {
				records++
			}
			_ = set.Covered()
		}
		if n.IsCut() != (ns && !n.IsApex()) || n.HasAlias() != alias {
			t.Fatalf("page %x: %s is a cut: %v, has an alias: %v", page, s.Owner(n), n.IsCut(), n.HasAlias())
		}
	}
	if names != s.Names() || records != s.Records() {
		t.Fatalf("page %x: %d names and %d records, counted %d and %d", page, s.Names(), s.Records(), names, records)
	}
	_ = s.Digest()
	return true
}

func FuzzAssembler(f *testing.F) {
	for _, p := range pagesOf(formZone(f)) {
		f.Add(p)
	}
	f.Fuzz(func(t *testing.T, page []byte) { useAll(t, page) })
}
