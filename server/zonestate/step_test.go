package zonestate

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/store"
	"fencepost/zone"
)

// A server that is given what changed serves what one serves that reads it all, and stores the
// same; a change of another version, of a copy, or one that does not fit, changes nothing.
func TestTakeStep(t *testing.T) {
	name := dnsname.MustParse("a.")
	r := rand.New(rand.NewPCG(10, 2026))
	stepped, reading := New(Options{Store: store.InMemory()}), New(Options{Store: store.InMemory()})
	at := zoneVersion("a.", 1, 1)
	src := &source{snap: at}
	for _, s := range []*Zones{stepped, reading} {
		s.Apply(t.Context(), &Config{Zones: []Zone{{Name: name, Origin: &Files{Load: src.load}}, {Name: dnsname.MustParse("copy."), Origin: &Primaries{Servers: []Peer{{Name: "p"}}}}}}, "")
	}
	serial := uint32(1)
	for range 300 {
		next := zoneVersion("a.", serial, byte(r.IntN(3)))
		if r.IntN(8) > 0 {
			serial++
			next = zoneVersion("a.", serial, byte(r.IntN(3)))
		}
		st := Step{Before: at.Digest(), Delta: zone.Diff(at, next), Stamp: fmt.Sprint(serial)}
		if r.IntN(5) == 0 { // somebody else's
			other := zoneVersion("a.", serial+7, 77)
			if _, err := stepped.TakeStep(t.Context(), name, Step{Before: other.Digest(), Delta: zone.Diff(other, next)}, ""); !errors.Is(err, ErrAnotherVersion) {
				t.Fatalf("a change of another version: %v", err)
			}
			if _, err := stepped.TakeStep(t.Context(), name, Step{Before: at.Digest(), Delta: zone.Diff(other, next)}, ""); !errors.Is(err, zone.ErrMismatch) {
				t.Fatalf("a change that does not fit: %v", err)
			}
		}
		src.snap = next
		all, err := reading.ReloadZone(t.Context(), name, "")
		if err != nil {
			t.Fatal(err)
		}
		want := all[0]
		got, err := stepped.TakeStep(t.Context(), name, st, "")
		if err != nil || got.Change != want.Change || got.Serial != want.Serial || fmt.Sprint(got.Err) != fmt.Sprint(want.Err) {
			t.Fatalf("%+v %v, want %+v", got, err, want)
		}
		if !zone.Equal(stepped.Snapshot(name), reading.Snapshot(name)) {
			t.Fatal("another version is served")
		}
		if at = stepped.Snapshot(name); want.Change == Kept {
			src.snap = at // as somebody would put it right
		}
	}
	a, _, err1 := stepped.Store.History(name, dnsname.Name{})
	b, _, err2 := reading.Store.History(name, dnsname.Name{})
	if err1 != nil || err2 != nil || len(a) != len(b) || len(a) < 100 {
		t.Errorf("%d and %d versions are stored, %v %v", len(a), len(b), err1, err2)
	}
	if _, err := stepped.TakeStep(t.Context(), dnsname.MustParse("copy."), Step{}, ""); !errors.Is(err, ErrNotFromFiles) {
		t.Errorf("a copy: %v", err)
	}
	if _, err := stepped.TakeStep(t.Context(), dnsname.MustParse("none."), Step{}, ""); !errors.Is(err, ErrNoZone) {
		t.Errorf("a zone that is not served: %v", err)
	}
}

