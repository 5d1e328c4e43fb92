package signer_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/vectors"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// nsec3 is a policy with NSEC3 records.
func nsec3(optOut bool, salt string, iterations uint16) signer.Policy {
	return signer.Policy{Denial: signer.Denial{NSEC3: true, OptOut: optOut, Params: dnssec.NSEC3Params{Iterations: iterations, Salt: []byte(salt)}}}
}

// hashesOf are the owners of NSEC3 records, with what each lists.
func hashesOf(s *zone.Snapshot) map[string]string {
	out := map[string]string{}
	if s.NSEC3() == nil {
		return out
	}
	for n := range s.NSEC3().Nodes {
		set, _ := n.Find(rr.TypeNSEC3)
		rec, _ := dnssec.ParseNSEC3(set.First())
		owner := s.Owner(n)
		out[owner.Label()] = fmt.Sprint(rr.BitmapTypes(rec.Bitmap))
	}
	return out
}

// Who is in the chain and what it lists, name by name (RFC 5155 §7.1).
func TestWhatIsHashed(t *testing.T) {
	all := map[string]string{"example.": "[NS SOA RRSIG DNSKEY NSEC3PARAM CDS CDNSKEY]", "ns.example.": "[A RRSIG]", "*.wild.example.": "[TXT RRSIG]", "wild.example.": "[]",
		"ent.example.": "[]", "a.ent.example.": "[A RRSIG]", "www.example.": "[CNAME RRSIG]", "www2.example.": "[MX RRSIG]",
		"safe.example.": "[NS DS RRSIG]", "open.example.": "[NS]"}
	for _, optOut := range []bool{false, true} {
		p := nsec3(optOut, "\xaa\xbb", 3)
		p.CDS = signer.WantDS
		s := sign(t, sample(t, 0), []signer.Key{newKey(t, rr.ED25519, signer.Single)}, p)
		got := hashesOf(s)
		want := len(all)
		if optOut {
			want--
		}
		if len(got) != want {
			t.Errorf("opt-out %v: %d NSEC3 records, want %d", optOut, len(got), want)
		}
		for name, types := range all {
			h := p.Denial.Params.Hash([]byte(dnsname.MustParse(name).Wire()))
			if g, ok := got[string(h.AppendLabel(nil))]; ok != !(optOut && name == "open.example.") || ok && g != types {
				t.Errorf("opt-out %v: %s lists %q, want %q", optOut, name, g, types)
			}
		}
		proof := verify(t, s, at)
		for _, f := range proof.Findings {
			t.Errorf("opt-out %v: %s", optOut, f.Message)
		}
		if proof.NSEC3 == nil || proof.NSEC3.OptOut != optOut || proof.NSEC3.Params.Iterations != 3 {
			t.Errorf("opt-out %v: proved with %+v", optOut, proof.NSEC3)
		}
		for n := range s.AllNodes { // RFC 9077 §3: the lesser of the SOA's TTL and minimum
			if set, ok := n.Find(rr.TypeNSEC3); ok && set.TTL != 300 {
				t.Fatalf("an NSEC3 record has TTL %d", set.TTL)
			}
		}
	}
}

func TestNSEC3Refused(t *testing.T) {
	ctx, keys := context.Background(), []signer.Key{newKey(t, rr.ED25519, signer.Single)}
	if _, _, err := signer.Sign(ctx, sample(t, 0), keys, nsec3(false, "", 101), at); !errors.Is(err, signer.ErrNSEC3) {
		t.Errorf("101 iterations: %v", err)
	}
	long := dnsname.MustParse(strings.Repeat(strings.Repeat("a", 57)+".", 4))
	b := zone.NewBuilder(long, false)
	soa := rec(long.String(), rr.TypeSOA, "\x00\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c")
	if err := b.AddRecord(soa); err != nil {
		t.Fatal(err)
	}
	if _, _, err := signer.Sign(ctx, b.Build().Snapshot, keys, nsec3(false, "", 0), at); !errors.Is(err, signer.ErrNSEC3) {
		t.Errorf("an apex of 233 octets: %v", err)
	}
}

