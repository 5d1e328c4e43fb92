package transfer_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/vectors"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/zone"
	"fencepost/zonefile"
)

// primary answers transfers on loopback, many over one connection.
type primary struct {
	newest *zone.Snapshot
	// steps are what it answers IXFR with: nil is the whole zone.
	steps []*zone.Delta
	rcode message.Rcode // for IXFR, if it is not NoError
	conns int           // opened so far
	asked []rr.Type
}

func (p *primary) serve(t *testing.T) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			p.conns++
			for {
				query, err := resolve.ReadTCP(c, nil)
				if err != nil {
					break
				}
				p.answer(c, query)
			}
			c.Close()
		}
	}()
	return l.Addr().(*net.TCPAddr).AddrPort()
}

func (p *primary) answer(c net.Conn, query []byte) {
	var q message.Query
	message.ParseQuery(query, &q)
	p.asked = append(p.asked, q.Type)
	var s *tsig.Stream
	if q.TSIG != 0 {
		s = tsig.NewStream(key)
		if _, err := s.Verify(query, q.TSIG, time.Now()); err != nil {
			return
		}
	}
	body := transfer.Whole(p.newest)
	if q.Type == rr.TypeIXFR {
		if p.rcode != message.NoError {
			var b message.Builder
			b.Begin(nil, &q, message.MaxLen, 1232)
			b.SetRcode(p.rcode)
			_ = resolve.WriteTCP(c, b.Finish())
			return
		}
		if steps, ok := transfer.Steps(p.steps); ok {
			body = steps
		}
	}
	_ = transfer.Send(c, body, &q, s, -1, time.Now)
}

// line is a random line of versions, the first of them with n hosts.
func line(r *rand.Rand, n int) (versions []*zone.Snapshot, steps []*zone.Delta) {
	z := sample(n)
	versions = append(versions, z)
	for range 1 + r.IntN(8) {
		var apexNode zone.Node
		z.ApexNode(&apexNode)
		ns, _ := apexNode.Find(rr.TypeNS)
		contents := []zone.Content{{Owner: apex, Records: []rr.Record{{Type: rr.TypeSOA, TTL: uint32(r.IntN(2)), Data: rr.SetSerial([]byte(soaData), z.Serial()+1+uint32(r.IntN(5)))},
			{Type: rr.TypeNS, TTL: ns.TTL, Data: ns.First()}}}}
		for range r.IntN(6) {
			c := zone.Content{Owner: dnsname.MustParse(fmt.Sprintf("%s%d.Example.", []string{"host", "HosT", "new"}[r.IntN(3)], r.IntN(n+3)))}
			for range r.IntN(4) { // none takes the name away
				c.Records = append(c.Records, rr.Record{Type: rr.Type(65280 + r.IntN(2)), TTL: 7, Data: make([]byte, []int{0, 5, 3000, 60000}[r.IntN(4)])})
			}
			contents = append(contents, c)
		}
		next, err := z.Replace(contents)
		if err != nil {
			panic(err)
		}
		steps = append(steps, zone.Diff(z, next))
		versions, z = append(versions, next), next
	}
	return versions, steps
}

// Whatever version a client has, it ends with the newest, octet for octet, whether the
// steps come one by one, in one, or as the whole zone; signed or not; and it keeps what
// it has where nothing is newer.
func TestIncremental(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		versions, steps := line(r, []int{0, 1, 30, 600}[r.IntN(4)])
		last := len(versions) - 1
		from := r.IntN(len(versions))
		p := &primary{newest: versions[last], steps: steps[from:]}
		form := r.IntN(3)
		switch {
		case form == 1 && from < last:
			p.steps = []*zone.Delta{zone.Join(steps[from:]...)}
		case form == 2:
			p.steps = nil
		}
		f := transfer.Fetch{Zone: apex, Server: p.serve(t), Have: versions[from], Timeout: 5 * time.Second}
		if r.IntN(2) == 0 {
			f.Key = key
		}
		got, err := transfer.Receive(t.Context(), f)
		if err != nil || !zone.Equal(got.Zone, versions[last]) || got.Fallback != nil || got.Serial != versions[last].Serial() {
			if err == nil {
				for _, c := range zone.Diff(versions[last], got.Zone).Sets {
					t.Errorf("%s %s: %d missing, %d besides", c.Owner, c.Type(), c.Removed.N, c.Added.N)
				}
			}
			t.Fatalf("seed %d, from %d of %d: %v, %v", seed, from, last, err, got.Fallback)
		}
		if want := len(p.steps); from < last && got.Steps != want {
			t.Errorf("seed %d: %d steps, want %d", seed, got.Steps, want)
		}
	}
}

