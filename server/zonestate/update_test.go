package zonestate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/server/request"
	"fencepost/store"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/zone"
)

var (
	updated = dnsname.MustParse("a.")
	holder  = &tsig.Key{Name: dnsname.MustParse("holder."), Algorithm: "hmac-sha256", Secret: []byte("x")}
)

// changeable is a configuration in which one key may change one zone.
func changeable(load func(context.Context, Input) (Input, error), sign Signer) *Config {
	grants := update.Grants{{Key: holder.Name, Zones: []dnsname.Name{updated}, Add: true, Remove: true}}
	return &Config{Zones: []Zone{{Name: updated, Origin: &Files{Load: load, Where: func(dnsname.Name, rr.Type) string { return "a.zone:7:1" }}, Signer: sign, Updates: &Updates{Grants: grants, Keys: []*tsig.Key{holder}}}}}
}

var ids uint64 // of requests, so that none is taken for another

// ask has a request carried out and waits for what comes of it.
func (s *Zones) ask(changes ...rr.Record) *update.Refusal {
	return s.askFor(&update.Request{Zone: updated, Changes: changes})
}

func (s *Zones) askFor(r *update.Request) *update.Refusal {
	ids++
	u := request.Update{Request: r, Key: holder.Name, Asker: update.Asker{From: netip.MustParseAddr("192.0.2.77")}}
	copy(u.Digest[:], fmt.Sprint(ids))
	done := make(chan *update.Refusal, 1)
	s.enqueueUpdate(s.table.Load().zones[updated.Key()], u, func(no *update.Refusal) { done <- no })
	return <-done
}

// requestOf is a request by the holder of a key, and no repetition of another.
func requestOf(key *tsig.Key, changes ...rr.Record) request.Update {
	ids++
	u := request.Update{Request: &update.Request{Zone: updated, Changes: changes}, Key: key.Name, Asker: update.Asker{From: netip.MustParseAddr("192.0.2.77")}}
	copy(u.Digest[:], fmt.Sprint(ids))
	return u
}

func at(name string, c rr.Class, t rr.Type, ttl uint32, data string) rr.Record {
	return rr.Record{Name: dnsname.MustParse(name), Class: c, Type: t, TTL: ttl, Data: []byte(data)}
}

// below are the addresses of a zone by their owners, but for that of the apex.
func below(z *zone.Snapshot) map[string]string {
	out := map[string]string{}
	for n := range z.AllNodes {
		if set, ok := n.Find(rr.TypeA); ok && !n.IsApex() {
			out[z.Owner(n).Key()] = update.Describe(set)
		}
	}
	return out
}

// with is a version with other addresses, under a serial.
func with(serial uint32, sets map[string]string) *zone.Snapshot {
	z := zoneVersion("a.", serial, 1)
	var contents []zone.Content
	for name, text := range sets {
		ip := netip.MustParseAddr(text).As4()
		owner, err := dnsname.FromWire([]byte(name))
		if err != nil {
			panic(err)
		}
		contents = append(contents, zone.Content{Owner: owner, Records: []rr.Record{{Type: rr.TypeA, TTL: 60, Data: ip[:]}}})
	}
	out, err := z.Replace(contents)
	if err != nil {
		panic(err)
	}
	return out
}

