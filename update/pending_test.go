package update

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// contents are the sets of a zone as texts, by owner and type; without SOA and servers.
func contents(z *zone.Snapshot) map[string]string {
	out := map[string]string{}
	for n := range z.AllNodes {
		for set := range n.RRsets {
			if set.Type != rr.TypeSOA && set.Type != rr.TypeNS {
				out[z.Owner(n).Key()+set.Type.String()] = fmt.Sprint(set.TTL, " ", Describe(set))
			}
		}
	}
	return out
}

// merging3 is what a file and requests make of sets together: those that one of them changed since
// both were alike, and none that both did; offered is what the file may have been given meanwhile.
func merging3(seen, file, now, offered map[string]string) (out map[string]string, ok bool) {
	out = map[string]string{}
	keys := maps.Clone(seen)
	maps.Copy(keys, file)
	maps.Copy(keys, now)
	maps.Copy(keys, offered)
	for k := range keys {
		was, here, there := seen[k], file[k], now[k]
		gave, given := offered[k]
		switch {
		case here == was || given && here == gave:
			out[k] = there
		case there == was || here == there:
			out[k] = here
		default:
			return nil, false
		}
		if out[k] == "" {
			delete(out, k)
		}
	}
	return out, true
}

// edited is a version in which somebody gives a name other records of a type, or none.
func edited(t *testing.T, g *rand.Rand, z *zone.Snapshot) *zone.Snapshot {
	t.Helper()
	r := &Request{Zone: apex, Changes: []rr.Record{anywhere(g)}}
	if g.IntN(2) == 0 {
		x := r.Changes[0]
		r.Changes = []rr.Record{rec(x.Name.String(), all, x.Type, 0, ""), x}
	}
	out, err := r.Apply(z, func(s uint32) uint32 { return s + 1 })
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// anywhere is a random change of few sets that can stand beside one another.
func anywhere(g *rand.Rand) rr.Record {
	name := fmt.Sprintf("n%d.tides.example.", g.IntN(4))
	types := []rr.Type{rr.TypeA, rr.TypeTXT}
	x := rec(name, in, types[g.IntN(2)], 60, "\xc0\x00\x02"+string(rune('a'+g.IntN(3))))
	if x.Type == rr.TypeTXT {
		x.Data = []byte("\x01" + string(rune('a'+g.IntN(3))))
	}
	if g.IntN(3) == 0 {
		x.Class, x.TTL = none, 0
	}
	return x
}

// Hand edits, requests, reloads, restarts and files that are given what is pending come in any order:
// what is served is what a merge of sets by hand makes of it, and nothing is lost.
func TestPendingAgainstModel(t *testing.T) {
	conflicts, folded := 0, 0
	for seed := range uint64(600) {
		g := rand.New(rand.NewPCG(seed, 3))
		file := build(t, start(10))
		served, p := file, NewPending()
		seen, offered := contents(file), map[string]string{}
		var offer *zone.Snapshot // what a file will be given
		for step := range 40 {
			switch g.IntN(6) {
			case 0: // somebody edits the file
				file = edited(t, g, file)
			case 1, 2: // a request
				next := edited(t, g, served)
				p.Take(p.After(served, next, "a key", time.Unix(1, 0)))
				served = next
			case 3: // what is pending is given away
				if !maps.Equal(contents(file), seen) { // a file that may hold the last offer is read first
					continue
				}
				p.Take(p.Offer())
				clear(offered)
				for _, c := range p.List() {
					offered[c.Owner.Key()+c.Type.String()] = strings.TrimPrefix(fmt.Sprint(c.Now.TTL, " ", Describe(c.Now)), "0 nothing")
				}
				offer = served
			case 4: // and written, if the file has not been touched meanwhile
				if offer != nil && maps.Equal(contents(file), seen) {
					file, offer = offer, nil
					folded++
				}
			case 5: // the file is read
				merged, touched, err := p.Merge(file, nil)
				want, ok := merging3(seen, contents(file), contents(served), offered)
				if (err == nil) != ok {
					t.Fatalf("seed %d, step %d: %v, merges by hand: %v\nseen %v\nfile %v\nserved %v\noffered %v", seed, step, err, ok, seen, contents(file), contents(served), offered)
				}
				var c *Conflicts
				if err != nil {
					if !errors.As(err, &c) || len(c.List) == 0 {
						t.Fatal(err)
					}
					conflicts++
					file = served // somebody gives in
					continue
				}
				p.Take(touched)
				if got := contents(merged); !maps.Equal(got, want) {
					t.Fatalf("seed %d, step %d: %v, want %v", seed, step, got, want)
				}
				is := contents(file)
				maps.DeleteFunc(offered, func(k, gave string) bool { return is[k] == gave || is[k] != seen[k] })
				served, seen = merged, is
			}
			p = restarted(t, p)
			for _, c := range p.List() { // all that is pending is served
				if got := setOf(served, c.Owner, c.Type); !same(got, c.Now) {
					t.Fatalf("seed %d, step %d: %s %s is %s, pending is %s", seed, step, c.Owner, c.Type, Describe(got), Describe(c.Now))
				}
			}
		}
	}
	if conflicts < 50 || folded < 50 {
		t.Errorf("%d conflicts and %d files that were given what was pending: too few to tell anything", conflicts, folded)
	}
}

// restarted is what is pending, read from where it is kept.
func restarted(t *testing.T, p *Pending) *Pending {
	t.Helper()
	var kept []*Change
	for _, c := range p.List() {
		again, err := ParseChange(apex, c.AppendBinary(nil))
		if err != nil {
			t.Fatal(err)
		}
		kept = append(kept, again)
	}
	return NewPending(kept...)
}

// What a merge by sets says little of: TTLs, aliases, servers, the SOA, case.
func TestMergeSpecial(t *testing.T) {
	a := func(ttl uint32, last string) rr.Record {
		return rec("a.tides.example.", in, rr.TypeA, ttl, "\xc0\x00\x02"+last)
	}
	apexSOA := func(serial uint32, minimum byte) rr.Record {
		return rec("tides.example.", in, rr.TypeSOA, 60, string(soa(serial, minimum)))
	}
	drop := func(name string, t rr.Type) rr.Record { return rec(name, all, t, 0, "") }
	for what, c := range map[string]struct {
		file, request []rr.Record // as changes of the same zone
		want          string      // a part of the records, or of the error
		left          int         // sets that stay pending
	}{
		"the file has another TTL, the request another address": {
			[]rr.Record{a(900, "\x01")}, []rr.Record{a(60, "\x07")}, "900 a.tides.example. A c0000207", 1},
		"the request has another TTL, the file the same records": {nil, []rr.Record{a(300, "\x01")}, "300 a.tides.example. A c0000201", 1},
		"the file has what was requested, with a TTL of its own": {
			[]rr.Record{a(900, "\x07")}, []rr.Record{a(60, "\x07")}, "900 a.tides.example. A c0000207", 0},
		"an alias and an address": {
			[]rr.Record{rec("n.tides.example.", in, rr.TypeCNAME, 60, "\x01a\x00")}, []rr.Record{rec("n.tides.example.", in, rr.TypeA, 60, addr)}, "beside an alias", 0},
		"no servers left": {
			[]rr.Record{rec("tides.example.", none, rr.TypeNS, 0, "\x02nt\x00"), rec("tides.example.", in, rr.TypeNS, 60, "\x02nu\x00"), rec("tides.example.", none, rr.TypeNS, 0, "\x02ns\x00")},
			[]rr.Record{rec("tides.example.", none, rr.TypeNS, 0, "\x02nt\x00")}, "was changed in the file", 0},
		"the SOA, each another part": {
			[]rr.Record{apexSOA(20, 9)}, []rr.Record{apexSOA(15, 7)}, "SOA serial 20 minimum 7", 1},
		"a removal and an edit": {[]rr.Record{a(60, "\x07")}, []rr.Record{drop("a.tides.example.", rr.TypeA)}, "was changed in the file", 0},
		"a removal in both":     {[]rr.Record{drop("a.tides.example.", rr.TypeA)}, []rr.Record{drop("a.tides.example.", rr.TypeA)}, "60 a.tides.example. TXT", 0},
		"another case": {
			[]rr.Record{rec("m.tides.example.", in, rr.TypeMX, 60, "\x00\x01\x01A\x00")}, []rr.Record{rec("M.tides.example.", in, rr.TypeMX, 60, "\x00\x01\x01a\x00")}, "60 m.tides.example. MX 0001014100", 0},
	} {
		base := build(t, start(10))
		now := after(t, base, c.request)
		p := NewPending()
		p.Take(p.After(base, now, "key dhcp", time.Unix(5, 0)))
		merged, touched, err := p.Merge(after(t, base, c.file), nil)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			p.Take(touched)
			got = listed(merged)
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%s: %s\nwant in it: %s", what, got, c.want)
		}
		if err == nil && len(p.List()) != c.left {
			t.Errorf("%s: %d sets stay pending, want %d", what, len(p.List()), c.left)
		}
	}
}

