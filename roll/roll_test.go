package roll_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
)

var at = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// fixed is a timing with an hour for keys, two for data, three for DS.
func fixed() *roll.Timing {
	return &roll.Timing{Keys: roll.TTLs{{Seconds: 3600}}, Data: roll.TTLs{{Seconds: 7200}}, DS: roll.TTLs{{Seconds: 10800}}, ExpectServers: 5 * time.Minute, ExpectParent: time.Hour}
}

// drive begins a rollover and returns what moves it on by a time, with all servers
// showing what they should.
func drive(t *testing.T, kind roll.Kind, old, fresh []*roll.Key) (*roll.KeySet, func(time.Duration) roll.Outcome) {
	t.Helper()
	r := &roll.KeySet{Keys: append(slices.Clone(old), fresh...)}
	for _, k := range old {
		k.Use(at)
	}
	if err := r.Start(kind, fresh, "test", at); err != nil {
		t.Fatal(err)
	}
	now, serial := at, uint32(1)
	return r, func(d time.Duration) roll.Outcome {
		now = now.Add(d)
		looks := []roll.Observation{{Server: "here"}, {Server: "harbour"}, {Server: "registry", Parent: true}}
		out := r.Advance(now, looks, fixed())
		if out.Resign {
			serial++
			r.Served(serial, now)
			r.Advance(now, looks, fixed())
		}
		return out
	}
}

// The steps of each kind come just when the TTLs that they wait for have run out, and
// not a second before (RFC 7583 §3.2, §3.3, RFC 6781 §4.1).
func TestWaits(t *testing.T) {
	const a, b = rr.ECDSAP256SHA256, rr.ED25519
	split := func(tag uint16) []*roll.Key { return []*roll.Key{key(tag, a, signer.KSK), key(tag+1, a, signer.ZSK)} }
	h := time.Hour
	for _, c := range []struct {
		kind       roll.Kind
		old, fresh []*roll.Key
		waits      []time.Duration // of each step but those that wait for nothing
	}{
		{roll.RollZSK, split(1), []*roll.Key{key(9, a, signer.ZSK)}, []time.Duration{h, 2 * h}},
		{roll.RollKSK, split(1), []*roll.Key{key(9, a, signer.KSK)}, []time.Duration{h, 3 * h}},
		{roll.RollAll, []*roll.Key{key(1, a, signer.Single)}, []*roll.Key{key(9, a, signer.Single)}, []time.Duration{h, 3 * h, 2 * h}},
		{roll.RollAlgorithm, split(1), []*roll.Key{key(9, b, signer.Single)}, []time.Duration{2 * h, h, 3 * h, h}},
		{roll.EmergencyZSK, split(1), []*roll.Key{key(9, a, signer.ZSK)}, []time.Duration{2 * h}},
		{roll.EmergencyKSK, split(1), []*roll.Key{key(9, a, signer.KSK)}, []time.Duration{3 * h}},
		{roll.EmergencyAll, split(1), split(9), []time.Duration{3 * h}},
		{roll.GoSecure, nil, split(9), []time.Duration{2 * h}},
		{roll.GoInsecure, split(1), nil, []time.Duration{3 * h}},
	} {
		r, move := drive(t, c.kind, c.old, c.fresh)
		move(0)
		for i, wait := range c.waits {
			if r.Roll == nil || r.Roll.Step != i {
				t.Errorf("%s: at step %d before its wait", c.kind, i)
				break
			}
			move(wait - time.Second)
			if r.Roll == nil || r.Roll.Step != i {
				t.Errorf("%s: step %d ended a second early", c.kind, i)
				break
			}
			rows := r.Roll.Timeline(at, fixed())
			if !rows[i].Begin.Equal(r.Roll.Entered) {
				t.Errorf("%s: step %d began %s, and is shown as of %s", c.kind, i, r.Roll.Entered, rows[i].Begin)
			}
			if !strings.Contains(strings.Join(rows[i].Waits, " "), "in caches") {
				t.Errorf("%s: that caches are waited for is not said: %v", c.kind, rows[i].Waits)
			}
			move(time.Second)
		}
		if r.Roll != nil {
			t.Errorf("%s: at step %d when all is over", c.kind, r.Roll.Step)
		}
		if r.Last == nil || len(r.Last.Passed) != len(c.waits)+1 || r.Unsigned != (c.kind == roll.GoInsecure) {
			t.Errorf("%s: %+v", c.kind, r.Last)
		}
	}
}

