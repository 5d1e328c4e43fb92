package server

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/journal"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/zone"
)

func soa(serial uint32) []byte {
	return rr.SetSerial([]byte("\x02ns\x05other\x00\x01h\x05other\x00\x00\x00\x00\x00\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c"), serial)
}

// version is a small zone with a serial and an address.
func version(name string, serial uint32, last byte) *zone.Snapshot {
	apex := dnsname.MustParse(name)
	b := zone.NewBuilder(apex, false)
	for _, r := range []rr.Record{{Name: apex, Type: rr.TypeSOA, TTL: 60, Data: soa(serial)}, {Name: apex, Type: rr.TypeNS, TTL: 60, Data: []byte("\x02ns\x05other\x00")}, {Name: apex, Type: rr.TypeA, TTL: 60, Data: []byte{192, 0, 2, last}}} {
		if err := b.AddRecord(r); err != nil {
			panic(err)
		}
	}
	return b.Build().Snapshot
}

// source is what a zone's Load gives.
type source struct {
	snap *zone.Snapshot
	err  error
}

func (s *source) load(context.Context) (*zone.Snapshot, error) { return s.snap, s.err }

func results(rs []ZoneResult) string {
	var out []string
	for _, r := range rs {
		out = append(out, fmt.Sprintf("%s %s %d %v", r.Zone, r.Change, r.Serial, r.Err != nil))
	}
	return strings.Join(out, ", ")
}

func TestReload(t *testing.T) {
	s := New(Options{})
	a, b := &source{snap: version("a.", 1, 1)}, &source{err: errors.New("broken")}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: a.load}, {Name: dnsname.MustParse("b."), Load: b.load}}}
	ctx := context.Background()
	step := func(what, want string) {
		t.Helper()
		if got := results(s.Reload(ctx, cfg)); got != want {
			t.Errorf("%s: %s, want %s", what, got, want)
		}
	}
	step("a good and a bad zone", "a. loaded 1 false, b. missing 0 true")
	if _, state := s.Find([]byte("\x01b\x00"), false); state != answer.Unavailable {
		t.Errorf("the bad zone is %d", state)
	}
	step("nothing new", "a. unchanged 1 false, b. missing 0 true")
	a.snap = version("a.", 1, 2)
	step("content without a serial", "a. kept 1 true, b. missing 0 true")
	a.snap = version("a.", 2, 2)
	b.snap, b.err = version("b.", 7, 1), nil
	step("both good", "a. loaded 2 false, b. loaded 7 false")
	a.snap, a.err = nil, errors.New("broken")
	step("a broken later", "a. kept 2 true, b. unchanged 7 false")
	if st := s.Status(); len(st.Zones) != 2 || st.Zones[0].Problem != "broken" || st.Zones[0].State != "serving" {
		t.Errorf("status %+v", st.Zones)
	}
	a.err, a.snap = nil, version("a.", 1, 9)
	step("a serial that goes back", "a. kept 2 true, b. unchanged 7 false")
	cfg = &Config{Zones: cfg.Zones[1:]}
	step("a zone less", "b. unchanged 7 false, a. removed 0 false")
	if _, state := s.Find([]byte("\x01a\x00"), false); state != answer.NotServed {
		t.Error("a removed zone is still served")
	}
}

func TestFind(t *testing.T) {
	s := New(Options{})
	var zones []Zone
	for _, n := range []string{"example.", "child.example.", "x."} {
		src := &source{snap: version(n, 1, 1)}
		zones = append(zones, Zone{Name: dnsname.MustParse(n), Load: src.load})
	}
	s.Reload(context.Background(), &Config{Zones: zones})
	for _, c := range []struct {
		name, want string
		above      bool
	}{{"example.", "example.", false}, {"WWW.Example.", "example.", false}, {"a.b.child.EXAMPLE.", "child.example.", false},
		{"child.example.", "example.", true}, {"a.child.example.", "child.example.", true}, {"x.", "", true}, {"other.", "", false}, {".", "", false}, {".", "", true}} {
		z, state := s.Find([]byte(dnsname.MustParse(c.name).Wire()), c.above)
		if (state == answer.Served) != (c.want != "") || z != nil && z.Apex().String() != c.want {
			t.Errorf("%s, above %v: %v", c.name, c.above, z)
		}
	}
}