// Names that share a hash make the signer choose another salt, always the same one;
// if that does not help it says so (RFC 5155 §7.1).
func TestCollisions(t *testing.T) {
	ctx, keys := context.Background(), []signer.Key{newKey(t, rr.ED25519, signer.Single)}
	meet := func(when func(salt []byte) bool) {
		signer.SetHash(func(p *dnssec.NSEC3Params, name []byte) dnssec.Hash {
			h := p.Hash(name)
			if when(p.Salt) {
				return dnssec.Hash{h[0] & 1} // almost all names
			}
			return h
		})
	}
	defer signer.SetHash((*dnssec.NSEC3Params).Hash)
	meet(func([]byte) bool { return true })
	if _, _, err := signer.Sign(ctx, sample(t, 0), keys, nsec3(false, "", 0), at); !errors.Is(err, signer.ErrCollision) {
		t.Errorf("names that always meet: %v", err)
	}
	meet(func(salt []byte) bool { return len(salt) == 0 })
	before := sample(t, 0)
	s := sign(t, before, keys, nsec3(false, "", 0))
	if proof := verify(t, s, at); proof.Total > 0 || len(proof.NSEC3.Params.Salt) != 8 {
		t.Errorf("%d faults with salt %x", proof.Total, proof.NSEC3.Params.Salt)
	}
	if !zone.Equal(s, sign(t, before, keys, nsec3(false, "", 0))) {
		t.Error("another salt each time")
	}
	after, err := before.Replace([]zone.Content{{Owner: dnsname.MustParse("new.example."), Records: []rr.Record{rec("x.example.", rr.TypeA, "\x0a\x00\x00\x07")}}})
	if err != nil {
		t.Fatal(err)
	}
	next, _, err := signer.Update(ctx, before, after, s, keys, nsec3(false, "", 0), at)
	if err != nil || verify(t, next, at).Total > 0 {
		t.Errorf("an update of such a zone: %v", err)
	}
}

// policies are ways to sign that differ in what Update has to do.
func policies() map[string]signer.Policy {
	digest := nsec3(false, "", 0)
	digest.Zonemd = []uint8{signer.ZonemdSHA384}
	return map[string]signer.Policy{"NSEC": {}, "NSEC3": nsec3(false, "", 0), "opt-out": nsec3(true, "\x11", 0), "NSEC3 and ZONEMD": digest}
}

// A changed zone signed from what is known is the same as one signed wholly, with
// hardly any new signature, and it is proved right; whatever the changes are.
func TestUpdate(t *testing.T) {
	names := []string{"host1", "host2", "new", "a.ent", "b.ent", "deep.er.down", "er.down", "down", "safe", "ns.safe", "x.safe", "open", "*.wild", "wild", "q.wild", "www", "zz", "aa", "d"}
	types := []rr.Record{rec("x.example.", rr.TypeA, "\x0a\x00\x00\x07"), rec("x.example.", rr.TypeTXT, "\x01y"), rec("x.example.", rr.TypeNS, "\x02ns\x05other\x00"),
		rec("x.example.", rr.TypeDNAME, "\x05other\x00")}
	steps := 25
	if testing.Short() { // as under the race detector
		steps = 8
	}
	for what, p := range policies() {
		r := rand.New(rand.NewPCG(3, uint64(len(what))))
		keys := []signer.Key{newKey(t, rr.ED25519, signer.KSK), newKey(t, rr.ED25519, signer.ZSK)}
		before := sample(t, 20)
		signed := sign(t, before, keys, p)
		for step := range steps {
			var changes []zone.Content
			for range 1 + r.IntN(3) {
				c := zone.Content{Owner: dnsname.MustParse(names[r.IntN(len(names))] + ".example.")}
				for range r.IntN(3) {
					one := types[r.IntN(len(types))]
					c.Records = append(c.Records, one)
					if one.Type == rr.TypeNS && r.IntN(2) == 0 {
						c.Records = append(c.Records, rec("x.example.", rr.TypeDS, "\x00\x01\x0d\x02"+strings.Repeat("\x01", 32)))
					}
				}
				changes = append(changes, c)
			}
			after, err := before.Replace(changes)
			if err != nil {
				t.Fatal(err)
			}
			p.Serial = uint32(step + 100)
			got, report, err := signer.Update(context.Background(), before, after, signed, keys, p, at)
			if err != nil {
				t.Fatal(err)
			}
			whole := p
			whole.Previous = signed
			want := sign(t, after, keys, whole)
			if !zone.Equal(got, want) {
				for _, d := range zone.Diff(want, got).Sets {
					t.Errorf("%s, step %d: %s %s: %d records besides, %d missing", what, step, d.Owner, d.Type(), d.Added.N, d.Removed.N)
				}
				t.Fatalf("after %v", changes)
			}
			if next, err := signed.With(zone.Diff(signed, got)); err != nil || !zone.Equal(next, got) || next.Digest() != got.Digest() {
				t.Fatalf("%s, step %d: the delta leads elsewhere: %v", what, step, err)
			}
			if proof := verify(t, got, at); proof.Total > 0 {
				t.Fatalf("%s, step %d: %s", what, step, proof.Findings[0].Message)
			}
			if report.Signatures > 60 {
				t.Errorf("%s, step %d: %d signatures were made", what, step, report.Signatures)
			}
			before, signed = after, got
		}
	}
}

