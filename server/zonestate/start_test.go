package zonestate

import (
	"context"
	"fmt"
	"net/netip"
	"runtime"
	"sync"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/dnsname"
)

// A zone that takes long to load holds back neither the others nor the server: they are
// answered for while it is still loading, and it is told that it is.
func TestStartWithALargeZone(t *testing.T) {
	hold, large := make(chan struct{}), dnsname.MustParse("large.")
	held := func(ctx context.Context, _ Input) (Input, error) {
		<-hold
		return Input{Zone: zoneVersion("large.", 1, 1)}, nil
	}
	// As many large zones as would take every place, first in the configuration.
	cfg := &Config{}
	const many = 64
	for i := range many {
		cfg.Zones = append(cfg.Zones, Zone{Name: dnsname.MustParse(fmt.Sprintf("l%d.large.", i)), Origin: &Files{Load: held, Work: func() int64 { return 1000 }}})
	}
	cfg.Zones = append(cfg.Zones, Zone{Name: large, Origin: &Files{Load: held, Work: func() int64 { return 1000 }}})
	for i := range many {
		name := fmt.Sprintf("z%d.", i)
		cfg.Zones = append(cfg.Zones, Zone{Name: dnsname.MustParse(name), Origin: &Files{Load: (&source{snap: zoneVersion(name, 1, 1)}).load, Work: func() int64 { return 10 }}})
	}
	cfg.Zones = append(cfg.Zones, Zone{Name: dnsname.MustParse("fetched."), Origin: &Primaries{Servers: []Peer{{Name: "p", Address: netip.MustParseAddrPort("127.0.0.1:9")}}}})
	s := New(Options{})
	ctx, cancel := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	s.Begin(ctx, cfg, nil, &wg)
	defer wg.Wait()
	defer cancel()
	release := sync.OnceFunc(func() { close(hold) })
	defer release()
	for s.Loading() > many+1 {
		runtime.Gosched()
	}
	for i := range 10 {
		if _, state := s.find([]byte(fmt.Sprintf("\x02z%d\x00", i)), false); state != answer.Served {
			t.Errorf("z%d is not served beside large zones: %v", i, state)
		}
	}
	if _, state := s.find([]byte("\x05large\x00"), false); state != answer.Unavailable {
		t.Errorf("the large zone is %v, before it is loaded", state)
	}
	if err := s.Refresh(dnsname.MustParse("fetched.")); err != nil {
		t.Error(err)
	}
	if err := s.sched.settle(ctx); err != nil {
		t.Error(err)
	}
	for _, z := range s.Status().Zones {
		if want := map[byte]string{'z': "serving", 'l': "loading", 'f': "waiting"}[z.Zone[0]]; z.State != want {
			t.Errorf("%s is %s", z.Zone, z.State)
		}
	}
	release()
	for s.Loading() > 0 {
		runtime.Gosched()
	}
	if _, state := s.find([]byte("\x05large\x00"), false); state != answer.Served {
		t.Errorf("the large zone is %v in the end", state)
	}
}

// Of a zone that is no longer configured nothing is planned any more.
func TestRemovedZoneHasNoTasks(t *testing.T) {
	s := New(Options{})
	name := dnsname.MustParse("a.")
	peer := Peer{Name: "p", Address: netip.MustParseAddrPort("127.0.0.1:9")}
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: name, Origin: &Primaries{Servers: []Peer{peer}}}}}, "")
	z := s.table.Load().zones[name.Key()]
	later := s.Now().Add(time.Hour)
	for _, id := range []string{refreshID(z), expireID(z), signID(z), advanceID(z), storeID(z), lapseID(z), notifyID(z, peer), lookID(z, peer)} {
		s.sched.plan(z, here, id, later, func(context.Context) {})
	}
	s.Apply(t.Context(), &Config{}, "")
	s.refreshNow(z)
	s.notifyMissed(z)
	s.planSigning(z, later)
	for id := range s.sched.byID {
		t.Errorf("%s is still planned", id)
	}
	// One that changes sides leaves nothing of its first life.
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: name, Origin: &Primaries{Servers: []Peer{peer}}}}}, "")
	first := s.table.Load().zones[name.Key()]
	s.Apply(t.Context(), &Config{Zones: []Zone{{Name: name, Origin: &Files{Load: (&source{snap: zoneVersion("a.", 1, 1)}).load}}}}, "")
	for id, task := range s.sched.byID {
		if task.owner == first {
			t.Errorf("%s is still planned for the secondary that is primary now", id)
		}
	}
}