// fakeSigner signs as a test wants it to, for fourteen days.
type fakeSigner struct {
	made string
	sign func(SignJob) (*zone.Snapshot, error)

	served []uint32
	tend   func() (resign bool, again time.Time)
}

func (f *fakeSigner) Fingerprint() (string, error) { return f.made, nil }

func (f *fakeSigner) Sign(_ context.Context, j SignJob) (SignedZone, error) {
	z, err := f.sign(j)
	return SignedZone{Zone: z, Fingerprint: f.made, Expires: j.Now.Add(14 * 24 * time.Hour), Renew: j.Now.Add(9 * 24 * time.Hour)}, err
}

func (f *fakeSigner) Served(serial uint32, _ time.Time) error {
	f.served = append(f.served, serial)
	return nil
}

func (f *fakeSigner) State() KeyState { return KeyState{} }

func (f *fakeSigner) Tend(context.Context, *zone.Snapshot, time.Time) (bool, time.Time, error) {
	if f.tend == nil {
		return false, time.Time{}, nil
	}
	resign, again := f.tend()
	return resign, again, nil
}

// Keys that ask for it make the zone be signed again, until they are content; the
// signer hears of each version that is served.
func TestTending(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(Options{})
		src := &source{snap: version("a.", 1, 1)}
		f := &fakeSigner{made: "0"}
		f.sign = func(j SignJob) (*zone.Snapshot, error) {
			return j.Source.With([]zone.Change{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
		}
		tends := 0
		f.tend = func() (bool, time.Time) {
			tends++
			if tends%3 != 0 {
				f.made = fmt.Sprint(tends)
				return true, time.Time{}
			}
			if tends == 6 {
				return false, time.Time{}
			}
			return false, s.Now().Add(time.Hour)
		}
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { s.sched.run(ctx); close(done) }()
		s.Reload(ctx, &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: src.load, Signer: f}}})
		time.Sleep(3 * time.Hour)
		synctest.Wait()
		if got := fmt.Sprint(tends, f.served, s.Status().Zones[0].Serial); got != "6 [1 2 3 4 5] 5" {
			t.Errorf("tended, served, serial: %s", got)
		}
		if err := s.ClockMoved(ctx); err != nil {
			t.Error(err)
		}
		cancel()
		<-done
	})
}

// A signed zone gets a serial of its own, keeps its version over a restart, and
// is signed again in time; the clock is driven.
func TestSignedServing(t *testing.T) {
	dir := t.TempDir()
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	signed := 0
	src := &source{snap: version("a.", 10, 1)}
	f := &fakeSigner{made: "key 1"}
	f.sign = func(j SignJob) (*zone.Snapshot, error) {
		signed++
		return j.Source.With([]zone.Change{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}, {Type: rr.TypeTXT, TTL: 60, Data: []byte{1, byte('0' + signed)}}}}})
	}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: src.load, Signer: f}}}
	var store *journal.Store
	start := func() *Server {
		t.Helper()
		if store != nil {
			store.Close()
		}
		var err error
		if store, err = journal.Open(filepath.Join(dir, "versions.db")); err != nil {
			t.Fatal(err)
		}
		return New(Options{Now: func() time.Time { return now }, Store: store})
	}
	step := func(s *Server, what, want string, times int) {
		t.Helper()
		if got := results(s.Reload(context.Background(), cfg)); got != want || signed != times {
			t.Errorf("%s: %s, signed %d times; want %s, %d", what, got, signed, want, times)
		}
	}
	s := start()
	step(s, "first", "a. loaded 10 false", 1)
	step(s, "nothing new", "a. unchanged 10 false", 1)
	s = start()
	step(s, "after a restart", "a. loaded 10 false", 1)
	src.snap = version("a.", 10, 2)
	step(s, "new content under the old serial", "a. loaded 11 false", 2)
	src.snap = version("a.", 50, 2)
	step(s, "a new serial", "a. loaded 50 false", 3)
	f.made = "key 2"
	step(s, "another key", "a. loaded 51 false", 4)
	now = now.Add(10 * 24 * time.Hour)
	s = start()
	step(s, "signatures that end soon", "a. loaded 52 false", 5)
	if z := s.Status().Zones[0]; !z.Signatures.Equal(now.Add(14*24*time.Hour)) || z.Source != 50 || z.Serial != 52 {
		t.Errorf("status %+v", z)
	}
	store.Close()
}

