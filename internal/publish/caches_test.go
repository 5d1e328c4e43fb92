package publish

import (
	"context"
	"errors"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/workspace"
)

// Caches are waited for where that is asked, told of where it is not, and nothing is said where none can
// hold anything.
func TestCaches(t *testing.T) {
	for _, c := range []struct {
		what   string
		until  time.Duration // from now; 0: nothing is held
		wait   bool
		events int
		ended  bool // by the context, so it did wait
	}{
		{"nothing is held", 0, true, 0, false},
		{"told of", time.Hour, false, 1, false},
		{"waited for", time.Hour, true, 1, true},
		{"over already", -time.Hour, true, 2, false},
	} {
		ctx, cancel := context.WithCancel(t.Context())
		events := 0
		r := &run{z: &workspace.Zone{Name: dnsname.MustParse("a.example.")}, o: &Options{WaitCaches: c.wait}, tell: func(x Event) error {
			if events++; x.Step != Caches {
				t.Errorf("%s: %v", c.what, x)
			}
			cancel()
			return nil
		}}
		if c.until != 0 {
			r.until = time.Now().Add(c.until)
		}
		if !c.ended {
			ctx = context.WithoutCancel(ctx)
		}
		if err := r.caches(ctx); errors.Is(err, context.Canceled) != c.ended || events != c.events {
			t.Errorf("%s: %v after %d events", c.what, err, events)
		}
		cancel()
	}
}

// Without names all zones that have files are published: none that is fetched, kept in the store, or a
// catalog that is made.
func TestChosen(t *testing.T) {
	c := &workspace.Config{Zones: []*workspace.Zone{{Name: dnsname.MustParse("file.example.")}, {Name: dnsname.MustParse("fetched.example."), FetchFrom: []*workspace.Peer{{}}},
		{Name: dnsname.MustParse("kept.example."), Kept: true}, {Name: dnsname.MustParse("list.example."), Catalog: &workspace.Catalog{}}}}
	out, err := chosen(c, nil)
	if err != nil || len(out) != 1 || out[0] != c.Zones[0] {
		t.Errorf("%d zones, %v", len(out), err)
	}
}
