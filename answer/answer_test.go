package answer_test

import (
	"context"
	"fmt"
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
	"fencepost/zone"
	"fencepost/zonefile"
)

func load(t testing.TB, text, origin string) *zone.Snapshot {
	t.Helper()
	src, diags := &source.Set{}, &diag.List{}
	f, err := src.Add("zone", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	z := zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse(origin)}, diags)
	if diags.Count(diag.Error) > 0 {
		t.Fatal(diags.All[0].Message)
	}
	return z.Snapshot
}

// zones is a Source of several zones.
type zones []*zone.Snapshot

func (zs zones) Find(name []byte, above bool) (best *zone.Snapshot, state answer.State) {
	n, _ := dnsname.FromWire(name)
	for _, z := range zs {
		if n.AtOrBelow(z.Apex()) && !(above && n.Equal(z.Apex())) && (best == nil || z.Apex().Below(best.Apex())) {
			best, state = z, answer.Served
		}
	}
	return best, state
}

// ask is the response to a question over UDP with EDNS.
func ask(t testing.TB, src answer.Source, name string, typ rr.Type, o message.QueryOptions, ao answer.Options) *message.Message {
	t.Helper()
	raw := message.AppendQuery(nil, dnsname.MustParse(name), typ, o)
	var q message.Query
	if v, code := message.ParseQuery(raw, &q); v != message.Answer {
		t.Fatalf("the query gets %s", code)
	}
	if ao.Limit == 0 {
		ao.Limit = 1232
	}
	ao.UDPSize = 1232
	var r answer.Responder
	out := r.Respond(nil, &q, src, ao)
	if len(out) > ao.Limit {
		t.Fatalf("%s %s: %d octets over the limit of %d", name, typ, len(out), ao.Limit)
	}
	m, err := message.Decode(out)
	if err != nil {
		t.Fatalf("%s %s: %v", name, typ, err)
	}
	return m
}

func plain(t testing.TB, src answer.Source, name string, typ rr.Type) *message.Message {
	return ask(t, src, name, typ, message.QueryOptions{EDNS: true, UDPSize: 1232}, answer.Options{})
}

// show is a response in short: code, flags, sections.
func show(m *message.Message) string {
	var b strings.Builder
	b.WriteString(m.ExtendedRcode.String())
	for _, f := range []struct {
		bit  uint16
		name string
	}{{message.FlagAA, " aa"}, {message.FlagTC, " tc"}} {
		if m.Flags&f.bit != 0 {
			b.WriteString(f.name)
		}
	}
	for i, s := range [][]rr.Record{m.Answer, m.Authority, m.Additional} {
		for _, r := range s {
			fmt.Fprintf(&b, " %c:%s/%s", "anx"[i], strings.TrimSuffix(r.Name.String(), "."), r.Type)
		}
	}
	return b.String()
}

const text = `$ORIGIN example.
$TTL 3600
@ SOA ns1 h 1 7200 900 1209600 300
@ NS ns1
@ NS ns.other.
@ MX 10 mail
ns1 A 192.0.2.53
mail A 192.0.2.25
www CNAME web
web A 192.0.2.80
web A 192.0.2.81
chain1 CNAME chain2
chain2 CNAME chain3
chain3 CNAME web
loop1 CNAME loop2
loop2 CNAME loop1
gone CNAME missing
away CNAME www.other.
there CNAME a.child
deep.ent TXT x
*.wild A 192.0.2.99
*.wild MX 10 mail
*.alias CNAME web
under.wild TXT x
sub NS ns.sub
sub NS ns1
sub DS 1 13 2 0000000000000000000000000000000000000000000000000000000000000000
ns.sub A 192.0.2.54
hidden.sub TXT never
out MX 10 ns.sub
out MX 20 over
over NS over
over A 192.0.2.55
both MX 10 mail
both MX 20 ns1
child NS ns1
old DNAME new
x.new A 192.0.2.77
many TXT ` + "\"" + `0123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789` + "\"" + `
`

