package signer_test

import (
	"bytes"
	"context"
	"crypto/sha512"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/zone"
)

// twins are two keys with one tag: among a few hundred keys there are some.
func twins(t *testing.T) (a, b signer.Key) {
	t.Helper()
	seen := map[uint16]signer.Key{}
	for range 20000 {
		k := newKey(t, rr.ED25519, signer.Single)
		if other, ok := seen[k.Tag]; ok {
			return other, k
		}
		seen[k.Tag] = k
	}
	t.Fatal("no two keys have one tag")
	return a, b
}

// Signatures are kept by the key that made them, not by its tag (RFC 4034 §3.1.6:
// a tag does not name a key), and only where they verify.
func TestKeptByKey(t *testing.T) {
	a, b := twins(t)
	z := sample(t, 10)
	ctx := context.Background()
	proved := func(what string, s *zone.Snapshot, signatures int, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		proof := verify(t, s, at)
		for _, f := range proof.Findings {
			t.Errorf("%s: %s", what, f.Message)
		}
		if proof.Signatures != signatures {
			t.Errorf("%s: %d signatures, want %d", what, proof.Signatures, signatures)
		}
	}
	for name, p := range policies() {
		first, made, err := signer.Sign(ctx, z, []signer.Key{a}, p, at)
		proved(name, first, made.Signatures, err)
		for _, trust := range []bool{false, true} {
			q := p
			q.TrustPrevious = trust
			what := fmt.Sprintf("%s, trusted %v", name, trust)
			s, report, err := signer.Update(ctx, z, z, first, []signer.Key{b}, q, at)
			proved(what+": another key of the same tag", s, made.Signatures, err)
			if report.Kept != 0 {
				t.Errorf("%s: %d signatures of another key were kept", what, report.Kept)
			}
			s, _, err = signer.Update(ctx, z, z, first, []signer.Key{a, b}, q, at)
			proved(what+": a second key of the same tag", s, 2*made.Signatures, err)
			q.Previous = s
			s, report, err = signer.Sign(ctx, z, []signer.Key{a, b}, q, at)
			proved(what+": both once more", s, 2*made.Signatures, err)
			if report.Kept != 2*made.Signatures && name != "NSEC3 and ZONEMD" {
				t.Errorf("%s: %d of %d signatures were kept", what, report.Kept, 2*made.Signatures)
			}
			s, _, err = signer.Update(ctx, z, z, s, []signer.Key{b}, q, at)
			proved(what+": one of them goes", s, made.Signatures, err)
		}
	}
	bad := damaged(t, sign(t, z, []signer.Key{a}, signer.Policy{}), "host3.example.")
	s, report, err := signer.Sign(ctx, z, []signer.Key{a}, signer.Policy{Previous: bad}, at)
	if proved("a wrong signature in the previous version", s, report.Signatures+report.Kept, err); report.Signatures != 1 {
		t.Errorf("%d signatures were made anew, want the wrong one", report.Signatures)
	}
}