// Signatures are kept until their time for renewal, and not longer; those over
// what changed are new. Nothing moves when nothing is due.
func TestRenewal(t *testing.T) {
	keys := []signer.Key{newKey(t, rr.ECDSAP256SHA256, signer.Single)}
	z := sample(t, 1000)
	first, made, err := signer.Sign(context.Background(), z, keys, signer.Policy{}, at)
	if err != nil {
		t.Fatal(err)
	}
	spread := map[time.Duration]int{}
	day := 24 * time.Hour
	for age := time.Duration(0); age < 13*day; age += 6 * time.Hour {
		now := at.Add(age)
		next, report, err := signer.Sign(context.Background(), z, keys, signer.Policy{Previous: first, TrustPrevious: true}, now)
		if err != nil {
			t.Fatal(err)
		}
		spread[age] = report.Signatures
		if report.Signatures+report.Kept != made.Signatures || report.Expires.Before(now.Add(signer.Policy{}.Filled().Refresh)) {
			t.Errorf("after %s: %d made, %d kept, the first expires %s", age, report.Signatures, report.Kept, report.Expires)
		}
		if age < 11*day && !zone.Equal(first, next) {
			t.Errorf("after %s something moved", age)
		}
	}
	if half := spread[12*day]; spread[10*day+18*time.Hour] != 0 || half < made.Signatures/4 || half > 3*made.Signatures/4 {
		t.Errorf("signatures do not fall due one by one: %v", spread)
	}
}

