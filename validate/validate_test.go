package validate_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/vectors"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/validate"
	"fencepost/zone"
	"fencepost/zonefile"
)

func records(t testing.TB, text string, origin dnsname.Name) (out []rr.Record) {
	t.Helper()
	var set source.Set
	f, err := set.Add("records", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	var diags diag.List
	for _, e := range zonefile.Parse(f, zonefile.Options{Origin: origin}, &diags).Entries {
		if e.Kind == zonefile.Record {
			name, _ := dnsname.FromWire(e.Owner)
			out = append(out, rr.Record{Name: name, Type: e.Type, Class: rr.ClassIN, TTL: e.TTL, Data: bytes.Clone(e.Data)})
		}
	}
	return out
}

// The chains of RFC 9102 App. A lead where the RFC says, at their time; at another
// time, from another anchor, and with any one signature changed, they do not.
func TestChains(t *testing.T) {
	anchor := records(t, ". 86400 IN DS 47005 13 2 2eb6e9f2480126691594d649a5a613de3052e37861634641bb568746f2ffc4d4\n", dnsname.Root)
	at := time.Date(2019, 6, 1, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		file, name string
		want       validate.Status
		outcome    validate.Outcome
	}{
		{"a1", "_443._tcp.www.example.com", validate.Secure, validate.Positive},
		{"a2", "_25._tcp.example.com", validate.Secure, validate.Positive},
		{"a3", "_25._tcp.example.org", validate.Secure, validate.Positive},
		{"a4", "_443._tcp.www.example.org", validate.Secure, validate.Positive},
		{"a5", "_443._tcp.www.example.net", validate.Secure, validate.Positive},
		{"a6", "_25._tcp.smtp.example.com", validate.Secure, validate.NXDomain},
		{"a7", "_25._tcp.smtp.example.org", validate.Secure, validate.NXDomain},
		{"a8", "_443._tcp.www.insecure.example", validate.Insecure, validate.NoOutcome},
	} {
		rrs := records(t, string(vectors.Text(t, "rfc9102-"+c.file+".rr")), dnsname.Root)
		name := dnsname.MustParse(c.name + ".")
		tlsa, _ := rr.ParseType("TLSA")
		v := validate.NewRRsets(rrs).Validate(anchor, name, tlsa, at)
		if v.Status != c.want || v.Outcome != c.outcome && v.Outcome != validate.NoData {
			t.Errorf("%s: %s, %d (%s)", c.file, v.Status, v.Outcome, v.Reason)
		}
		for when, ede := range map[time.Time]uint16{at.AddDate(-2, 0, 0): 8, at.AddDate(2, 0, 0): 7} {
			if v := validate.NewRRsets(rrs).Validate(anchor, name, tlsa, when); v.Status != validate.Bogus || v.EDE != ede {
				t.Errorf("%s at %s: %s, EDE %d (%s)", c.file, when, v.Status, v.EDE, v.Reason)
			}
		}
		other := records(t, ". 86400 IN DS 47005 13 2 1eb6e9f2480126691594d649a5a613de3052e37861634641bb568746f2ffc4d4\n", dnsname.Root)
		if v := validate.NewRRsets(rrs).Validate(other, name, tlsa, at); v.Status != validate.Bogus {
			t.Errorf("%s with another anchor: %s", c.file, v.Status)
		}
		needless := 0
		for _, one := range rrs { // all signatures over one set: any one that is right is enough (RFC 6840 §5.12)
			if one.Type != rr.TypeRRSIG {
				continue
			}
			flip := func() {
				for _, r := range rrs {
					if r.Type == rr.TypeRRSIG && r.Name.Equal(one.Name) && string(r.Data[:2]) == string(one.Data[:2]) {
						r.Data[len(r.Data)-1] ^= 1
					}
				}
			}
			flip()
			if v := validate.NewRRsets(rrs).Validate(anchor, name, tlsa, at); v.Status != validate.Bogus {
				needless++
			}
			flip()
		}
		if needless > 1 || needless == 1 && c.file != "a8" { // one of its two spans proves all
			t.Errorf("%s: %d signatures can be wrong", c.file, needless)
		}
	}
	if v := validate.NewRRsets(nil).Validate(records(t, "example. 1 IN DS 1 13 2 00\n", dnsname.Root), dnsname.MustParse("other."), rr.TypeA, at); v.Status != validate.Indeterminate {
		t.Errorf("without an anchor above: %s", v.Status)
	}
}

const text = `$TTL 300
@ SOA ns h 1 7200 900 1209600 300
@ NS ns
ns A 192.0.2.1
www A 192.0.2.2
www TXT "x"
alias CNAME www
gone CNAME nosuch
*.wild A 192.0.2.3
under.wild A 192.0.2.4
a.b.ent A 192.0.2.5
dn DNAME www
safe NS ns.safe
safe DS 1 13 2 0000000000000000000000000000000000000000000000000000000000000000
ns.safe A 192.0.2.6
open NS ns.open
ns.open A 192.0.2.7
b.open2 NS ns.open
`

var at = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// zones are one zone signed in each way.
func zones(t testing.TB) (map[string]*zone.Snapshot, []rr.Record) {
	t.Helper()
	apex := dnsname.MustParse("example.")
	var set source.Set
	f, err := set.Add("example.zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	z := zonefile.Load(f, zonefile.Options{Origin: apex}, &diag.List{})
	k, err := dnssec.Generate(rr.ED25519, dnssec.FlagZone|dnssec.FlagSEP, 0)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]*zone.Snapshot{}
	for what, d := range map[string]signer.Denial{"NSEC": {}, "NSEC3": {NSEC3: true}, "salted": {NSEC3: true, Params: dnssec.NSEC3Params{Iterations: 5, Salt: []byte{1, 2}}}, "opt-out": {NSEC3: true, OptOut: true}} {
		s, _, err := signer.Sign(context.Background(), z.Snapshot, []signer.Key{signer.Use(k, signer.Single)}, signer.Policy{Denial: d}, at)
		if err != nil {
			t.Fatal(err)
		}
		out[what] = s
	}
	return out, []rr.Record{{Name: apex, Type: rr.TypeDNSKEY, Class: rr.ClassIN, Data: k.Data}}
}

func ask(t testing.TB, z *zone.Snapshot, name dnsname.Name, typ rr.Type) *message.Message {
	t.Helper()
	var q message.Query
	msg := message.AppendQuery(nil, name, typ, message.QueryOptions{EDNS: true, UDPSize: 4096, DO: true})
	if v, _ := message.ParseQuery(msg, &q); v != message.Answer {
		t.Fatal("the question is refused")
	}
	var r answer.Responder
	m, err := message.Decode(r.Respond(nil, &q, answer.Single{Snapshot: z}, answer.Options{Limit: 65535, UDPSize: 1232, TCP: true}))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// keysOf are the keys of a zone, as a resolver gets them.
func keysOf(t testing.TB, z *zone.Snapshot, anchors []rr.Record) *validate.Keys {
	t.Helper()
	m := ask(t, z, z.Apex(), rr.TypeDNSKEY)
	keys, v := validate.NewRRsets(m.Answer).TrustKeys(z.Apex(), anchors, at)
	if keys == nil {
		t.Fatal(v.Reason)
	}
	return keys
}

// Whatever is asked, what the server answers is proved, in every way to sign; and
// with any of the proofs left out it is not, or says no less.
func TestEveryAnswerIsProved(t *testing.T) {
	zs, anchors := zones(t)
	names := []string{"@", "ns", "www", "alias", "gone", "*.wild", "x.wild", "x.y.wild", "under.wild", "x.under.wild", "wild", "ent", "b.ent", "a.b.ent", "x.b.ent", "x.ent", "dn", "x.dn",
		"safe", "open", "open2", "b.open2", "nosuch", "zzz", "a.nosuch", "aaa", "x.www", "www.x.www"}
	for what, z := range zs {
		keys := keysOf(t, z, anchors)
		for _, n := range names {
			name, err := dnsname.Parse(n, z.Apex())
			if n == "@" {
				name, err = z.Apex(), nil
			}
			if err != nil {
				t.Fatal(err)
			}
			for _, typ := range []rr.Type{rr.TypeA, rr.TypeTXT, rr.TypeDS, rr.TypeNS, rr.TypeNSEC3PARAM} {
				m := ask(t, z, name, typ)
				if m.Flags&message.FlagAA == 0 || n == "@" && typ == rr.TypeDS {
					continue // a referral, below; DS of the zone itself is for its parent to deny
				}
				v := validate.NewRRsets(m.Answer, m.Authority).Answer(keys, name, typ, at)
				optOut := what == "opt-out" && v.Status == validate.Insecure
				if v.Status != validate.Secure && !optOut {
					t.Errorf("%s: %s %s: %s (%s)", what, name, typ, v.Status, v.Reason)
					continue
				}
				dropOne(t, what, keys, m, name, typ, v)
			}
		}
	}
}

// dropOne leaves out one record after the other.
func dropOne(t *testing.T, what string, keys *validate.Keys, m *message.Message, name dnsname.Name, typ rr.Type, whole validate.Verdict) {
	t.Helper()
	all := append(append([]rr.Record{}, m.Answer...), m.Authority...)
	needed := 0
	for i := range all {
		if all[i].Type == rr.TypeSOA || all[i].Type == rr.TypeRRSIG && rr.Type(all[i].Data[0])<<8|rr.Type(all[i].Data[1]) == rr.TypeSOA {
			continue
		}
		less := append(append([]rr.Record{}, all[:i]...), all[i+1:]...)
		v := validate.NewRRsets(less).Answer(keys, name, typ, at)
		if v.Status == validate.Secure && v.Outcome != whole.Outcome {
			t.Errorf("%s: %s %s without %s %s: it says something else", what, name, typ, all[i].Name, all[i].Type)
		}
		if v.Status == validate.Bogus {
			needed++
		}
	}
	if needed == 0 {
		t.Errorf("%s: %s %s: nothing in the answer is needed", what, name, typ)
	}
}

// Referrals lead on securely or prove that there is no DS.
func TestReferrals(t *testing.T) {
	zs, anchors := zones(t)
	for what, z := range zs {
		for name, want := range map[string]validate.Status{"x.safe.example.": validate.Bogus, "x.open.example.": validate.Insecure, "x.b.open2.example.": validate.Insecure} {
			n := dnsname.MustParse(name)
			m, apex := ask(t, z, n, rr.TypeA), ask(t, z, z.Apex(), rr.TypeDNSKEY)
			if m.Flags&message.FlagAA != 0 {
				t.Fatalf("%s: %s is not a referral", what, name)
			}
			v := validate.NewRRsets(m.Authority, apex.Answer).Validate(anchors, n, rr.TypeA, at)
			if v.Status != want || want == validate.Bogus && !strings.Contains(v.Reason, "no DNSKEY set of safe") {
				t.Errorf("%s: %s is %s (%s)", what, name, v.Status, v.Reason)
			}
		}
	}
}

// Proofs of other names, and other zones, prove nothing.
func TestSwappedProofs(t *testing.T) {
	zs, anchors := zones(t)
	r := rand.New(rand.NewPCG(4, 9))
	names := []string{"nosuch", "zzz", "x.ent", "x.wild", "x.b.ent", "www", "ent", "safe", "a.nosuch", "q1", "q2", "q3", "q4"}
	for what, z := range zs {
		keys := keysOf(t, z, anchors)
		for range 300 {
			a, _ := dnsname.Parse(names[r.IntN(len(names))], z.Apex())
			b, _ := dnsname.Parse(names[r.IntN(len(names))], z.Apex())
			v := validate.NewRRsets(ask(t, z, b, rr.TypeMX).Authority).Answer(keys, a, rr.TypeMX, at)
			truth := ask(t, z, a, rr.TypeMX)
			nx := truth.Rcode() == message.NXDomain
			if v.Status == validate.Secure && (v.Outcome == validate.NXDomain) != nx {
				t.Errorf("%s: the proofs for %s say of %s: outcome %d", what, b, a, v.Outcome)
			}
		}
		m := ask(t, z, z.Apex(), rr.TypeMX)
		other := dnsname.MustParse("other.")
		if v := validate.NewRRsets(m.Authority).Answer(keys, other, rr.TypeMX, at); v.Status == validate.Secure {
			t.Errorf("%s: proofs of %s are taken for %s", what, z.Apex(), other)
		}
	}
}

// The conditions on keys, one by one (RFC 4035 §5.2, RFC 4509 §3, RFC 5011 §2.1,
// RFC 6840 §5.2).
func TestTrustKeys(t *testing.T) {
	zs, anchors := zones(t)
	z := zs["NSEC"]
	apex, key := z.Apex(), anchors[0].Data
	ds := func(digest uint8, spoil byte) rr.Record {
		d := bytes.Clone(dnssec.DS(apex, key, digest))
		d[len(d)-1] ^= spoil
		return rr.Record{Name: apex, Type: rr.TypeDS, Class: rr.ClassIN, Data: d}
	}
	unknown := rr.Record{Name: apex, Type: rr.TypeDS, Class: rr.ClassIN, Data: append([]byte{0, 1, 200, 2}, make([]byte, 32)...)}
	for _, c := range []struct {
		what string
		ds   []rr.Record
		want validate.Status
	}{
		{"SHA-256", []rr.Record{ds(2, 0)}, validate.Secure}, {"SHA-384", []rr.Record{ds(4, 0)}, validate.Secure}, {"SHA-1 alone", []rr.Record{ds(1, 0)}, validate.Secure},
		{"a wrong digest", []rr.Record{ds(2, 1)}, validate.Bogus}, {"SHA-1 beside a wrong SHA-256", []rr.Record{ds(1, 0), ds(2, 1)}, validate.Bogus},
		{"an unknown algorithm", []rr.Record{unknown}, validate.Insecure}, {"an unknown algorithm beside a good DS", []rr.Record{unknown, ds(2, 0)}, validate.Secure},
	} {
		if _, v := validate.NewRRsets(ask(t, z, apex, rr.TypeDNSKEY).Answer).TrustKeys(apex, c.ds, at); v.Status != c.want {
			t.Errorf("%s: %s (%s)", c.what, v.Status, v.Reason)
		}
	}
	revoked := bytes.Clone(key)
	revoked[1] |= byte(dnssec.FlagRevoked)
	if _, v := validate.NewRRsets([]rr.Record{{Name: apex, Type: rr.TypeDNSKEY, Data: revoked}}).TrustKeys(apex, []rr.Record{{Name: apex, Type: rr.TypeDNSKEY, Data: revoked}}, at); v.Status != validate.Bogus {
		t.Errorf("a revoked key: %s", v.Status)
	}
	// Very many signatures cost no more than some (RFC 4035 §5.3.1).
	m := ask(t, z, apex, rr.TypeDNSKEY)
	var flood []rr.Record
	for _, r := range m.Answer {
		if r.Type != rr.TypeRRSIG {
			flood = append(flood, r)
			continue
		}
		for i := range 500 {
			bad := bytes.Clone(r.Data)
			bad[len(bad)-1] ^= byte(1 + i%255)
			bad[len(bad)-2] ^= byte(i / 255) // each another
			flood = append(flood, rr.Record{Name: r.Name, Type: r.Type, Data: bad})
		}
	}
	if _, v := validate.NewRRsets(flood).TrustKeys(apex, anchors, at); v.Status != validate.Bogus || !strings.Contains(v.Reason, "more signatures than are checked") {
		t.Errorf("500 wrong signatures: %s (%s)", v.Status, v.Reason)
	}
}

// Data are kept no longer than they were signed for, whatever TTL they come with, nor
// than the signature lasts (RFC 4035 §5.3.3).
func TestTTL(t *testing.T) {
	zs, anchors := zones(t)
	z := zs["NSEC"]
	keys := keysOf(t, z, anchors)
	www := dnsname.MustParse("www.example.")
	m := ask(t, z, www, rr.TypeA)
	var expires uint32
	for i := range m.Answer {
		if sig, err := dnssec.ParseRRSIG(m.Answer[i].Data); m.Answer[i].Type == rr.TypeRRSIG && err == nil {
			expires = sig.Expiration
		}
		m.Answer[i].TTL = 86400 // somebody on the way made it longer
	}
	if v := validate.NewRRsets(m.Answer).Answer(keys, www, rr.TypeA, at); v.Status != validate.Secure || v.TTL != 300 {
		t.Errorf("%s, %d s", v.Status, v.TTL)
	}
	if v := validate.NewRRsets(m.Answer).Answer(keys, www, rr.TypeA, time.Unix(int64(expires)-10, 0)); v.TTL != 10 {
		t.Errorf("ten seconds before its signature expires: %d s", v.TTL)
	}
}

// An answer to ANY is as good as the worst set in it, and complete with whatever is
// there (RFC 6840 §4.2).
func TestANY(t *testing.T) {
	zs, anchors := zones(t)
	for what, z := range zs {
		keys := keysOf(t, z, anchors)
		www := dnsname.MustParse("www.example.")
		m := ask(t, z, www, rr.TypeANY)
		if v := validate.NewRRsets(m.Answer).Answer(keys, www, rr.TypeANY, at); v.Status != validate.Secure || v.Outcome != validate.Positive {
			t.Errorf("%s: %s (%s)", what, v.Status, v.Reason)
		}
		one := ask(t, z, www, rr.TypeTXT)
		if v := validate.NewRRsets(one.Answer).Answer(keys, www, rr.TypeANY, at); v.Status != validate.Secure {
			t.Errorf("%s, one set: %s (%s)", what, v.Status, v.Reason)
		}
		for i := range m.Answer {
			if m.Answer[i].Type == rr.TypeTXT {
				m.Answer[i].Data = []byte("\x01y")
			}
		}
		if v := validate.NewRRsets(m.Answer).Answer(keys, www, rr.TypeANY, at); v.Status != validate.Bogus {
			t.Errorf("%s, one set forged: %s", what, v.Status)
		}
		missing := dnsname.MustParse("nosuch.example.")
		m = ask(t, z, missing, rr.TypeANY)
		if v := validate.NewRRsets(m.Answer, m.Authority).Answer(keys, missing, rr.TypeANY, at); v.Outcome != validate.NXDomain {
			t.Errorf("%s, a missing name: %s (%s)", what, v.Status, v.Reason)
		}
	}
}

// A key without the zone flag proves nothing, whoever vouches for it (RFC 4034 §2.1.1).
func TestNoZoneKey(t *testing.T) {
	apex := dnsname.MustParse("example.")
	wire := []byte(apex.Wire())
	for flags, want := range map[uint16]validate.Status{dnssec.FlagZone: validate.Secure, dnssec.FlagSEP: validate.Bogus} {
		k, err := dnssec.Generate(rr.ED25519, flags, 0)
		if err != nil {
			t.Fatal(err)
		}
		set := zone.NewRRset(rr.TypeDNSKEY, 300, [][]byte{k.Data})
		sig, _, err := k.SignSet(nil, wire, wire, set, dnssec.Times{Inception: at.Add(-time.Hour), Expiration: at.Add(time.Hour)})
		if err != nil {
			t.Fatal(err)
		}
		sets := validate.NewRRsets([]rr.Record{{Name: apex, Type: rr.TypeDNSKEY, TTL: 300, Data: k.Data}, {Name: apex, Type: rr.TypeRRSIG, TTL: 300, Data: sig}})
		for _, anchor := range []rr.Record{{Name: apex, Type: rr.TypeDNSKEY, Data: k.Data}, {Name: apex, Type: rr.TypeDS, Data: dnssec.DS(apex, k.Data, 2)}} {
			if _, v := sets.TrustKeys(apex, []rr.Record{anchor}, at); v.Status != want {
				t.Errorf("flags %d by %s: %s (%s)", flags, anchor.Type, v.Status, v.Reason)
			}
			if v := sets.Set(sets.EntryKeys(apex, []rr.Record{anchor}), apex, rr.TypeDNSKEY, at); v.Status != want {
				t.Errorf("flags %d by %s, as an entry key: %s", flags, anchor.Type, v.Status)
			}
		}
	}
}

// NSEC3 records with flags that nobody knows are as good as none (RFC 5155 §8.2),
// also where their signatures are right.
func TestUnknownFlags(t *testing.T) {
	apex := dnsname.MustParse("example.")
	k, err := dnssec.Generate(rr.ED25519, dnssec.FlagZone, 0)
	if err != nil {
		t.Fatal(err)
	}
	b := zone.NewBuilder(apex, false)
	_ = b.AddRecord(rr.Record{Name: apex, Type: rr.TypeSOA, TTL: 300, Data: []byte("\x00\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c")})
	_ = b.AddRecord(rr.Record{Name: apex, Type: rr.TypeNS, TTL: 300, Data: []byte("\x02ns\x00")})
	z, _, err := signer.Sign(context.Background(), b.Build().Snapshot, []signer.Key{signer.Use(k, signer.Single)}, signer.Policy{Denial: signer.Denial{NSEC3: true}}, at)
	if err != nil {
		t.Fatal(err)
	}
	anchors := []rr.Record{{Name: apex, Type: rr.TypeDNSKEY, Class: rr.ClassIN, Data: k.Data}}
	keys := keysOf(t, z, anchors)
	name := dnsname.MustParse("nosuch.example.")
	for flags, want := range map[byte]validate.Status{0: validate.Secure, 2: validate.Bogus, 0x80: validate.Bogus} {
		var out []rr.Record
		for _, r := range ask(t, z, name, rr.TypeA).Authority {
			if r.Type == rr.TypeRRSIG && rr.Type(r.Data[1]) == rr.TypeNSEC3 {
				continue
			}
			if out = append(out, r); r.Type != rr.TypeNSEC3 {
				continue
			}
			r.Data = bytes.Clone(r.Data)
			r.Data[1] |= flags
			sig, _, err := k.SignSet(nil, []byte(apex.Wire()), []byte(r.Name.Wire()), zone.NewRRset(rr.TypeNSEC3, r.TTL, [][]byte{r.Data}), dnssec.Times{Inception: at.Add(-time.Hour), Expiration: at.Add(time.Hour)})
			if err != nil {
				t.Fatal(err)
			}
			out[len(out)-1] = r
			out = append(out, rr.Record{Name: r.Name, Type: rr.TypeRRSIG, TTL: r.TTL, Data: sig})
		}
		if v := validate.NewRRsets(out).Answer(keys, name, rr.TypeA, at); v.Status != want {
			t.Errorf("flags %#x: %s (%s), want %s", flags, v.Status, v.Reason, want)
		}
	}
}
