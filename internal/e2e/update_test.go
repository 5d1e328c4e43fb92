package e2e

import (
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
	dnsupdate "fencepost/update"
)

var rounds = flag.Int("rounds", 12, "how often TestUpdatesKilled kills the server")

const updateSecret = "c2FsdG1hcnNoLW9ic2VydmF0b3J5LWJ1b3lz"

func updateKey(name string) *tsig.Key {
	secret, err := base64.StdEncoding.DecodeString(updateSecret)
	if err != nil {
		panic(err)
	}
	return &tsig.Key{Name: dnsname.MustParse(name + "."), Algorithm: tsig.DefaultAlgorithm, Secret: secret}
}

// asker asks a server for changes.
type asker struct {
	at    netip.AddrPort
	key   *tsig.Key
	local netip.Addr
	tcp   bool
	zone  dnsname.Name
}

// set asks for one address at a name, in place of all that it has; empty: for none. code is what the
// server says.
func (a *asker) set(ctx context.Context, label, address string) (code message.Rcode, err error) {
	owner, err := a.zone.Child(label)
	if err != nil {
		return 0, err
	}
	u := &dnsupdate.Request{Zone: a.zone, Changes: []rr.Record{{Name: owner, Type: rr.TypeA, Class: rr.ClassAny}}}
	if address != "" {
		ip := netip.MustParseAddr(address).As4()
		u.Changes = append(u.Changes, rr.Record{Name: owner, Type: rr.TypeA, Class: rr.ClassIN, TTL: 60, Data: ip[:]})
	}
	resp, err := resolve.Change(ctx, a.at, u, resolve.Request{TSIG: a.key, Local: a.local, TCP: a.tcp, Timeout: 5 * time.Second, Tries: 1})
	if err != nil {
		return 0, err
	}
	return resp.Rcode(), nil
}

