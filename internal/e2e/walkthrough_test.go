package e2e

import (
	"context"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

// walkTTL is every TTL of the zones, in seconds.
const walkTTL = 3600

// walkClock is the time of the walk: servers are started with it and set forward by their commands.
type walkClock struct{ at atomic.Int64 }

func (c *walkClock) now() time.Time { return time.Unix(c.at.Load(), 0).UTC() }

func (c *walkClock) flag() []string { return []string{"--now", c.now().Format(time.RFC3339)} }

// resolvers are all that could ask: with what they may still have of the DS and the keys, from whichever
// server, they validate what any server that they could be sent to says now.
type resolvers struct {
	t        *testing.T
	clock    *walkClock
	anchors  []rr.Record
	registry netip.AddrPort
	servers  map[string]netip.AddrPort // by the name of the server

	mu    sync.Mutex
	times map[string]*remembered // DS and DNSKEY sets by their text
	asked int
	both  int // mixes of one operator's keys and the other's answers
}

// remembered is a set that caches may have.
type remembered struct {
	records []rr.Record
	from    string
	until   time.Time
}

func (r *resolvers) ask(at netip.AddrPort, name dnsname.Name, typ rr.Type) ([]rr.Record, error) {
	resp, err := resolve.Ask(r.t.Context(), at, resolve.Request{Name: name, Type: typ, DO: true, Timeout: 5 * time.Second})
	if err != nil {
		return nil, err
	}
	return slices.Concat(resp.Answer, resp.Authority), nil
}

// remember keeps a set as long as caches do.
func (r *resolvers) remember(kind, from string, records []rr.Record) {
	key := kind + from + fmt.Sprint(records)
	r.times[key] = &remembered{records, from, r.clock.now().Add(walkTTL * time.Second)}
	for k, m := range r.times {
		if r.clock.now().After(m.until) {
			delete(r.times, k)
		}
	}
}

// look asks once around.
func (r *resolvers) look() {
	r.mu.Lock()
	defer r.mu.Unlock()
	above, zone := dnsname.MustParse("example."), dnsname.MustParse("tides.example.")
	above2, err := r.ask(r.registry, above, rr.TypeDNSKEY)
	ds, err2 := r.ask(r.registry, zone, rr.TypeDS)
	ns, err3 := resolve.Ask(r.t.Context(), r.registry, resolve.Request{Name: zone, Type: rr.TypeNS, Timeout: 5 * time.Second})
	if err != nil || err2 != nil || err3 != nil {
		return // the registry reloads
	}
	r.remember("DS", "", ds)
	var at []string
	for _, rec := range ns.Authority {
		if host, err := dnsname.FromWire(rec.Data); err == nil && rec.Type == rr.TypeNS && r.servers[host.String()].IsValid() {
			at = append(at, host.String())
		}
	}
	for _, host := range at {
		if keys, err := r.ask(r.servers[host], zone, rr.TypeDNSKEY); err == nil {
			r.remember("DNSKEY", host, keys)
		}
	}
	for _, host := range at {
		for _, q := range []struct {
			name string
			t    rr.Type
		}{{"www.tides.example.", rr.TypeA}, {"none.tides.example.", rr.TypeA}, {"x.w.tides.example.", rr.TypeTXT}, {"www.tides.example.", rr.TypeMX}} {
			name := dnsname.MustParse(q.name)
			records, err := r.ask(r.servers[host], name, q.t)
			if err != nil {
				continue
			}
			r.judge(host, above2, records, name, q.t)
		}
	}
}

// judge validates an answer with each mix of what caches may have.
func (r *resolvers) judge(host string, above, records []rr.Record, name dnsname.Name, t rr.Type) {
	for dsKey, ds := range r.times {
		if !strings.HasPrefix(dsKey, "DS") {
			continue
		}
		for key, keys := range r.times {
			if !strings.HasPrefix(key, "DNSKEY") {
				continue
			}
			v := validate.NewRRsets(above, ds.records, keys.records, records).Validate(r.anchors, name, t, r.clock.now())
			if r.asked++; keys.from != host {
				r.both++
			}
			if v.Status != validate.Secure {
				r.t.Errorf("%s %s from %s, with the keys from %s: %s: %s", name, t, host, keys.from, v.Status, v.Reason)
			}
		}
	}
}

// The walk-through of docs/signing.md for two operators of one zone, as it stands there: whatever
// resolvers have in their caches meanwhile, all of it validates (G-23 to G-26).
func TestTwoOperators(t *testing.T) {
	t.Parallel()
	text := read(t, filepath.Join("..", "..", "docs", "signing.md"))
	_, text, found := strings.Cut(text, "## Two operators for one zone")
	_, text, hasBlock := strings.Cut(text, "```console\n")
	text, _, _ = strings.Cut(text, "```")
	if !found || !hasBlock {
		t.Fatal("docs/signing.md has no such walk-through")
	}
	top := t.TempDir()
	at := map[string]netip.AddrPort{}
	for _, n := range []string{"north", "south", "registry"} {
		at[n] = netip.MustParseAddrPort(fmt.Sprintf("127.0.0.1:%d", freePort(t)))
	}
	for n, denial := range map[string]string{"north": "nsec", "south": "nsec3"} {
		write(t, filepath.Join(top, n, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [%q]\n[peer.registry]\naddress = %q\n[policy.standard]\ndnskey-ttl = %d\nmargin = \"0s\"\ndenial = %q\n[[zone]]\nname = \"tides.example\"\nsign = \"standard\"\nparent = [\"registry\"]\n", at[n], at["registry"], walkTTL, denial))
		write(t, filepath.Join(top, n, "zones", "tides.example.zone"), fmt.Sprintf("$TTL %d\n@ SOA ns.north.example. h.north.example. 1 5400 1200 1209600 %[1]d\n@ NS ns.north.example.\nwww A 192.0.2.80\n*.w TXT wild\n", walkTTL))
	}
	write(t, filepath.Join(top, "registry", "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [%q]\n[policy.standard]\ndnskey-ttl = %d\n[address-override]\n\"ns.north.example\" = %q\n\"ns.south.example\" = %q\n[[zone]]\nname = \"example\"\nsign = \"standard\"\n", at["registry"], walkTTL, at["north"], at["south"]))
	write(t, filepath.Join(top, "registry", "zones", "example.zone"), fmt.Sprintf("$TTL %d\n@ SOA ns.other. h.other. 1 5400 1200 1209600 %[1]d\n@ NS ns.other.\n@ NS ns2.other.\ntides NS ns.north.example.\nns.north A 192.0.2.1\nns.south A 192.0.2.2\n", walkTTL))
	w := &walker{t: t, top: top, at: at, tags: map[string]string{}}
	w.clock.at.Store(time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC).Unix())
	w.serve("north", "tides.example")
	w.serve("registry", "example")
	registry := filepath.Join(top, "registry")
	for range 8 {
		w.wait()
		fp(t, registry, append([]string{"delegate", "example", "tides.example", "--follow", "--first"}, w.clock.flag()...)...)
		if strings.Contains(read(t, filepath.Join(registry, "zones", "example.zone")), "DS") {
			break
		}
	}
	ok(t, registry, "reload")
	r := &resolvers{t: t, clock: &w.clock, registry: at["registry"], servers: map[string]netip.AddrPort{"ns.north.example.": at["north"], "ns.south.example.": at["south"]}, times: map[string]*remembered{}}
	keys, err := r.ask(at["registry"], dnsname.MustParse("example."), rr.TypeDNSKEY)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range keys {
		if k.Type == rr.TypeDNSKEY {
			r.anchors = append(r.anchors, k)
		}
	}
	w.wait() // resolvers have the DS
	ctx, cancel := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	wg.Go(func() {
		for ctx.Err() == nil {
			r.look()
			time.Sleep(50 * time.Millisecond)
		}
	})
	w.look = func() {
		for range 3 { // caches fill, in any order
			r.look()
		}
	}
	w.walk(text)
	cancel()
	wg.Wait()
	if r.both < 50 || r.asked < 500 {
		t.Errorf("%d answers were validated, %d with the keys of the other operator: too few to tell anything", r.asked, r.both)
	}
	if ds, err := r.ask(at["registry"], dnsname.MustParse("tides.example."), rr.TypeDS); err != nil || strings.Count(fmt.Sprint(ds), " DS ")+strings.Count(fmt.Sprint(ds), "\tDS\t") != 1 || !strings.Contains(fmt.Sprint(ds), w.tags["SOUTH2"]+" 13 ") {
		t.Errorf("the registry has %v (%v)", ds, err)
	}
}