// What people write into the file and what requests change go together over reloads, restarts, folding
// and giving up, signed or not: what is served is what a model says, serials go forward with each
// change, and what was said to be done is not lost.
func TestUpdatesAgainstModel(t *testing.T) {
	for _, sign := range []Signer{nil, resigner()} {
		conflicts, merges := 0, 0
		for seed := range uint64(30) {
			g := rand.New(rand.NewPCG(seed, 12))
			file, fileSerial := map[string]string{}, uint32(10)
			var broken error
			load := func(context.Context, Input) (Input, error) {
				if broken != nil {
					return Input{}, broken
				}
				return Input{Zone: with(fileSerial, file), Stamp: fmt.Sprint(fileSerial, file)}, nil
			}
			opened := store.InMemory()
			cfg := changeable(load, sign)
			cfg.Zones[0].files().Unchanged = func(stamp string) (string, bool) { return stamp, stamp == fmt.Sprint(fileSerial, file) }
			s := New(Options{Store: opened})
			s.Apply(t.Context(), cfg, "")
			seen, served := map[string]string{}, map[string]string{} // the file as it was taken last, and what is served
			set := func(m map[string]string, i int) {
				name := dnsname.MustParse(fmt.Sprintf("n%d.a.", i)).Key()
				if g.IntN(4) == 0 {
					delete(m, name)
				} else {
					m[name] = fmt.Sprintf("192.0.2.%d", g.IntN(3))
				}
			}
			var last uint32
			for step := range 60 {
				before := maps.Clone(served)
				switch g.IntN(7) {
				case 0, 1:
					if set(file, g.IntN(5)); g.IntN(2) == 0 {
						fileSerial++
					}
				case 2, 3: // a request for some sets
					var changes []rr.Record
					for range 1 + g.IntN(2) {
						i := g.IntN(5)
						set(served, i)
						name := fmt.Sprintf("n%d.a.", i)
						changes = append(changes, at(name, rr.ClassAny, rr.TypeA, 0, ""))
						if text := served[dnsname.MustParse(name).Key()]; text != "" {
							ip := netip.MustParseAddr(text).As4()
							changes = append(changes, at(name, rr.ClassIN, rr.TypeA, 60, string(ip[:])))
						}
					}
					if no := s.ask(changes...); no != nil {
						t.Fatalf("seed %d, step %d: %v", seed, step, no)
					}
				case 4: // a reload, or a restart
					if broken = nil; g.IntN(8) == 0 {
						broken = errors.New("line 3 is wrong")
					}
					if g.IntN(2) == 0 {
						s = New(Options{Store: opened})
					}
					r := s.Apply(t.Context(), cfg, "")[0]
					if broken != nil {
						broken = nil
						s.Apply(t.Context(), cfg, "")
						r.Err = s.Apply(t.Context(), cfg, "")[0].Err
					}
					want, ok := mergedByHand(seen, file, served)
					if ok != (r.Err == nil) {
						t.Fatalf("seed %d, step %d: %v, by hand: %v", seed, step, r.Err, ok)
					}
					if ok {
						served, seen = want, maps.Clone(file)
						merges++
						break
					}
					var conflict *ConflictError
					if conflicts++; !errors.As(r.Err, &conflict) || conflict.Where[0] != "a.zone:7:1" {
						t.Fatalf("seed %d, step %d: %v", seed, step, r.Err)
					}
					if g.IntN(2) == 0 { // requests give in
						names := map[string]bool{}
						for _, c := range conflict.List {
							names[c.Owner.Key()] = true
						}
						if _, err := s.DropPending(t.Context(), updated, "", func(c *update.Change) bool { return names[c.Owner.Key()] }, ""); err != nil {
							t.Fatal(err)
						}
						for name := range names {
							copyTo(served, file, name)
							copyTo(seen, file, name)
						}
						served, _ = mergedByHand(seen, file, served)
					} else { // the file gives in
						file = maps.Clone(served)
						if r := s.Apply(t.Context(), cfg, "")[0]; r.Err != nil {
							t.Fatal(r.Err)
						}
					}
					seen = maps.Clone(file)
				case 5: // what is pending is written into the file, while requests come
					if !maps.Equal(file, seen) {
						break
					}
					p, err := s.OfferPending(updated, "")
					if err != nil {
						t.Fatal(err)
					}
					for _, c := range p.Changes {
						copyTo(file, served, c.Owner.Key())
					}
					if !maps.Equal(file, served) {
						t.Fatalf("seed %d, step %d: pending is %d sets, which make %v of the file, served is %v", seed, step, len(p.Changes), file, served)
					}
					given := maps.Clone(file)
					fileSerial = p.Serial
					i := g.IntN(5)
					set(served, i)
					name := fmt.Sprintf("n%d.a.", i)
					changes := []rr.Record{at(name, rr.ClassAny, rr.TypeA, 0, "")}
					if text := served[dnsname.MustParse(name).Key()]; text != "" {
						ip := netip.MustParseAddr(text).As4()
						changes = append(changes, at(name, rr.ClassIN, rr.TypeA, 60, string(ip[:])))
					}
					if no := s.ask(changes...); no != nil {
						t.Fatal(no)
					}
					if g.IntN(2) == 0 {
						s = New(Options{Store: opened})
					}
					if r := s.Apply(t.Context(), cfg, "")[0]; r.Err != nil {
						t.Fatalf("seed %d, step %d: after folding: %v", seed, step, r.Err)
					}
					seen = given
				default: // a set that is asked for as it is
					if no := s.ask(at("n0.a.", rr.ClassNone, rr.TypeA, 0, "\x09\x09\x09\x09")); no != nil {
						t.Fatal(no)
					}
				}
				z := s.Snapshot(updated)
				if got := below(z); !maps.Equal(got, served) {
					t.Fatalf("seed %d, step %d: served is %v, want %v (file %v)", seed, step, got, served, file)
				}
				if last != 0 && (!rr.NewerSerial(z.Serial(), last) && !maps.Equal(before, served) || rr.NewerSerial(last, z.Serial())) {
					t.Fatalf("seed %d, step %d: serial %d after %d", seed, step, z.Serial(), last)
				}
				last = z.Serial()
				if stored, _, err := opened.Load(updated); err != nil || !zone.Equal(stored, z) {
					t.Fatalf("seed %d, step %d: what is stored is not what is served (%v)", seed, step, err)
				}
			}
		}
		if conflicts < 20 || merges < 100 {
			t.Errorf("%d conflicts, %d merges: too few to tell anything", conflicts, merges)
		}
	}
}