// Where only a change is signed, the signatures that were kept fall due when they did
// before it.
func TestKeptSignaturesFallDue(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	begin, changes := now, 0
	s := New(Options{Now: func() time.Time { return now }})
	src := &source{snap: version("a.", 1, 1)}
	f := &fakeSigner{made: "key 1"}
	f.sign = func(j SignJob) (*zone.Snapshot, error) {
		if j.Before != nil {
			changes++
		}
		return j.Source.With([]zone.Change{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
	}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: src.load, Signer: f}}}
	s.Reload(context.Background(), cfg)
	for i := 1; i <= 3; i++ {
		now = now.AddDate(0, 0, 2)
		src.snap = version("a.", uint32(10*i), byte(i+1))
		s.Reload(context.Background(), cfg)
		if z := s.Status().Zones[0]; changes != i || !z.Signatures.Equal(begin.AddDate(0, 0, 14)) {
			t.Errorf("on day %d: %d changes, the first signature expires %s", 2*i, changes, z.Signatures)
		}
	}
	now = begin.AddDate(0, 0, 10) // past the renewal of the first: all is signed anew
	src.snap = version("a.", 99, 9)
	s.Reload(context.Background(), cfg)
	if z := s.Status().Zones[0]; changes != 3 || !z.Signatures.Equal(now.AddDate(0, 0, 14)) {
		t.Errorf("after the renewal: %d changes, %s", changes, z.Signatures)
	}
}

// The renewal of signatures comes by itself, in time.
func TestSignatureRenewal(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(Options{})
		src := &source{snap: version("a.", 1, 1)}
		var signed, fail atomic.Int32
		f := &fakeSigner{made: "key 1"}
		f.sign = func(j SignJob) (*zone.Snapshot, error) {
			if fail.Load() != 0 {
				return nil, errors.New("no key")
			}
			signed.Add(1)
			return j.Source.With([]zone.Change{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
		}
		cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: src.load, Signer: f}}}
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { s.sched.run(ctx); close(done) }()
		s.Reload(ctx, cfg)
		time.Sleep(60 * 24 * time.Hour)
		synctest.Wait()
		if n := signed.Load(); n < 6 || n > 8 { // every nine days
			t.Errorf("signed %d times in 60 days", n)
		}
		serial := s.Status().Zones[0].Serial
		fail.Store(1)
		time.Sleep(10 * 24 * time.Hour)
		synctest.Wait()
		if z := s.Status().Zones[0]; z.Problem != "signing: no key" || z.Serial != serial {
			t.Errorf("a failing renewal: %+v", z)
		}
		fail.Store(0)
		time.Sleep(time.Hour)
		synctest.Wait()
		if z := s.Status().Zones[0]; z.Problem != "" || z.Serial != serial+1 {
			t.Errorf("after the failure: %+v", z)
		}
		cancel()
		<-done
	})
}

// A copy that no primary confirms expires, and is served again when one does.
func TestExpiry(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(Options{})
		z := &served{name: dnsname.MustParse("a."), told: map[string]peerState{}}
		z.cfg.Store(&Zone{Name: z.name, FetchFrom: []Peer{{Name: "p"}}})
		s.table.Store(&table{zones: map[string]*served{z.name.Key(): z}, depths: depthBit(1)})
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { s.sched.run(ctx); close(done) }()
		if err := s.takeCopy(ctx, z, version("a.", 1, 1), Peer{Name: "p"}); err != nil {
			t.Fatal(err)
		}
		state := func() string { return s.Status().Zones[0].State }
		time.Sleep(86399 * time.Second) // expire is 86400
		synctest.Wait()
		if state() != "serving" {
			t.Errorf("a second before it expires it is %s", state())
		}
		time.Sleep(2 * time.Second)
		synctest.Wait()
		if _, st := s.Find([]byte("\x01a\x00"), false); state() != "expired" || st != answer.Unavailable {
			t.Errorf("after it has expired it is %s", state())
		}
		if err := s.confirm(ctx, z, z.kept); err != nil || state() != "serving" {
			t.Errorf("after a primary confirmed it, it is %s, %v", state(), err)
		}
		bad := version("a.", 2, 1)
		bad, _ = bad.With([]zone.Change{{Owner: bad.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 1, Data: soa(2)}}}})
		if err := s.takeCopy(ctx, z, bad, Peer{Name: "p"}); err == nil || z.snap.Load().Serial() != 1 {
			t.Error("a zone without NS records was taken")
		}
		cancel()
		<-done
	})
}