// walker goes through commands as they stand in a text: WORKSPACE$ COMMAND, and waits.
type walker struct {
	t       *testing.T
	top     string
	clock   walkClock
	servers []server
	at      map[string]netip.AddrPort
	tags    map[string]string // of the operators' keys, by what stands for them
	look    func()            // is called between the lines
}

// server is a running one with the zone by which its clock is set.
type server struct {
	dir, zone string
	stop      func()
}

func (w *walker) serve(where, zone string) {
	w.t.Helper()
	d := &daemon{t: w.t, dir: filepath.Join(w.top, where), log: filepath.Join(w.t.TempDir(), "log"), args: w.clock.flag()}
	d.start()
	w.t.Cleanup(d.stop)
	w.servers = append(w.servers, server{d.dir, zone, d.stop})
}

// wait lets twice the TTL pass: servers look around in the middle of it, as they do each hour.
func (w *walker) wait() {
	w.t.Helper()
	for range 2 {
		w.clock.at.Add(walkTTL)
		for _, s := range w.servers {
			ok(w.t, s.dir, append([]string{"roll", "step", s.zone}, w.clock.flag()...)...)
		}
	}
}

// tag is that of the operator's own key that was made last.
func (w *walker) tag(operator string) (found string) {
	w.t.Helper()
	for _, k := range object(w.t, ok(w.t, filepath.Join(w.top, operator), "key", "list", "tides.example", "--format", "json"))["keys"].([]any) {
		if k := k.(map[string]any); k["foreign"] != true {
			found = fmt.Sprint(k["key_tag"])
		}
	}
	if found == "" {
		w.t.Fatalf("%s has no key", operator)
	}
	return found
}