// TestAlgorithm walks through RFC 1034 §4.3.2 case by case.
func TestAlgorithm(t *testing.T) {
	child := load(t, "$TTL 60\n@ SOA ns1.example. h 1 1 1 1 1\n@ NS ns1.example.\na A 192.0.2.1\n", "child.example.")
	src := zones{load(t, text, "example."), child}
	for _, c := range []struct {
		name string
		typ  rr.Type
		want string
	}{
		{"web.example.", rr.TypeA, "NOERROR aa a:web.example/A a:web.example/A"},
		{"WEB.Example.", rr.TypeA, "NOERROR aa a:WEB.Example/A a:WEB.Example/A"},
		{"example.", rr.TypeMX, "NOERROR aa a:example/MX x:mail.example/A"},
		{"both.example.", rr.TypeMX, "NOERROR aa a:both.example/MX a:both.example/MX x:mail.example/A x:ns1.example/A"},
		{"out.example.", rr.TypeMX, "NOERROR aa a:out.example/MX a:out.example/MX"}, // glue is not this zone's to give
		{"example.", rr.TypeNS, "NOERROR aa a:example/NS a:example/NS"},
		{"www.example.", rr.TypeA, "NOERROR aa a:www.example/CNAME a:web.example/A a:web.example/A"},
		{"www.example.", rr.TypeCNAME, "NOERROR aa a:www.example/CNAME"},
		{"www.example.", rr.TypeTXT, "NOERROR aa a:www.example/CNAME n:example/SOA"},
		{"chain1.example.", rr.TypeA, "NOERROR aa a:chain1.example/CNAME a:chain2.example/CNAME a:chain3.example/CNAME a:web.example/A a:web.example/A"},
		{"gone.example.", rr.TypeA, "NXDOMAIN aa a:gone.example/CNAME n:example/SOA"}, // RFC 6604
		{"away.example.", rr.TypeA, "NOERROR aa a:away.example/CNAME"},
		{"there.example.", rr.TypeA, "NOERROR aa a:there.example/CNAME a:a.child.example/A"}, // into another zone served here
		{"nosuch.example.", rr.TypeA, "NXDOMAIN aa n:example/SOA"},
		{"a.b.nosuch.example.", rr.TypeA, "NXDOMAIN aa n:example/SOA"},
		{"web.example.", rr.TypeMX, "NOERROR aa n:example/SOA"},
		{"web.example.", 65500, "NOERROR aa n:example/SOA"},
		{"ent.example.", rr.TypeA, "NOERROR aa n:example/SOA"}, // an empty non-terminal exists
		{"x.wild.example.", rr.TypeA, "NOERROR aa a:x.wild.example/A"},
		{"x.y.wild.example.", rr.TypeMX, "NOERROR aa a:x.y.wild.example/MX x:mail.example/A"},
		{"x.wild.example.", rr.TypeTXT, "NOERROR aa n:example/SOA"},
		{"under.wild.example.", rr.TypeA, "NOERROR aa n:example/SOA"},
		{"x.under.wild.example.", rr.TypeA, "NXDOMAIN aa n:example/SOA"}, // an existing name blocks the wildcard
		{"x.alias.example.", rr.TypeA, "NOERROR aa a:x.alias.example/CNAME a:web.example/A a:web.example/A"},
		{"*.wild.example.", rr.TypeA, "NOERROR aa a:*.wild.example/A"},
		{"x.*.wild.example.", rr.TypeA, "NXDOMAIN aa n:example/SOA"},
		{"sub.example.", rr.TypeA, "NOERROR n:sub.example/NS n:sub.example/NS x:ns.sub.example/A x:ns1.example/A"},
		{"sub.example.", rr.TypeNS, "NOERROR n:sub.example/NS n:sub.example/NS x:ns.sub.example/A x:ns1.example/A"},
		{"a.b.sub.example.", rr.TypeA, "NOERROR n:sub.example/NS n:sub.example/NS x:ns.sub.example/A x:ns1.example/A"},
		{"ns.sub.example.", rr.TypeA, "NOERROR n:sub.example/NS n:sub.example/NS x:ns.sub.example/A x:ns1.example/A"}, // glue is no answer
		{"hidden.sub.example.", rr.TypeTXT, "NOERROR n:sub.example/NS n:sub.example/NS x:ns.sub.example/A x:ns1.example/A"},
		{"sub.example.", rr.TypeDS, "NOERROR aa a:sub.example/DS"},
		{"child.example.", rr.TypeDS, "NOERROR aa n:example/SOA"}, // the parent answers for DS
		{"child.example.", rr.TypeSOA, "NOERROR aa a:child.example/SOA"},
		{"example.", rr.TypeDS, "NOERROR aa n:example/SOA"}, // no parent here
		{"x.old.example.", rr.TypeA, "NOERROR aa a:old.example/DNAME a:x.old.example/CNAME a:x.new.example/A"},
		{"old.example.", rr.TypeA, "NOERROR aa n:example/SOA"},
		{"other.", rr.TypeA, "REFUSED"},
		{".", rr.TypeNS, "REFUSED"},
		{"web.example.", rr.TypeANY, "NOERROR aa a:web.example/A a:web.example/A"},
		{"web.example.", 254, "NOTIMP"},
		{"web.example.", 128, "FORMERR"},
	} {
		if got := show(plain(t, src, c.name, c.typ)); got != c.want {
			t.Errorf("%s %s:\n got %s\nwant %s", c.name, c.typ, got, c.want)
		}
	}
	loop := plain(t, src, "loop1.example.", rr.TypeA)
	if got := show(loop); got != "NOERROR aa a:loop1.example/CNAME a:loop2.example/CNAME" {
		t.Errorf("a loop of aliases: %s", got)
	}
	neg := plain(t, src, "nosuch.example.", rr.TypeA)
	if neg.Authority[0].TTL != 300 {
		t.Errorf("the SOA of a negative answer has TTL %d (RFC 2308 §3)", neg.Authority[0].TTL)
	}
	m := ask(t, src, "other.", rr.TypeA, message.QueryOptions{EDNS: true, RD: true}, answer.Options{})
	if m.EDNS == nil || len(m.EDNS.Options) != 1 || m.EDNS.Options[0].Data[1] != 20 || m.Flags&message.FlagRD == 0 || m.Flags&message.FlagRA != 0 {
		t.Errorf("a refusal: %+v %+v", m.Header, m.EDNS)
	}
}