func copyTo(to, from map[string]string, key string) {
	if delete(to, key); from[key] != "" {
		to[key] = from[key]
	}
}

// mergedByHand is what people and requests make of sets since both were alike.
func mergedByHand(seen, file, now map[string]string) (out map[string]string, ok bool) {
	out = map[string]string{}
	for i := range 5 {
		k := dnsname.MustParse(fmt.Sprintf("n%d.a.", i)).Key()
		switch {
		case file[k] == seen[k]:
			copyTo(out, now, k)
		case now[k] == seen[k] || file[k] == now[k]:
			copyTo(out, file, k)
		default:
			return nil, false
		}
	}
	return out, true
}

// A zone that is kept in the store alone begins with its file, which is not read again: what requests
// made of it is there after restarts, signed or not, and also where a zone of files becomes one, and back.
func TestKeptInStore(t *testing.T) {
	for _, sign := range []Signer{nil, resigner()} {
		g := rand.New(rand.NewPCG(5, 12))
		file := map[string]string{dnsname.MustParse("n0.a.").Key(): "192.0.2.1"}
		cfg := changeable(func(context.Context, Input) (Input, error) { return Input{Zone: with(70, file), Stamp: "x"}, nil }, sign)
		opened := store.InMemory()
		s := New(Options{Store: opened})
		s.Apply(t.Context(), cfg, "")
		if no := s.ask(at("n1.a.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x02")); no != nil { // pending beside the file
			t.Fatal(no)
		}
		cfg.Zones[0].files().Once = true
		s = New(Options{Store: opened})
		want := map[string]string{dnsname.MustParse("n0.a.").Key(): "192.0.2.1", dnsname.MustParse("n1.a.").Key(): "192.0.2.2"}
		last := uint32(0)
		for step := range 100 {
			r := s.Apply(t.Context(), cfg, "")[0]
			z := s.Snapshot(updated)
			if r.Err != nil || !maps.Equal(below(z), want) || last != 0 && z.Serial() != last {
				t.Fatalf("step %d: %v, %v with serial %d, want %v with %d", step, r.Err, below(z), z.Serial(), want, last)
			}
			set, _ := s.table.Load().zones[updated.Key()].lastGood().source.Find(updated, rr.TypeNS, 0)
			if set.N != 1 {
				t.Fatalf("step %d: the zone has %d servers", step, set.N)
			}
			file = map[string]string{dnsname.MustParse("n3.a.").Key(): "192.0.2.9"} // which nobody reads
			name, last4 := fmt.Sprintf("n%d.a.", g.IntN(5)), byte(g.IntN(5))
			changes := []rr.Record{at(name, rr.ClassAny, rr.TypeA, 0, "")}
			if delete(want, dnsname.MustParse(name).Key()); last4 > 0 {
				changes = append(changes, at(name, rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02"+string([]byte{last4})))
				want[dnsname.MustParse(name).Key()] = fmt.Sprintf("192.0.2.%d", last4)
			}
			if no := s.ask(changes...); no != nil {
				t.Fatal(no)
			}
			if last = s.Snapshot(updated).Serial(); g.IntN(3) == 0 {
				s = New(Options{Store: opened})
			}
		}
		if _, err := s.OfferPending(updated, ""); !errors.Is(err, ErrNotFromFiles) {
			t.Errorf("it has a file to be written into: %v", err)
		}
		cfg.Zones[0].files().Once, file = false, want // somebody wrote all of it into the file
		s = New(Options{Store: opened})
		if r := s.Apply(t.Context(), cfg, "")[0]; r.Err != nil || !maps.Equal(below(s.Snapshot(updated)), want) {
			t.Errorf("a file again: %v", r.Err)
		}
		if p, err := s.Pending(updated, ""); err != nil || len(p.Changes) > 0 {
			t.Errorf("%d sets are pending (%v)", len(p.Changes), err)
		}
	}
}

// A change that cannot be stored is not made, nor is what was worked out from it (I-12).
func TestUpdateNotStored(t *testing.T) {
	for _, sign := range []Signer{nil, resigner()} {
		kept, err := store.Open(filepath.Join(t.TempDir(), "versions.db"))
		if err != nil {
			t.Fatal(err)
		}
		s := New(Options{Store: kept})
		s.Apply(t.Context(), changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, sign), "")
		if no := s.ask(at("b.a.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x04")); no != nil {
			t.Fatal(no)
		}
		was := s.Snapshot(updated)
		kept.Close()
		if no := s.ask(at("c.a.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x04")); no == nil || no.Code != message.ServFail {
			t.Errorf("%v", no)
		}
		p, err := s.Pending(updated, "")
		if s.Snapshot(updated) != was || err != nil || len(p.Changes) != 1 {
			t.Errorf("%d changes are pending (%v), the version is the same: %v", len(p.Changes), err, s.Snapshot(updated) == was)
		}
	}
}

// withNames bounds what is granted in the first zone to one name.
func withNames(cfg *Config, name string) *Config {
	u := *cfg.Zones[0].Updates
	u.Grants = slices.Clone(u.Grants)
	for i := range u.Grants {
		u.Grants[i].Names = []update.Place{{Name: dnsname.MustParse(name)}}
	}
	cfg.Zones[0].Updates = &u
	return cfg
}

// Who is turned away, and that nothing is told to whom.
func TestUpdateRights(t *testing.T) {
	stranger := &tsig.Key{Name: dnsname.MustParse("stranger."), Algorithm: "hmac-sha256", Secret: []byte("y")}
	signedElsewhere := func() *zone.Snapshot {
		z, err := zoneVersion("a.", 1, 1).Replace([]zone.Content{{Owner: updated, Records: []rr.Record{{Type: rr.TypeSOA, TTL: 60, Data: soa(1)}, {Type: rr.TypeDNSKEY, TTL: 60, Data: make([]byte, 40)}}}})
		if err != nil {
			t.Fatal(err)
		}
		return z
	}
	exists := []rr.Record{at("nobody.a.", rr.ClassAny, rr.TypeANY, 0, "")}
	for _, c := range []struct {
		what string
		cfg  *Config
		key  *tsig.Key
		ask  *update.Request
		want message.Rcode
	}{
		{"a key with a grant", changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, nil), holder, &update.Request{}, message.NoError},
		{"and a prerequisite that is not met", changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, nil), holder, &update.Request{Prerequisites: exists}, message.NXDomain},
		{"the same where the key is granted another name", withNames(changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, nil), "x.a."), holder, &update.Request{Prerequisites: exists}, message.Refused},
		{"a key without", changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, nil), stranger, &update.Request{Prerequisites: exists}, message.Refused},
		{"a zone without grants", &Config{Zones: []Zone{{Name: updated, Origin: &Files{Load: (&source{snap: zoneVersion("a.", 1, 1)}).load}}}}, holder, &update.Request{Prerequisites: exists}, message.Refused},
		{"a secondary (I-02)", &Config{Zones: []Zone{{Name: updated, Origin: &Primaries{Servers: []Peer{{Name: "p"}}}, Updates: changeable(nil, nil).Zones[0].Updates}}}, holder, &update.Request{}, message.Refused},
		{"a zone that could not be read", changeable((&source{err: errors.New("line 3")}).load, nil), holder, &update.Request{}, message.ServFail},
		{"a zone that is signed elsewhere", changeable((&source{snap: signedElsewhere()}).load, nil), holder, &update.Request{}, message.Refused},
	} {
		s := New(Options{Store: store.InMemory(), Stepped: true})
		s.Apply(t.Context(), c.cfg, "")
		c.ask.Zone = updated
		ids++
		u := request.Update{Request: c.ask, Key: c.key.Name}
		copy(u.Digest[:], fmt.Sprint(ids))
		done := make(chan *update.Refusal, 1)
		s.enqueueUpdate(s.table.Load().zones[updated.Key()], u, func(no *update.Refusal) { done <- no })
		got := message.NoError
		if no := <-done; no != nil {
			got = no.Code
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.what, got, c.want)
		}
	}
}

