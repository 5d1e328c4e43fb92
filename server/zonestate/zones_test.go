package zonestate

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/keymanager"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

func soa(serial uint32) []byte {
	return rr.SetSerial([]byte("\x02ns\x05other\x00\x01h\x05other\x00\x00\x00\x00\x00\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c"), serial)
}

// version is a small zone with a serial and an address.
func versionOf(name string, serial uint32, last byte) *version {
	z := zoneVersion(name, serial, last)
	return &version{served: z, source: z}
}

func zoneVersion(name string, serial uint32, last byte) *zone.Snapshot {
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

func (s *source) load(context.Context, Input) (Input, error) { return Input{Zone: s.snap}, s.err }

func results(rs []ZoneResult) string {
	var out []string
	for _, r := range rs {
		out = append(out, fmt.Sprintf("%s %s %d %v", r.Zone, r.Change, r.Serial, r.Err != nil))
	}
	return strings.Join(out, ", ")
}

func TestReload(t *testing.T) {
	s := New(Options{})
	a, b := &source{snap: zoneVersion("a.", 1, 1)}, &source{err: errors.New("broken")}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: a.load}}, {Name: dnsname.MustParse("b."), Origin: &Files{Load: b.load}}}}
	ctx := context.Background()
	step := func(what, want string) {
		t.Helper()
		if got := results(s.Apply(ctx, cfg, "")); got != want {
			t.Errorf("%s: %s, want %s", what, got, want)
		}
	}
	step("a good and a bad zone", "a. loaded 1 false, b. missing 0 true")
	if _, state := s.find([]byte("\x01b\x00"), false); state != answer.Unavailable {
		t.Errorf("the bad zone is %d", state)
	}
	step("nothing new", "a. unchanged 1 false, b. missing 0 true")
	a.snap = zoneVersion("a.", 1, 2)
	step("content without a serial", "a. kept 1 true, b. missing 0 true")
	a.snap = zoneVersion("a.", 2, 2)
	b.snap, b.err = zoneVersion("b.", 7, 1), nil
	step("both good", "a. loaded 2 false, b. loaded 7 false")
	a.snap, a.err = nil, errors.New("broken")
	step("a broken later", "a. kept 2 true, b. unchanged 7 false")
	if st := s.Status(); len(st.Zones) != 2 || fmt.Sprint(st.Zones[0].Problem) != "broken" || st.Zones[0].State != "serving" {
		t.Errorf("status %+v", st.Zones)
	}
	a.err, a.snap = nil, zoneVersion("a.", 1, 9)
	step("a serial that goes back", "a. kept 2 true, b. unchanged 7 false")
	cfg = &Config{Zones: cfg.Zones[1:]}
	step("a zone less", "b. unchanged 7 false, a. removed 0 false")
	if _, state := s.find([]byte("\x01a\x00"), false); state != answer.NotServed {
		t.Error("a removed zone is still served")
	}
}

func TestFind(t *testing.T) {
	s := New(Options{})
	var zones []Zone
	for _, n := range []string{"example.", "child.example.", "x."} {
		src := &source{snap: zoneVersion(n, 1, 1)}
		zones = append(zones, Zone{Name: dnsname.MustParse(n), Origin: &Files{Load: src.load}})
	}
	s.Apply(context.Background(), &Config{Zones: zones}, "")
	for _, c := range []struct {
		name, want string
		above      bool
	}{{"example.", "example.", false}, {"WWW.Example.", "example.", false}, {"a.b.child.EXAMPLE.", "child.example.", false},
		{"child.example.", "example.", true}, {"a.child.example.", "child.example.", true}, {"x.", "", true}, {"other.", "", false}, {".", "", false}, {".", "", true}} {
		z, state := s.find([]byte(dnsname.MustParse(c.name).Wire()), c.above)
		if (state == answer.Served) != (c.want != "") || z != nil && z.Apex().String() != c.want {
			t.Errorf("%s, above %v: %v", c.name, c.above, z)
		}
	}
}

// fault is an error that a test sets while others look at it.
type fault struct{ atomic.Pointer[error] }

func (f *fault) set(err error) { f.Store(&err) }

func (f *fault) get() error {
	if err := f.Load(); err != nil {
		return *err
	}
	return nil
}

// fakeSigner signs as a test wants it to, for fourteen days.
type fakeSigner struct {
	made             string
	unusable, unkept fault // what Usable and Observe say
	sign             func(keymanager.Job) (*zone.Snapshot, error)

	served []uint32
	next   func() (resign bool, again time.Time)
}

func (f *fakeSigner) Fingerprint() (string, error) { return f.made, nil }

func (f *fakeSigner) Usable() error { return f.unusable.get() }