func TestUnavailable(t *testing.T) {
	for state, want := range map[nothing]message.ExtendedError{nothing(answer.Unavailable): message.NotReady, nothing(answer.Expired): message.InvalidData} {
		m := plain(t, state, "example.", rr.TypeA)
		if said := m.EDNS.Errors(); show(m) != "SERVFAIL" || len(said) != 1 || said[0].Code != want {
			t.Errorf("a zone that is not loaded, or expired: %s, %v; want %s", show(m), said, want)
		}
	}
}

type nothing answer.State

func (n nothing) Find([]byte, bool) (*zone.Snapshot, answer.State) { return nil, answer.State(n) }

func TestWildcardVectors(t *testing.T) {
	var v struct {
		Cases []struct{ Qname, Qtype, Result string }
	}
	vectors.Read(t, "wildcard_answers.json", &v)
	z := load(t, string(vectors.Text(t, "rfc4592-2.2.1.zone")), ".")
	for _, c := range v.Cases {
		typ, _ := rr.ParseType(c.Qtype)
		m := plain(t, answer.Single{Snapshot: z}, c.Qname, typ)
		var got string
		switch {
		case m.ExtendedRcode == message.NXDomain:
			got = "nxdomain"
		case len(m.Answer) > 0 && m.Answer[0].Name.String() == c.Qname:
			got = "answer"
		case m.Flags&message.FlagAA == 0:
			got = "referral"
		default:
			got = "nodata"
		}
		if want := strings.Replace(c.Result, "synth", "answer", 1); got != want {
			t.Errorf("%s %s: %s, want %s", c.Qname, c.Qtype, got, want)
		}
	}
}

// The table of RFC 6672 §2.2: where a DNAME applies, the CNAME that is made from it.
func TestDNAMEVectors(t *testing.T) {
	var v struct {
		Cases []struct {
			Qname, Owner, Target string
			Result               *string // nil: it does not apply; YXDOMAIN: it would be too long
		}
	}
	vectors.Read(t, "dname_substitution.json", &v)
	for _, c := range v.Cases {
		src := answer.Single{Snapshot: load(t, "@ 60 SOA ns. h. 1 1 1 1 1\n@ 60 NS ns.\n"+c.Owner+" 60 DNAME "+c.Target+"\n", ".")}
		m := ask(t, src, c.Qname, rr.TypeA, message.QueryOptions{}, answer.Options{})
		made, dname := "", false
		for _, r := range m.Answer {
			switch r.Type {
			case rr.TypeDNAME:
				dname = r.Name.String() == c.Owner
			case rr.TypeCNAME:
				to, _ := dnsname.FromWire(r.Data)
				if made == "" && r.Name.String() == c.Qname && r.TTL == 60 {
					made = to.String()
				}
			}
		}
		want := ""
		if c.Result != nil {
			want = *c.Result
		}
		tooLong := want == "YXDOMAIN"
		if tooLong {
			want = ""
		}
		if made != want || dname != (want != "" || tooLong) || (m.Rcode().String() == "YXDOMAIN") != tooLong {
			t.Errorf("%s below %s DNAME %s: %s, %q; want %q", c.Qname, c.Owner, c.Target, m.Rcode(), made, want)
		}
	}
}