// respond gives a message to a handler as it came over UDP.
func respond(t *testing.T, s *Server, msg []byte, from string) *message.Message {
	t.Helper()
	out := s.newHandler().Datagram(nil, msg, netip.MustParseAddrPort(from))
	if len(out) == 0 {
		return nil
	}
	m, err := message.Decode(out)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestRequests(t *testing.T) {
	key := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}
	s := New(Options{})
	src := &source{snap: version("a.", 1, 1)}
	s.Reload(context.Background(), &Config{Zones: []Zone{
		{Name: dnsname.MustParse("a."), Load: src.load, SendTo: []Peer{{Name: "p", Address: netip.MustParseAddrPort("192.0.2.1:53")}, {Name: "k", Address: netip.MustParseAddrPort("192.0.2.2:53"), Key: key}}},
		{Name: dnsname.MustParse("s."), FetchFrom: []Peer{{Name: "p", Address: netip.MustParseAddrPort("192.0.2.1:53")}}},
	}})
	ask := func(name string, typ rr.Type, op message.Opcode) []byte {
		return message.AppendQuery(nil, dnsname.MustParse(name), typ, message.QueryOptions{ID: 9, Opcode: op})
	}
	signed := func(k *tsig.Key) []byte { return tsig.NewStream(k).Sign(ask("a.", rr.TypeSOA, 0), time.Now()) }
	other := *key
	other.Secret = []byte("another")
	for _, c := range []struct {
		what, from string
		msg        []byte
		want       message.Rcode
	}{
		{"a question", "203.0.113.1:5", ask("a.", rr.TypeA, 0), message.NoError},
		{"AXFR over UDP", "192.0.2.1:5", ask("a.", rr.TypeAXFR, 0), message.FormErr},
		{"IXFR over UDP from a peer", "192.0.2.1:5", ixfr("a.", 0), message.NoError},
		{"IXFR over UDP from a stranger", "203.0.113.1:5", ixfr("a.", 0), message.Refused},
		{"NOTIFY from the primary", "192.0.2.1:5", ask("s.", rr.TypeSOA, message.OpNotify), message.NoError},
		{"NOTIFY from a stranger", "203.0.113.1:5", ask("s.", rr.TypeSOA, message.OpNotify), message.Refused},
		{"NOTIFY for a zone we are primary for", "192.0.2.1:5", ask("a.", rr.TypeSOA, message.OpNotify), message.NotAuth},
		{"NOTIFY for a zone not served", "192.0.2.1:5", ask("x.", rr.TypeSOA, message.OpNotify), message.NotAuth},
		{"an update", "192.0.2.1:5", ask("a.", rr.TypeSOA, 5), message.NotImp},
		{"a good signature", "203.0.113.1:5", signed(key), message.NoError},
		{"a wrong signature", "203.0.113.1:5", signed(&other), message.NotAuth},
		{"an unknown key", "203.0.113.1:5", signed(&tsig.Key{Name: dnsname.MustParse("u."), Algorithm: "hmac-sha256", Secret: []byte("x")}), message.NotAuth},
		{"garbage behind a header", "203.0.113.1:5", append(ask("a.", rr.TypeA, 0)[:12], 0xff), message.FormErr},
	} {
		m := respond(t, s, c.msg, c.from)
		if m == nil || m.Rcode() != c.want || m.ID != 9 || m.Flags&message.FlagQR == 0 {
			t.Errorf("%s: %+v, want %s", c.what, m, c.want)
		}
	}
	if m := respond(t, s, signed(key), "203.0.113.1:5"); len(m.Additional) != 1 || m.Additional[0].Type != rr.TypeTSIG {
		t.Error("a signed question gets an unsigned answer")
	}
	for what, msg := range map[string][]byte{"an answer": {0, 9, 0x80, 0, 0, 1, 0, 0, 0, 0, 0, 0}, "five octets": {1, 2, 3, 4, 5}} {
		if respond(t, s, msg, "203.0.113.1:5") != nil {
			t.Errorf("%s is answered", what)
		}
	}
	if respond(t, s, ask("a.", rr.TypeA, 0), "203.0.113.1:0") != nil {
		t.Error("port 0 is answered")
	}
	// A peer with a key is known by the key, wherever it asks from.
	h := s.newHandler()
	transfer := tsig.NewStream(key).Sign(ask("a.", rr.TypeAXFR, 0), time.Now())
	if _, job := h.overTCP(nil, transfer, netip.MustParseAddrPort("203.0.113.9:5")); job == nil {
		t.Error("a peer with its key gets no transfer")
	}
	if _, job := h.overTCP(nil, ask("a.", rr.TypeAXFR, 0), netip.MustParseAddrPort("192.0.2.2:5")); job != nil {
		t.Error("a peer that has a key gets a transfer without it")
	}
}

