package store_test

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/store"
	"fencepost/zone"
)

var long = flag.Duration("long", 0, "how long each random test goes on")

// oddZone is a zone with a serial, of few or many records, small or as large as they
// come.
func oddZone(r *rand.Rand, apex dnsname.Name, serial uint32) *zone.Snapshot {
	b := zone.NewBuilder(apex, false)
	add := func(owner dnsname.Name, t rr.Type, data []byte) {
		if err := b.AddRecord(rr.Record{Name: owner, Type: t, TTL: r.Uint32() >> 1, Data: data}); err != nil {
			panic(err)
		}
	}
	add(apex, rr.TypeSOA, rr.SetSerial([]byte("\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01"), serial))
	n := []int{0, 1, 30, 4000}[r.IntN(4)]
	for range n {
		owner, err := dnsname.FromWire(append([]byte{3, byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256))}, apex.Wire()...))
		if err != nil {
			panic(err)
		}
		data := make([]byte, []int{0, 1, 90, 65535}[r.IntN(4)/(1+n/31)])
		add(owner, rr.Type(65280+r.IntN(3)), data)
	}
	return b.Build().Snapshot
}

var odd = []dnsname.Name{dnsname.MustParse("."), dnsname.MustParse("a."), dnsname.MustParse(`\200\255\000.example.`), dnsname.MustParse(`\255.example.`), dnsname.MustParse("EXAMPLE."), dnsname.MustParse("b.a.")}

// life is what a model knows of a zone: all its versions.
type life struct {
	versions []*zone.Snapshot
	metas    []store.Meta
	pending  store.Pending
}

// beside is a random change of what is kept beside the versions.
func beside(r *rand.Rand) store.Pending {
	p := store.Pending{}
	for range r.IntN(3) {
		key := []string{"", "a", "a\x00", "ab", "\xff"}[r.IntN(5)]
		p[key] = [][]byte{nil, {}, []byte("x"), make([]byte, 70000)}[r.IntN(4)]
	}
	return p
}

// put is a change carried out.
func (l *life) put(p store.Pending) {
	for key, value := range p {
		if l.pending == nil {
			l.pending = store.Pending{}
		}
		if l.pending[key] = value; value == nil {
			delete(l.pending, key)
		}
	}
}

// changed is the next version of a zone: some records come, go or move.
func changed(r *rand.Rand, z *zone.Snapshot) *zone.Snapshot {
	var names []dnsname.Name
	for n := range z.Nodes {
		if !n.IsApex() {
			names = append(names, z.Owner(n))
		}
	}
	var apexNode zone.Node
	z.ApexNode(&apexNode)
	soa, _ := apexNode.Find(rr.TypeSOA)
	contents := []zone.Content{{Owner: z.Apex(), Records: []rr.Record{{Type: rr.TypeSOA, TTL: soa.TTL, Data: rr.SetSerial(soa.First(), z.Serial()+1+uint32(r.IntN(3)))}}}}
	for range r.IntN(4) {
		if len(names) > 0 && r.IntN(2) == 0 {
			contents = append(contents, zone.Content{Owner: names[r.IntN(len(names))]})
			continue
		}
		owner, err := z.Apex().Child(fmt.Sprintf("New%d", r.IntN(40)))
		if err != nil {
			panic(err)
		}
		data := make([]byte, []int{0, 3, 300, 20000}[r.IntN(4)])
		for i := range data {
			data[i] = byte(r.IntN(256))
		}
		contents = append(contents, zone.Content{Owner: owner, Records: []rr.Record{{Type: 65281, TTL: r.Uint32() >> 1, Data: data}}})
	}
	out, err := z.Replace(contents)
	if err != nil {
		panic(err)
	}
	return out
}

// The store is a map from names to lines of versions, whatever is written and opened
// again, on disk and in memory.
func TestAgainstModel(t *testing.T) {
	t.Run("file", func(t *testing.T) {
		store.KeepApart(t, 2000)
		path := filepath.Join(t.TempDir(), "versions.db")
		againstModel(t, func(old *store.Store) *store.Store {
			if old != nil {
				old.Close()
			}
			s, err := store.Open(path)
			if err != nil || s.Aside != "" {
				t.Fatal(err, s.Aside)
			}
			return s
		})
	})
	t.Run("memory", func(t *testing.T) {
		againstModel(t, func(old *store.Store) *store.Store {
			if old != nil {
				return old
			}
			return store.InMemory()
		})
	})
	// In a scope, while the same zones are others outside and in another scope.
	t.Run("scope", func(t *testing.T) {
		store.KeepApart(t, 2000)
		path := filepath.Join(t.TempDir(), "versions.db")
		var whole *store.Store
		againstModel(t, func(old *store.Store) *store.Store {
			if whole != nil {
				r := rand.New(rand.NewPCG(3, 3))
				for _, s := range []*store.Store{whole, whole.For("outside")} {
					if _, err := s.Put(store.Version{Zone: oddZone(r, odd[r.IntN(len(odd))], r.Uint32()), Pending: beside(r)}); err != nil {
						t.Fatal(err)
					}
				}
				whole.Close()
			}
			var err error
			if whole, err = store.Open(path); err != nil || whole.Aside != "" {
				t.Fatal(err, whole.Aside)
			}
			t.Cleanup(func() { whole.Close() })
			return whole.For("inside")
		})
	})
}

