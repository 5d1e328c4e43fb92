package sim_test

import (
	"errors"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/testworld"
	"fencepost/internal/worlds"
	"fencepost/rr"
	"fencepost/sim"
	"fencepost/validate"
)

const registry = "\n[[registry]]\nzone = \"example\"\n"

func status(w *testworld.World, t *testing.T, name string) validate.Status {
	t.Helper()
	n := dnsname.MustParse(name)
	records, err := w.Walker().CollectAll(t.Context(), n, rr.TypeSOA)
	if err != nil {
		t.Fatal(err)
	}
	return validate.NewRRsets(records).Validate(w.Anchors(), n, rr.TypeSOA, w.Clock.Now()).Status
}

// A zone in the middle of changing its key asks for the DS of the new one, the registry enters it
// when it looks, and every link holds before and after.
func TestRegistryFollows(t *testing.T) {
	rolling := strings.Replace(string(worlds.Demo), "serial  = 2026112801", "serial  = 2026112801\nrolling = true", 1)
	w := testworld.Play(t, rolling+registry)
	zone := dnsname.MustParse("saltmarsh.example.")
	ds := func() string {
		set, _ := w.Snapshot(dnsname.MustParse("example.")).Find(zone, rr.TypeDS, rr.TypeDS)
		return string(set.First())
	}
	was, serial := ds(), w.Snapshot(dnsname.MustParse("example.")).Serial()
	for i, want := range []string{"the DS", "", ""} {
		if s := status(w, t, "saltmarsh.example."); s != validate.Secure {
			t.Errorf("look %d: %s", i, s)
		}
		did, err := w.Follow(t.Context(), w.Net, zone, false)
		if err != nil || did != want {
			t.Errorf("look %d: %q, %v; want %q", i, did, err, want)
		}
	}
	if ds() == was || w.Snapshot(dnsname.MustParse("example.")).Serial() <= serial {
		t.Error("the parent has the DS that it had, or the serial")
	}
	// Nobody follows a child that proves nothing, unless it may be the first time.
	unsigned := dnsname.MustParse("island.example.")
	if did, err := w.Follow(t.Context(), w.Net, unsigned, false); err == nil && did != "" {
		t.Errorf("an unsigned child: %q", did)
	}
	bad := testworld.Play(t, rolling+registry+testworld.Fault(`kind = "differs"`, `server = "ns.harbour.example"`, `zone = "saltmarsh.example"`, `records = "www A 192.0.2.66"`)+testworld.Fault(`kind = "away"`, `server = "ns1.saltmarsh.example"`))
	if did, err := bad.Follow(t.Context(), bad.Net, zone, false); err == nil {
		t.Errorf("with a server away the registry follows: %q", did)
	}
}

// What is handed in is entered, or refused for a reason, and then nothing has changed.
func TestRegistryEnter(t *testing.T) {
	w := testworld.Play(t, string(worlds.Demo)+registry)
	heron := dnsname.MustParse("heron.example.")
	ns := rr.Record{Name: heron, Type: rr.TypeNS, Class: rr.ClassIN, TTL: 3600, Data: []byte(dnsname.MustParse("ns1.heron.example.").Wire())}
	glue := rr.Record{Name: dnsname.MustParse("ns1.heron.example."), Type: rr.TypeA, Class: rr.ClassIN, TTL: 3600, Data: []byte{198, 51, 100, 53}}
	other := ns
	other.Name = dnsname.MustParse("gauges.saltmarsh.example.")
	serial := func() uint32 { return w.Snapshot(dnsname.MustParse("example.")).Serial() }
	first := serial()
	for why, c := range map[string]struct {
		child   dnsname.Name
		records []rr.Record
	}{
		"no server":             {heron, []rr.Record{glue}},
		"nobody takes requests": {other.Name, []rr.Record{other}},
		"is not about":          {heron, []rr.Record{ns, other}},
		"about no server":       {heron, []rr.Record{ns, {Name: heron, Type: rr.TypeA, Data: []byte{192, 0, 2, 1}}}},
		"has no TXT":            {heron, []rr.Record{ns, {Name: heron, Type: rr.TypeTXT, Data: []byte("\x01x")}}},
		"DS":                    {heron, []rr.Record{ns, {Name: heron, Type: rr.TypeDS, Data: []byte{1}}}},
	} {
		if err := w.Enter(c.child, c.records); !errors.Is(err, sim.ErrRefused) || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
	}
	if serial() != first {
		t.Error("what was refused changed the zone")
	}
	if err := w.Enter(heron, []rr.Record{ns, glue}); err != nil {
		t.Fatal(err)
	}
	z := w.Snapshot(dnsname.MustParse("example."))
	if set, ok := z.Find(heron, rr.TypeNS, rr.TypeNS); !ok || set.N != 1 || serial() <= first {
		t.Errorf("entered, and not there: serial %d", serial())
	}
	if set, ok := z.Find(glue.Name, rr.TypeA, rr.TypeA); !ok || string(set.First()) != string(glue.Data) {
		t.Error("the glue is not there")
	}
	// Of a zone that the world has what is entered takes the place of what followed.
	salt := dnsname.MustParse("saltmarsh.example.")
	one := rr.Record{Name: salt, Type: rr.TypeNS, Class: rr.ClassIN, TTL: 3600, Data: []byte(dnsname.MustParse("ns.harbour.example.").Wire())}
	if err := w.Enter(salt, []rr.Record{one}); err != nil {
		t.Fatal(err)
	}
	z = w.Snapshot(dnsname.MustParse("example."))
	set, _ := z.Find(salt, rr.TypeNS, rr.TypeNS)
	_, ds := z.Find(salt, rr.TypeDS, rr.TypeDS)
	if set.N != 1 || ds || status(w, t, "saltmarsh.example.") != validate.Insecure {
		t.Errorf("%d servers, a DS: %v", set.N, ds)
	}
}
