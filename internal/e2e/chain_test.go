package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
)

// chain is a hidden primary, a signer in the middle, and two secondaries, on loopback.
type chain struct {
	primary, signer *daemon
	secondaries     [2]*daemon
}

const chainZone = "tides.example"

func newChain(t *testing.T, first string) *chain {
	t.Helper()
	dir := t.TempDir()
	var ports [4]int
	for i := range ports {
		ports[i] = freePort(t)
	}
	names := [4]string{"primary", "signer", "one", "two"}
	peer := func(i int) string {
		return fmt.Sprintf("[peer.%s]\naddress = \"127.0.0.1:%d\"\ntsig = \"shared\"\n", names[i], ports[i])
	}
	lay := func(i int, peers string, zone string) string {
		at := filepath.Join(dir, names[i])
		write(t, filepath.Join(at, "secrets.toml"), secret)
		write(t, filepath.Join(at, "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n%s[[zone]]\nname = %q\n%s", ports[i], peers, chainZone, zone))
		return at
	}
	primary := lay(0, peer(1), "send-to = [\"signer\"]\n")
	write(t, filepath.Join(primary, "zones", chainZone+".zone"), first)
	signer := lay(1, "[policy.standard]\nkeys = \"split\"\ndenial = \"nsec3\"\n"+peer(0)+peer(2)+peer(3), "sign = \"standard\"\nfetch-from = [\"primary\"]\nsend-to = [\"one\", \"two\"]\n")
	c := &chain{primary: serve(t, primary), signer: serve(t, signer)}
	for i := range c.secondaries {
		c.secondaries[i] = serve(t, lay(2+i, peer(1), "fetch-from = [\"signer\"]\n"))
	}
	return c
}

// addresses is what a zone is to hold: the data of A by the labels below the apex.
type addresses map[string]string

func (m addresses) text(serial int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "$TTL 3600\n@ SOA ns1 hostmaster %d 7200 900 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 192.0.2.2\n", serial)
	names := make([]string, 0, len(m))
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		fmt.Fprintf(&b, "%s A %s\n", n, m[n])
	}
	return b.String()
}

// edit changes one name.
func (m addresses) edit(r *rand.Rand) {
	name := fmt.Sprintf("h%d", r.IntN(60))
	switch r.IntN(5) {
	case 0:
		name = "Host-" + name
	case 1:
		name += ".deep.er"
	case 2:
		name = "*." + name
	}
	if _, there := m[name]; there && r.IntN(2) == 0 {
		delete(m, name)
		return
	}
	m[name] = fmt.Sprintf("198.51.100.%d", r.IntN(250))
}

// A primary, a signer in the middle and two secondaries go through a thousand edits while
// each is killed now and then, and one loses its store: in the end all have what was
// written last, proved signatures, and what changed has gone from one to the next as
// changes (RFC 1995).
func TestChainKilled(t *testing.T) {
	t.Parallel()
	const edits = 400
	r := rand.New(rand.NewPCG(10, 2026))
	m := addresses{}
	for i := range 1500 { // so many that a second's edits are a small part
		m[fmt.Sprintf("still%d", i)] = "203.0.113.7"
	}
	serials := 1
	c := newChain(t, m.text(serials))
	all := []*daemon{c.primary, c.signer, c.secondaries[0], c.secondaries[1]}
	file := filepath.Join(c.primary.dir, "zones", chainZone+".zone")
	kills := 0
	for done := 0; done < edits; {
		for range 1 + r.IntN(8) {
			m.edit(r)
			done++
		}
		serials++
		next := file + ".new"
		write(t, next, m.text(serials))
		if err := os.Rename(next, file); err != nil {
			t.Fatal(err)
		}
		if r.IntN(10) > 0 {
			ok(t, c.primary.dir, "reload")
		}
		if r.IntN(7) > 0 {
			continue
		}
		kills++
		d := all[r.IntN(len(all))]
		d.kill()
		if d == c.secondaries[1] && r.IntN(2) == 0 {
			if err := os.RemoveAll(filepath.Join(d.dir, "state")); err != nil {
				t.Fatal(err)
			}
		}
		d.start()
	}
	ok(t, c.primary.dir, "reload")
	served := func(d *daemon) uint32 { return serial(t, d.addr, chainZone) }
	eventually(t, "the signer has the newest", func() bool {
		ok(t, c.signer.dir, "refresh", chainZone)
		return fp(t, c.signer.dir, "diff", "server:primary", "served:"+chainZone, "--origin", chainZone).status == 0
	})
	for i, d := range c.secondaries {
		eventually(t, fmt.Sprintf("secondary %d has it too", i+1), func() bool {
			ok(t, d.dir, "refresh", chainZone)
			return served(d) == served(c.signer)
		})
		want(t, fp(t, d.dir, "diff", "server:signer", "served:"+chainZone, "--origin", chainZone), 0, "the same records")
		write(t, filepath.Join(d.dir, "model.zone"), m.text(serials))
		want(t, fp(t, d.dir, "diff", "model.zone", "served:"+chainZone, "--origin", chainZone), 0, "the same records")
		write(t, filepath.Join(d.dir, "dump.zone"), ok(t, d.dir, "dump", chainZone))
		want(t, fp(t, d.dir, "verify", "dump.zone"), 0, "proved")
	}
	log := read(t, c.signer.log) + read(t, c.primary.log)
	changes, whole := strings.Count(log, "form=changes"), strings.Count(log, "form=whole")
	if changes < whole/2 {
		t.Errorf("%d transfers of changes and %d of the whole zone", changes, whole)
	}
	t.Logf("%d killed; %d transfers of changes and %d of the whole zone", kills, changes, whole)
	if kills < 5 {
		t.Errorf("only %d were killed", kills)
	}
	for _, d := range all {
		list, _ := object(t, ok(t, d.dir, "history", chainZone, "--format", "json"))["versions"].([]any)
		if len(list) == 0 {
			t.Errorf("%s keeps no history", d.dir)
		}
	}
}
