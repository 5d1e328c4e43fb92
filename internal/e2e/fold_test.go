package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// One machine's bad set holds back nobody else's: what can stand in the file is written, the rest stays
// pending with its reason, is served all the while, and is written when the reason is gone; of zones signed
// and not, with the server running and stopped.
func TestFoldInPart(t *testing.T) {
	t.Parallel()
	for _, denial := range []string{"", "nsec3"} {
		dir, _ := updatable(t, denial)
		d := serve(t, dir)
		zone := filepath.Join(dir, "zones", "tides.example.zone")
		for _, set := range []string{"_imap._tcp SRV 0 1 143 post", "sub NS ns.sub", "buoy A 198.51.100.7", "note TXT kept"} {
			ok(t, dir, append([]string{"add", "tides.example"}, append(strings.Fields(set), "--at", "here")...)...)
		}
		dry := fp(t, dir, "fold", "tides.example", "--dry-run", "--format", "json")
		left, _ := object(t, dry.out)["left"].([]any)
		if dry.status != 1 || len(left) != 2 || strings.Contains(read(t, zone), "198.51.100.7") {
			t.Fatalf("%q: status %d, left %v, errors %s", denial, dry.status, left, dry.err)
		}
		want(t, fp(t, dir, "fold", "tides.example"), 1, "198.51.100.7", "kept", "stays pending", "_imap._tcp.tides.example SRV", "post.tides.example", "sub.tides.example NS", "ns.sub.tides.example")
		if text := read(t, zone); !strings.Contains(text, "198.51.100.7") || strings.Contains(text, "_imap") || strings.Contains(text, "ns.sub") {
			t.Fatalf("the file has\n%s", text)
		}
		want(t, fp(t, dir, "check", "tides.example"), 0)
		want(t, fp(t, dir, "fold", "tides.example"), 1, "post.tides.example")
		want(t, fp(t, dir, "ask", "_imap._tcp.tides.example", "SRV", "--at", d.addr), 0, "post.tides.example")
		ok(t, dir, "add", "tides.example", "post", "A", "198.51.100.8", "--at", "here")
		d.stop() // what is pending is in the store
		want(t, fp(t, dir, "fold", "tides.example"), 1, "_imap", "sub.tides.example NS")
		d.start()
		want(t, fp(t, dir, "ask", "sub.tides.example", "NS", "--at", d.addr), 0, "ns.sub.tides.example")
		ok(t, dir, "remove", "tides.example", "sub", "NS", "--at", "here")
		want(t, fp(t, dir, "pending", "tides.example"), 0, "nothing is pending")
		d.stop()
	}
}
