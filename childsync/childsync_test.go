package childsync_test

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/childsync"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/validate"
	"fencepost/zone"
)

var (
	at    = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	child = dnsname.MustParse("saltmarsh.example.")
)

func key(t testing.TB, a rr.AlgorithmNumber, role signer.Role) signer.Key {
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

// csync is the data of a CSYNC record.
func csync(serial uint32, flags uint16, types ...rr.Type) string {
	data := binary.BigEndian.AppendUint32(nil, serial)
	return string(rr.AppendBitmap(binary.BigEndian.AppendUint16(data, flags), types))
}

// serve signs a child zone and is what a server of it shows.
func serve(t testing.TB, keys []signer.Key, p signer.Policy, more ...rr.Record) childsync.Seen {
	t.Helper()
	b := zone.NewBuilder(child, false)
	for _, r := range append([]rr.Record{
		rec("saltmarsh.example.", rr.TypeSOA, "\x02ns\x09saltmarsh\x07example\x00\x01h\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c"),
		rec("saltmarsh.example.", rr.TypeNS, "\x02ns\x09saltmarsh\x07example\x00"), rec("ns.saltmarsh.example.", rr.TypeA, "\x0a\x00\x00\x01"),
	}, more...) {
		if err := b.AddRecord(r); err != nil {
			t.Fatal(err)
		}
	}
	z, _, err := signer.Sign(context.Background(), b.Build().Snapshot, keys, p, at)
	if err != nil {
		t.Fatal(err)
	}
	s := childsync.Seen{Server: "ns.saltmarsh.example", Before: 7, After: 7}
	for _, q := range []struct {
		name string
		t    rr.Type
	}{{"saltmarsh.example.", rr.TypeDNSKEY}, {"saltmarsh.example.", rr.TypeCDS}, {"saltmarsh.example.", rr.TypeCDNSKEY}, {"saltmarsh.example.", rr.TypeCSYNC},
		{"saltmarsh.example.", rr.TypeNS}, {"ns.saltmarsh.example.", rr.TypeA}, {"ns.saltmarsh.example.", rr.TypeAAAA}} {
		m := ask(t, z, dnsname.MustParse(q.name), q.t)
		s.Records = append(append(s.Records, m.Answer...), m.Authority...)
	}
	return s
}

func ask(t testing.TB, z *zone.Snapshot, name dnsname.Name, typ rr.Type) *message.Message {
	t.Helper()
	var q message.Query
	message.ParseQuery(message.AppendQuery(nil, name, typ, message.QueryOptions{EDNS: true, UDPSize: 4096, DO: true}), &q)
	var r answer.Responder
	m, err := message.Decode(r.Respond(nil, &q, answer.Single{Snapshot: z}, answer.Options{Limit: 65535, TCP: true}))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func ds(keys ...signer.Key) (out [][]byte) {
	for _, k := range keys {
		out = append(out, dnssec.DS(child, k.Data, 2))
	}
	return out
}

// One case for each rule on CDS and CDNSKEY (RFC 7344 §4.1, §5, §6.1, RFC 8078 §3, §4).
func TestDS(t *testing.T) {
	const alg = rr.ED25519
	old, fresh, zsk := key(t, alg, signer.KSK), key(t, alg, signer.KSK), key(t, alg, signer.ZSK)
	stranger := key(t, alg, signer.KSK)
	quiet := old
	quiet.DS = false
	coming := fresh
	coming.Publish, coming.SignKeys = false, false
	want := signer.Policy{CDS: signer.WantDS}
	for _, c := range []struct {
		what   string
		have   [][]byte
		seen   []childsync.Seen
		first  childsync.First
		want   [][]byte
		change bool
		err    string
	}{
		{what: "nothing is asked", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, signer.Policy{})}, want: ds(old)},
		{what: "what is there", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, want)}, want: ds(old)},
		{what: "another key", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{quiet, fresh, zsk}, want)}, want: ds(fresh), change: true},
		{what: "both keys", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{old, fresh, zsk}, want)}, want: ds(old, fresh), change: true},
		{what: "to delete", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, signer.Policy{CDS: signer.DeleteAll})}, change: true},
		{what: "a key that is not published", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{quiet, coming, zsk}, want)}, err: "no key of the zone fits the CDS"},
		{what: "another DS at the parent", have: ds(stranger), seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, want)}, err: "not proved by the present DS"},
		{what: "servers that differ", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, want), serve(t, []signer.Key{quiet, fresh, zsk}, want)}, err: "do not agree"},
		{what: "a server that is away", have: ds(old), seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, want), {Server: "ns2", Err: errors.New("no answer")}}, err: "ns2 could not be asked"},
		{what: "no servers", have: ds(old), err: "no server"},
		{what: "a first key", seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, want)}, err: "nothing proves"},
		{what: "a first key, trusted", seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, want)}, first: childsync.First{Trusted: true}, want: ds(old), change: true},
		{what: "to delete what is not there", seen: []childsync.Seen{serve(t, []signer.Key{old, zsk}, signer.Policy{CDS: signer.DeleteAll})}, first: childsync.First{Trusted: true}, err: "and it has none"},
	} {
		got, change, err := (&childsync.Child{Name: child, DS: c.have}).WantedDS(c.seen, c.first, at)
		if c.err != "" {
			var refused *childsync.RefusedError
			if !errors.As(err, &refused) || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", c.what, err, c.err)
			}
			continue
		}
		if err != nil || change != c.change || len(got) != len(c.want) {
			t.Errorf("%s: %d DS, change %v, %v", c.what, len(got), change, err)
			continue
		}
		for _, d := range c.want {
			found := false
			for _, g := range got {
				found = found || string(g) == string(d)
			}
			if !found {
				t.Errorf("%s: a DS is missing", c.what)
			}
		}
	}
	// Expired signatures prove nothing; and the wish must be signed by a key that the
	// parent knows, not by any key of the zone (RFC 7344 §4.1).
	seen := []childsync.Seen{serve(t, []signer.Key{quiet, fresh, zsk}, want)}
	if _, _, err := (&childsync.Child{Name: child, DS: ds(old)}).WantedDS(seen, childsync.First{}, at.AddDate(0, 1, 0)); err == nil {
		t.Error("expired signatures are followed")
	}
	for i, r := range seen[0].Records {
		if sig, err := dnssec.ParseRRSIG(r.Data); r.Type == rr.TypeRRSIG && err == nil && sig.Covered == rr.TypeCDS && sig.KeyTag == old.Tag {
			seen[0].Records[i].Type = rr.TypeTXT // the old key's signature is lost; the new one's is left
		}
	}
	if _, _, err := (&childsync.Child{Name: child, DS: ds(old)}).WantedDS(seen, childsync.First{}, at); err == nil || !strings.Contains(err.Error(), "not proved") {
		t.Errorf("a wish that the parent's key has not signed: %v", err)
	}
}

