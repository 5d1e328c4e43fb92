package catalog

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

var apex = dnsname.MustParse("catalog.example.")

// What is built is read as it was, with none, one and very many members.
func TestBuildAndRead(t *testing.T) {
	for _, n := range []int{0, 1, 2, 5000} {
		var want []Member
		for i := range n {
			m := Member{Zone: dnsname.MustParse(fmt.Sprintf("Z%d.example.", i)), Label: fmt.Sprintf("l%04d", i)}
			if i%3 == 0 {
				m.Groups = []string{"hosting", strings.Repeat("g", 200)}
			}
			if i%5 == 0 {
				m.Moves = dnsname.MustParse("other.example.")
			}
			want = append(want, m)
		}
		z, err := Build(apex, 7, want)
		if err != nil || z.Serial() != 7 {
			t.Fatal(err)
		}
		got, err := Read(z)
		if err != nil || len(got) != n || n > 0 && !reflect.DeepEqual(got, want) {
			t.Errorf("%d members: %d come back (%v)", n, len(got), err)
		}
	}
	z, err := Build(apex, 1, []Member{{Zone: dnsname.MustParse("a.")}, {Zone: dnsname.MustParse("A.b.")}})
	if err != nil {
		t.Fatal(err)
	}
	got, err := Read(z)
	if err != nil || len(got) != 2 || LabelOf(dnsname.MustParse("a.B.")) != LabelOf(dnsname.MustParse("A.b.")) {
		t.Errorf("%v (%v)", got, err)
	}
	if _, err := Build(dnsname.MustParse(strings.Repeat(strings.Repeat("x", 60)+".", 4)), 1, got); err == nil {
		t.Error("a name that is too long is none for a catalog")
	}
}

// Nothing of a broken catalog counts; what nobody knows is passed over.
func TestBroken(t *testing.T) {
	add := func(name string, typ rr.Type, data string) zone.Content {
		return zone.Content{Owner: dnsname.MustParse(name + ".catalog.example."), Records: []rr.Record{{Type: typ, TTL: 0, Data: []byte(data)}}}
	}
	two := func(name string, typ rr.Type, a, b string) zone.Content {
		c := add(name, typ, a)
		c.Records = append(c.Records, rr.Record{Type: typ, Data: []byte(b)})
		return c
	}
	base, err := Build(apex, 1, []Member{{Zone: dnsname.MustParse("tides.example."), Label: "a"}})
	if err != nil {
		t.Fatal(err)
	}
	for what, c := range map[string]struct {
		content zone.Content
		broken  bool
	}{
		"no version":           {zone.Content{Owner: dnsname.MustParse("version.catalog.example.")}, true},
		"version 1":            {add("version", rr.TypeTXT, "\x011"), true},
		"two versions":         {two("version", rr.TypeTXT, "\x012", "\x011"), true},
		"two zones at a label": {two("a.zones", rr.TypePTR, "\x01x\x00", "\x01y\x00"), true},
		"a zone twice":         {add("b.zones", rr.TypePTR, "\x05TIDES\x07example\x00"), true},
		"two that may have it": {two("coo.a.zones", rr.TypePTR, "\x01x\x00", "\x01y\x00"), true},
		"another property":     {add("colour.a.zones", rr.TypeTXT, "\x03red"), false},
		"one of the catalog":   {add("serial.ext", rr.TypeTXT, "\x03red"), false},
		"a label without zone": {add("c.zones", rr.TypeTXT, "\x03red"), false},
		"deeper":               {add("x.group.a.zones", rr.TypeTXT, "\x03red"), false},
	} {
		z, err := base.Replace([]zone.Content{c.content})
		if err != nil {
			t.Fatal(err)
		}
		got, err := Read(z)
		if errors.Is(err, ErrBroken) != c.broken || !c.broken && (len(got) != 1 || len(got[0].Groups) > 0) {
			t.Errorf("%s: %v (%v)", what, got, err)
		}
	}
}

