package zonestate

import (
	"context"
	"errors"
	"testing"

	"fencepost/dnsname"
	"fencepost/keymanager"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

// stamped is a source that says whether it has changed, and counts how often it is read.
type stamped struct {
	source
	stamp string
	reads int
}

func (s *stamped) load(context.Context, Input) (Input, error) {
	s.reads++
	return Input{Zone: s.snap, Stamp: s.stamp}, s.err
}

func (s *stamped) unchanged(stamp string) (string, bool) { return stamp, stamp == s.stamp }

// What has not changed is not read again, by this server or by one after a restart, signed
// or not; it is read when anything about it changed, and where it could not be taken.
func TestUnchanged(t *testing.T) {
	kept := store.InMemory()
	plain, signed := &stamped{source: source{snap: zoneVersion("a.", 1, 1)}, stamp: "one"}, &stamped{source: source{snap: zoneVersion("b.", 1, 1)}, stamp: "one"}
	signs := 0
	f := &fakeSigner{made: "key 1"}
	f.sign = func(j keymanager.Job) (*zone.Snapshot, error) {
		signs++
		return j.Source.Replace([]zone.Content{{Owner: j.Source.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(j.Serial)}}}})
	}
	cfg := &Config{Zones: []Zone{
		{Name: dnsname.MustParse("a."), Origin: &Files{Load: plain.load, Unchanged: plain.unchanged}},
		{Name: dnsname.MustParse("b."), Origin: &Files{Load: signed.load, Unchanged: signed.unchanged}, Signer: f},
	}}
	var s *Zones
	step := func(what, want string, plainReads, signedReads, signatures int) {
		t.Helper()
		plain.reads, signed.reads, signs = 0, 0, 0
		if s == nil {
			s = New(Options{Store: kept})
		}
		if got := results(s.Apply(t.Context(), cfg, "")); got != want || plain.reads != plainReads || signed.reads != signedReads || signs != signatures {
			t.Errorf("%s: %s, read %d and %d times, signed %d times; want %s, %d, %d, %d", what, got, plain.reads, signed.reads, signs, want, plainReads, signedReads, signatures)
		}
	}
	step("first", "a. loaded 1 false, b. loaded 1 false", 1, 1, 1)
	step("nothing new", "a. unchanged 1 false, b. unchanged 1 false", 0, 0, 0)
	plain.stamp, signed.stamp = "two", "two"
	step("touched", "a. unchanged 1 false, b. unchanged 1 false", 1, 1, 0)
	step("and then nothing new", "a. unchanged 1 false, b. unchanged 1 false", 0, 0, 0)
	s = nil
	step("after a restart", "a. stored 1 false, b. stored 1 false", 0, 0, 0)
	step("and then nothing new", "a. unchanged 1 false, b. unchanged 1 false", 0, 0, 0)
	f.made = "key 2"
	step("another key", "a. unchanged 1 false, b. loaded 2 false", 0, 1, 1)
	plain.stamp, plain.snap = "three", zoneVersion("a.", 2, 2)
	step("another content", "a. loaded 2 false, b. unchanged 2 false", 1, 0, 0)
	plain.stamp, plain.err = "four", errors.New("line 7 is wrong")
	step("a bad file", "a. kept 2 true, b. unchanged 2 false", 1, 0, 0)
	step("the bad file again", "a. kept 2 true, b. unchanged 2 false", 1, 0, 0)
	plain.err, plain.snap = nil, zoneVersion("a.", 2, 3)
	step("a serial that did not move", "a. kept 2 true, b. unchanged 2 false", 1, 0, 0)
	step("and again", "a. kept 2 true, b. unchanged 2 false", 1, 0, 0)
	s = nil
	plain.stamp, plain.err = "five", errors.New("line 9 is wrong")
	step("a bad file after a restart", "a. kept 2 true, b. stored 2 false", 1, 0, 0)
	plain.err, plain.snap = nil, zoneVersion("a.", 3, 3)
	step("and mended", "a. loaded 3 false, b. unchanged 2 false", 1, 0, 0)
	s = nil
	plain.stamp, signed.stamp = "six", "six"
	step("another program", "a. loaded 3 false, b. loaded 2 false", 1, 1, 0)
	s = nil
	step("and the same again", "a. stored 3 false, b. stored 2 false", 0, 0, 0)
	s = nil
	cfg.Zones[1].Signer = nil
	step("signed no more", "a. stored 3 false, b. loaded 1 false", 0, 1, 0)
}