// nameOthers enters each operator at the other.
func (w *walker) nameOthers() {
	w.t.Helper()
	for n, other := range map[string]string{"north": "south", "south": "north"} {
		config := filepath.Join(w.top, n, "fencepost.toml")
		text := read(w.t, config)
		text = strings.Replace(text, "[[zone]]\nname = \"tides.example\"\n", fmt.Sprintf("[peer.%s]\naddress = %q\n[[zone]]\nname = \"tides.example\"\nother-signers = [%[1]q]\n", other, w.at[other]), 1)
		write(w.t, config, text)
	}
}

// waitsForTheOther lets time pass in which the other operator does nothing: the rollover that has begun
// waits, and says for what.
func (w *walker) waitsForTheOther(operator string) {
	w.t.Helper()
	w.look()
	w.wait()
	w.wait()
	dir := filepath.Join(w.top, operator)
	o := object(w.t, ok(w.t, dir, append([]string{"roll", "tides.example", "--format", "json"}, w.clock.flag()...)...))
	said := fmt.Sprint(o["servers"])
	if o["state"] != "rolling" || !strings.Contains(said, "another signer") || !strings.Contains(said, "does not have key "+w.tags[strings.ToUpper(operator)+"2"]) {
		w.t.Errorf("%s's rollover, of which the other operator knows nothing: %s, %s", operator, o["state"], said)
	}
	want(w.t, fp(w.t, dir, append([]string{"roll", "start", "tides.example", "--emergency"}, w.clock.flag()...)...), 2, "another signer serves tides.example too")
}

func (w *walker) walk(text string) {
	w.t.Helper()
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		w.look()
		where, command, isCommand := strings.Cut(line, "$ fencepost ")
		switch {
		case strings.HasPrefix(line, "# wait"):
			w.wait()
		case strings.HasPrefix(line, "# Each names the other"):
			w.nameOthers()
		case strings.HasPrefix(line, "# North stops"):
			w.servers[0].stop()
			w.servers = w.servers[1:]
		case strings.HasPrefix(line, "#"):
		case !isCommand:
			w.t.Fatalf("%q is not a command", line)
		case command == "serve":
			w.serve(where, "tides.example")
		default:
			words := strings.Fields(command)
			for i, word := range words {
				if w.tags[word] != "" {
					words[i] = w.tags[word]
				}
			}
			ok(w.t, filepath.Join(w.top, where), append(words, w.clock.flag()...)...)
			switch {
			case strings.HasPrefix(command, "key new "):
				for _, n := range []string{"north", "south"} {
					w.tags[strings.ToUpper(n)] = w.tag(n)
				}
			case strings.HasPrefix(command, "roll start "):
				w.tags[strings.ToUpper(where)+"2"] = w.tag(where)
				w.waitsForTheOther(where)
			}
		}
	}
}
