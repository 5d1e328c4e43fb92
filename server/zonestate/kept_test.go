package zonestate

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
	"fencepost/keymanager"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/update"
	"fencepost/zone"
)

// keeper starts servers one after the other over one store and one driven clock.
type keeper struct {
	t     *testing.T
	path  string
	clock atomic.Int64
	now   time.Time // as clock says
	store *store.Store
	end   func() // of the scheduler
	*Zones
}

func newKeeper(t *testing.T) *keeper {
	k := &keeper{t: t, path: filepath.Join(t.TempDir(), "versions.db")}
	k.set(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC))
	k.restart()
	t.Cleanup(func() { k.end(); k.store.Close() })
	return k
}

func (k *keeper) set(now time.Time) {
	k.now = now
	k.clock.Store(now.UnixNano())
}

func (k *keeper) open() {
	k.t.Helper()
	var err error
	if k.store, err = store.Open(k.path); err != nil {
		k.t.Fatal(err)
	}
}

func (k *keeper) restart() {
	k.t.Helper()
	if k.store != nil {
		k.end()
		k.store.Close()
	}
	k.open()
	k.Zones = New(Options{Now: func() time.Time { return time.Unix(0, k.clock.Load()).UTC() }, Store: k.store})
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func(s *scheduler) { s.run(ctx); close(done) }(k.sched)
	k.end = func() { cancel(); <-done }
}

// pass lets time pass, in steps, with all that falls due on the way.
func (k *keeper) pass(d, step time.Duration) {
	k.t.Helper()
	for end := k.now.Add(d); k.now.Before(end); {
		k.set(k.now.Add(step))
		if err := k.ClockMoved(context.Background()); err != nil {
			k.t.Fatal(err)
		}
	}
}

// is checks the one zone: its state, serial and trouble, and what is said of it.
func (k *keeper) is(what, want string, says ...string) ZoneStatus {
	k.t.Helper()
	z := k.Status().Zones[0]
	if got := strings.TrimSpace(fmt.Sprintf("%s %d %s", z.State, z.Serial, z.Trouble)); got != want {
		k.t.Errorf("%s: %s, want %s (%s)", what, got, want, z.Problem)
	}
	for _, s := range says {
		if !strings.Contains(fmt.Sprint(z.Problem, "\n", z.NotStored), s) {
			k.t.Errorf("%s: neither %v nor %v says %q", what, z.Problem, z.NotStored, s)
		}
	}
	_, state := k.find([]byte("\x01a\x00"), false)
	if (state == answer.Served) != (z.State == "serving") {
		k.t.Errorf("%s: the state is %s, and queries find %d", what, z.State, state)
	}
	return z
}

// resigner gives each version a serial of its own, and nothing else.
func resigner() *fakeSigner {
	return &fakeSigner{made: "key", sign: func(j keymanager.Job) (*zone.Snapshot, error) {
		return j.Source.Replace([]zone.Content{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
	}}
}

// What was kept in service is in service after a restart too, signed or not, and its
// signatures go on being renewed, until the file is right again.
func TestLastGoodVersion(t *testing.T) {
	for _, signed := range []bool{false, true} {
		k := newKeeper(t)
		src := &source{snap: zoneVersion("a.", 10, 1)}
		cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}}}}
		if signed {
			cfg.Zones[0].Signer = resigner()
		}
		ctx := context.Background()
		k.Apply(ctx, cfg, "")
		k.is("at first", "serving 10")
		src.snap, src.err = nil, errors.New("line 7 is wrong")
		k.Apply(ctx, cfg, "")
		k.is("the file is wrong", "serving 10 ahead", "line 7")
		k.restart()
		if got := results(k.Apply(ctx, cfg, "")); got != "a. kept 10 true" {
			t.Errorf("after a restart: %s", got)
		}
		z := k.is("after a restart", "serving 10 ahead", "line 7")
		if !z.Kept || !z.Troubled.Equal(k.now) {
			t.Errorf("kept %v since %s", z.Kept, z.Troubled)
		}
		k.pass(20*24*time.Hour, 6*time.Hour)
		z = k.Status().Zones[0]
		if z.State != "serving" || !strings.Contains(fmt.Sprint(z.Problem), "line 7") {
			t.Errorf("twenty days later: %+v", z)
		}
		if signed && (z.Serial == 10 || !z.Signatures.After(k.now)) {
			t.Errorf("signatures were not renewed: serial %d, they end %s, now %s", z.Serial, z.Signatures, k.now)
		}
		last := z.Serial
		k.restart()
		k.Apply(ctx, cfg, "")
		k.is("after another restart", fmt.Sprintf("serving %d ahead", last), "line 7")
		src.snap, src.err = zoneVersion("a.", 90, 2), nil
		if got := results(k.Apply(ctx, cfg, "")); got != "a. loaded 90 false" {
			t.Errorf("the file is right again: %s", got)
		}
		k.is("the file is right again", "serving 90")
	}
	// Without anything stored there is nothing to serve.
	k := newKeeper(t)
	src := &source{err: errors.New("line 7 is wrong")}
	k.Apply(context.Background(), &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}}}}, "")
	k.is("nothing stored", "failed 0 visible", "line 7")
}