// A request that comes again, while the first waits or after it, has the same answer and no second
// effect; one that failed is tried again (I-26).
func TestUpdateRepeated(t *testing.T) {
	s := New(Options{Store: store.InMemory()})
	s.Apply(t.Context(), changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, nil), "")
	z := s.table.Load().zones[updated.Key()]
	// What it takes for granted does not hold any more once it was done.
	r := &update.Request{Zone: updated, Prerequisites: []rr.Record{at("b.a.", rr.ClassNone, rr.TypeANY, 0, "")}, Changes: []rr.Record{at("b.a.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x04")}}
	u := request.Update{Request: r, Key: holder.Name, Digest: [16]byte{1}}
	var wg sync.WaitGroup
	for range 10 {
		wg.Add(1)
		s.enqueueUpdate(z, u, func(no *update.Refusal) {
			if no != nil {
				t.Errorf("a repeated request: %v", no)
			}
			wg.Done()
		})
	}
	wg.Wait()
	if got := s.Snapshot(updated).Serial(); got != 2 {
		t.Errorf("the serial is %d, want 2", got)
	}
	u.Digest[0] = 2
	for range 2 {
		done := make(chan *update.Refusal, 1)
		s.enqueueUpdate(z, u, func(no *update.Refusal) { done <- no })
		if no := <-done; no == nil || no.Code != message.YXDomain {
			t.Errorf("another request: %v", no)
		}
	}
	var reps repeats
	for i := range mostRepeats + 10 {
		d := [16]byte{byte(i), byte(i >> 8), byte(i >> 16)}
		if !reps.begins(d, func(*update.Refusal) {}) {
			t.Fatal("a new request is taken for another")
		}
		reps.ended(d, nil)
	}
	if len(reps.seen) != mostRepeats || len(reps.ring) != mostRepeats {
		t.Errorf("%d requests are remembered, want %d", len(reps.seen), mostRepeats)
	}
	if !reps.begins([16]byte{}, func(*update.Refusal) {}) || reps.begins([16]byte{200}, func(*update.Refusal) {}) {
		t.Error("it is not the oldest that is forgotten")
	}
	failing := [16]byte{9, 9, 9, 9}
	reps.begins(failing, func(*update.Refusal) {})
	reps.ended(failing, failed("the disk is full"))
	if !reps.begins(failing, func(*update.Refusal) {}) {
		t.Error("a request that failed is not tried again")
	}
}