// A step begins nothing while a server has not been seen, whatever the time.
func TestEvidence(t *testing.T) {
	fresh := key(9, rr.ED25519, signer.Single)
	r := &roll.KeySet{Keys: []*roll.Key{key(1, rr.ED25519, signer.Single), fresh}}
	r.Keys[0].Use(at)
	if err := r.Start(roll.RollAll, []*roll.Key{fresh}, "", at); err != nil {
		t.Fatal(err)
	}
	if out := r.Advance(at, nil, fixed()); !out.Resign || !fresh.Publish || !fresh.SignKeys || fresh.SignZone || fresh.DS {
		t.Fatalf("%+v, %+v", out, fresh)
	}
	if out := r.Advance(at.AddDate(1, 0, 0), []roll.Observation{{Server: "here"}}, fixed()); !out.Resign || r.Roll.Step != 0 {
		t.Errorf("what was never served is waited for: %+v", out)
	}
	r.Served(7, at)
	year := at.AddDate(1, 0, 0)
	for what, looks := range map[string][]roll.Observation{
		"no look at all": nil, "one away": {{Server: "here"}, {Server: "harbour", Err: errors.New("no answer")}}, "one behind": {{Server: "here"}, {Server: "harbour", Mismatch: "it has serial 6"}},
		"the parent alone": {{Server: "registry", Parent: true}},
	} {
		if r.Advance(year, looks, fixed()); r.Roll.Step != 0 || !r.Roll.Seen.IsZero() {
			t.Errorf("%s: step %d, seen %s", what, r.Roll.Step, r.Roll.Seen)
		}
	}
	rows := r.Roll.Timeline(year, fixed())
	if rows[0].Phase != roll.Now || !strings.Contains(strings.Join(rows[0].Waits, " "), "harbour") || len(rows) != 4 || rows[1].Phase != roll.Next {
		t.Errorf("the time line: %+v", rows)
	}
	// Seen everywhere, and then an old copy comes back: the wait begins anew.
	good := []roll.Observation{{Server: "here"}, {Server: "harbour"}}
	r.Advance(year, good, fixed())
	out := r.Advance(year.Add(30*time.Minute), []roll.Observation{{Server: "here"}, {Server: "harbour", Mismatch: "it has serial 6"}}, fixed())
	if !r.Roll.Seen.IsZero() || !strings.Contains(strings.Join(out.Events, " "), "shows the old state again") {
		t.Errorf("an old copy: %+v", out.Events)
	}
	r.Advance(year.Add(time.Hour), good, fixed())
	if r.Advance(year.Add(90*time.Minute), good, fixed()); r.Roll.Step != 0 {
		t.Error("the wait did not begin anew")
	}
	if r.Advance(year.Add(2*time.Hour), good, fixed()); r.Roll.Step != 1 {
		t.Error("the step does not end")
	}
	// The DS step needs the parent's servers, all of them.
	r.Served(8, year)
	if out := r.Advance(year.AddDate(1, 0, 0), good, fixed()); r.Roll.Step != 1 || out.Again.IsZero() {
		t.Error("the DS step ends without the parent")
	}
	if rows := r.Roll.Timeline(year, fixed()); !strings.Contains(strings.Join(rows[1].Waits, " "), "servers of the parent") {
		t.Errorf("waits for %v", rows[1].Waits)
	}
}

// Paused is paused, and what cannot be done is said.
func TestPauseAndErrors(t *testing.T) {
	r := &roll.KeySet{}
	if err := r.Pause(true); !errors.Is(err, roll.ErrNoRoll) {
		t.Error(err)
	}
	if err := r.Cancel(at); !errors.Is(err, roll.ErrNoRoll) {
		t.Error(err)
	}
	if err := r.Start(roll.RollZSK, nil, "", at); !errors.Is(err, roll.ErrNoKey) {
		t.Error(err)
	}
	fresh := []*roll.Key{key(9, rr.ED25519, signer.Single)}
	r, move := drive(t, roll.RollAll, []*roll.Key{key(1, rr.ED25519, signer.Single)}, fresh)
	if err := r.Start(roll.RollAll, fresh, "", at); !errors.Is(err, roll.ErrRolling) {
		t.Error(err)
	}
	move(0)
	if err := r.Pause(true); err != nil {
		t.Fatal(err)
	}
	if move(100 * time.Hour); r.Roll.Step != 0 {
		t.Error("a paused rollover goes on")
	}
	if rows := r.Roll.Timeline(at, fixed()); !strings.Contains(rows[0].Waits[0], "paused") {
		t.Error(rows[0].Waits)
	}
	if err := r.Pause(false); err != nil {
		t.Fatal(err)
	}
	if move(time.Second); r.Roll.Step != 1 {
		t.Errorf("at step %d after the pause", r.Roll.Step)
	}
	for range 3 {
		move(4 * time.Hour)
	}
	if r.Roll != nil {
		if err := r.Cancel(at); err == nil {
			t.Error("the last step can be cancelled")
		}
	}
	bad := &roll.KeySet{Roll: &roll.Rollover{Kind: "other"}}
	if bad.Check() == nil || (&roll.KeySet{Roll: &roll.Rollover{Kind: roll.RollZSK, Step: 3}}).Check() == nil || r.Check() != nil {
		t.Error("what is read is not checked")
	}
}