func (f *fakeSigner) Sign(_ context.Context, j keymanager.Job) (keymanager.Signed, error) {
	z, err := f.sign(j)
	return keymanager.Signed{Zone: z, Fingerprint: f.made, Expires: j.Now.Add(14 * 24 * time.Hour), Renew: j.Now.Add(9 * 24 * time.Hour)}, err
}

func (f *fakeSigner) Served(serial uint32, _ time.Time) error {
	f.served = append(f.served, serial)
	return nil
}

func (f *fakeSigner) State() keymanager.State { return keymanager.State{} }

func (f *fakeSigner) Observe(context.Context) (any, error) { return nil, f.unkept.get() }

func (f *fakeSigner) Advance(any, *zone.Snapshot, time.Time) (bool, time.Time, error) {
	if f.next == nil {
		return false, time.Time{}, nil
	}
	resign, again := f.next()
	return resign, again, nil
}

// Keys that ask for it make the zone be signed again, until they are content; the
// signer hears of each version that is served.
func TestKeyCare(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(Options{})
		src := &source{snap: zoneVersion("a.", 1, 1)}
		f := &fakeSigner{made: "0"}
		f.sign = func(j keymanager.Job) (*zone.Snapshot, error) {
			return j.Source.Replace([]zone.Content{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
		}
		turns := 0
		f.next = func() (bool, time.Time) {
			turns++
			if turns%3 != 0 {
				f.made = fmt.Sprint(turns)
				return true, time.Time{}
			}
			if turns == 6 {
				return false, time.Time{}
			}
			return false, s.Now().Add(time.Hour)
		}
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { s.sched.run(ctx); close(done) }()
		s.Apply(ctx, &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, Signer: f}}}, "")
		time.Sleep(3 * time.Hour)
		synctest.Wait()
		if got := fmt.Sprint(turns, f.served, s.Status().Zones[0].Serial); got != "6 [1 2 3 4 5] 5" {
			t.Errorf("looked after, served, serial: %s", got)
		}
		if err := s.ClockMoved(ctx); err != nil {
			t.Error(err)
		}
		// That they cannot be looked after is told until they can; that they cannot be used at a reload.
		told := func() string {
			st := s.Status().Zones[0]
			return fmt.Sprint(st.Trouble, ": ", st.Problem)
		}
		f.unkept.set(errors.New("no space left"))
		if s.planAdvance(s.table.Load().zones[dnsname.MustParse("a.").Key()], s.Now()); s.ClockMoved(ctx) != nil || told() != "ahead: the keys could not be looked after: no space left" {
			t.Errorf("keys that cannot be looked after: %s", told())
		}
		f.unkept.set(nil)
		time.Sleep(advanceRetry)
		if synctest.Wait(); told() != ": <nil>" {
			t.Errorf("keys that can be again: %s", told())
		}
		f.unusable.set(errors.New("no passphrase"))
		if r, err := s.ReloadZone(ctx, dnsname.MustParse("a."), ""); err != nil || r[0].Err == nil || told() != "ahead: signing: no passphrase" {
			t.Errorf("keys that cannot be used: %v, %v, %s", r, err, told())
		}
		f.unusable.set(nil)
		if r, err := s.ReloadZone(ctx, dnsname.MustParse("a."), ""); err != nil || r[0].Err != nil || told() != ": <nil>" {
			t.Errorf("keys that can be used again: %v, %v, %s", r, err, told())
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
	src := &source{snap: zoneVersion("a.", 10, 1)}
	f := &fakeSigner{made: "key 1"}
	f.sign = func(j keymanager.Job) (*zone.Snapshot, error) {
		signed++
		return j.Source.Replace([]zone.Content{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}, {Type: rr.TypeTXT, TTL: 60, Data: []byte{1, byte('0' + signed)}}}}})
	}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, Signer: f}}}
	var kept *store.Store
	start := func() *Zones {
		t.Helper()
		if kept != nil {
			kept.Close()
		}
		var err error
		if kept, err = store.Open(filepath.Join(dir, "versions.db")); err != nil {
			t.Fatal(err)
		}
		return New(Options{Now: func() time.Time { return now }, Store: kept})
	}
	step := func(s *Zones, what, want string, times int) {
		t.Helper()
		if got := results(s.Apply(context.Background(), cfg, "")); got != want || signed != times {
			t.Errorf("%s: %s, signed %d times; want %s, %d", what, got, signed, want, times)
		}
	}
	s := start()
	step(s, "first", "a. loaded 10 false", 1)
	step(s, "nothing new", "a. unchanged 10 false", 1)
	s = start()
	step(s, "after a restart", "a. loaded 10 false", 1)
	src.snap = zoneVersion("a.", 10, 2)
	step(s, "new content under the old serial", "a. loaded 11 false", 2)
	src.snap = zoneVersion("a.", 50, 2)
	step(s, "a new serial", "a. loaded 50 false", 3)
	f.made = "key 2"
	step(s, "another key", "a. loaded 51 false", 4)
	now = now.Add(10 * 24 * time.Hour)
	s = start()
	step(s, "signatures that end soon", "a. loaded 52 false", 5)
	if z := s.Status().Zones[0]; !z.Signatures.Equal(now.Add(14*24*time.Hour)) || z.Source != 50 || z.Serial != 52 {
		t.Errorf("status %+v", z)
	}
	kept.Close()
}