// The word of a step counts for a minute, until the next reload, or until the next start: then the
// files are read, and what they do not hold is not served any more.
func TestStepIsProved(t *testing.T) {
	name := dnsname.MustParse("a.")
	for _, honest := range []bool{true, false} {
		for _, then := range []string{"a minute", "a reload", "a start", "other files, a minute"} {
			now, kept := time.Unix(1_790_000_000, 0), store.InMemory()
			src := &stamped{source: source{snap: zoneVersion("a.", 1, 1)}, stamp: "one"}
			cfg := &Config{Zones: []Zone{{Name: name, Origin: &Files{Load: src.load, Unchanged: src.unchanged}}}}
			s := New(Options{Store: kept, Stepped: true, Now: func() time.Time { return now }})
			s.Apply(t.Context(), cfg, "")
			at, told := src.snap, zoneVersion("a.", 2, 2)
			src.stamp, src.snap = "two", zoneVersion("a.", 3, 3)
			if honest {
				src.snap = told
			}
			for range 2 { // a second one, without a change, is as good
				if _, err := s.TakeStep(t.Context(), name, Step{Before: at.Digest(), Delta: zone.Diff(at, told), Stamp: "two"}, ""); err != nil {
					t.Fatal(err)
				}
				at = told
			}
			src.reads = 0
			want, reads := src.snap, 1
			switch then {
			case "a minute":
				if now = now.Add(proveAfter); !honest {
					reads = 2
				}
				for s.RunDue(t.Context()) {
				}
			case "a reload":
				s.Apply(t.Context(), cfg, "")
			case "a start":
				s = New(Options{Store: kept, Stepped: true, Now: func() time.Time { return now }})
				s.Apply(t.Context(), cfg, "")
			default: // somebody is writing them: they wait for a reload
				src.stamp, want, reads = "three", told, 0
				now = now.Add(proveAfter)
				for s.RunDue(t.Context()) {
				}
			}
			if got := s.Snapshot(name); !zone.Equal(got, want) || src.reads != reads {
				t.Errorf("honest %v, then %s: serial %d is served, files read %d times; want %d and %d", honest, then, got.Serial(), src.reads, want.Serial(), reads)
			}
			if src.reads = 0; then == "a minute" {
				if s.Apply(t.Context(), cfg, ""); src.reads != 0 {
					t.Errorf("honest %v: what was read a minute later is read again", honest)
				}
			}
		}
	}
}

// tag is what a Load of tests knows of a version: which it is.
type tag string

func (g tag) After(next *zone.Snapshot, d *zone.Delta) CheckState {
	if d.To == d.From { // nothing is known then
		return nil
	}
	return tag(next.Digest())
}

// Whatever becomes of a zone, Load is handed what it found out about the very version it is
// handed, and mostly something.
func TestKnownOfLast(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2026))
	for _, sign := range []Signer{nil, resigner()} {
		name := dnsname.MustParse("a.")
		serial, handed, gave := uint32(1), 0, (*zone.Snapshot)(nil)
		load := func(_ context.Context, last Input) (Input, error) {
			if last.Checks != nil {
				handed++
				if last.Zone == nil || last.Checks != CheckState(tag(last.Zone.Digest())) {
					t.Fatalf("with the version %s goes what is known of %v", last.Zone.Digest(), last.Checks)
				}
			}
			if r.IntN(4) > 0 {
				serial++
			}
			if gave = zoneVersion("a.", serial, byte(r.IntN(2))); r.IntN(8) == 0 {
				return Input{}, errors.New("it has errors")
			}
			in := Input{Checks: tag(gave.Digest())}
			in.Zone, in.Delta = zone.Share(last.Zone, gave)
			return in, nil
		}
		s := New(Options{Store: store.InMemory()})
		cfg := &Config{Zones: []Zone{{Name: name, Origin: &Files{Load: load}, Signer: sign}}}
		s.Apply(t.Context(), cfg, "")
		const rounds = 200
		for range rounds {
			switch r.IntN(4) {
			case 0:
				s.Apply(t.Context(), cfg, "")
			case 1:
				have := s.table.Load().zones[name.Key()].lastGood().source
				serial++
				next := zoneVersion("a.", serial, byte(r.IntN(3)))
				if _, err := s.TakeStep(t.Context(), name, Step{Before: have.Digest(), Delta: zone.Diff(have, next)}, ""); err != nil {
					t.Fatal(err)
				}
			default:
				if _, err := s.ReloadZone(t.Context(), name, ""); err != nil {
					t.Fatal(err)
				}
			}
		}
		if handed < rounds/2 {
			t.Errorf("Load was handed something %d times of about %d", handed, rounds*3/4)
		}
	}
}