// addressOf is the only address that a server has for a label; empty: none.
func addressOf(t *testing.T, at netip.AddrPort, zone dnsname.Name, label string) string {
	t.Helper()
	owner, err := zone.Child(label)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := resolve.Ask(t.Context(), at, resolve.Request{Name: owner, Type: rr.TypeA, Timeout: 5 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	data, _ := resp.Set(owner, rr.TypeA)
	switch {
	case len(data) == 0:
		return ""
	case len(data) > 1:
		t.Fatalf("%s has %d addresses", owner, len(data))
	}
	ip, _ := netip.AddrFromSlice(data[0])
	return ip.String()
}

const updatableConfig = `[serve]
listen = ["127.0.0.1:%d"]
[peer.harbour]
address = "127.0.0.1:%d"
[policy.standard]
denial = "%s"
[[zone]]
name = "tides.example"
send-to = ["harbour"]
%s
[[grant]]
key   = "buoys"
zones = ["tides.example"]
[[grant]]
key   = "own.tides.example"
zones = ["tides.example"]
own-name = true
own-address = true
types = ["A", "AAAA"]
`

const updatableZone = `$TTL 3600
@ SOA ns1 hostmaster 2026112900 5400 1200 1209600 600
@ NS ns1
@ NS ns2
ns1 A 192.0.2.1
ns2 A 198.51.100.1
p0 A 192.0.2.100 ; kept by people
p1 A 192.0.2.101
`

// updatable makes a workspace with a zone that may be changed, and one of a secondary.
func updatable(t *testing.T, denial string) (primary, secondary string) {
	t.Helper()
	port, its := freePort(t), freePort(t)
	primary, secondary = t.TempDir(), t.TempDir()
	sign := ""
	if denial != "" {
		sign = "sign = \"standard\""
	} else {
		denial = "nsec"
	}
	write(t, filepath.Join(primary, "fencepost.toml"), fmt.Sprintf(updatableConfig, port, its, denial, sign))
	write(t, filepath.Join(primary, "secrets.toml"), fmt.Sprintf("[tsig.buoys]\nsecret = %q\n[tsig.\"own.tides.example\"]\nsecret = %q\n", updateSecret, updateSecret))
	write(t, filepath.Join(primary, "zones", "tides.example.zone"), updatableZone)
	write(t, filepath.Join(secondary, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.main]\naddress = \"127.0.0.1:%d\"\n[[zone]]\nname = \"tides.example\"\nfetch-from = [\"main\"]\n", its, port))
	return primary, secondary
}

// known is what is known of a set: what was acknowledged last, and what was asked for since without an
// answer, which may have been done or not.
type known struct {
	acked string
	maybe []string
}

func (k *known) may(have string) bool {
	ok := have == k.acked
	for _, m := range k.maybe {
		ok = ok || have == m
	}
	return ok
}

// Machines change records while people edit the file, all of it is folded now and then, and the server
// is killed at any moment. What was acknowledged is there after each start, what people wrote too, and
// in the end primary and secondary have the same zone. More: -args -rounds 1000
func TestUpdatesKilled(t *testing.T) {
	t.Parallel()
	dir, other := updatable(t, "")
	g := rand.New(rand.NewPCG(12, 2026))
	zone := dnsname.MustParse("tides.example.")
	const machines = 4
	labels := make([]known, machines*3)
	people := []string{"192.0.2.100", "192.0.2.101"}
	second := serve(t, other)
	d := serve(t, dir)
	acked, folds := 0, 0
	for round := range *rounds {
		at := netip.MustParseAddrPort(d.addr)
		ctx, cancel := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		for m := range machines {
			rnd := rand.New(rand.NewPCG(uint64(round), uint64(m)))
			wg.Go(func() {
				a := &asker{at: at, key: updateKey("buoys"), tcp: rnd.IntN(2) == 0, zone: zone}
				for ctx.Err() == nil {
					i := m*3 + rnd.IntN(3)
					want := ""
					if rnd.IntN(5) > 0 {
						want = fmt.Sprintf("198.51.100.%d", rnd.IntN(256))
					}
					labels[i].maybe = append(labels[i].maybe, want)
					code, err := a.set(ctx, fmt.Sprintf("m%d", i), want)
					if err != nil {
						return
					}
					if code != message.NoError {
						t.Errorf("m%d: %s", i, code)
						return
					}
					labels[i] = known{acked: want}
				}
			})
		}
		var edits sync.WaitGroup
		if g.IntN(2) == 0 {
			i, to := g.IntN(len(people)), fmt.Sprintf("192.0.2.%d", g.IntN(256))
			edits.Go(func() {
				if fp(t, dir, "change", "tides.example", fmt.Sprintf("p%d", i), "A", to).status == 0 {
					people[i] = to
				}
				fp(t, dir, "reload", "tides.example")
			})
		}
		if g.IntN(3) == 0 {
			folds++
			edits.Go(func() { fp(t, dir, "fold", "tides.example") })
		}
		time.Sleep(time.Duration(g.IntN(120)) * time.Millisecond)
		d.kill()
		cancel()
		wg.Wait()
		edits.Wait()
		d.start()
		at = netip.MustParseAddrPort(d.addr)
		for i := range labels {
			have := addressOf(t, at, zone, fmt.Sprintf("m%d", i))
			if !labels[i].may(have) {
				t.Fatalf("round %d: m%d is %q; %q was acknowledged, and %q asked for since", round, i, have, labels[i].acked, labels[i].maybe)
			}
			if labels[i].acked = have; len(labels[i].maybe) == 0 {
				acked++
			}
			labels[i].maybe = nil
		}
		for i, want := range people {
			if have := addressOf(t, at, zone, fmt.Sprintf("p%d", i)); have != want {
				t.Fatalf("round %d: p%d is %q, the file has %q", round, i, have, want)
			}
		}
	}
	if out := ok(t, dir, "pending", "tides.example"); acked == 0 || folds > 0 && !strings.Contains(read(t, filepath.Join(dir, "zones", "tides.example.zone")), "kept by people") {
		t.Errorf("%d sets were acknowledged: %s", acked, out)
	}
	r := fp(t, dir, "secondaries", "tides.example", "--wait", serialAt(t, d.addr, zone), "--patience", "60s")
	if r.status != 0 {
		t.Fatalf("the secondary did not follow: %s%s", r.out, r.err)
	}
	one, two := ok(t, dir, "dump", "tides.example"), ok(t, other, "dump", "tides.example")
	if one != two {
		t.Errorf("primary and secondary differ:\n%s\n%s", one, two)
	}
	_ = second
}

func serialAt(t *testing.T, addr string, zone dnsname.Name) string {
	t.Helper()
	resp, err := resolve.Ask(t.Context(), netip.MustParseAddrPort(addr), resolve.Request{Name: zone, Type: rr.TypeSOA, Timeout: 5 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	data, _ := resp.Set(zone, rr.TypeSOA)
	soa, err := rr.ParseSOA(data[0])
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(soa.Serial)
}

// A hundred machines at once change a signed zone over UDP: all is done, in few versions, and every
// signature and the chain of denial are right (I-24, I-25). Strangers, and names and addresses that are
// not granted, are refused.
func TestUpdatesSigned(t *testing.T) {
	t.Parallel()
	for _, denial := range []string{"nsec", "nsec3"} {
		dir, _ := updatable(t, denial)
		d := serve(t, dir)
		zone := dnsname.MustParse("tides.example.")
		at := netip.MustParseAddrPort(d.addr)
		var wg sync.WaitGroup
		const burst = 100
		for i := range burst {
			wg.Go(func() {
				a := &asker{at: at, key: updateKey("buoys"), zone: zone}
				if code, err := a.set(t.Context(), fmt.Sprintf("b%d", i), fmt.Sprintf("198.51.100.%d", i)); code != message.NoError || err != nil {
					t.Errorf("b%d: %s, %v", i, code, err)
				}
			})
		}
		wg.Wait()
		for i := range burst {
			if have := addressOf(t, at, zone, fmt.Sprintf("b%d", i)); have != fmt.Sprintf("198.51.100.%d", i) {
				t.Errorf("b%d is %q", i, have)
			}
		}
		if n := strings.Count(ok(t, dir, "history", "tides.example"), " update "); n < 1 || n > 20 {
			t.Errorf("%s: the burst made %d versions", denial, n)
		}
		gone := &asker{at: at, key: updateKey("buoys"), zone: zone}
		for i := range 30 {
			if code, err := gone.set(t.Context(), fmt.Sprintf("b%d", 3*i), ""); code != message.NoError || err != nil {
				t.Errorf("b%d: %s, %v", i, code, err)
			}
		}
		write(t, filepath.Join(dir, "served.zone"), ok(t, dir, "dump", "tides.example"))
		if out := ok(t, dir, "verify", "served.zone"); !strings.Contains(out, "proved") {
			t.Errorf("%s: %s", denial, out)
		}
		for _, c := range []struct {
			what           string
			a              asker
			label, address string
			want           message.Rcode
		}{
			{"its own address, which could be made up", asker{key: updateKey("own.tides.example"), local: netip.MustParseAddr("127.0.0.5")}, "own", "127.0.0.5", message.Refused},
			{"its own name and address", asker{key: updateKey("own.tides.example"), local: netip.MustParseAddr("127.0.0.5"), tcp: true}, "own", "127.0.0.5", message.NoError},
			{"another address", asker{key: updateKey("own.tides.example"), local: netip.MustParseAddr("127.0.0.5")}, "own", "127.0.0.6", message.Refused},
			{"another machine's name", asker{key: updateKey("own.tides.example"), local: netip.MustParseAddr("127.0.0.5")}, "b1", "127.0.0.5", message.Refused},
			{"a changed address", asker{key: updateKey("own.tides.example"), local: netip.MustParseAddr("127.0.0.7"), tcp: true}, "own", "127.0.0.7", message.NoError},
			{"without a key", asker{}, "own", "127.0.0.5", message.Refused},
		} {
			c.a.at, c.a.zone = at, zone
			if code, err := c.a.set(t.Context(), c.label, c.address); code != c.want || err != nil {
				t.Errorf("%s: %s (%v), want %s", c.what, code, err, c.want)
			}
		}
		if have := addressOf(t, at, zone, "own"); have != "127.0.0.7" {
			t.Errorf("the machine has the address %q", have)
		}
		d.stop()
	}
}

// A name follows a host that another operator moves: the addresses come after it, stay when nobody can
// tell them, and do not come from networks that are not allowed; status tells, and the history has it.
func TestFollow(t *testing.T) {
	t.Parallel()
	host, main := t.TempDir(), t.TempDir()
	port := freePort(t)
	write(t, filepath.Join(host, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[[zone]]\nname = \"hosting.example\"\n", port))
	write(t, filepath.Join(host, "zones", "hosting.example.zone"), "$TTL 1\n@ SOA ns1 hostmaster 1 5400 1200 1209600 1\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 192.0.2.2\nweb CNAME farm\nfarm A 198.51.100.1\n")
	write(t, filepath.Join(main, "fencepost.toml"), fmt.Sprintf(`[serve]
listen = ["127.0.0.1:%d"]
[[zone]]
name = "tides.example"
[[follow]]
zone      = "tides.example"
owner     = "@"
source    = "web.hosting.example"
resolvers = ["127.0.0.1:%d"]
networks  = ["198.51.100.0/24"]
at-least  = "1s"
`, freePort(t), port))
	write(t, filepath.Join(main, "zones", "tides.example.zone"), "$TTL 3600\n@ SOA ns1 hostmaster 1 5400 1200 1209600 600\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.1\n")
	its, d := serve(t, host), serve(t, main)
	at, zone := netip.MustParseAddrPort(d.addr), dnsname.MustParse("tides.example.")
	address := func() string {
		resp, err := resolve.Ask(t.Context(), at, resolve.Request{Name: zone, Type: rr.TypeA, Timeout: 5 * time.Second})
		if err != nil {
			t.Fatal(err)
		}
		if data, _ := resp.Set(zone, rr.TypeA); len(data) == 1 {
			ip, _ := netip.AddrFromSlice(data[0])
			return ip.String()
		}
		return ""
	}
	status := func() string { return fp(t, main, "status").out }
	eventually(t, "the first address comes", func() bool { return address() == "198.51.100.1" })
	ok(t, host, "change", "hosting.example", "farm", "A", "198.51.100.2", "--reload")
	eventually(t, "the address follows", func() bool { return address() == "198.51.100.2" })
	ok(t, host, "change", "hosting.example", "farm", "A", "203.0.113.9", "--reload")
	eventually(t, "a foreign network is told of", func() bool { return strings.Contains(status(), "203.0.113.9, which is in none of the networks") })
	its.stop()
	eventually(t, "nobody answers", func() bool { return strings.Contains(status(), "nothing listens") })
	if have := address(); have != "198.51.100.2" {
		t.Errorf("the address is %q", have)
	}
	if out := ok(t, main, "history", "tides.example", "--by", "follow"); strings.Count(out, "follow web.hosting.example") != 2 {
		t.Error(out)
	}
	ok(t, main, "add", "tides.example", "pier", "A", "192.0.2.7", "--reload")
	ok(t, main, "fold", "tides.example")
	d.kill()
	d.start()
	if have := address(); have != "198.51.100.2" || !strings.Contains(read(t, filepath.Join(main, "zones", "tides.example.zone")), "198.51.100.2") {
		t.Errorf("after folding and a restart the address is %q", have)
	}
}