func againstModel(t *testing.T, open func(*store.Store) *store.Store) {
	steps := 45          // at least
	if testing.Short() { // as under the race detector
		steps = 20
	}
	r := rand.New(rand.NewPCG(4, 2026))
	model := map[string]*life{}
	s := open(nil)
	defer func() { s.Close() }()
	for i, start := 0, time.Now(); i < steps || time.Since(start) < *long; i++ {
		if r.IntN(8) == 0 {
			s = open(s)
		}
		name := odd[r.IntN(len(odd))]
		at := time.Unix(int64(i), 0).UTC()
		if r.IntN(4) == 0 {
			if err := s.Update(name, func(m *store.Meta) { m.Checked = at }); err != nil {
				t.Fatal(err)
			}
			if l := model[name.Key()]; l != nil {
				l.metas[len(l.metas)-1].Checked = at
				p := beside(r)
				if err := s.PutPending(name, p); err != nil {
					t.Fatal(err)
				}
				l.put(p)
			}
			continue
		}
		if r.IntN(20) == 0 {
			if err := s.Delete(name); err != nil {
				t.Fatal(err)
			}
			delete(model, name.Key())
			if p, err := s.Pending(name); err != nil || len(p) > 0 {
				t.Fatalf("%s: %d values are left (%v)", name, len(p), err)
			}
			compareLife(t, r, s, name, nil)
			continue
		}
		var list []store.Version
		for _, j := range r.Perm(len(odd))[:1+r.IntN(3)] {
			list = append(list, nextOf(r, model, odd[j], at))
		}
		metas, err := s.PutAll(list)
		if err != nil {
			t.Fatal(err)
		}
		for k, v := range list {
			l := model[v.Zone.Apex().Key()]
			if l == nil {
				l = &life{}
				model[v.Zone.Apex().Key()] = l
			}
			l.versions, l.metas = append(l.versions, v.Zone), append(l.metas, metas[k])
			l.put(v.Pending)
		}
		for k := range list {
			compareLife(t, r, s, list[k].Zone.Apex(), model[list[k].Zone.Apex().Key()])
		}
		name = odd[r.IntN(len(odd))]
		compareLife(t, r, s, name, model[name.Key()])
	}
}

// nextOf is a version to be stored: the next one with or without the way to it, one that
// has nothing to do with it, or the same again.
func nextOf(r *rand.Rand, model map[string]*life, name dnsname.Name, at time.Time) store.Version {
	v := store.Version{Meta: store.Meta{Stored: at, From: "p"}, Pending: beside(r), Info: store.Info{By: fmt.Sprint("user", r.IntN(3)), Way: store.FromFile}}
	l := model[name.Key()]
	if l == nil {
		v.Zone = oddZone(r, name, r.Uint32())
		return v
	}
	head := l.versions[len(l.versions)-1]
	switch r.IntN(8) {
	case 0:
		v.Zone = oddZone(r, name, head.Serial()+1)
	case 1:
		v.Zone = head
	default:
		v.Zone = changed(r, head)
		if r.IntN(2) == 0 {
			v.Delta, v.Prev = zone.Diff(head, v.Zone), l.metas[len(l.metas)-1]
		}
	}
	return v
}

