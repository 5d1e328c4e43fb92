package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
)

// The one step: what is refused before loading changes nothing, what goes through is seen at the
// secondary, and what does not arrive is told, with the way back, or taken back.
func TestPublish(t *testing.T) {
	t.Parallel()
	p, _ := newPair(t, true, 0)
	zone, must := filepath.Join(p.primary, "zones", "tides.example.zone"), filepath.Join(p.primary, "expect", "tides.example.expect")
	want(t, fp(t, p.primary, "publish"), 3, "no server is running")
	first, second := serve(t, p.primary), serve(t, p.secondary)
	eventually(t, "the secondary has the zone", func() bool { return serial(t, second.addr, "tides.example") == 1 })
	want(t, fp(t, p.primary, "publish"), 0, "the file is what is in service", "second in sync with serial 1", "nothing to publish")
	want(t, fp(t, p.primary, "publish", "nosuch.example"), 2, "not in this workspace")
	want(t, fp(t, p.secondary, "publish", "tides.example"), 2, "fetched from a primary")

	// Gates before loading.
	write(t, zone, strings.Replace(tides, "192.0.2.25", "192.0.2.256", 1))
	want(t, fp(t, p.primary, "publish"), 1, "checked", "nothing was changed", "fencepost check tides.example")
	write(t, must, "zone tides.example\nmail A is 192.0.2.25\nold does not exist\n")
	edited := strings.Replace(tides, "192.0.2.25", "192.0.2.26", 1) // with the serial of before
	write(t, zone, edited)
	want(t, fp(t, p.primary, "publish"), 1, "1 of 2 fail; nothing was changed", "mail A is 192.0.2.25; got A 192.0.2.26", "tides.example.expect:2")
	if got := read(t, zone); got != edited || serial(t, first.addr, "tides.example") != 1 {
		t.Errorf("a gate before loading changed something:\n%s", got)
	}
	write(t, must, "zone tides.example\nmail A is 192.0.2.26\nold does not exist\n")
	want(t, fp(t, p.primary, "publish", "--dry-run"), 0, "mail.tides.example. A changed  − 192.0.2.25  + 192.0.2.26")
	if got := read(t, zone); got != edited || serial(t, first.addr, "tides.example") != 1 {
		t.Errorf("a dry run changed something:\n%s", got)
	}

	// The whole way; the serial is raised, for it was forgotten.
	r := fp(t, p.primary, "publish", "--format", "json")
	want(t, r, 0)
	var steps []string
	for _, line := range strings.Split(strings.TrimSpace(r.out), "\n") {
		var x struct{ Zone, Step, Text string }
		if err := json.Unmarshal([]byte(line), &x); err != nil || x.Zone != "tides.example" {
			t.Fatalf("%q: %v", line, err)
		}
		if len(steps) == 0 || steps[len(steps)-1] != x.Step {
			steps = append(steps, x.Step)
		}
	}
	if got := strings.Join(steps, ", "); got != "checked, expectations on the file, changes, serial, loaded, secondaries, expectations at the servers, caches, published" {
		t.Errorf("the steps are %s", got)
	}
	now := serial(t, first.addr, "tides.example")
	if now < 2 || serial(t, second.addr, "tides.example") != now || !strings.Contains(fp(t, p.secondary, "ask", "mail.tides.example").out, "192.0.2.26") {
		t.Errorf("the secondary has not what was published as serial %d", now)
	}

	// The secondary is away: what the world sees is told, and it can be gone on with.
	second.stop()
	ok(t, p.primary, "change", "tides.example", "ns2", "A", "192.0.2.3")
	want(t, fp(t, p.primary, "publish", "--patience", "1s", "--timeout", "200ms"), 1, "waiting for second: silent", "not all show serial", "continue with: fencepost publish tides.example", "go back with: fencepost restore tides.example")
	second.start()
	want(t, fp(t, p.primary, "publish"), 0, "nothing to publish")

	// Away again, and the version before is brought back.
	second.stop()
	before := serial(t, first.addr, "tides.example")
	ok(t, p.primary, "change", "tides.example", "ns2", "A", "192.0.2.4")
	want(t, fp(t, p.primary, "publish", "--patience", "1s", "--timeout", "200ms", "--back-on-failure"), 1, "not all show serial", "is in service again, as serial")
	if got := fp(t, p.primary, "ask", "ns2.tides.example").out; !strings.Contains(got, "192.0.2.3") || serial(t, first.addr, "tides.example") <= before+1 {
		t.Errorf("after the way back is served: %s", got)
	}
	if got := read(t, zone); !strings.Contains(got, "192.0.2.3") || strings.Contains(got, "192.0.2.4") {
		t.Errorf("the file is not brought back:\n%s", got)
	}
}
