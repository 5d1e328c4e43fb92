package signer_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/zone"
)

var (
	apex = dnsname.MustParse("example.")
	at   = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
)

func newKey(t testing.TB, a rr.AlgorithmNumber, role signer.Role) signer.Key {
	t.Helper()
	flags := dnssec.FlagZone | dnssec.FlagSEP
	if role == signer.ZSK {
		flags = dnssec.FlagZone
	}
	k, err := dnssec.Generate(a, flags, 0)
	if err != nil {
		t.Fatal(err)
	}
	return signer.Use(k, role)
}

func rec(owner string, t rr.Type, data string) rr.Record {
	return rr.Record{Name: dnsname.MustParse(owner), Type: t, Class: rr.ClassIN, TTL: 3600, Data: []byte(data)}
}

// sample is a zone with everything that signing must tell apart, and n hosts.
func sample(t testing.TB, n int) *zone.Snapshot {
	t.Helper()
	b := zone.NewBuilder(apex, false)
	records := []rr.Record{
		rec("example.", rr.TypeSOA, "\x02ns\x07example\x00\x01h\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c"),
		rec("example.", rr.TypeNS, "\x02NS\x07Example\x00"), rec("ns.example.", rr.TypeA, "\x0a\x00\x00\x01"),
		rec("*.wild.example.", rr.TypeTXT, "\x01x"), rec("a.ent.example.", rr.TypeA, "\x0a\x00\x00\x02"),
		rec("www.example.", rr.TypeCNAME, "\x02ns\x07example\x00"),
		rec("safe.example.", rr.TypeNS, "\x02ns\x04safe\x07example\x00"), rec("safe.example.", rr.TypeDS, "\x00\x01\x0d\x02"+strings.Repeat("\x01", 32)),
		rec("ns.safe.example.", rr.TypeA, "\x0a\x00\x00\x03"), rec("open.example.", rr.TypeNS, "\x02ns\x05other\x00"),
		rec("WwW2.example.", rr.TypeMX, "\x00\x0a\x02NS\x07example\x00"),
	}
	for i := range n {
		records = append(records, rec(fmt.Sprintf("host%d.example.", i), rr.TypeA, string([]byte{10, 1, byte(i >> 8), byte(i)})))
	}
	for _, r := range records {
		if err := b.AddRecord(r); err != nil {
			t.Fatal(err)
		}
	}
	return b.Build().Snapshot
}