// after is a zone with changes.
func after(t *testing.T, z *zone.Snapshot, changes []rr.Record) *zone.Snapshot {
	t.Helper()
	out, err := (&Request{Zone: apex, Changes: changes}).Apply(z, func(s uint32) uint32 { return s + 1 })
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func listed(z *zone.Snapshot) string {
	var out []string
	for _, r := range records(z) {
		if r.Type == rr.TypeSOA {
			is, _ := rr.ParseSOA(r.Data)
			out = append(out, fmt.Sprintf("SOA serial %d minimum %d", is.Serial, is.Minimum))
			continue
		}
		out = append(out, fmt.Sprintf("%d %s %s %x", r.TTL, r.Name.Lower(), r.Type, r.Data))
	}
	return strings.Join(out, "\n")
}

// A conflict can be settled by giving up what is pending, and nothing else goes with it.
func TestMergeDropping(t *testing.T) {
	base := build(t, start(10))
	now := after(t, base, []rr.Record{rec("a.tides.example.", in, rr.TypeA, 60, "\xc0\x00\x02\x07"), rec("b.tides.example.", in, rr.TypeA, 60, addr)})
	p := NewPending()
	p.Take(p.After(base, now, "key dhcp", time.Unix(5, 0)))
	file := after(t, base, []rr.Record{rec("a.tides.example.", in, rr.TypeA, 60, "\xc0\x00\x02\x09")})
	if _, _, err := p.Merge(file, nil); err == nil {
		t.Fatal("two changes of one set are merged")
	}
	merged, touched, err := p.Merge(file, func(c *Change) bool { return c.Owner.Equal(dnsname.MustParse("a.tides.example.")) })
	if err != nil {
		t.Fatal(err)
	}
	p.Take(touched)
	got := listed(merged)
	if strings.Contains(got, "c0000207") || !strings.Contains(got, "a.tides.example. A c0000209") || !strings.Contains(got, "b.tides.example. A c0000201") || len(p.List()) != 1 {
		t.Errorf("%s\nwith %d pending", got, len(p.List()))
	}
}

func FuzzParseChange(f *testing.F) {
	set := zone.NewRRset(rr.TypeA, 60, [][]byte{[]byte(addr)})
	f.Add((&Change{Owner: apex, Type: rr.TypeA, Now: set, By: "key dhcp"}).AppendBinary(nil))
	f.Add((&Change{Owner: apex, Type: rr.TypeA, File: set, Offered: &set}).AppendBinary(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := ParseChange(apex, b)
		if err != nil {
			return
		}
		again, err := ParseChange(apex, c.AppendBinary(nil))
		if err != nil || again.Owner != c.Owner || again.Type != c.Type || !again.Now.Equal(c.Now) || !again.File.Equal(c.File) || (again.Offered == nil) != (c.Offered == nil) {
			t.Errorf("%+v comes back as %+v (%v)", c, again, err)
		}
	})
}

// Nothing is pending before a change, and something after it.
func TestEmptyPending(t *testing.T) {
	p := NewPending()
	if !p.Empty() || len(p.List()) != 0 {
		t.Error("something is pending at first")
	}
	c := &Change{Owner: dnsname.MustParse("a.example."), Type: rr.TypeA}
	if p = NewPending(c); p.Empty() || len(p.List()) != 1 {
		t.Error("nothing is pending after a change")
	}
}