// The guards against doing by hand what breaks the zone.
func TestGuards(t *testing.T) {
	ksk, zsk := key(1, rr.ED25519, signer.KSK), key(2, rr.ED25519, signer.ZSK)
	r := &roll.KeySet{Keys: []*roll.Key{ksk, zsk}}
	ksk.Use(at)
	zsk.Use(at)
	yes, no := true, false
	refused := func(what string, err error, text string, safe time.Time) {
		t.Helper()
		var e *roll.RefusedError
		if !errors.As(err, &e) || !strings.Contains(err.Error(), text) || !e.Safe.Equal(safe) {
			t.Errorf("%s: %v", what, err)
		}
	}
	refused("the last KSK", r.MayRetire(ksk, nil), "last that signs the zone's keys", time.Time{})
	refused("the last ZSK", r.MayRetire(zsk, nil), "last that signs the zone", time.Time{})
	second, other := key(3, rr.ED25519, signer.KSK), key(4, rr.ED25519, signer.ZSK)
	second.Use(at)
	other.Use(at)
	r.Keys = append(r.Keys, second, other)
	refused("a KSK that the parent is to name", r.MayRetire(ksk, nil), "parent's DS names key 1", time.Time{})
	if err := r.MayRetire(ksk, &no); err != nil {
		t.Errorf("a KSK that the parent's servers do not name: %v", err)
	}
	refused("one that they name", r.MayRetire(ksk, &yes), "parent's DS names key 1", time.Time{})
	if err := r.MayRetire(zsk, nil); err != nil {
		t.Errorf("one ZSK of two: %v", err)
	}
	foreign := key(5, rr.ED25519, signer.KSK)
	foreign.Foreign, foreign.Publish, foreign.DS, foreign.State = true, true, true, roll.Published
	both := &roll.KeySet{Keys: []*roll.Key{ksk, foreign}}
	refused("another operator's key before the parent has ours", both.MayRetire(foreign, &yes), "takes the place of key 5 at the parent", time.Time{})
	ksk.Seen = at
	if err := both.MayRetire(foreign, &yes); err != nil {
		t.Errorf("the wish for another operator's DS beside ours: %v", err)
	}
	refused("another operator's key while the parent names it", both.MayRemove(foreign, at, &yes, fixed()), "parent's DS names key 5", time.Time{})
	foreign.Retire(at)
	if !foreign.Publish {
		t.Error("the key of another operator left with the wish for its DS")
	}
	late := at.Add(100 * time.Hour)
	refused("a retired one that the parent still names", both.MayRemove(foreign, late, &yes, fixed()), "parent's DS names key 5", time.Time{})
	refused("a retired one, soon", both.MayRemove(foreign, at.Add(time.Hour), &no, fixed()), "caches hold", at.Add(3*time.Hour))
	if err := both.MayRemove(foreign, late, &no, fixed()); err != nil {
		t.Errorf("a retired one that the parent never named: %v", err)
	}
	foreign.Seen = at
	refused("a retired one that the parent named when it was last looked at", both.MayRemove(foreign, late, &no, fixed()), "caches hold the parent's old DS", late.Add(3*time.Hour))
	foreign.Gone = at.Add(time.Hour)
	if err := both.MayRemove(foreign, late, &no, fixed()); err != nil {
		t.Errorf("a retired one whose DS has gone: %v", err)
	}
	ksk.Seen = time.Time{}
	gone := key(6, rr.ED25519, signer.KSK)
	gone.Publish, gone.SignKeys, gone.Revoked, gone.State, gone.Since = true, true, true, roll.Revoked, map[roll.State]time.Time{roll.Revoked: at}
	alone := &roll.KeySet{Keys: []*roll.Key{ksk, zsk, gone}}
	refused("the last KSK besides a revoked one", alone.MayRetire(ksk, &no), "last that signs the zone's keys", time.Time{})
	refused("one that was just revoked", alone.MayRemove(gone, at, &no, fixed()), "key 6 was revoked on", at.Add(30*24*time.Hour+time.Hour))
	if err := alone.MayRemove(gone, at.Add(31*24*time.Hour), &no, fixed()); err != nil {
		t.Errorf("one that was revoked for long enough: %v", err)
	}
	if alone.Keys = alone.Keys[1:]; alone.Signs() {
		t.Error("a revoked key alone signs the keys")
	}
	refused("a ZSK that signs", r.MayRemove(zsk, at, nil, fixed()), "signs the zone", time.Time{})
	zsk.Retire(at)
	refused("a ZSK that signed until now", r.MayRemove(zsk, at.Add(time.Hour), nil, fixed()), "caches hold signatures of key 2", at.Add(2*time.Hour))
	if err := r.MayRemove(zsk, at.Add(2*time.Hour), nil, fixed()); err != nil {
		t.Errorf("two hours later: %v", err)
	}
	ksk.Retire(at)
	ksk.Seen, ksk.Gone = at, at.Add(time.Hour)
	refused("a KSK whose DS is in caches", r.MayRemove(ksk, at.Add(2*time.Hour), &no, fixed()), "caches hold the parent's old DS", at.Add(4*time.Hour))
	if err := r.MayRemove(ksk, at.Add(4*time.Hour), &no, fixed()); err != nil {
		t.Errorf("three hours later: %v", err)
	}
	if err := r.MayRemove(key(5, rr.ED25519, signer.KSK), at, nil, fixed()); err != nil {
		t.Errorf("a key that was never used: %v", err)
	}
}