// Catalogs come, go and change at random: what is configured stays, each zone has one owner that lists
// it, none changes it but by being handed over, and whoever lists a zone and has it not is told.
func TestSettle(t *testing.T) {
	names := []dnsname.Name{dnsname.MustParse("a."), dnsname.MustParse("b."), dnsname.MustParse("c."), dnsname.MustParse("own.")}
	catalogs := []dnsname.Name{dnsname.MustParse("one."), dnsname.MustParse("two."), dnsname.MustParse("three.")}
	configured := func(n dnsname.Name) bool { return n.Equal(names[3]) }
	moved, clashed := 0, 0
	for seed := range uint64(500) {
		g := rand.New(rand.NewPCG(seed, 9432))
		now := map[string]Owned{}
		for step := range 30 {
			var listings []Listing
			for _, c := range catalogs {
				if g.IntN(8) == 0 {
					continue
				}
				l := Listing{Catalog: c}
				for _, n := range names {
					if g.IntN(3) > 0 {
						m := Member{Zone: n, Label: fmt.Sprint(g.IntN(2))}
						if g.IntN(3) == 0 {
							m.Moves = catalogs[g.IntN(3)]
						}
						l.Members = append(l.Members, m)
					}
				}
				listings = append(listings, l)
			}
			before := maps.Clone(now)
			var clashes []Clash
			now, clashes = Settle(listings, before, func(_, n dnsname.Name) string {
				if configured(n) {
					return "is configured"
				}
				return ""
			}, func(_, _ dnsname.Name) bool { return false })
			lists := func(c, n dnsname.Name) (Member, bool) {
				for _, l := range listings {
					for _, m := range l.Members {
						if l.Catalog.Equal(c) && m.Zone.Equal(n) {
							return m, true
						}
					}
				}
				return Member{}, false
			}
			for _, n := range names {
				owner, has := now[n.Key()]
				was, had := before[n.Key()]
				anybody := false
				for _, c := range catalogs {
					_, does := lists(c, n)
					anybody = anybody || does
				}
				switch {
				case configured(n) && has, !configured(n) && has != anybody:
					t.Fatalf("seed %d, step %d: %s has an owner: %v, listed: %v", seed, step, n, has, anybody)
				case !has:
					continue
				}
				if m, does := lists(owner.Catalog, n); !does || m.Label != owner.Label {
					t.Fatalf("seed %d, step %d: %s belongs to %s, which does not list it so", seed, step, n, owner.Catalog)
				}
				if had && !was.Catalog.Equal(owner.Catalog) {
					m, still := lists(was.Catalog, n)
					if still && !m.Moves.Equal(owner.Catalog) {
						t.Fatalf("seed %d, step %d: %s went from %s to %s and was not handed over", seed, step, n, was.Catalog, owner.Catalog)
					}
					if still {
						moved++
					}
				}
			}
			for _, c := range clashes {
				clashed++
				if _, does := lists(c.Catalog, c.Zone); !does || !configured(c.Zone) && (now[c.Zone.Key()].Catalog.Equal(c.Catalog) || !strings.Contains(c.Why, now[c.Zone.Key()].Catalog.Plain())) {
					t.Fatalf("seed %d, step %d: no clash: %v", seed, step, c)
				}
			}
		}
	}
	if moved < 50 || clashed < 500 {
		t.Errorf("%d were handed over, %d clashes: too few to tell anything", moved, clashed)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("\x012"), []byte("\x01a\x00"), []byte("\x03red"))
	f.Fuzz(func(t *testing.T, text, ptr, group []byte) {
		b := zone.NewBuilder(apex, false)
		for _, r := range []rr.Record{{Name: dnsname.MustParse("version.catalog.example."), Type: rr.TypeTXT, Data: text}, {Name: dnsname.MustParse("a.zones.catalog.example."), Type: rr.TypePTR, Data: ptr}, {Name: dnsname.MustParse("group.a.zones.catalog.example."), Type: rr.TypeTXT, Data: group}} {
			if rr.Validate(r.Type, r.Data) != nil || b.AddRecord(r) != nil {
				return
			}
		}
		_, _ = Read(b.Build().Snapshot) // whatever it says, nobody panics
	})
}

// No catalog takes a part of another one's zone, or a zone above it, but where that is granted: what is
// refused is told, and stays with whoever had it first.
func TestSettleTrees(t *testing.T) {
	var names, catalogs []dnsname.Name
	for _, n := range []string{".", "example.", "a.example.", "x.a.example.", "y.x.a.example.", "b.example.", "test."} {
		names = append(names, dnsname.MustParse(n))
	}
	for _, n := range []string{"one.", "two.", "three."} {
		catalogs = append(catalogs, dnsname.MustParse(n))
	}
	granted := func(c, n dnsname.Name) bool { return c.Equal(catalogs[2]) && n.Equal(names[3]) }
	may := func(_, _ dnsname.Name) string { return "" }
	grants, refused := 0, 0
	for seed := range uint64(400) {
		g := rand.New(rand.NewPCG(seed, 1996))
		now := map[string]Owned{}
		for range 12 {
			var listings []Listing
			for _, c := range catalogs {
				l := Listing{Catalog: c}
				for _, n := range names {
					if g.IntN(3) == 0 {
						l.Members = append(l.Members, Member{Zone: n})
					}
				}
				listings = append(listings, l)
			}
			before := now
			var clashes []Clash
			now, clashes = Settle(listings, before, may, granted)
			for key, x := range now {
				for _, y := range now {
					if x.Zone.Below(y.Zone) && !x.Catalog.Equal(y.Catalog) {
						if !granted(x.Catalog, x.Zone) && !granted(y.Catalog, y.Zone) {
							t.Fatalf("seed %d: %s of %s lies below %s of %s", seed, x.Zone, x.Catalog, y.Zone, y.Catalog)
						}
						grants++
					}
				}
				if was, had := before[key]; had && was.Catalog.Equal(x.Catalog) != true && slices.ContainsFunc(listings, func(l Listing) bool {
					return l.Catalog.Equal(was.Catalog) && slices.ContainsFunc(l.Members, func(m Member) bool { return m.Zone.Equal(x.Zone) })
				}) {
					t.Fatalf("seed %d: %s went from %s to %s", seed, x.Zone, was.Catalog, x.Catalog)
				}
			}
			for _, l := range listings {
				for _, m := range l.Members {
					has := now[m.Zone.Key()].Catalog.Equal(l.Catalog)
					told := slices.ContainsFunc(clashes, func(c Clash) bool { return c.Catalog.Equal(l.Catalog) && c.Zone.Equal(m.Zone) && c.Why != "" })
					if has == told {
						t.Fatalf("seed %d: %s of %s is served: %v; that it is not is told: %v", seed, m.Zone, l.Catalog, has, told)
					}
					if told {
						refused++
					}
				}
			}
		}
	}
	if grants < 50 || refused < 500 {
		t.Errorf("%d grants, %d refused: too few to tell anything", grants, refused)
	}
}