// A request that was answered is known again after a restart too, whatever became of it: else somebody
// who listened could undo what came after it (I-26).
func TestUpdateRepeatedAfterRestart(t *testing.T) {
	path := filepath.Join(t.TempDir(), "store")
	start := func() (*Zones, *store.Store) {
		kept, err := store.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		s := New(Options{Store: kept})
		s.Apply(t.Context(), changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, nil), "")
		return s, kept
	}
	ask := func(s *Zones, id byte, r *update.Request) *update.Refusal {
		r.Zone = updated
		done := make(chan *update.Refusal, 1)
		s.enqueueUpdate(s.table.Load().zones[updated.Key()], request.Update{Request: r, Key: holder.Name, Digest: [16]byte{id}}, func(no *update.Refusal) { done <- no })
		return <-done
	}
	add := &update.Request{Changes: []rr.Record{at("b.a.", rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x04")}}
	remove := &update.Request{Changes: []rr.Record{at("b.a.", rr.ClassAny, rr.TypeANY, 0, "")}}
	unmet := &update.Request{Prerequisites: []rr.Record{at("b.a.", rr.ClassAny, rr.TypeANY, 0, "")}, Changes: add.Changes}
	s, kept := start()
	for i, r := range []*update.Request{remove, add, unmet, remove, unmet} {
		ask(s, byte(i), r) // the first does nothing, the last is refused
	}
	serial := s.Snapshot(updated).Serial()
	kept.Close()
	for range 2 {
		if s, kept = start(); s.Snapshot(updated).Serial() != serial {
			t.Fatalf("serial %d after the restart, it was %d", s.Snapshot(updated).Serial(), serial)
		}
		for i, r := range []*update.Request{remove, add, unmet, remove, unmet} {
			if no := ask(s, byte(i), r); (no == nil) != (i != 4) {
				t.Errorf("request %d once more: %v", i, no)
			}
		}
		if got := s.Snapshot(updated).Serial(); got != serial {
			t.Errorf("what was repeated made version %d after %d", got, serial)
		}
		kept.Close()
	}
	s, kept = start()
	defer kept.Close()
	if no := ask(s, 9, add); no != nil || s.Snapshot(updated).Serial() == serial {
		t.Errorf("a new request is taken for one that came: %v", no)
	}
}

// A burst makes few versions, all of it is done, and more than can wait is told so.
func TestUpdateBurst(t *testing.T) {
	s := New(Options{Store: store.InMemory()})
	cfg := changeable((&source{snap: zoneVersion("a.", 1, 1)}).load, nil)
	cfg.Zones[0].Updates.Gather = 50 * time.Millisecond
	s.Apply(t.Context(), cfg, "")
	z := s.table.Load().zones[updated.Key()]
	const burst = 3000
	var wg sync.WaitGroup
	var mu sync.Mutex
	done, busy := 0, 0
	for i := range burst {
		wg.Add(1)
		u := request.Update{Request: &update.Request{Zone: updated, Changes: []rr.Record{at(fmt.Sprintf("n%d.a.", i), rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x04")}}, Key: holder.Name, Digest: [16]byte{byte(i), byte(i >> 8), 7}}
		s.enqueueUpdate(z, u, func(no *update.Refusal) {
			defer wg.Done()
			mu.Lock()
			defer mu.Unlock()
			switch {
			case no == nil:
				done++
			case no.Code == message.ServFail:
				busy++
			default:
				t.Error(no)
			}
		})
	}
	wg.Wait()
	list, _, err := s.Store.History(updated, dnsname.Name{})
	if err != nil || done+busy != burst || done < mostWaiting || len(below(s.Snapshot(updated))) != done {
		t.Errorf("%d were done, %d too many, %d names are there (%v)", done, busy, len(below(s.Snapshot(updated))), err)
	}
	if len(list) > 12 || !slices.ContainsFunc(list, func(i store.Info) bool { return i.Way == store.FromUpdate && i.By == "key holder" }) {
		t.Errorf("they made %d versions: %+v", len(list), list[0])
	}
}

// BenchmarkUpdates is changes of a zone of many names, stored on disk: one after another, and as many
// at once as a batch takes.
func BenchmarkUpdates(b *testing.B) {
	big := zoneVersion("a.", 1, 1)
	var contents []zone.Content
	for i := range 100000 {
		contents = append(contents, zone.Content{Owner: dnsname.MustParse(fmt.Sprintf("h%d.a.", i)), Records: []rr.Record{{Type: rr.TypeA, TTL: 60, Data: []byte{192, 0, 2, 1}}}})
	}
	big, err := big.Replace(contents)
	if err != nil {
		b.Fatal(err)
	}
	for _, together := range []int{1, 64} {
		b.Run(fmt.Sprint(together), func(b *testing.B) {
			kept, err := store.Open(filepath.Join(b.TempDir(), "versions.db"))
			if err != nil {
				b.Fatal(err)
			}
			defer kept.Close()
			s := New(Options{Store: kept})
			s.Apply(b.Context(), changeable((&source{snap: big}).load, nil), "")
			z := s.table.Load().zones[updated.Key()]
			n := uint64(0)
			for b.Loop() {
				var wg sync.WaitGroup
				for range together {
					n++
					wg.Add(1)
					u := request.Update{Request: &update.Request{Zone: updated, Changes: []rr.Record{at(fmt.Sprintf("n%d.a.", n), rr.ClassIN, rr.TypeA, 60, "\xc0\x00\x02\x04")}}, Key: holder.Name}
					copy(u.Digest[:], fmt.Sprint(n))
					s.enqueueUpdate(z, u, func(no *update.Refusal) {
						if no != nil {
							b.Error(no)
						}
						wg.Done()
					})
				}
				wg.Wait()
			}
			b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "changes/s")
		})
	}
}

// content is one record of a name.
func content(t *testing.T, name string, typ rr.Type, data string) []zone.Content {
	t.Helper()
	return []zone.Content{{Owner: dnsname.MustParse(name), Records: []rr.Record{{Type: typ, TTL: 60, Data: []byte(data)}}}}
}