func sign(t testing.TB, z *zone.Snapshot, keys []signer.Key, p signer.Policy) *zone.Snapshot {
	t.Helper()
	s, _, err := signer.Sign(context.Background(), z, keys, p, at)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func verify(t testing.TB, z *zone.Snapshot, now time.Time, anchors ...rr.Record) *signer.Proof {
	t.Helper()
	p, err := signer.Verify(context.Background(), z, now, signer.VerifyOptions{Anchors: anchors})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestSignAndVerify(t *testing.T) {
	z := sample(t, 300)
	for what, keys := range map[string][]signer.Key{
		"a single key":   {newKey(t, rr.ECDSAP256SHA256, signer.Single)},
		"KSK and ZSK":    {newKey(t, rr.ECDSAP256SHA256, signer.KSK), newKey(t, rr.ECDSAP256SHA256, signer.ZSK)},
		"two algorithms": {newKey(t, rr.ECDSAP256SHA256, signer.Single), newKey(t, rr.ED25519, signer.Single)},
	} {
		s, report, err := signer.Sign(context.Background(), z, keys, signer.Policy{}, at)
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		p := verify(t, s, at)
		for _, f := range p.Findings {
			t.Errorf("%s: %s", what, f.Message)
		}
		if p.Signatures != report.Signatures || p.Signatures == 0 || !p.Expires.Equal(report.Expires) || p.Expires.After(at.Add(signer.Default.Validity)) || p.Expires.Before(at.Add(13*24*time.Hour)) {
			t.Errorf("%s: %d signatures checked, %d made; first expires %s", what, p.Signatures, report.Signatures, p.Expires)
		}
		again, second, err := signer.Sign(context.Background(), s, keys, signer.Policy{}, at)
		if err != nil || !zone.Equal(s, again) || second.Replaced == 0 {
			t.Errorf("%s: signing a signed zone: %v, %d replaced", what, err, second.Replaced)
		}
	}
}

// What is signed and what is not, name by name (RFC 4035 §2.2, §2.3).
func TestWhatIsSigned(t *testing.T) {
	s := sign(t, sample(t, 0), []signer.Key{newKey(t, rr.ECDSAP256SHA256, signer.Single)}, signer.Policy{})
	for _, c := range []struct{ owner, types, signed string }{
		{"example.", "NS SOA RRSIG NSEC DNSKEY", "NS SOA NSEC DNSKEY"},
		{"ns.example.", "A RRSIG NSEC", "A NSEC"},
		{"*.wild.example.", "TXT RRSIG NSEC", "TXT NSEC"},
		{"www.example.", "CNAME RRSIG NSEC", "CNAME NSEC"},
		{"safe.example.", "NS DS RRSIG NSEC", "DS NSEC"},
		{"open.example.", "NS RRSIG NSEC", "NSEC"},
		{"ns.safe.example.", "A", ""},
	} {
		var n zone.Node
		if !s.GetName(dnsname.MustParse(c.owner), &n) {
			t.Fatalf("%s is gone", c.owner)
		}
		for _, typ := range strings.Fields(c.types) {
			want, _ := rr.ParseType(typ)
			if _, ok := n.Find(want); !ok {
				t.Errorf("%s has no %s", c.owner, typ)
			}
		}
		if got := len(n.Types(nil)); got != len(strings.Fields(c.types)) {
			t.Errorf("%s has types %v", c.owner, n.Types(nil))
		}
		count := 0
		for set := range n.RRsets {
			if set.Type != rr.TypeRRSIG {
				continue
			}
			count++
			if !strings.Contains(" "+c.signed+" ", " "+set.Covered().String()+" ") {
				t.Errorf("%s: %s must not be signed", c.owner, set.Covered())
			}
			sig, err := dnssec.ParseRRSIG(set.First())
			of, _ := n.Find(set.Covered())
			if err != nil || sig.OriginalTTL != of.TTL || set.TTL != of.TTL {
				t.Errorf("%s %s: TTLs %d, %d, original %d", c.owner, set.Covered(), of.TTL, set.TTL, sig.OriginalTTL)
			}
		}
		if count != len(strings.Fields(c.signed)) {
			t.Errorf("%s has signatures over %d sets, want %s", c.owner, count, c.signed)
		}
	}
	var n zone.Node
	s.GetName(dnsname.MustParse("*.wild.example."), &n)
	sig, _ := n.FindSig(rr.TypeTXT)
	if parsed, _ := dnssec.ParseRRSIG(sig.First()); parsed.Labels != 2 {
		t.Errorf("the signature of a wildcard has %d labels (RFC 4034 §3.1.3)", parsed.Labels)
	}
	nsec, _ := n.Find(rr.TypeNSEC)
	if nsec.TTL != 300 {
		t.Errorf("NSEC has TTL %d, not the lesser of SOA TTL and minimum (RFC 9077 §3)", nsec.TTL)
	}
	if s.GetName(dnsname.MustParse("ent.example."), &n) {
		t.Error("an empty non-terminal got records")
	}
}

// The same input gives the same octets, however many goroutines work on it.
func TestDeterministic(t *testing.T) {
	z, keys := sample(t, 2000), []signer.Key{newKey(t, rr.ECDSAP256SHA256, signer.Single)}
	one := sign(t, z, keys, signer.Policy{Workers: 1})
	for _, workers := range []int{2, 5} {
		if !zone.Equal(one, sign(t, z, keys, signer.Policy{Workers: workers})) {
			t.Fatalf("%d workers make another zone", workers)
		}
	}
	other := sign(t, z, keys, signer.Policy{Serial: 99})
	if other.Serial() != 99 || zone.Equal(one, other) {
		t.Errorf("serial %d", other.Serial())
	}
	if p := verify(t, other, at); p.Total != 0 {
		t.Errorf("with another serial: %s", p.Findings[0].Message)
	}
}

// flip changes one bit of one record of a zone.
func flip(r *rand.Rand, s *zone.Snapshot) (*zone.Snapshot, string) {
	var names []dnsname.Name
	for n := range s.Nodes {
		if !n.Occluded() && !n.IsCut() {
			names = append(names, s.Owner(n))
		}
	}
	owner := names[r.IntN(len(names))]
	var n zone.Node
	s.GetName(owner, &n)
	var records []rr.Record
	for set := range n.RRsets {
		for data := range set.Data {
			records = append(records, rr.Record{Name: owner, Type: set.Type, TTL: set.TTL, Data: bytes.Clone(data)})
		}
	}
	i := r.IntN(len(records))
	bit := r.IntN(len(records[i].Data) * 8)
	records[i].Data[bit/8] ^= 1 << (bit % 8)
	if rr.Validate(records[i].Type, records[i].Data) != nil || caseOnly(&records[i], bit) {
		return nil, ""
	}
	changed, err := s.Replace([]zone.Content{{Owner: owner, Records: records}})
	if err != nil {
		return nil, ""
	}
	return changed, fmt.Sprintf("%s %s bit %d", owner, records[i].Type, bit)
}

// caseOnly reports whether the flipped bit only changes the case of a letter in a
// name, which no signature notices.
func caseOnly(r *rr.Record, bit int) bool {
	back := bytes.Clone(r.Data)
	back[bit/8] ^= 1 << (bit % 8)
	if r.Type == rr.TypeNSEC {
		return bytes.EqualFold(back, r.Data)
	}
	return bytes.Equal(rr.AppendCanonical(nil, r.Type, back), rr.AppendCanonical(nil, r.Type, r.Data))
}

// Each single bit that is wrong is found.
func TestFlippedBits(t *testing.T) {
	s := sign(t, sample(t, 5), []signer.Key{newKey(t, rr.ED25519, signer.Single)}, signer.Policy{})
	r := rand.New(rand.NewPCG(7, 7))
	done := 0
	for done < 400 {
		changed, what := flip(r, s)
		if changed == nil {
			continue
		}
		done++
		if p := verify(t, changed, at); p.Total == 0 {
			t.Fatalf("%s: not noticed", what)
		}
	}
}

// retimed gives some records another TTL.
func retimed(c zone.Content, which func(*rr.Record) bool) zone.Content {
	for i := range c.Records {
		if which(&c.Records[i]) {
			c.Records[i].TTL += 7
		}
	}
	return c
}

func TestFaults(t *testing.T) {
	key := newKey(t, rr.ECDSAP256SHA256, signer.Single)
	s := sign(t, sample(t, 3), []signer.Key{key}, signer.Policy{})
	records := func(owner string, keep func(zone.RRset) bool) zone.Content {
		var n zone.Node
		s.GetName(dnsname.MustParse(owner), &n)
		c := zone.Content{Owner: dnsname.MustParse(owner)}
		for set := range n.RRsets {
			if keep(set) {
				for data := range set.Data {
					c.Records = append(c.Records, rr.Record{Type: set.Type, TTL: set.TTL, Data: data})
				}
			}
		}
		return c
	}
	all := func(zone.RRset) bool { return true }
	with := func(c zone.Content, more ...rr.Record) zone.Content {
		c.Records = append(c.Records, more...)
		return c
	}
	sigAt := records("host0.example.", func(s zone.RRset) bool { return s.Type == rr.TypeRRSIG }).Records[0]
	for _, c := range []struct {
		what, code string
		change     zone.Content
	}{
		{"a name was added", "missing-nsec", zone.Content{Owner: dnsname.MustParse("new.example."), Records: []rr.Record{rec("new.example.", rr.TypeA, "\x0a\x00\x00\x09")}}},
		{"a name was removed", "broken-nsec-chain", zone.Content{Owner: dnsname.MustParse("host1.example.")}},
		{"a type was added", "wrong-nsec-types", with(records("ns.example.", all), rec("ns.example.", rr.TypeTXT, "\x01x"))},
		{"a signature is missing", "missing-signature", records("ns.example.", func(s zone.RRset) bool { return s.Type != rr.TypeRRSIG || s.Covered() != rr.TypeA })},
		{"glue is signed", "stray-signature", with(records("ns.safe.example.", all), sigAt)},
		{"glue has an NSEC", "stray-nsec", with(records("ns.safe.example.", all), rec("ns.safe.example.", rr.TypeNSEC, "\x07example\x00\x00\x01\x40"))},
		{"the keys are gone", "not-signed", records("example.", func(s zone.RRset) bool { return s.Type != rr.TypeDNSKEY })},
		{"the TTL is another than was signed", "signed-ttl-mismatch", retimed(records("ns.example.", all), func(r *rr.Record) bool { return r.Type == rr.TypeA })},
		{"the TTL of the signature is another", "signed-ttl-mismatch", retimed(records("ns.example.", all), func(r *rr.Record) bool { return r.Type == rr.TypeRRSIG })},
		{"the TTLs of both are", "signed-ttl-mismatch", retimed(records("ns.example.", all), func(r *rr.Record) bool { return r.Type == rr.TypeA || r.Type == rr.TypeRRSIG })},
		{"a key is malformed", "bad-key", with(records("example.", all), rec("example.", rr.TypeDNSKEY, "\x01\x00\x04\x0d\x01\x02"))},
	} {
		changed, err := s.Replace([]zone.Content{c.change})
		if err != nil {
			t.Fatal(err)
		}
		var codes []string
		for _, f := range verify(t, changed, at).Findings {
			codes = append(codes, f.Code)
		}
		if !strings.Contains(strings.Join(codes, " "), c.code) {
			t.Errorf("%s: found %v, not %s", c.what, codes, c.code)
		}
	}
	for _, c := range []struct {
		now  time.Time
		code string
	}{{at.Add(29 * 24 * time.Hour), "signature-expired"}, {at.Add(-2 * time.Hour), "signature-not-yet-valid"}} {
		p := verify(t, s, c.now)
		if p.Total == 0 || p.Findings[0].Code != c.code || p.Signatures != 0 {
			t.Errorf("at %s: %d findings", c.now, p.Total)
		}
	}
}

func TestAnchors(t *testing.T) {
	ksk, zsk := newKey(t, rr.ECDSAP256SHA256, signer.KSK), newKey(t, rr.ECDSAP256SHA256, signer.ZSK)
	s := sign(t, sample(t, 0), []signer.Key{ksk, zsk}, signer.Policy{})
	anchor := func(k signer.Key, typ rr.Type) rr.Record {
		r := rr.Record{Name: apex, Type: typ, Data: k.Data}
		if typ == rr.TypeDS {
			r.Data = dnssec.DS(apex, k.Data, dnssec.DigestSHA256)
		}
		return r
	}
	if p := verify(t, s, at, anchor(ksk, rr.TypeDS)); !p.Trusted || p.Total != 0 {
		t.Errorf("the DS of the KSK: %+v", p)
	}
	if p := verify(t, s, at, anchor(ksk, rr.TypeDNSKEY)); !p.Trusted {
		t.Error("the KSK itself is not an anchor")
	}
	// A DS of the ZSK leads nowhere: that key does not sign the DNSKEY set.
	if p := verify(t, s, at, anchor(zsk, rr.TypeDS)); p.Trusted || p.Total != 1 || p.Findings[0].Code != "untrusted-keys" {
		t.Errorf("the DS of the ZSK: %+v", p)
	}
	stranger := newKey(t, rr.ECDSAP256SHA256, signer.KSK)
	if p := verify(t, s, at, anchor(stranger, rr.TypeDS)); p.Trusted {
		t.Error("the DS of another key is trusted")
	}
	entry := signer.EntryPoints([]*dnssec.PublicKey{ksk.PublicKey, zsk.PublicKey})
	if len(entry) != 1 || !bytes.Equal(dnssec.DS(apex, entry[0].Data, dnssec.DigestSHA256), anchor(ksk, rr.TypeDS).Data) {
		t.Errorf("%d entry points", len(entry))
	}
	if alone := signer.EntryPoints([]*dnssec.PublicKey{zsk.PublicKey}); len(alone) != 1 || alone[0] != zsk.PublicKey {
		t.Errorf("without a mark: %d entry points", len(alone))
	}
}

func TestRefusals(t *testing.T) {
	if _, _, err := signer.Sign(context.Background(), sample(t, 0), nil, signer.Policy{}, at); !errors.Is(err, signer.ErrNoKeys) {
		t.Errorf("without keys: %v", err)
	}
	if _, _, err := signer.Sign(context.Background(), sample(t, 0), []signer.Key{newKey(t, rr.ED25519, signer.ZSK)}, signer.Policy{}, at); !errors.Is(err, signer.ErrNoKeys) {
		t.Errorf("with a ZSK alone: %v", err)
	}
	empty := zone.NewBuilder(apex, false).Build().Snapshot
	if _, _, err := signer.Sign(context.Background(), empty, []signer.Key{newKey(t, rr.ED25519, signer.Single)}, signer.Policy{}, at); !errors.Is(err, signer.ErrNoSOA) {
		t.Errorf("without a SOA: %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, _, err := signer.Sign(ctx, sample(t, 100), []signer.Key{newKey(t, rr.ED25519, signer.Single)}, signer.Policy{}, at); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
}

func BenchmarkSign(b *testing.B) {
	z, keys := sample(b, 10000), []signer.Key{newKey(b, rr.ECDSAP256SHA256, signer.Single)}
	for b.Loop() {
		sign(b, z, keys, signer.Policy{})
	}
	b.ReportMetric(float64(b.N)*20020/b.Elapsed().Seconds(), "signatures/s")
}

func BenchmarkVerify(b *testing.B) {
	s := sign(b, sample(b, 5000), []signer.Key{newKey(b, rr.ECDSAP256SHA256, signer.Single)}, signer.Policy{})
	for b.Loop() {
		verify(b, s, at)
	}
	b.ReportMetric(float64(b.N)*10020/b.Elapsed().Seconds(), "signatures/s")
}