// A version that cannot be stored is served, told of, and stored once that is
// possible; a restart before brings the older one back and signs on from there.
func TestServedThoughNotStored(t *testing.T) {
	k := newKeeper(t)
	src := &source{snap: zoneVersion("a.", 10, 1)}
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Files{Load: src.load}, Signer: resigner()}}}
	k.Apply(context.Background(), cfg, "")
	if z := k.is("at first", "serving 10"); z.NotStored != nil {
		t.Errorf("not stored: %s", z.NotStored)
	}
	k.store.Close() // what a full disk does: no write goes through
	k.pass(10*24*time.Hour, 24*time.Hour)
	if z := k.is("renewal with a store that is full", "serving 11 ahead", "not open"); !z.Signatures.After(k.now.Add(3 * 24 * time.Hour)) {
		t.Errorf("the signatures end %s, now is %s", z.Signatures, k.now)
	}
	k.open()
	k.Zones.Store = k.store
	k.pass(storeRetry+time.Minute, time.Minute)
	if z := k.is("there is room again", "serving 11"); z.NotStored != nil {
		t.Errorf("still not stored: %v", z.NotStored)
	}
	snap, meta, err := k.store.Load(dnsname.MustParse("a."))
	if err != nil || snap.Serial() != 11 || !meta.Expires.Equal(k.Status().Zones[0].Signatures) {
		t.Errorf("stored: %v, %v, %+v", snap, err, meta)
	}
}

// Only a primary confirms a secondary's version: to sign it anew, or to start again,
// lengthens nothing.
func TestOnlyAPrimaryConfirms(t *testing.T) {
	p := newPrimary(t)
	p.mu.Lock()
	p.shows, p.sends = 10, zoneVersion("a.", 10, 1)
	p.mu.Unlock()
	k := newKeeper(t)
	cfg := &Config{Zones: []Zone{{Name: dnsname.MustParse("a."), Origin: &Primaries{Servers: []Peer{{Name: "p", Address: p.at}}}, Signer: resigner()}}}
	start := func() {
		k.restart()
		k.Apply(context.Background(), cfg, "")
	}
	start()
	k.pass(time.Minute, time.Minute)
	confirmed := k.is("fetched", "serving 10").Checked
	if confirmed.IsZero() {
		t.Fatal("it was not confirmed")
	}
	p.mu.Lock()
	p.rcode = message.Refused
	p.mu.Unlock()
	expire := confirmed.Add(24 * time.Hour) // the SOA's 86400 s
	for k.now.Before(expire.Add(-time.Hour)) {
		k.pass(2*time.Hour, 2*time.Hour)
		if z := k.Status().Zones[0]; k.now.Before(expire) && (!z.Checked.Equal(confirmed) || z.State != "serving" || !z.Expires.Equal(expire)) {
			t.Fatalf("%s after the last confirmation: %s, confirmed %s", k.now.Sub(confirmed), z.State, z.Checked)
		}
		start()
		_ = k.signAgain(context.Background(), k.table.Load().zones[dnsname.MustParse("a.").Key()])
	}
	k.pass(3*time.Hour, time.Hour)
	k.is("after the expire", "expired 0 visible")
	if err := k.signAgain(context.Background(), k.table.Load().zones[dnsname.MustParse("a.").Key()]); err != nil {
		t.Error(err)
	}
	k.is("signed again after the expire", "expired 0 visible")
	start()
	k.is("started again after the expire", "expired 0 visible")
	p.mu.Lock()
	p.rcode = message.NoError
	p.mu.Unlock()
	k.pass(time.Hour, 10*time.Minute)
	if z := k.Status().Zones[0]; z.State != "serving" || !z.Checked.After(expire) || z.Trouble != NoTrouble {
		t.Errorf("the primary is back: %s, confirmed %s, %s", z.State, z.Checked, z.Problem)
	}
}

