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
