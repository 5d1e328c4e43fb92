package store_test

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/store"
)

func TestPublished(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "versions.db")
	if list, err := store.ReadPublished(path); err != nil || list != nil {
		t.Errorf("where there is no store: %v, %v", list, err)
	}
	s, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	zone := dnsname.MustParse("Tides.Example.")
	if _, found, err := s.LastPublished(zone); found || err != nil {
		t.Errorf("at first: %v, %v", found, err)
	}
	if list, err := s.AllPublished(); err != nil || len(list) != 0 {
		t.Errorf("at first: %v, %v", list, err)
	}
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	one := store.Published{Zone: "tides.example.", Serial: 7, Digest: "abc", At: at}
	other := store.Published{Zone: "birds.example.", Serial: 9, Digest: "def", At: at}
	for _, list := range [][]store.Published{nil, {one, other}} {
		if err := s.Publish(list); err != nil {
			t.Fatal(err)
		}
	}
	if p, found, err := s.LastPublished(zone); err != nil || !found || p != one {
		t.Errorf("%+v, %v, %v", p, found, err)
	}
	if _, err := store.ReadPublished(path); !errors.Is(err, store.ErrInUse) {
		t.Errorf("a store in use: %v", err)
	}
	one.Serial = 8
	if err := s.Publish([]store.Published{one}); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	list, err := store.ReadPublished(path)
	if err != nil || len(list) != 2 || list[1] != one || list[0] != other {
		t.Errorf("%+v, %v", list, err)
	}
}