// Changes that cannot be stored are refused, which status tells until the store takes something again;
// what is in service stays, and its serial.
func TestRefusedWhileNothingCanBeStored(t *testing.T) {
	k := newKeeper(t)
	name := dnsname.MustParse("a.")
	src := &source{snap: zoneVersion("a.", 10, 1)}
	k.Apply(context.Background(), &Config{Zones: []Zone{{Name: name, Origin: &Files{Load: src.load}, Updates: &Updates{}}}}, "")
	change := func(label string) error {
		owner, err := name.Child(label)
		if err != nil {
			t.Fatal(err)
		}
		return k.UpdateBy(name, &update.Request{Zone: name, Changes: []rr.Record{{Name: owner, Type: rr.TypeA, Class: rr.ClassIN, TTL: 60, Data: []byte{192, 0, 2, 1}}}}, "ines")
	}
	if err := change("x"); err != nil {
		t.Fatal(err)
	}
	k.is("a change", "serving 11")
	k.store.Close()
	for range 2 {
		if err := change("y"); err == nil || !strings.Contains(err.Error(), "could not be stored") {
			t.Errorf("a change that cannot be stored: %v", err)
		}
		k.is("nothing can be stored", "serving 11 ahead", "not open")
		k.pass(storeRetry+time.Minute, time.Minute)
	}
	k.is("still not", "serving 11 ahead", "not open")
	k.open()
	k.Zones.Store = k.store
	k.pass(storeRetry+time.Minute, time.Minute)
	k.is("there is room again", "serving 11")
	if err := change("y"); err != nil {
		t.Error(err)
	}
	k.is("the change, asked for again", "serving 12")
}

// A version that could not be stored is stored once that is possible, also where changes were refused
// meanwhile.
func TestStoredAfterRefusals(t *testing.T) {
	k := newKeeper(t)
	name := dnsname.MustParse("a.")
	src := &source{snap: zoneVersion("a.", 10, 1)}
	k.Apply(context.Background(), &Config{Zones: []Zone{{Name: name, Origin: &Files{Load: src.load}, Updates: &Updates{}, Signer: resigner()}}}, "")
	k.is("at first", "serving 10")
	k.store.Close()
	k.pass(10*24*time.Hour, 24*time.Hour)
	k.is("renewal with a store that is full", "serving 11 ahead", "not open")
	owner, _ := name.Child("y")
	if err := k.UpdateBy(name, &update.Request{Zone: name, Changes: []rr.Record{{Name: owner, Type: rr.TypeA, Class: rr.ClassIN, TTL: 60, Data: []byte{192, 0, 2, 1}}}}, "ines"); err == nil {
		t.Error("a change is taken that cannot be stored")
	}
	k.open()
	k.Zones.Store = k.store
	k.pass(2*storeRetry, time.Minute)
	k.is("there is room again", "serving 11")
	if snap, _, err := k.store.Load(name); err != nil || snap == nil || snap.Serial() != 11 {
		t.Errorf("what is in service is not stored: %v, %v", snap, err)
	}
}

// A store that cannot be written to gives what it has, and takes nothing: no change is acknowledged that
// would be gone at the end, in everyone's version and in an audience's.
func TestSealedStore(t *testing.T) {
	k := newKeeper(t)
	name := dnsname.MustParse("a.")
	src := &source{snap: zoneVersion("a.", 10, 1)}
	cfg := &Config{Audiences: []Audience{{Name: "inside"}}, Zones: []Zone{{Name: name, Origin: &Files{Load: src.load}, Updates: &Updates{}}, {Name: name, Audience: "inside", Origin: &Files{Load: src.load}, Updates: &Updates{}}}}
	change := func(label string) error {
		owner, err := name.Child(label)
		if err != nil {
			t.Fatal(err)
		}
		return k.UpdateBy(name, &update.Request{Zone: name, Changes: []rr.Record{{Name: owner, Type: rr.TypeA, Class: rr.ClassIN, TTL: 60, Data: []byte{192, 0, 2, 1}}}}, "ines")
	}
	k.Apply(context.Background(), cfg, "")
	if err := change("x"); err != nil {
		t.Fatal(err)
	}
	k.end()
	k.store.Close()
	why := errors.New("the file system is read-only")
	k.store = store.Sealed(k.path, why)
	for _, scope := range []string{"", "inside"} {
		if err := k.store.For(scope).PutPending(name, store.Pending{"key": []byte("value")}); !errors.Is(err, why) {
			t.Errorf("scope %q takes something: %v", scope, err)
		}
	}
	k.Zones = New(Options{Now: func() time.Time { return time.Unix(0, k.clock.Load()).UTC() }, Store: k.store})
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func(s *scheduler) { s.run(ctx); close(done) }(k.sched)
	k.end = func() { cancel(); <-done }
	k.Apply(ctx, cfg, "")
	z := k.Status().Zones[0]
	if z.State != "serving" || z.Serial != 11 {
		t.Errorf("what was stored: %s %d", z.State, z.Serial)
	}
	if err := change("y"); err == nil || !strings.Contains(err.Error(), "could not be stored") {
		t.Errorf("a change is acknowledged that is stored nowhere: %v", err)
	}
}
