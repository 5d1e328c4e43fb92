package store_test

import (
	"sync"
	"testing"

	"fencepost/dnsname"
	"fencepost/store"
	"fencepost/zone"
)

// Whoever asks to be woken before looking misses no version, however many look and put at
// once; and nobody is woken for another zone.
func TestChanged(t *testing.T) {
	s := store.InMemory()
	name, other := dnsname.MustParse("watched.example."), dnsname.MustParse("other.example.")
	z, err := zone.NewBuilder(name, false).Build().Replace(nil)
	if err != nil {
		t.Fatal(err)
	}
	quiet := s.Changed(other)
	const versions, watchers = 200, 5
	var wg sync.WaitGroup
	for range watchers {
		wg.Go(func() {
			for seen := uint32(0); seen < versions; {
				next := s.Changed(name)
				_, m, err := s.Load(name)
				if err != nil {
					t.Error(err)
					return
				}
				if m.SourceSerial > seen {
					seen = m.SourceSerial
					continue
				}
				<-next
			}
		})
	}
	for n := range uint32(versions) {
		if _, err := s.Put(store.Version{Zone: z, Meta: store.Meta{SourceSerial: n + 1}}); err != nil {
			t.Fatal(err)
		}
	}
	wg.Wait()
	select {
	case <-quiet:
		t.Error("woken for another zone")
	default:
	}
}