func TestTruncation(t *testing.T) {
	var b strings.Builder
	b.WriteString("$TTL 60\n@ SOA ns h 1 1 1 1 1\n@ NS ns\nns A 192.0.2.1\n")
	for i := range 20 {
		fmt.Fprintf(&b, "big TXT \"%d%s\"\n", i, strings.Repeat("x", 100))
		fmt.Fprintf(&b, "sub NS ns%d.sub\nns%d.sub A 192.0.2.%d\nsub2 NS ns%d.sub\n", i, i, i, i)
	}
	src := answer.Single{Snapshot: load(t, b.String(), "example.")}
	m := ask(t, src, "big.example.", rr.TypeTXT, message.QueryOptions{EDNS: true}, answer.Options{Limit: 512})
	if got := show(m); got != "NOERROR aa tc" || m.EDNS == nil {
		t.Errorf("a set that does not fit: %s", got)
	}
	m = ask(t, src, "big.example.", rr.TypeTXT, message.QueryOptions{EDNS: true}, answer.Options{Limit: 65535, TCP: true})
	if len(m.Answer) != 20 || m.Flags&message.FlagTC != 0 {
		t.Errorf("over TCP: %s", show(m))
	}
	// Glue of the cut's own servers must fit (RFC 9471 §3.1), that of siblings need not.
	m = ask(t, src, "x.sub.example.", rr.TypeA, message.QueryOptions{}, answer.Options{Limit: 512})
	if m.Flags&message.FlagTC == 0 {
		t.Errorf("needed glue left out without TC: %s", show(m))
	}
	m = ask(t, src, "x.sub2.example.", rr.TypeA, message.QueryOptions{}, answer.Options{Limit: 512})
	if m.Flags&message.FlagTC != 0 || len(m.Authority) != 20 {
		t.Errorf("sibling glue: %s", show(m))
	}
}

// signed signs a zone with a new key.
func signed(t testing.TB, z *zone.Snapshot) (*zone.Snapshot, []*dnssec.PublicKey) {
	t.Helper()
	k, err := dnssec.Generate(rr.ECDSAP256SHA256, dnssec.FlagZone|dnssec.FlagSEP, 0)
	if err != nil {
		t.Fatal(err)
	}
	s, _, err := signer.Sign(context.Background(), z, []signer.Key{signer.Use(k, signer.Single)}, signer.Policy{}, time.Unix(1700000000, 0))
	if err != nil {
		t.Fatal(err)
	}
	return s, []*dnssec.PublicKey{k.PublicKey}
}