// A difference that cannot be right, or a server that knows none, costs a whole transfer
// and never a wrong zone (RFC 1995 §2).
func TestDamagedIncrement(t *testing.T) {
	damages := map[string]func(r *rand.Rand, d *zone.Delta){
		"a set is lost": func(r *rand.Rand, d *zone.Delta) {
			if i := 1 + r.IntN(len(d.Sets)); i < len(d.Sets) {
				d.Sets = slices.Delete(d.Sets, i, i+1)
			} else {
				d.Sets = d.Sets[:1]
			}
		},
		"what goes is not there": func(_ *rand.Rand, d *zone.Delta) {
			d.Sets = append(d.Sets, zone.SetDelta{Owner: dnsname.MustParse("nobody.example."), Removed: zone.NewRRset(rr.TypeA, 1, [][]byte{{1, 2, 3, 4}})})
		},
		"what comes is there": func(_ *rand.Rand, d *zone.Delta) {
			d.Sets = append(d.Sets, zone.SetDelta{Owner: apex, Added: zone.NewRRset(rr.TypeNS, 300, [][]byte{[]byte("\x02NS\x07Example\x00")})})
		},
		"it is of another version": func(_ *rand.Rand, d *zone.Delta) {
			d.Sets[0].Removed = zone.NewRRset(rr.TypeSOA, d.Sets[0].Removed.TTL, [][]byte{rr.SetSerial([]byte(soaData), 3)})
		},
		"it is malformed": func(_ *rand.Rand, d *zone.Delta) {
			d.Sets = append(d.Sets, zone.SetDelta{Owner: dnsname.MustParse("x.example."), Removed: zone.NewRRset(rr.TypeSOA, 1, [][]byte{{0}})})
		},
	}
	missed := 0
	for what, damage := range damages {
		for seed := range uint64(20) {
			r := rand.New(rand.NewPCG(seed, 4))
			versions, steps := line(r, 30)
			bad := steps[r.IntN(len(steps))]
			damaged := &zone.Delta{Apex: apex, From: bad.From, To: bad.To, Sets: slices.Clone(bad.Sets)}
			damage(r, damaged)
			steps[slices.Index(steps, bad)] = damaged
			p := &primary{newest: versions[len(versions)-1], steps: steps}
			got, err := transfer.Receive(t.Context(), transfer.Fetch{Zone: apex, Server: p.serve(t), Have: versions[0], Timeout: 5 * time.Second})
			if what == "a set is lost" && err == nil && got.Fallback == nil {
				missed++ // nothing in a difference shows that something is missing
				continue
			}
			if err != nil || !zone.Equal(got.Zone, p.newest) || !errors.Is(got.Fallback, transfer.ErrDamaged) {
				t.Fatalf("%s, seed %d: %v; fallback: %v", what, seed, err, got.Fallback)
			}
		}
	}
	if missed > 19 {
		t.Error("a lost set was never noticed")
	}
	for _, rcode := range []message.Rcode{message.NotImp, message.FormErr, message.Refused} {
		p := &primary{newest: sample(3), rcode: rcode}
		old, _ := p.newest.Replace([]zone.Content{{Owner: apex, Records: []rr.Record{{Type: rr.TypeSOA, TTL: 300, Data: rr.SetSerial([]byte(soaData), 6)}}}})
		got, err := transfer.Receive(t.Context(), transfer.Fetch{Zone: apex, Server: p.serve(t), Have: old, Timeout: 5 * time.Second})
		var refused *transfer.RefusedError
		if err != nil || !zone.Equal(got.Zone, p.newest) || !errors.As(got.Fallback, &refused) {
			t.Errorf("%s: %v, %v", rcode, err, got.Fallback)
		}
		if want := []rr.Type{rr.TypeIXFR, rr.TypeAXFR}; !slices.Equal(p.asked, want) {
			t.Errorf("%s: it was asked %v", rcode, p.asked)
		}
	}
	p := &primary{newest: sample(3), rcode: message.ServFail}
	if got, err := transfer.Receive(t.Context(), transfer.Fetch{Zone: apex, Server: p.serve(t), Have: sample(2), Timeout: 5 * time.Second}); err == nil || got.Zone != nil {
		t.Error("a server that fails is asked for more")
	}
}

