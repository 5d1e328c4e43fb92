package zonestate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/store"
)

// A name follows another: its addresses are looked at again when the TTL is over, within bounds; they
// change when those change, stay while nobody answers, and are never taken away altogether.
func TestFollow(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	g := rand.New(rand.NewPCG(1, 14))
	var found resolve.Addresses
	var fails error
	looks := 0
	look := func(context.Context) (resolve.Addresses, error) { looks++; return found, fails }
	owner := dnsname.MustParse("web.a.")
	src := &source{snap: zoneVersion("a.", 1, 1)}
	cfg := &Config{Zones: []Zone{{Name: updated, Origin: &Files{Load: src.load}, Follows: []Follow{{Owner: owner, Source: dnsname.MustParse("host.example."), TTL: 120, AtLeast: time.Minute, AtMost: 10 * time.Minute, Look: look}}}}}
	kept := store.InMemory()
	s := New(Options{Store: kept, Stepped: true, Now: func() time.Time { return now }})
	s.Apply(t.Context(), cfg, "")
	addresses := func() string {
		var out []string
		for _, typ := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
			set, _ := s.Snapshot(updated).Find(owner, typ, 0)
			for data := range set.Data {
				out = append(out, fmt.Sprintf("%d %x", set.TTL, data))
			}
		}
		return strings.Join(out, ", ")
	}
	want := ""
	var due time.Time // when it looks next
	for step := range 400 {
		old := maps.Clone(found.Sets)
		switch fails = nil; g.IntN(4) {
		case 0:
			fails = errors.New("nobody answers")
		case 1:
			fails = resolve.ErrNoAddresses
		default:
			found = resolve.Addresses{Sets: map[rr.Type][][]byte{rr.TypeA: {{192, 0, 2, byte(g.IntN(3))}}}, TTL: time.Duration(g.IntN(1200)) * time.Second}
			if g.IntN(2) == 0 {
				found.Sets[rr.TypeAAAA] = [][]byte{{0x20, 1, 0xd, 0xb8, 15: byte(g.IntN(3))}}
			}
		}
		before, serial := looks, s.Snapshot(updated).Serial()
		if early := due.Add(-time.Second); !due.IsZero() && early.After(now) {
			now = early
			s.RunDue(t.Context())
			if looks != before {
				t.Fatalf("step %d: it looked too early", step)
			}
			now = due
		}
		s.RunDue(t.Context())
		if looks != before+1 {
			t.Fatalf("step %d: %d looks, want one", step, looks-before)
		}
		wait := time.Minute
		if fails == nil {
			wait = max(time.Minute, min(found.TTL, 10*time.Minute))
			want = fmt.Sprintf("120 %x", found.Sets[rr.TypeA][0])
			if six := found.Sets[rr.TypeAAAA]; six != nil {
				want += fmt.Sprintf(", 120 %x", six[0])
			}
		} else {
			found.Sets = old
		}
		due = now.Add(wait)
		if got := addresses(); got != want {
			t.Fatalf("step %d: %s, want %s", step, got, want)
		}
		st := s.Status().Zones[0]
		if f := st.Follows[0]; (f.Problem != nil) != (fails != nil) || !f.Next.Equal(due) || (fails != nil) == f.Failing.IsZero() {
			t.Fatalf("step %d: %+v", step, f)
		}
		if fails != nil && s.Snapshot(updated).Serial() != serial {
			t.Fatalf("step %d: the zone changed though nobody answered", step)
		}
		if g.IntN(10) == 0 { // what is configured goes on being so, also over a restart
			if g.IntN(2) == 0 {
				s = New(Options{Store: kept, Stepped: true, Now: func() time.Time { return now }})
				due = time.Time{}
			}
			s.Apply(t.Context(), cfg, "")
			if got := addresses(); got != want {
				t.Fatalf("step %d: after a reload %s, want %s", step, got, want)
			}
		}
	}
	list, _, err := kept.History(updated, owner)
	if err != nil || len(list) < 50 || list[0].By != "follow host.example" {
		t.Errorf("%d versions, the last by %q (%v)", len(list), list[0].By, err)
	}
	cfg = &Config{Zones: []Zone{{Name: updated, Origin: &Files{Load: src.load}}}}
	s.Apply(t.Context(), cfg, "")
	before := looks
	now = now.Add(time.Hour)
	if s.RunDue(t.Context()); looks != before || len(s.Status().Zones[0].Follows) > 0 {
		t.Error("it goes on looking for what is no longer configured")
	}
}

// An alias in the file leaves no place for addresses: that is told.
func TestFollowAlias(t *testing.T) {
	z := with(1, nil)
	z, err := z.Replace(content(t, "web.a.", rr.TypeCNAME, "\x01x\x00"))
	if err != nil {
		t.Fatal(err)
	}
	look := func(context.Context) (resolve.Addresses, error) {
		return resolve.Addresses{Sets: map[rr.Type][][]byte{rr.TypeA: {{192, 0, 2, 1}}}, TTL: time.Minute}, nil
	}
	cfg := &Config{Zones: []Zone{{Name: updated, Origin: &Files{Load: (&source{snap: z}).load}, Follows: []Follow{{Owner: dnsname.MustParse("web.a."), Source: dnsname.MustParse("b."), AtLeast: time.Minute, AtMost: time.Minute, Look: look}}}}}
	s := New(Options{Stepped: true})
	s.Apply(t.Context(), cfg, "")
	s.RunDue(t.Context())
	if f := s.Status().Zones[0].Follows[0]; !errors.Is(f.Problem, errAlias) {
		t.Errorf("%v", f.Problem)
	}
}