// Signalling names vouch for first keys, if they are proved, complete and the same
// (RFC 9615 §4.2).
func TestSignals(t *testing.T) {
	k := key(t, rr.ED25519, signer.Single)
	seen := []childsync.Seen{serve(t, []signer.Key{k}, signer.Policy{CDS: signer.WantDS})}
	harbour := dnsname.MustParse("ns.harbour.example.")
	name, err := childsync.SignalName(child, harbour)
	if err != nil || name.String() != "_dsboot.saltmarsh.example._signal.ns.harbour.example." {
		t.Fatalf("%s, %v", name, err)
	}
	operator := key(t, rr.ED25519, signer.Single)
	apex := dnsname.MustParse("harbour.example.")
	signal := func(cds []byte) childsync.Signal {
		b := zone.NewBuilder(apex, false)
		for _, r := range []rr.Record{rec("harbour.example.", rr.TypeSOA, "\x00\x00\x00\x00\x00\x07\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c"), rec("harbour.example.", rr.TypeNS, "\x02ns\x07harbour\x07example\x00"),
			rec(name.String(), rr.TypeCDS, string(cds)), rec(name.String(), rr.TypeCDNSKEY, string(k.Data))} {
			if err := b.AddRecord(r); err != nil {
				t.Fatal(err)
			}
		}
		z, _, err := signer.Sign(context.Background(), b.Build().Snapshot, []signer.Key{operator}, signer.Policy{}, at)
		if err != nil {
			t.Fatal(err)
		}
		var all []rr.Record
		for _, m := range []*message.Message{ask(t, z, apex, rr.TypeDNSKEY), ask(t, z, name, rr.TypeCDS), ask(t, z, name, rr.TypeCDNSKEY)} {
			all = append(all, m.Answer...)
		}
		return childsync.Signal{Server: harbour, Sets: validate.NewRRsets(all), Anchors: []rr.Record{{Name: apex, Type: rr.TypeDNSKEY, Class: rr.ClassIN, Data: operator.Data}}}
	}
	good := signal(ds(k)[0])
	unproved := signal(ds(k)[0])
	unproved.Anchors = []rr.Record{{Name: apex, Type: rr.TypeDNSKEY, Class: rr.ClassIN, Data: k.Data}}
	for _, c := range []struct {
		what    string
		signals []childsync.Signal
		err     string
	}{
		{"all is well", []childsync.Signal{good}, ""}, {"no server elsewhere", []childsync.Signal{}, "none can vouch"}, {"not proved", []childsync.Signal{unproved}, "not proved"},
		{"another key", []childsync.Signal{signal(ds(operator)[0])}, "not those of the child"}, {"one of two is away", []childsync.Signal{good, {Server: harbour, Err: errors.New("no answer")}}, "could not be asked"},
	} {
		got, change, err := (&childsync.Child{Name: child}).WantedDS(seen, childsync.First{Signals: c.signals}, at)
		if c.err == "" && (err != nil || !change || len(got) != 1) || c.err != "" && (err == nil || !strings.Contains(err.Error(), c.err)) {
			t.Errorf("%s: %d DS, %v", c.what, len(got), err)
		}
	}
}