// ixfr is a request for what changed since a serial.
func ixfr(name string, serial uint32) []byte {
	msg := message.AppendQuery(nil, dnsname.MustParse(name), rr.TypeIXFR, message.QueryOptions{ID: 9})
	msg[9] = 1 // the authority section
	data := soa(serial)
	msg = append(msg, 0xc0, message.HeaderLen, 0, byte(rr.TypeSOA), 0, 1, 0, 0, 0, 0, byte(len(data)>>8), byte(len(data)))
	return append(msg, data...)
}

// A key opens what it was given for and nothing else; a signed request gets a signed
// response, whatever that says, within the client's limit.
func TestRights(t *testing.T) {
	keys := map[string]*tsig.Key{}
	for _, n := range []string{"one.", "two."} {
		keys[n] = &tsig.Key{Name: dnsname.MustParse(n), Algorithm: "hmac-sha256", Secret: []byte("secret of " + n + "0123456789abcdef")}
	}
	peer := func(n string) Peer {
		return Peer{Name: n, Address: netip.MustParseAddrPort("192.0.2.1:53"), Key: keys[n]}
	}
	s := New(Options{})
	a, b := &source{snap: version("a.", 7, 1)}, &source{snap: version("b.", 7, 1)}
	s.Reload(context.Background(), &Config{Zones: []Zone{
		{Name: dnsname.MustParse("a."), Load: a.load, SendTo: []Peer{peer("one.")}},
		{Name: dnsname.MustParse("b."), Load: b.load, SendTo: []Peer{peer("two.")}},
		{Name: dnsname.MustParse("s."), FetchFrom: []Peer{peer("one.")}},
	}})
	from := netip.MustParseAddrPort("192.0.2.1:5")
	ask := func(zone string, typ rr.Type, op message.Opcode) []byte {
		return message.AppendQuery(nil, dnsname.MustParse(zone), typ, message.QueryOptions{ID: 9, Opcode: op})
	}
	for _, c := range []struct {
		what, key string
		msg       []byte
		want      message.Rcode
		job       bool
	}{
		{"its own zone", "one.", ask("a.", rr.TypeAXFR, 0), 0, true},
		{"the zone of another key", "two.", ask("a.", rr.TypeAXFR, 0), message.Refused, false},
		{"the other way round", "one.", ask("b.", rr.TypeAXFR, 0), message.Refused, false},
		{"changes of the zone of another key", "two.", ixfr("a.", 1), message.Refused, false},
		{"an older version", "one.", ixfr("a.", 6), 0, true},
		{"the same version", "one.", ixfr("a.", 7), 0, false},
		{"a newer version", "one.", ixfr("a.", 8), 0, false},
		{"changes since nothing", "one.", ask("a.", rr.TypeIXFR, 0), message.FormErr, false},
		{"NOTIFY by the primary", "one.", ask("s.", rr.TypeSOA, message.OpNotify), 0, false},
		{"NOTIFY by another key", "two.", ask("s.", rr.TypeSOA, message.OpNotify), message.Refused, false},
	} {
		stream := tsig.NewStream(keys[c.key])
		out, job := s.newHandler().overTCP(nil, stream.Sign(c.msg, time.Now()), from)
		if (job != nil) != c.job {
			t.Errorf("%s: a transfer: %v", c.what, job != nil)
		}
		if job != nil {
			continue
		}
		m, err := message.Decode(out)
		off, _ := message.FindTSIG(out)
		if err != nil || m.Rcode() != c.want || off == 0 {
			t.Errorf("%s: %+v, %v", c.what, m, err)
			continue
		}
		if _, err := stream.Verify(out, off, time.Now()); err != nil {
			t.Errorf("%s: the response: %v", c.what, err)
		}
		if c.want == 0 && len(c.msg) > 40 && len(m.Answer) != 1 {
			t.Errorf("%s: %d records", c.what, len(m.Answer))
		}
	}
	if m := respond(t, s, ixfr("a.", 7), "192.0.2.1:5"); m.Rcode() != message.Refused {
		t.Errorf("without any key: %s", m.Rcode())
	}
	for what, msg := range map[string][]byte{"another version of EDNS": version9(ask("a.", rr.TypeA, 0)), "another opcode": ask("a.", rr.TypeSOA, 4)} {
		stream := tsig.NewStream(keys["one."])
		out := s.newHandler().Datagram(nil, stream.Sign(msg, time.Now()), from)
		off, err := message.FindTSIG(out)
		if err != nil || off == 0 {
			t.Errorf("%s: the response is not signed", what)
			continue
		}
		if _, err := stream.Verify(out, off, time.Now()); err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// version9 adds OPT with a version that does not exist.
func version9(msg []byte) []byte {
	msg[11] = 1
	return append(msg, 0, 0, byte(rr.TypeOPT), 4, 0xd0, 0, 9, 0, 0, 0, 0)
}

// An option that runs over its end is an error, and the answer has OPT all the same
// (RFC 6891 §7).
func TestBadOption(t *testing.T) {
	s := New(Options{})
	msg := message.AppendQuery(nil, dnsname.MustParse("a."), rr.TypeA, message.QueryOptions{ID: 9})
	msg[11] = 1
	msg = append(msg, 0, 0, byte(rr.TypeOPT), 4, 0xd0, 0, 0, 0, 0, 0, 5, 0, 3, 0, 9, 1)
	if m := respond(t, s, msg, "192.0.2.1:5"); m.Rcode() != message.FormErr || m.EDNS == nil {
		t.Errorf("%+v", m)
	}
}

// What is sent over UDP fits the client and us, the signature included.
func TestSizes(t *testing.T) {
	key := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha512", Secret: []byte("0123456789abcdef0123456789abcdef")}
	z := version("a.", 1, 1)
	c := zone.Change{Owner: dnsname.MustParse("big.a.")}
	for i := range 60 {
		c.Records = append(c.Records, rr.Record{Type: rr.TypeA, TTL: 60, Data: []byte{192, 0, 2, byte(i)}})
	}
	half := zone.Change{Owner: dnsname.MustParse("half.a."), Records: c.Records[:28]}
	z, _ = z.With([]zone.Change{c, half})
	s := New(Options{})
	s.Reload(context.Background(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Load: (&source{snap: z}).load, SendTo: []Peer{{Name: "k", Key: key}}}}})
	for _, size := range []uint16{0, 100, 512, 600, 1000, 1100, 1200, 1232, 1233, 4096, 65535} {
		for _, name := range []string{"a.", "half.a.", "big.a."} {
			for _, signed := range []bool{false, true} {
				msg := message.AppendQuery(nil, dnsname.MustParse(name), rr.TypeA, message.QueryOptions{ID: 9, EDNS: size > 0, UDPSize: size})
				if signed {
					msg = tsig.NewStream(key).Sign(msg, time.Now())
				}
				out := s.newHandler().Datagram(nil, msg, netip.MustParseAddrPort("192.0.2.1:5"))
				limit := min(max(int(size), message.MinUDP), udpLimit)
				m, err := message.Decode(out)
				if err != nil || len(out) > limit {
					t.Errorf("%s, client takes %d, signed %v: %d octets, %v", name, size, signed, len(out), err)
					continue
				}
				need := map[string]int{"a.": 100, "half.a.": 600, "big.a.": 1100}[name]
				if signed {
					need += key.Size()
				}
				if m.Flags&message.FlagTC == 0 != (len(m.Answer) > 0) || need <= limit && m.Flags&message.FlagTC != 0 {
					t.Errorf("%s, client takes %d, signed %v: %d records, flags %x", name, size, signed, len(m.Answer), m.Flags)
				}
			}
		}
	}
}