// Lifetimes begin rollovers early enough for the new key to be known when it is
// needed.
func TestLifetimes(t *testing.T) {
	ksk, zsk := key(1, rr.ED25519, signer.KSK), key(2, rr.ED25519, signer.ZSK)
	r := &roll.KeySet{Keys: []*roll.Key{ksk, zsk}}
	ksk.Use(at)
	zsk.Use(at.Add(24 * time.Hour))
	day := 24 * time.Hour
	for _, c := range []struct {
		l    roll.Lifetimes
		kind roll.Kind
		when time.Time
	}{
		{roll.Lifetimes{}, "", time.Time{}},
		{roll.Lifetimes{KSK: 365 * day, ZSK: 30 * day}, roll.RollZSK, at.Add(31*day - 65*time.Minute)},
		{roll.Lifetimes{KSK: 20 * day, ZSK: 30 * day}, roll.RollKSK, at.Add(20*day - 65*time.Minute)},
		{roll.Lifetimes{Single: day}, "", time.Time{}},
	} {
		if kind, when := r.Due(c.l, fixed()); kind != c.kind || !when.Equal(c.when) {
			t.Errorf("%+v: %q at %s", c.l, kind, when)
		}
	}
}

// TTLs that were lowered count until they have run out everywhere.
func TestTTLs(t *testing.T) {
	const expire = 14 * 24 * time.Hour
	ttls := roll.TTLs(nil).Note(86400, at, expire)
	ttls = ttls.Note(60, at.Add(time.Hour), expire)
	if got := ttls.After(at.Add(2 * time.Hour)); !got.Equal(at.Add(26 * time.Hour)) {
		t.Errorf("a lowered TTL that a server may still show ends %s", got)
	}
	if ttls.Now() != time.Minute {
		t.Errorf("the present one is %s", ttls.Now())
	}
	if again := ttls.Note(60, at.Add(expire+26*time.Hour), expire); len(again) != 1 {
		t.Errorf("it is never forgotten: %+v", again)
	}
	if raised := ttls.Note(90000, at.Add(2*time.Hour), expire); len(raised) != 1 || raised.Now() != 25*time.Hour {
		t.Errorf("a longer one takes its place: %+v", raised)
	}
}