// TestSignedAnswers looks at the proofs of RFC 4035 §3.1.3.
func TestSignedAnswers(t *testing.T) {
	z, keys := signed(t, load(t, text, "example."))
	src := answer.Single{Snapshot: z}
	do := message.QueryOptions{EDNS: true, UDPSize: 1232, DO: true}
	for _, c := range []struct {
		name string
		typ  rr.Type
		nsec string // owners of the NSEC records, in order
	}{
		{"web.example.", rr.TypeA, ""},
		{"web.example.", rr.TypeMX, "web.example."},
		{"nosuch.example.", rr.TypeA, "x.new.example. example."}, // covers the name; covers the wildcard
		{"ent.example.", rr.TypeA, "child.example."},             // covers the empty non-terminal
		{"x.wild.example.", rr.TypeA, "under.wild.example."},     // no closer name exists
		{"x.wild.example.", rr.TypeTXT, "*.wild.example. under.wild.example."},
		{"a.sub.example.", rr.TypeA, ""}, // a secure referral has its DS
		{"child.example.", rr.TypeA, "child.example."},
		{"child.example.", rr.TypeDS, "child.example."},
		{"0.sub.example.", rr.TypeDS, ""},
	} {
		m := ask(t, src, c.name, c.typ, do, answer.Options{})
		var nsec []string
		for _, r := range m.Authority {
			if r.Type == rr.TypeNSEC {
				nsec = append(nsec, r.Name.String())
			}
		}
		if got := strings.Join(nsec, " "); got != c.nsec {
			t.Errorf("%s %s: NSEC of %q, want %q", c.name, c.typ, got, c.nsec)
		}
		validate(t, m, keys, z.Apex())
	}
	m := ask(t, src, "a.sub.example.", rr.TypeA, do, answer.Options{})
	if got := show(m); !strings.Contains(got, "n:sub.example/DS n:sub.example/RRSIG") {
		t.Errorf("a secure referral: %s", got)
	}
	// Without DO nothing of all that (RFC 3225 §3).
	for _, name := range []string{"web.example.", "nosuch.example.", "x.wild.example.", "a.sub.example."} {
		if got := show(plain(t, src, name, rr.TypeA)); strings.Contains(got, "RRSIG") || strings.Contains(got, "NSEC") || strings.Contains(got, "/DS") {
			t.Errorf("%s without DO: %s", name, got)
		}
	}
	if m := ask(t, src, "web.example.", rr.TypeA, do, answer.Options{Limit: 130}); m.Flags&message.FlagTC == 0 {
		t.Errorf("signatures that do not fit: %s", show(m))
	}
	if got := show(ask(t, src, "web.example.", rr.TypeNSEC, message.QueryOptions{}, answer.Options{})); got != "NOERROR aa a:web.example/NSEC" {
		t.Errorf("NSEC asked by type: %s", got)
	}
	if m := ask(t, src, "web.example.", rr.TypeRRSIG, message.QueryOptions{}, answer.Options{}); len(m.Answer) == 0 {
		t.Errorf("RRSIG asked by type: %s", show(m))
	}
}

// validate checks every signature of a response over the set it belongs to, as
// a resolver would, and that what must be signed is.
func validate(t *testing.T, m *message.Message, keys []*dnssec.PublicKey, apex dnsname.Name) {
	t.Helper()
	for _, section := range [][]rr.Record{m.Answer, m.Authority} {
		sets := map[string][][]byte{}
		var order []rr.Record
		for _, r := range section {
			k := r.Name.Key() + r.Type.String()
			if r.Type != rr.TypeRRSIG {
				if sets[k] == nil {
					order = append(order, r)
				}
				sets[k] = append(sets[k], r.Data)
			}
		}
		for _, r := range order {
			if r.Type == rr.TypeNS && !r.Name.Equal(apex) || r.Type == rr.TypeCNAME && synthesised(section, r) {
				continue
			}
			ok := false
			for _, s := range section {
				if s.Type != rr.TypeRRSIG || !s.Name.Equal(r.Name) {
					continue
				}
				sig, _ := dnssec.ParseRRSIG(s.Data)
				if sig.Covered != r.Type {
					continue
				}
				// The TTL of a negative SOA is cut; the signature says the original.
				set := zone.NewRRset(r.Type, sig.OriginalTTL, sets[r.Name.Key()+r.Type.String()])
				_, err := dnssec.VerifySet(nil, keys, []byte(apex.Key()), []byte(r.Name.Wire()), set, s.Data, time.Unix(1700000000, 0))
				if err != nil {
					t.Errorf("%s %s: %v", r.Name, r.Type, err)
				}
				ok = true
			}
			if !ok {
				t.Errorf("%s %s comes without a signature", r.Name, r.Type)
			}
		}
	}
}

func synthesised(section []rr.Record, r rr.Record) bool {
	for _, s := range section {
		if s.Type == rr.TypeDNAME && r.Name.Below(s.Name) {
			return true
		}
	}
	return false
}