// The zone of an independent program has the digests that we work out, and a
// signed zone with a digest is proved; one bit more or less is not.
func TestZonemd(t *testing.T) {
	var set source.Set
	f, err := set.Add("zonemd-own.zone", vectors.Text(t, "zonemd-own.zone"))
	if err != nil {
		t.Fatal(err)
	}
	z := zonefile.Load(f, zonefile.Options{}, &diag.List{})
	digests, err := signer.Zonemd(z.Snapshot, []uint8{1, 2})
	if err != nil {
		t.Fatal(err)
	}
	var apexNode zone.Node
	z.ApexNode(&apexNode)
	have, _ := apexNode.Find(rr.TypeZONEMD)
	for data := range have.Data {
		if !bytes.Equal(data[6:], digests[data[5]]) {
			t.Errorf("hash algorithm %d: %s", data[5], hex.EncodeToString(digests[data[5]]))
		}
	}
	if have.N != 2 {
		t.Error("the vector has lost its records")
	}
	p := nsec3(false, "", 0)
	p.Zonemd, p.CheckEvery = []uint8{1, 2}, 1
	s := sign(t, z.Snapshot, []signer.Key{newKey(t, rr.ED25519, signer.Single)}, p)
	if proof := verify(t, s, at); proof.Total > 0 || len(proof.Digests) != 2 {
		t.Errorf("%d faults, digests %v", proof.Total, proof.Digests)
	}
	var signedApex zone.Node
	s.ApexNode(&signedApex)
	var sizes []int
	made, _ := signedApex.Find(rr.TypeZONEMD)
	for data := range made.Data { // as long as their hashes, and made once (RFC 8976 §2.2.4)
		sizes = append(sizes, len(data)-6)
	}
	if !slices.Equal(sizes, []int{48, 64}) {
		t.Errorf("digests of %d octets", sizes)
	}
	// Schemes and hashes that are not known are not judged (RFC 8976 §4).
	var stranger zone.Content
	stranger.Owner = s.Apex()
	for set := range signedApex.RRsets {
		for data := range set.Data {
			stranger.Records = append(stranger.Records, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
		}
	}
	serial := binary.BigEndian.AppendUint32(nil, s.Serial())
	for _, kind := range [][]byte{{9, 1}, {1, 77}, {9, 77}} {
		stranger.Records = append(stranger.Records, rr.Record{Type: rr.TypeZONEMD, TTL: made.TTL, Data: slices.Concat(serial, kind, make([]byte, 48))})
	}
	with, err := s.Replace([]zone.Content{stranger})
	if err != nil {
		t.Fatal(err)
	}
	proof := verify(t, with, at)
	for _, f := range proof.Findings {
		if f.Code == "zonemd-mismatch" {
			t.Error(f.Message)
		}
	}
	if !slices.Equal(proof.Digests, []uint8{1, 2}) {
		t.Errorf("digests %v", proof.Digests)
	}
	glue := dnsname.MustParse("ns1.sub.zmd.example.") // no signature covers it, the digest does
	changed, err := s.Replace([]zone.Content{{Owner: glue, Records: []rr.Record{rec(glue.String(), rr.TypeA, "\x0a\x00\x00\x01")}}})
	if err != nil {
		t.Fatal(err)
	}
	if proof := verify(t, changed, at); proof.Total == 0 || proof.Findings[0].Code != "zonemd-mismatch" {
		t.Errorf("changed glue: %d faults", proof.Total)
	}
}

func TestCDS(t *testing.T) {
	ksk, zsk, next := newKey(t, rr.ED25519, signer.KSK), newKey(t, rr.ED25519, signer.ZSK), newKey(t, rr.ED25519, signer.KSK)
	codes := func(keys []signer.Key, p signer.Policy) string {
		var out []string
		for _, f := range verify(t, sign(t, sample(t, 0), keys, p), at).Findings {
			out = append(out, f.Code)
		}
		return strings.Join(out, " ")
	}
	p := signer.Policy{CDS: signer.WantDS, Digests: []uint8{2, 4}}
	if got := codes([]signer.Key{ksk, zsk}, p); got != "" {
		t.Errorf("CDS of the key: %s", got)
	}
	if got := codes([]signer.Key{ksk, zsk}, signer.Policy{CDS: signer.DeleteAll}); got != "" {
		t.Errorf("the request to delete: %s", got)
	}
	next.Publish, next.SignKeys = false, false
	if got := codes([]signer.Key{ksk, zsk, next}, p); !strings.Contains(got, "cds-unsafe") {
		t.Errorf("CDS of a key that is not published: %q", got)
	}
	// The key of another operator is published and asked for; its records in the
	// input are kept only if that is wanted.
	other := newKey(t, rr.ED25519, signer.KSK)
	foreign := signer.Key{PublicKey: other.PublicKey, Publish: true, DS: true}
	if got := codes([]signer.Key{ksk, zsk, foreign}, p); got != "" {
		t.Errorf("two operators: %s", got)
	}
	s := sign(t, sample(t, 0), []signer.Key{ksk, zsk, foreign}, p)
	for keep, want := range map[bool][3]int{true: {3, 4, 2}, false: {2, 2, 1}} {
		q := p
		q.KeepKeys = keep
		again, report, err := signer.Sign(context.Background(), s, []signer.Key{ksk, zsk}, q, at)
		if err != nil {
			t.Fatal(err)
		}
		var n zone.Node
		again.ApexNode(&n)
		for i, typ := range []rr.Type{rr.TypeDNSKEY, rr.TypeCDS, rr.TypeCDNSKEY} {
			if set, _ := n.Find(typ); set.N != want[i] || report.Foreign != 1 {
				t.Errorf("keep %v: %d %s records, %d foreign", keep, set.N, typ, report.Foreign)
			}
		}
	}
}

// Each fault of a chain of NSEC3 records has its name.
func TestHashedFaults(t *testing.T) {
	s := sign(t, sample(t, 3), []signer.Key{newKey(t, rr.ED25519, signer.Single)}, nsec3(false, "", 0))
	p := dnssec.NSEC3Params{}
	h := p.Hash([]byte(dnsname.MustParse("host1.example.").Wire()))
	owner := dnsname.MustParse(string(h.AppendLabel(nil)) + ".example.")
	var n zone.Node
	if !s.NSEC3().GetName(owner, &n) {
		t.Fatal("no NSEC3 record")
	}
	set, _ := n.Find(rr.TypeNSEC3)
	one, _ := dnssec.ParseNSEC3(set.First())
	other := dnsname.MustParse("0000000000000000000000000000000g.example.")
	for _, c := range []struct {
		code  string
		owner dnsname.Name
		data  []byte
	}{
		{"missing-nsec", owner, nil},
		{"stray-nsec", other, p.AppendNSEC3(nil, 0, &one.Next, nil)},
		{"broken-nsec-chain", owner, p.AppendNSEC3(nil, 0, &h, []rr.Type{rr.TypeA, rr.TypeRRSIG})},
		{"wrong-nsec-types", owner, p.AppendNSEC3(nil, 0, &one.Next, []rr.Type{rr.TypeA, rr.TypeMX, rr.TypeRRSIG})},
		{"nsec3-parameters", owner, (&dnssec.NSEC3Params{Iterations: 1}).AppendNSEC3(nil, 0, &one.Next, nil)},
	} {
		change := zone.Content{Owner: c.owner}
		if c.data != nil {
			change.Records = []rr.Record{rec(c.owner.String(), rr.TypeNSEC3, string(c.data))}
		}
		hashed, err := s.NSEC3().Replace([]zone.Content{change})
		if err != nil {
			t.Fatal(err)
		}
		found := map[string]bool{}
		for _, f := range verify(t, s.WithNSEC3(hashed), at).Findings {
			found[f.Code] = true
		}
		if !found[c.code] {
			t.Errorf("%s is not found, but %v", c.code, found)
		}
	}
}

func BenchmarkUpdate(b *testing.B) {
	for what, p := range map[string]signer.Policy{"NSEC": {}, "NSEC3": nsec3(false, "", 0)} {
		b.Run(what, func(b *testing.B) {
			keys := []signer.Key{newKey(b, rr.ECDSAP256SHA256, signer.Single)}
			before := sample(b, 20000)
			signed := sign(b, before, keys, p)
			after, err := before.Replace([]zone.Content{{Owner: dnsname.MustParse("host77.example."), Records: []rr.Record{rec("x.example.", rr.TypeA, "\x0a\x00\x00\x07")}}})
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				if _, _, err := signer.Update(context.Background(), before, after, signed, keys, p, at); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// Of two signers with one zone, or of one that changed its mind, some spans may be
// opt-out and others not: a delegation without DS may be in the chain or left out of an
// opt-out span (RFC 5155 §7.1), and both are right.
func TestMixedOptOut(t *testing.T) {
	key := newKey(t, rr.ED25519, signer.Single)
	s := sign(t, sample(t, 3), []signer.Key{key}, nsec3(false, "", 0))
	hashed := s.NSEC3()
	flagged := 0
	for n := range s.NSEC3().Nodes {
		owner := s.Owner(n)
		set, _ := n.Find(rr.TypeNSEC3)
		data := bytes.Clone(set.First())
		if flagged++; flagged%2 == 0 {
			continue
		}
		data[1] |= dnssec.FlagOptOut
		sig, _, err := key.Private.SignSet(nil, []byte(s.Apex().Wire()), []byte(owner.Wire()), set.With(data), dnssec.Times{Inception: at.Add(-time.Hour), Expiration: at.AddDate(0, 0, 20)})
		if err != nil {
			t.Fatal(err)
		}
		hashed, err = hashed.Replace([]zone.Content{{Owner: owner, Records: []rr.Record{
			{Name: owner, Type: rr.TypeNSEC3, Class: rr.ClassIN, TTL: set.TTL, Data: data}, {Name: owner, Type: rr.TypeRRSIG, Class: rr.ClassIN, TTL: set.TTL, Data: sig}}}})
		if err != nil {
			t.Fatal(err)
		}
	}
	if plain := verify(t, s, at); plain.NSEC3.OptOut {
		t.Error("a chain without the flag counts as opt-out")
	}
	proof := verify(t, s.WithNSEC3(hashed), at)
	for _, f := range proof.Findings {
		t.Errorf("%s", f.Message)
	}
	if !proof.NSEC3.OptOut || flagged < 10 {
		t.Errorf("%d NSEC3 records, opt-out %v", flagged, proof.NSEC3.OptOut)
	}
}