func TestWords(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "0 s", 59 * time.Second: "59 s", time.Hour: "1 h", 90 * time.Minute: "1 h 30 min", 49 * time.Hour: "2 d 1 h", 24*time.Hour + time.Second: "1 d"} {
		if got := roll.Span(d); got != want {
			t.Errorf("%s: %q", d, got)
		}
	}
	if got := roll.Names([]uint16{1, 65535}); got != "1, 65535" {
		t.Error(got)
	}
	for _, k := range kinds {
		if k.Description() == "" {
			t.Errorf("%s says nothing", k)
		}
	}
	s := roll.ServerState{Server: "harbour", Problem: "no answer", Tried: at.Add(90 * time.Minute)}
	if got := s.Words(&roll.Rollover{Shown: at}, at.Add(90*time.Minute)); got != "nothing has been seen of harbour for 1 h 30 min: no answer" {
		t.Error(got)
	}
	s.Answered = s.Tried
	if got := s.Words(&roll.Rollover{Shown: at}, at); got != "harbour: no answer" {
		t.Error(got)
	}
}

// Once the DS was changed, the parent is looked at until the old key goes: one that has the old
// DS again, as from a backup, keeps that key in the zone until caches have forgotten it.
func TestParentRelapses(t *testing.T) {
	old, fresh := key(1, rr.ED25519, signer.Single), key(9, rr.ED25519, signer.Single)
	r, move := drive(t, roll.RollAll, []*roll.Key{old}, []*roll.Key{fresh})
	move(0)
	move(time.Hour)
	move(3 * time.Hour)
	if r.Roll.Step != 2 || !fresh.SignZone {
		t.Fatalf("step %d, %+v", r.Roll.Step, old)
	}
	now := at.Add(5 * time.Hour)
	zone := []roll.Observation{{Server: "here"}}
	look := func(d time.Duration, parent ...roll.Observation) roll.Outcome {
		now = now.Add(d)
		return r.Advance(now, append(slices.Clone(zone), parent...), fixed())
	}
	right, restored := roll.Observation{Server: "registry", Parent: true}, roll.Observation{Server: "registry", Parent: true, Mismatch: "it still has a DS of key 1", DS: []uint16{1}}
	out := look(0, restored)
	if words := strings.Join(out.Events, "\n"); !strings.Contains(words, "is not any more") || !strings.Contains(words, "still has a DS of key 1") {
		t.Errorf("what is told of it: %s", words)
	}
	if err := r.MayRemove(old, now, nil, fixed()); err == nil {
		t.Error("the old key may be removed although the parent has its DS")
	}
	for range 3 { // however long
		if look(24*time.Hour, restored); r.Roll.Step != 2 {
			t.Fatal("the old key went although the parent has its DS")
		}
	}
	if out := look(24 * time.Hour); r.Roll.Step != 2 || out.Again.IsZero() { // nobody knows
		t.Error("the old key went although the parent was not seen")
	}
	if out = look(0, right); out.Again.Sub(now) != time.Hour {
		t.Errorf("while caches forget, the parent is looked at again in %s", out.Again.Sub(now))
	}
	if look(3*time.Hour-time.Second, right); r.Roll.Step != 2 {
		t.Error("caches may hold the DS that was put back")
	}
	if look(time.Second, right); r.Roll.Step != 3 || old.Publish {
		t.Errorf("the old key stays when all caches have forgotten it: step %d", r.Roll.Step)
	}
}

// What the parent has is known only when every one of its servers was asked and shows
// it; nobody asked is no evidence.
func TestNoteParent(t *testing.T) {
	good, bad, away := roll.Observation{Server: "a", Parent: true}, roll.Observation{Server: "b", Parent: true, Mismatch: "it has another DS"}, roll.Observation{Server: "c", Parent: true, Err: errors.New("no answer")}
	for i, c := range []struct {
		looks []roll.Observation
		want  bool
	}{{nil, false}, {[]roll.Observation{good}, true}, {[]roll.Observation{good, good}, true}, {[]roll.Observation{good, bad}, false}, {[]roll.Observation{away, good}, false}} {
		asked, gone := key(1, rr.ED25519, signer.Single), key(2, rr.ED25519, signer.Single)
		asked.DS, gone.Seen = true, at
		r := &roll.KeySet{Keys: []*roll.Key{asked, gone}}
		if got := r.NoteParent(c.looks, at.Add(time.Hour)); got != c.want || asked.Seen.IsZero() == c.want || gone.Gone.IsZero() == c.want || r.Unseen() == c.want {
			t.Errorf("case %d: %v; the DS seen at %s, the other's gone at %s", i, got, asked.Seen, gone.Gone)
		}
	}
}