// Transfers one after another go over one connection, and over a new one where the
// server has closed it.
func TestConnections(t *testing.T) {
	p := &primary{newest: sample(3)}
	at := p.serve(t)
	conns := &transfer.Conns{}
	defer conns.Close()
	for range 5 {
		if _, err := transfer.Receive(t.Context(), transfer.Fetch{Zone: apex, Server: at, Conns: conns, Timeout: 5 * time.Second}); err != nil {
			t.Fatal(err)
		}
	}
	if p.conns != 1 {
		t.Errorf("five transfers took %d connections", p.conns)
	}
	closing := serve(t, sender(p.newest, whole)) // it answers one and closes
	for range 3 {
		if _, err := transfer.Receive(t.Context(), transfer.Fetch{Zone: apex, Server: closing, Conns: conns, Timeout: 5 * time.Second}); err != nil {
			t.Fatal(err)
		}
	}
}

// The example of RFC 1995 §7: each of its answers is what we send, and is understood.
func TestPublishedIncrement(t *testing.T) {
	var v struct {
		Zone                   string
		Versions               map[string][]string
		Incremental, Condensed []string
		Full                   []string
		UDPOverflowOrUpToDate  []string `json:"udp_overflow_or_up_to_date"`
	}
	vectors.Read(t, "ixfr.json", &v)
	name := dnsname.MustParse(v.Zone)
	var versions []*zone.Snapshot
	for _, n := range []string{"1", "2", "3"} {
		var src source.Set
		var diags diag.List
		f, err := src.Add("version "+n, []byte("$TTL 60\n"+strings.Join(v.Versions[n], "\n")+"\n"))
		if err != nil {
			t.Fatal(err)
		}
		z := zonefile.Load(f, zonefile.Options{Origin: name}, &diags)
		if diags.Count(diag.Error) > 0 {
			t.Fatal(diags.All)
		}
		versions = append(versions, z.Snapshot)
	}
	d1, d2 := zone.Diff(versions[0], versions[1]), zone.Diff(versions[1], versions[2])
	for _, c := range []struct {
		want  []string
		steps []*zone.Delta
	}{{v.Incremental, []*zone.Delta{d1, d2}}, {v.Condensed, []*zone.Delta{zone.Join(d1, d2)}}} {
		body, ok := transfer.Steps(c.steps)
		if !ok {
			t.Fatal("it cannot be sent")
		}
		var got []string
		var b message.Builder
		q := message.Query{Question: append([]byte(name.Wire()), 0, byte(rr.TypeIXFR), 0, 1), Name: []byte(name.Wire()), Type: rr.TypeIXFR, Class: rr.ClassIN}
		b.Begin(nil, &q, message.MaxLen, 1232)
		if !transfer.Datagram(&b, body, &q, 0) {
			t.Fatal("it does not fit")
		}
		m, err := message.Decode(b.Finish())
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range m.Answer {
			if r.Type == rr.TypeSOA {
				soa, _ := rr.ParseSOA(r.Data)
				got = append(got, fmt.Sprint("SOA ", soa.Serial))
				continue
			}
			got = append(got, strings.ToUpper(r.Name.String())+" "+r.Type.String()+" "+rr.DataText(r.Type, r.Data))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("got  %q\nwant %q", got, c.want)
		}
		p := &primary{newest: versions[2], steps: c.steps}
		f := transfer.Fetch{Zone: name, Server: p.serve(t), Have: versions[0], Timeout: 5 * time.Second}
		if all, err := transfer.Receive(t.Context(), f); err != nil || !zone.Equal(all.Zone, versions[2]) || all.Fallback != nil {
			t.Errorf("%v, %v", err, all.Fallback)
		}
		f.Have = versions[2]
		p.steps = nil
		if all, err := transfer.Receive(t.Context(), f); err != nil || all.Zone == nil {
			t.Errorf("nothing newer: %v", err)
		}
	}
}