func compareLife(t *testing.T, r *rand.Rand, s *store.Store, name dnsname.Name, l *life) {
	t.Helper()
	got, m, err := s.Load(name)
	if err != nil || (got != nil) != (l != nil) {
		t.Fatalf("%s: %v", name, err)
	}
	if l == nil {
		return
	}
	last := len(l.versions) - 1
	if want := l.metas[last]; !zone.Equal(got, l.versions[last]) || m.From != want.From || !m.Checked.Equal(want.Checked) || m.Serial != l.versions[last].Serial() {
		t.Fatalf("%s: %+v, want %+v", name, m, want)
	}
	pending, err := s.Pending(name)
	has, herr := s.HasPending(name)
	if err != nil || herr != nil || has != (len(l.pending) > 0) || !maps.EqualFunc(pending, l.pending, bytes.Equal) {
		t.Fatalf("%s: %d values are kept beside it, want %d (%v, %v)", name, len(pending), len(l.pending), err, herr)
	}
	infos, complete, err := s.History(name, dnsname.Name{})
	if err != nil || !complete {
		t.Fatal(err)
	}
	// Each version but the first has its step, newest first; one that is the same again has none.
	k, next, look := 0, l.versions[last], r.IntN(len(infos)+1)
	for i := last - 1; i >= 0 && k < len(infos); i-- {
		was := l.versions[i]
		if zone.Equal(was, next) {
			continue
		}
		if infos[k].From != was.Serial() || infos[k].Serial != next.Serial() {
			t.Fatalf("%s: step %d is from %d to %d, want %d to %d", name, k, infos[k].From, infos[k].Serial, was.Serial(), next.Serial())
		}
		if k++; k == look {
			if z, err := s.At(name, was.Serial()); err != nil || z.Digest() != was.Digest() {
				t.Fatalf("%s at serial %d: %v", name, was.Serial(), err)
			}
		}
		next = was
	}
	if k < len(infos) {
		t.Fatalf("%s: there are %d steps for %d versions", name, len(infos), len(l.versions))
	}
	if l.versions[0] != next && k == 0 {
		t.Fatalf("%s: nothing is kept of its history", name)
	}
}

// Two who append to one version: the second is told, and nothing is changed by it.
func TestNotHead(t *testing.T) {
	s := store.InMemory()
	r := rand.New(rand.NewPCG(1, 1))
	first := oddZone(r, odd[1], 1)
	m, err := s.Put(store.Version{Zone: first})
	if err != nil {
		t.Fatal(err)
	}
	a, b := changed(r, first), changed(r, first)
	step := func(z *zone.Snapshot) error {
		_, err := s.Put(store.Version{Zone: z, Delta: zone.Diff(first, z), Prev: m, Pending: store.Pending{fmt.Sprint(z.Serial(), z.Digest()): {1}}})
		return err
	}
	if err := step(a); err != nil {
		t.Fatal(err)
	}
	if err := step(b); !errors.Is(err, store.ErrNotHead) {
		t.Errorf("a second step from one version: %v", err)
	}
	if z, _, err := s.Load(odd[1]); err != nil || !zone.Equal(z, a) {
		t.Error("it was stored all the same")
	}
	if p, err := s.Pending(odd[1]); err != nil || len(p) != 1 {
		t.Errorf("%d values are kept beside it, want the first one's (%v)", len(p), err)
	}
}

// Steps that are too old or too many go; what is left leads to the newest version.
func TestBounds(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	day := func(n int) time.Time { return time.Date(2026, 11, 1+n, 0, 0, 0, 0, time.UTC) }
	for _, c := range []struct {
		what   string
		limits store.Limits
	}{{"by age", store.Limits{Keep: 10 * 24 * time.Hour, Octets: 1 << 40}}, {"by size", store.Limits{Octets: 1}}} {
		s := store.InMemory()
		s.SetLimits(c.limits)
		z := oddZone(r, odd[1], 1)
		var all []*zone.Snapshot
		for i := range 400 {
			all = append(all, z)
			if _, err := s.Put(store.Version{Zone: z, Meta: store.Meta{Stored: day(i)}}); err != nil {
				t.Fatal(err)
			}
			z = changed(r, z)
		}
		list, _, err := s.History(odd[1], dnsname.Name{})
		if err != nil || len(list) == 0 || len(list) > 300 {
			t.Errorf("%s: %d steps are kept, %v", c.what, len(list), err)
		}
		oldest := list[len(list)-1].From
		for _, v := range all {
			got, err := s.At(odd[1], v.Serial())
			if kept := v.Serial() >= oldest; kept != (err == nil) || kept && got.Digest() != v.Digest() || err != nil && !errors.Is(err, store.ErrNoHistory) {
				t.Fatalf("%s: serial %d, where the oldest is %d: %v", c.what, v.Serial(), oldest, err)
			}
		}
	}
}