// damaged has one octet of a signature over A at a name changed.
func damaged(t *testing.T, s *zone.Snapshot, owner string) *zone.Snapshot {
	t.Helper()
	var n zone.Node
	s.GetName(dnsname.MustParse(owner), &n)
	c := zone.Content{Owner: dnsname.MustParse(owner)}
	for set := range n.RRsets {
		for data := range set.Data {
			data = bytes.Clone(data)
			if set.Type == rr.TypeRRSIG && set.Covered() == rr.TypeA {
				data[len(data)-1] ^= 1
			}
			c.Records = append(c.Records, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
		}
	}
	bad, err := s.Replace([]zone.Content{c})
	if err != nil {
		t.Fatal(err)
	}
	return bad
}

// withSOA gives the zone other numbers in its SOA, and another TTL.
func withSOA(t *testing.T, z *zone.Snapshot, ttl, minimum uint32) *zone.Snapshot {
	t.Helper()
	var n zone.Node
	z.ApexNode(&n)
	c := zone.Content{Owner: z.Apex()}
	for set := range n.RRsets {
		for data := range set.Data {
			r := rr.Record{Type: set.Type, TTL: set.TTL, Data: bytes.Clone(data)}
			if set.Type == rr.TypeSOA {
				r.TTL = ttl
				binary.BigEndian.PutUint32(r.Data[len(r.Data)-4:], minimum)
			}
			c.Records = append(c.Records, r)
		}
	}
	out, err := z.Replace([]zone.Content{c})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// What denies follows the SOA at once, where only the change is signed too (RFC
// 9077 §3), and verify tells where it does not.
func TestDenialTTL(t *testing.T) {
	keys := []signer.Key{newKey(t, rr.ED25519, signer.Single)}
	for what, p := range policies() {
		before := withSOA(t, sample(t, 5), 3600, 300)
		signed := sign(t, before, keys, p)
		for _, c := range [][2]uint32{{3600, 900}, {60, 900}, {900, 900}} {
			after := withSOA(t, before, c[0], c[1])
			got, _, err := signer.Update(context.Background(), before, after, signed, keys, p, at)
			if err != nil {
				t.Fatal(err)
			}
			for n := range got.AllNodes {
				for _, typ := range []rr.Type{rr.TypeNSEC, rr.TypeNSEC3} {
					if set, ok := n.Find(typ); ok && set.TTL != min(c[0], c[1]) {
						t.Errorf("%s: %s at %s lives %d, want %d", what, typ, got.Owner(n), set.TTL, min(c[0], c[1]))
					}
				}
			}
			if proof := verify(t, got, at); len(proof.Findings) > 0 {
				t.Errorf("%s: %s", what, proof.Findings[0].Message)
			}
			if old := verify(t, withSOA(t, signed, c[0], c[1]), at); !slices.ContainsFunc(old.Findings, func(f signer.Finding) bool { return f.Code == "denial-ttl" }) {
				t.Errorf("%s: NSEC records of another life go unnoticed", what)
			}
			before, signed = after, got
		}
	}
}

// A name that is left of an earlier signing alone does not exist, for Sign and for
// Update.
func TestLeftovers(t *testing.T) {
	keys := []signer.Key{newKey(t, rr.ED25519, signer.Single)}
	old := rec("host3a.example.", rr.TypeNSEC, "\x05host4\x07example\x00\x00\x01\x40")
	sig := rec("q.ghost.example.", rr.TypeRRSIG, "\x00\x01\x0f\x03"+strings.Repeat("\x00", 14)+"\x07example\x00sig")
	for what, p := range policies() {
		clean := sample(t, 9)
		dirty, err := clean.Replace([]zone.Content{{Owner: old.Name, Records: []rr.Record{old}}, {Owner: sig.Name, Records: []rr.Record{sig}}})
		if err != nil {
			t.Fatal(err)
		}
		want, got := sign(t, clean, keys, p), sign(t, dirty, keys, p)
		if !zone.Equal(want, got) {
			t.Errorf("%s: what an earlier signer left changes the zone: %d names, want %d", what, got.Names(), want.Names())
		}
		add := []zone.Content{{Owner: dnsname.MustParse("host3b.example."), Records: []rr.Record{rec("x.", rr.TypeA, "\x0a\x00\x00\x01")}},
			{Owner: dnsname.MustParse("ghost.example."), Records: []rr.Record{rec("x.", rr.TypeA, "\x0a\x00\x00\x01")}}}
		more, _ := dirty.Replace(add)
		got, _, err = signer.Update(context.Background(), dirty, more, got, keys, p, at)
		if err != nil {
			t.Fatal(err)
		}
		cleanMore, _ := clean.Replace(add)
		if want := sign(t, cleanMore, keys, p); !zone.Equal(want, got) {
			t.Errorf("%s: an update of such a zone differs", what)
		}
	}
}

// A signer whose signatures do not verify hands nothing out.
func TestSelfCheck(t *testing.T) {
	a, b := newKey(t, rr.ED25519, signer.Single), newKey(t, rr.ED25519, signer.Single)
	broken := *a.Private
	broken.PublicKey = b.PublicKey
	_, _, err := signer.Sign(context.Background(), sample(t, 1), []signer.Key{signer.Use(&broken, signer.Single)}, signer.Policy{}, at)
	if !errors.Is(err, signer.ErrSelfCheck) {
		t.Errorf("wrong signatures: %v", err)
	}
}

// The request to have no DS any more, octet by octet (RFC 8078 §4).
func TestDeleteRequest(t *testing.T) {
	s := sign(t, sample(t, 0), []signer.Key{newKey(t, rr.ED25519, signer.Single)}, signer.Policy{CDS: signer.DeleteAll})
	var n zone.Node
	s.ApexNode(&n)
	for typ, want := range map[rr.Type]string{rr.TypeCDS: "\x00\x00\x00\x00\x00", rr.TypeCDNSKEY: "\x00\x00\x03\x00\x00"} {
		if set, _ := n.Find(typ); set.N != 1 || string(set.First()) != want {
			t.Errorf("%s: %d records, %x", typ, set.N, set.First())
		}
	}
}

// A large apex, as RSA keys and many TXT records make it, is signed whole: every
// way to deny, every size around a page.
func TestLargeApex(t *testing.T) {
	keys := []signer.Key{newKey(t, rr.RSASHA256, signer.Single)}
	for what, p := range policies() {
		for _, texts := range []int{0, 5, 14, 15, 16, 17, 60} {
			z := sample(t, 3)
			var n zone.Node
			z.ApexNode(&n)
			c := zone.Content{Owner: apex}
			for set := range n.RRsets {
				for data := range set.Data {
					c.Records = append(c.Records, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
				}
			}
			for i := range texts {
				c.Records = append(c.Records, rec("x.", rr.TypeTXT, "\xf3"+strings.Repeat(string(rune('a'+i%26)), 241)+fmt.Sprintf("%02d", i)))
			}
			z, err := z.Replace([]zone.Content{c})
			if err != nil {
				t.Fatal(err)
			}
			s := sign(t, z, keys, p)
			if proof := verify(t, s, at); proof.Total > 0 || s.Serial() != 7 {
				t.Errorf("%s, %d texts: serial %d, %d findings", what, texts, s.Serial(), proof.Total)
			}
		}
	}
}

// The digest of a zone is over all records in canonical order, worked out here
// from a list (RFC 8976 §3.3.1).
func TestDigestOrder(t *testing.T) {
	for what, p := range policies() {
		s := sign(t, sample(t, 30), []signer.Key{newKey(t, rr.ED25519, signer.Single)}, p)
		type one struct {
			owner dnsname.Name
			t     rr.Type
			wire  []byte
			data  []byte
		}
		var all []one
		for n := range s.AllNodes {
			for set := range n.RRsets {
				if n.IsApex() && (set.Type == rr.TypeZONEMD || set.Covered() == rr.TypeZONEMD) {
					continue
				}
				for data := range set.Data {
					data = rr.AppendCanonical(nil, set.Type, data)
					w := append([]byte(s.Owner(n).Key()), byte(set.Type>>8), byte(set.Type), 0, 1)
					w = binary.BigEndian.AppendUint32(w, set.TTL)
					w = binary.BigEndian.AppendUint16(w, uint16(len(data)))
					all = append(all, one{s.Owner(n), set.Type, append(w, data...), data})
				}
			}
		}
		slices.SortFunc(all, func(a, b one) int {
			if c := a.owner.Compare(b.owner); c != 0 {
				return c
			}
			if a.t != b.t {
				return int(a.t) - int(b.t)
			}
			return bytes.Compare(a.data, b.data)
		})
		h := sha512.New()
		for _, r := range all {
			h.Write(r.wire)
		}
		got, err := signer.Zonemd(s, []uint8{signer.ZonemdSHA512})
		if err != nil || !bytes.Equal(got[signer.ZonemdSHA512], h.Sum(nil)) {
			t.Errorf("%s: the digest is not that of the sorted records (%v)", what, err)
		}
	}
}

// Records that a signer makes at the apex are data like any other elsewhere, also
// where a name has nothing else.
func TestDataElsewhereStays(t *testing.T) {
	z, err := sample(t, 3).Replace([]zone.Content{
		{Owner: dnsname.MustParse("key.example."), Records: []rr.Record{rec("key.example.", rr.TypeDNSKEY, "\x01\x01\x03\x0fkey")}},
		{Owner: dnsname.MustParse("cds.example."), Records: []rr.Record{rec("cds.example.", rr.TypeCDS, "\x00\x00\x00\x00\x00")}},
		{Owner: dnsname.MustParse("left.example."), Records: []rr.Record{rec("left.example.", rr.TypeNSEC, "\x01a\x00\x00\x01\x40")}},
	})
	if err != nil {
		t.Fatal(err)
	}
	s, _, err := signer.Sign(context.Background(), z, []signer.Key{newKey(t, rr.ED25519, signer.Single)}, signer.Policy{}, at)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]bool{"key.example.": true, "cds.example.": true, "left.example.": false} {
		var n zone.Node
		if got := s.GetName(dnsname.MustParse(name), &n); got != want {
			t.Errorf("%s is there: %v, want %v", name, got, want)
		}
	}
}