// Where only a change is signed, the signatures that were kept fall due when they did
// before it.
func TestKeptSignaturesFallDue(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	begin, changes := now, 0
	s := New(Options{Now: func() time.Time { return now }})
	src := &source{snap: zoneVersion("a.", 1, 1)}
	f := &fakeSigner{made: "key 1"}
	f.sign = func(j keymanager.Job) (*zone.Snapshot, error) {
		if j.Before != nil {
			changes++
		}
		return j.Source.Replace([]zone.Content{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
	}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, Signer: f}}}
	s.Apply(context.Background(), cfg, "")
	for i := 1; i <= 3; i++ {
		now = now.AddDate(0, 0, 2)
		src.snap = zoneVersion("a.", uint32(10*i), byte(i+1))
		s.Apply(context.Background(), cfg, "")
		if z := s.Status().Zones[0]; changes != i || !z.Signatures.Equal(begin.AddDate(0, 0, 14)) {
			t.Errorf("on day %d: %d changes, the first signature expires %s", 2*i, changes, z.Signatures)
		}
	}
	now = begin.AddDate(0, 0, 10) // past the renewal of the first: all is signed anew
	src.snap = zoneVersion("a.", 99, 9)
	s.Apply(context.Background(), cfg, "")
	if z := s.Status().Zones[0]; changes != 3 || !z.Signatures.Equal(now.AddDate(0, 0, 14)) {
		t.Errorf("after the renewal: %d changes, %s", changes, z.Signatures)
	}
}

// The renewal of signatures comes by itself, in time.
func TestSignatureRenewal(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(Options{})
		src := &source{snap: zoneVersion("a.", 1, 1)}
		var signed, fail atomic.Int32
		f := &fakeSigner{made: "key 1"}
		f.sign = func(j keymanager.Job) (*zone.Snapshot, error) {
			if fail.Load() != 0 {
				return nil, errors.New("no key")
			}
			signed.Add(1)
			return j.Source.Replace([]zone.Content{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
		}
		cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, Signer: f}}}
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { s.sched.run(ctx); close(done) }()
		s.Apply(ctx, cfg, "")
		time.Sleep(60 * 24 * time.Hour)
		synctest.Wait()
		if n := signed.Load(); n < 6 || n > 8 { // every nine days
			t.Errorf("signed %d times in 60 days", n)
		}
		serial := s.Status().Zones[0].Serial
		fail.Store(1)
		time.Sleep(10 * 24 * time.Hour)
		synctest.Wait()
		if z := s.Status().Zones[0]; fmt.Sprint(z.Problem) != "signing: no key" || z.Serial != serial {
			t.Errorf("a failing renewal: %+v", z)
		}
		fail.Store(0)
		time.Sleep(time.Hour)
		synctest.Wait()
		if z := s.Status().Zones[0]; z.Problem != nil || z.Serial != serial+1 {
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
		z := &zoneState{name: dnsname.MustParse("a."), notified: map[string]peerState{}}
		z.cfg.Store(&Zone{Name: z.name, Origin: &Primaries{Servers: []Peer{{Name: "p"}}}})
		s.table.Store(&table{zones: map[string]*zoneState{z.name.Key(): z}, depths: depthBit(1)})
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { s.sched.run(ctx); close(done) }()
		if err := s.installFetched(ctx, z, zoneVersion("a.", 1, 1), Peer{Name: "p"}, expiry{}); err != nil {
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
		if _, st := s.find([]byte("\x01a\x00"), false); state() != "expired" || st != answer.Expired {
			t.Errorf("after it has expired it is %s", state())
		}
		if err := s.confirm(z, z.lastGood().served, expiry{}); err != nil || state() != "serving" {
			t.Errorf("after a primary confirmed it, it is %s, %v", state(), err)
		}
		bad := zoneVersion("a.", 2, 1)
		bad, _ = bad.Replace([]zone.Content{{Owner: bad.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 1, Data: soa(2)}}}})
		if err := s.installFetched(ctx, z, bad, Peer{Name: "p"}, expiry{}); err == nil || z.snap().Serial() != 1 {
			t.Error("a zone without NS records was taken")
		}
		cancel()
		<-done
	})
}