func TestReasons(t *testing.T) {
	src := answer.Single{Snapshot: load(t, text, "example.")}
	for _, c := range []struct {
		name string
		typ  rr.Type
		want string
	}{
		{"web.example.", rr.TypeA, "web.example. has A records"},
		{"web.example.", rr.TypeMX, "web.example. exists and has no MX records"},
		{"nosuch.example.", rr.TypeA, "the closest name that does is example."},
		{"ent.example.", rr.TypeA, "names below it do"},
		{"x.wild.example.", rr.TypeA, "the wildcard *.wild.example. supplies the A records"},
		{"x.wild.example.", rr.TypeTXT, "has no TXT records"},
		{"www.example.", rr.TypeA, "www.example. is an alias of web.example.|web.example. has A records"},
		{"away.example.", rr.TypeA, "www.other. lies in no zone served here"},
		{"a.sub.example.", rr.TypeA, "sub.example. is delegated to other servers"},
		{"x.old.example.", rr.TypeA, "DNAME"},
		{"example.org.", rr.TypeA, "lies in no zone served here"},
	} {
		var q message.Query
		message.ParseQuery(message.AppendQuery(nil, dnsname.MustParse(c.name), c.typ, message.QueryOptions{}), &q)
		r := answer.Responder{Trace: &answer.Trace{}}
		r.Respond(nil, &q, src, answer.Options{Limit: 1232})
		if got := strings.Join(r.Trace.Reasons, "|"); !strings.Contains(got, c.want) {
			t.Errorf("%s %s: %q does not say %q", c.name, c.typ, got, c.want)
		}
	}
}

// Plain answers do not allocate.
func TestNoAllocations(t *testing.T) {
	unsigned := load(t, text, "example.")
	z, _ := signed(t, unsigned)
	for _, c := range []struct {
		name string
		typ  rr.Type
	}{{"web.example.", rr.TypeA}, {"www.example.", rr.TypeA}, {"nosuch.example.", rr.TypeA}, {"x.wild.example.", rr.TypeA}, {"a.sub.example.", rr.TypeA}, {"example.", rr.TypeMX}} {
		for _, do := range []bool{false, true} {
			raw := message.AppendQuery(nil, dnsname.MustParse(c.name), c.typ, message.QueryOptions{EDNS: true, UDPSize: 1232, DO: do})
			var src answer.Source = answer.Single{Snapshot: z}
			var q message.Query
			var r answer.Responder
			buf := make([]byte, 0, 4096)
			run := func() {
				message.ParseQuery(raw, &q)
				r.Respond(buf, &q, src, answer.Options{Limit: 1232, UDPSize: 1232})
			}
			run() // scratch memory grows once
			if n := testing.AllocsPerRun(100, run); n != 0 {
				t.Errorf("%s %s, DO %v: %v allocations", c.name, c.typ, do, n)
			}
		}
	}
}

// FuzzRespond: no request makes the responder panic or pass its limit, and every
// response can be read.
func FuzzRespond(f *testing.F) {
	z, _ := signed(f, load(f, text, "example."))
	src := answer.Single{Snapshot: z}
	for _, n := range []string{"web.example.", "x.old.example.", "a.sub.example.", "x.wild.example.", `\000.example.`} {
		f.Add(message.AppendQuery(nil, dnsname.MustParse(n), rr.TypeA, message.QueryOptions{EDNS: true, DO: true}), uint16(512))
	}
	f.Fuzz(func(t *testing.T, msg []byte, limit uint16) {
		var q message.Query
		if v, _ := message.ParseQuery(msg, &q); v != message.Answer {
			return
		}
		o := answer.Options{Limit: max(int(limit), message.MinUDP), UDPSize: 1232}
		var r answer.Responder
		out := r.Respond(nil, &q, src, o)
		if _, err := message.Decode(out); err != nil || len(out) > o.Limit {
			t.Fatalf("%x gets %d octets of %d: %v", msg, len(out), o.Limit, err)
		}
	})
}

func BenchmarkAnswer(b *testing.B) {
	var s strings.Builder
	s.WriteString("$TTL 3600\n@ SOA ns h 1 1 1 1 300\n@ NS ns\nns A 192.0.2.1\n")
	for i := range 100000 {
		fmt.Fprintf(&s, "host%d A 192.0.2.%d\n", i, i&255)
	}
	src := answer.Single{Snapshot: load(b, s.String(), "example.")}
	for _, c := range []struct{ what, name string }{{"found", "host%d.example."}, {"missing", "nosuch%d.example."}} {
		b.Run(c.what, func(b *testing.B) {
			var queries [1024][]byte
			for i := range queries {
				queries[i] = message.AppendQuery(nil, dnsname.MustParse(fmt.Sprintf(c.name, i*97)), rr.TypeA, message.QueryOptions{EDNS: true, UDPSize: 1232})
			}
			var q message.Query
			var r answer.Responder
			buf := make([]byte, 0, 2048)
			i := 0
			for b.Loop() {
				message.ParseQuery(queries[i&1023], &q)
				r.Respond(buf, &q, src, answer.Options{Limit: 1232, UDPSize: 1232})
				i++
			}
		})
	}
}
