package e2e

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
)

// An edit with --reload is served at once, and then nothing is left to be read; what somebody
// else wrote meanwhile comes with it, from the files.
func TestEditAndReload(t *testing.T) {
	t.Parallel()
	for _, sign := range []string{"", "sign = \"standard\"\n"} {
		dir := t.TempDir()
		write(t, filepath.Join(dir, "fencepost.toml"), "[serve]\nlisten = [\"127.0.0.1:0\"]\n[policy.standard]\nkeys = \"single\"\n[[zone]]\nname = \"tides.example\"\n"+sign)
		file := filepath.Join(dir, "zones", "tides.example.zone")
		write(t, file, tides)
		want(t, fp(t, dir, "add", "tides.example", "early", "A", "192.0.2.9", "--reload"), 3, "the files are written", "no server is running on this workspace", "fencepost serve")
		d := serve(t, dir)
		addr := func(host, ip string) {
			t.Helper()
			want(t, fp(t, dir, "ask", host+".tides.example", "A", "--at", d.addr), 0, ip)
		}
		addr("early", "192.0.2.9")
		reads := func() int { return strings.Count(read(t, d.log), "the zone is read from the files") }
		r := rand.New(rand.NewPCG(1, 2026))
		for i := range 12 {
			host := fmt.Sprintf("h%d", r.IntN(4))
			if fp(t, dir, "add", "tides.example", host, "A", fmt.Sprintf("192.0.2.%d", 100+i), "--reload").status == 0 {
				addr(host, fmt.Sprintf("192.0.2.%d", 100+i))
			}
		}
		want(t, fp(t, dir, "remove", "tides.example", "early", "--reload"), 0, "loaded")
		want(t, fp(t, dir, "ask", "early.tides.example", "A", "--at", d.addr), 0, "does not exist")
		want(t, fp(t, dir, "reload"), 0, "unchanged")
		if n := reads(); n != 0 {
			t.Errorf("%d of the edits were read from the files", n)
		}
		// By hand, and then by a command that sees it.
		write(t, file, read(t, file)+"hand A 192.0.2.200\n")
		got := object(t, ok(t, dir, "add", "tides.example", "tool", "A", "192.0.2.201", "--reload", "--format", "json"))
		if zones, _ := got["zones"].([]any); len(zones) != 1 || zones[0].(map[string]any)["change"] != "loaded" {
			t.Errorf("%v", got)
		}
		if n := reads(); n != 1 {
			t.Errorf("the files were read %d times for what was written by hand", n)
		}
		addr("hand", "192.0.2.200")
		addr("tool", "192.0.2.201")
		// The file as the command left it is what the server goes on from.
		want(t, fp(t, dir, "change", "tides.example", "tool", "A", "192.0.2.202", "--reload"), 0, "loaded")
		addr("tool", "192.0.2.202")
		// Another file of that zone is nobody's business.
		write(t, filepath.Join(dir, "loose.zone"), read(t, file))
		want(t, fp(t, dir, "add", "loose.zone", "stray", "A", "192.0.2.203", "--reload"), 0, "nothing to reload")
		d.kill()
		d.start()
		addr("tool", "192.0.2.202")
		want(t, fp(t, dir, "reload"), 0, "unchanged")
	}
}

// Whatever writes zones can have them taken at once: a serial, a delegation, reverse zones, and
// zones that are new.
func TestOthersReload(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, filepath.Join(dir, "fencepost.toml"), "[serve]\nlisten = [\"127.0.0.1:0\"]\n[audience.inside]\nnetworks = [\"192.0.2.0/25\"]\n[[zone]]\nname = \"tides.example\"\n[[zone]]\nname = \"reef.example\"\naudiences = [\"inside\"]\n")
	write(t, filepath.Join(dir, "zones", "tides.example.zone"), tides)
	for _, version := range []string{"reef.example", "reef.example@inside"} {
		write(t, filepath.Join(dir, "zones", version+".zone"), "$TTL 60\n@ SOA ns1 hostmaster 10 5400 1200 1209600 60\n@ NS ns1\nns1 A 198.51.100.1\n$INCLUDE reef.example.part\n")
	}
	write(t, filepath.Join(dir, "zones", "reef.example.part"), "pier A 198.51.100.7\n")
	want(t, fp(t, dir, "serial", "tides.example", "--next", "--reload"), 3, "the file is written", "no server is running on this workspace")
	d := serve(t, dir)
	zones := func(args ...string) (out []string) {
		t.Helper()
		v := object(t, ok(t, dir, append(args, "--reload", "--format", "json")...))
		list, _ := v["zones"].([]any)
		for _, z := range list {
			z := z.(map[string]any)
			out = append(out, fmt.Sprint(z["zone"], z["change"]))
		}
		return out
	}
	asked := func(name, rrtype, data string) {
		t.Helper()
		want(t, fp(t, dir, "ask", name, rrtype, "--at", d.addr, "--recursion=false"), 0, data)
	}
	for _, c := range []struct {
		args               []string
		zones              string
		name, rrtype, data string
	}{
		{[]string{"serial", "tides.example", "--next"}, "[tides.example.loaded]", "tides.example", "SOA", "hostmaster.tides.example."},
		{[]string{"delegate", "tides.example", "north", "--ns", "ns1.north=192.0.2.70", "--ns", "ns.harbour.example"}, "[tides.example.loaded]", "north.tides.example", "NS", "ns1.north.tides.example"},
		{[]string{"delegate", "tides.example", "south", "--ns", "ns1.south=192.0.2.71", "--ns", "ns.harbour.example", "--create"}, "[tides.example.loaded south.tides.example.loaded]", "ns1.south.tides.example", "A", "192.0.2.71"},
		{[]string{"reverse", "192.0.2.0/24", "--ns", "ns.harbour.example"}, "[2.0.192.in-addr.arpa.loaded]", "71.2.0.192.in-addr.arpa", "PTR", "ns1.south.tides.example"},
		{[]string{"reverse", "192.0.2.0/24"}, "[]", "71.2.0.192.in-addr.arpa", "PTR", "ns1.south.tides.example"},
		{[]string{"change", "reef.example", "pier", "A", "198.51.100.8"}, "[reef.example.loaded reef.example.loaded]", "pier.reef.example", "A", "198.51.100.8"}, // for everyone and inside
	} {
		if got := fmt.Sprint(zones(c.args...)); got != c.zones {
			t.Errorf("%s: %s, want %s", c.args, got, c.zones)
		}
		asked(c.name, c.rrtype, c.data)
	}
	want(t, fp(t, dir, "serial", "tides.example", "--set", "5", "--plan", "--reload"), 2, "--plan and --reload exclude each other")
	want(t, fp(t, dir, "serial", "tides.example", "--reload"), 2, "--reload goes with --next or --set")
	want(t, fp(t, dir, "reload"), 0, "unchanged")
}