// damageBlobs copies what stands beside a store, with a file now and then that is not what
// it was, or is not there.
func damageBlobs(t *testing.T, r *rand.Rand, from, to string) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(from+".large", "*"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no base is kept apart: %v", err)
	}
	if err := os.MkdirAll(to+".large", 0o700); err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		switch r.IntN(12) {
		case 0:
			continue
		case 1:
			text = text[:r.IntN(len(text))]
		case 2:
			text[r.IntN(len(text))] ^= byte(1 + r.IntN(255))
		}
		if err := os.WriteFile(filepath.Join(to+".large", filepath.Base(f)), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// A file that was cut off or has wrong octets is set aside. Nobody panics, every
// version is as it was or told to be gone, and the store is used on.
func TestDamagedFile(t *testing.T) {
	const rounds = 16 // at least
	r := rand.New(rand.NewPCG(7, 2026))
	store.KeepApart(t, 30000)
	whole := filepath.Join(t.TempDir(), "versions.db")
	s, err := store.Open(whole)
	if err != nil {
		t.Fatal(err)
	}
	versions, earlier := map[string]*zone.Snapshot{}, map[string]bool{}
	for i := range 40 {
		name := dnsname.MustParse(fmt.Sprintf("z%d.example.", i))
		versions[name.Key()] = oddZone(r, name, uint32(i))
		for range 3 {
			if _, err := s.Put(store.Version{Zone: versions[name.Key()]}); err != nil {
				t.Fatal(err)
			}
			earlier[versions[name.Key()].Digest()] = true
			last := versions[name.Key()]
			versions[name.Key()] = changed(r, last)
			if i%3 == 0 {
				versions[name.Key()] = last // the base alone
				break
			}
		}
		if _, err := s.Put(store.Version{Zone: versions[name.Key()]}); err != nil {
			t.Fatal(err)
		}
		if err := s.Publish([]store.Published{{Zone: name.String(), Serial: uint32(i)}}); err != nil {
			t.Fatal(err)
		}
	}
	s.Close()
	good, err := os.ReadFile(whole)
	if err != nil {
		t.Fatal(err)
	}
	rescued, aside, round := 0, 0, 0
	for start := time.Now(); round < rounds || time.Since(start) < *long; round++ {
		bad := append([]byte(nil), good...)
		switch round % 4 {
		case 0:
			bad = bad[:r.IntN(len(bad))]
		case 1: // some octets, mostly where the engine keeps its own
			for range 1 + r.IntN(20) {
				bad[r.IntN(len(bad)/4096)*4096+r.IntN(64)] ^= byte(1 + r.IntN(255))
			}
		case 2:
			from := r.IntN(len(bad))
			for i := from; i < min(from+1+r.IntN(20000), len(bad)); i++ {
				bad[i] = byte(r.IntN(256))
			}
		case 3:
			bad = bad[:r.IntN(len(bad)/4096)*4096]
			bad = append(bad, make([]byte, r.IntN(3)*4096)...)
		}
		dir := t.TempDir()
		path := filepath.Join(dir, "versions.db")
		if err := os.WriteFile(path, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		damageBlobs(t, r, whole, path)
		_, _ = store.ReadPublished(path)
		s, err := store.Open(path)
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		if s.Aside != "" {
			aside++
			kept, err := os.ReadFile(s.Aside)
			if err != nil || string(kept) != string(bad) {
				t.Errorf("round %d: what was set aside is not what was there: %v", round, err)
			}
		}
		for key, was := range versions {
			z, _, err := s.Load(was.Apex())
			if z != nil && err == nil {
				rescued++
			}
			if z != nil && err == nil && !zone.Equal(z, was) || err != nil && !errors.Is(err, store.ErrDamaged) {
				t.Fatalf("round %d: %q came back as something else: %v", round, key, err)
			}
			for k := range uint32(4) { // nothing comes back that never was
				if z, err := s.At(was.Apex(), was.Serial()-k); err == nil && z.Digest() != was.Digest() && !earlier[z.Digest()] {
					t.Fatalf("round %d: %q came back at serial %d as something else", round, key, was.Serial()-k)
				}
			}
		}
		now := oddZone(r, odd[1], 9)
		if _, err := s.Put(store.Version{Zone: now}); err == nil {
			// A file may be damaged so that all can be read and nothing new is found.
			if z, _, err := s.Load(odd[1]); err != nil && !errors.Is(err, store.ErrDamaged) || z != nil && !zone.Equal(z, now) {
				t.Errorf("round %d: what was saved is not what is there: %v", round, err)
			}
		}
		_ = s.Close()
	}
	if aside == 0 || rescued < 10*round {
		t.Errorf("%d of %d files were set aside, %d versions came back", aside, round, rescued)
	}
	t.Logf("%d of %d files were set aside, %d of %d versions came back", aside, round, rescued, round*len(versions))
}