// One case for each rule on CSYNC (RFC 7477 §2.1.1, §3, §4.3).
func TestSync(t *testing.T) {
	k := key(t, rr.ED25519, signer.Single)
	have := func() *childsync.Child {
		return &childsync.Child{Name: child, DS: ds(k), Servers: []dnsname.Name{dnsname.MustParse("ns.old.example.")}, Glue: map[string][][]byte{}}
	}
	sync := func(data string, more ...rr.Record) []childsync.Seen {
		return []childsync.Seen{serve(t, []signer.Key{k}, signer.Policy{}, append(more, rec("saltmarsh.example.", rr.TypeCSYNC, data))...)}
	}
	moved := sync(csync(7, 3, rr.TypeNS, rr.TypeA, rr.TypeAAAA))
	moved[0].After = 8
	for _, c := range []struct {
		what     string
		seen     []childsync.Seen
		approved bool
		err      string
		servers  string
	}{
		{what: "NS and addresses", seen: sync(csync(7, 3, rr.TypeNS, rr.TypeA, rr.TypeAAAA)), servers: "ns.saltmarsh.example."},
		{what: "no CSYNC", seen: []childsync.Seen{serve(t, []signer.Key{k}, signer.Policy{})}, servers: "ns.old.example."},
		{what: "not at once", seen: sync(csync(7, 2, rr.TypeNS, rr.TypeA)), err: "needs approval"},
		{what: "not at once, approved", seen: sync(csync(7, 2, rr.TypeNS, rr.TypeA)), approved: true, servers: "ns.saltmarsh.example."},
		{what: "a serial that is still to come", seen: sync(csync(8, 3, rr.TypeNS, rr.TypeA)), err: "asks for 8"},
		{what: "such a serial that does not count", seen: sync(csync(8, 1, rr.TypeNS, rr.TypeA)), servers: "ns.saltmarsh.example."},
		{what: "an unknown flag", seen: sync(csync(7, 7, rr.TypeNS)), err: "flags"},
		{what: "an unknown type", seen: sync(csync(7, 3, rr.TypeNS, rr.TypeMX)), err: "not known"},
		{what: "a zone that changed meanwhile", seen: moved, err: "changed while"},
		{what: "a server without address", seen: sync(csync(7, 3, rr.TypeNS)), err: "no address"},
		{what: "two records", seen: sync(csync(7, 3, rr.TypeNS), rec("saltmarsh.example.", rr.TypeCSYNC, csync(6, 3, rr.TypeNS))), err: "must be one"},
	} {
		got, _, err := have().WantedServers(c.seen, c.approved, at)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", c.what, err, c.err)
			}
			continue
		}
		if err != nil || len(got.Servers) != 1 || got.Servers[0].String() != c.servers {
			t.Errorf("%s: %+v, %v", c.what, got, err)
		}
	}
	// Glue comes from the child for the types that are listed, and stays for others.
	ns := dnsname.MustParse("ns.saltmarsh.example.")
	v6 := []byte("\x20\x01\x0d\xb8\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01")
	for what, c := range map[string]struct {
		types []rr.Type
		glue  [][]byte // at the parent before
		want  [][]byte
	}{
		"all new":               {[]rr.Type{rr.TypeNS, rr.TypeA, rr.TypeAAAA}, nil, [][]byte{{10, 0, 0, 1}}},
		"an address that went":  {[]rr.Type{rr.TypeNS, rr.TypeA, rr.TypeAAAA}, [][]byte{{10, 0, 0, 9}, v6}, [][]byte{{10, 0, 0, 1}}},
		"one type alone":        {[]rr.Type{rr.TypeNS, rr.TypeA}, [][]byte{{10, 0, 0, 9}, v6}, [][]byte{{10, 0, 0, 1}, v6}},
		"servers without types": {[]rr.Type{rr.TypeNS}, [][]byte{{10, 0, 0, 9}, v6}, [][]byte{{10, 0, 0, 9}, v6}},
	} {
		parent := have()
		parent.Servers, parent.Glue = []dnsname.Name{ns}, map[string][][]byte{ns.Key(): c.glue}
		got, change, err := parent.WantedServers(sync(csync(7, 3, c.types...)), false, at)
		if err != nil || fmt.Sprint(got.Glue[ns.Key()]) != fmt.Sprint(c.want) || change != (fmt.Sprint(c.glue) != fmt.Sprint(c.want)) {
			t.Errorf("%s: glue %v, want %v; change %v, %v", what, got, c.want, change, err)
		}
	}
	unsigned := have()
	unsigned.DS = nil
	if _, _, err := unsigned.WantedServers(sync(csync(7, 3, rr.TypeNS, rr.TypeA)), false, at); err == nil {
		t.Error("the CSYNC record of an unsigned child is followed")
	}
}
