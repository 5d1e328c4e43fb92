package e2e

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/message"
)

// A store that is lost, or damaged while the server runs, costs no change that was acknowledged: what
// messages changed is served again, the serial goes on, the secondary follows, and it is told until
// somebody has looked; in a zone with a file, kept in the store, and signed.
func TestStoreLost(t *testing.T) {
	t.Parallel()
	zone := dnsname.MustParse("tides.example.")
	for what, c := range map[string]struct{ denial, keep string }{"file": {"", ""}, "kept in the store": {"", "keep = \"store\"\n"}, "signed": {"nsec3", ""}} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			primary, secondary := updatable(t, c.denial)
			conf := filepath.Join(primary, "fencepost.toml")
			write(t, conf, strings.Replace(read(t, conf), "send-to = [\"harbour\"]\n", "send-to = [\"harbour\"]\nparent = []\n"+c.keep, 1))
			write(t, filepath.Join(primary, "secrets.toml"), read(t, filepath.Join(primary, "secrets.toml")))
			if err := os.Chmod(filepath.Join(primary, "secrets.toml"), 0o600); err != nil {
				t.Fatal(err)
			}
			d, second := serve(t, primary), serve(t, secondary)
			at := netip.MustParseAddrPort(d.addr)
			a := &asker{at: at, key: updateKey("buoys"), zone: zone}
			n := 0
			change := func(want message.Rcode) {
				t.Helper()
				n++
				before := serial(t, d.addr, "tides.example")
				code, err := a.set(t.Context(), "buoy", fmt.Sprintf("192.0.2.%d", n))
				if err != nil || code != want {
					t.Fatalf("change %d: %s, %v", n, code, err)
				}
				if now := serial(t, d.addr, "tides.example"); now <= before {
					t.Errorf("change %d: serial %d after %d", n, now, before)
				}
			}
			follows := func(what string) {
				t.Helper()
				eventually(t, what+": the secondary follows", func() bool {
					return serial(t, second.addr, "tides.example") == serial(t, d.addr, "tides.example") && addressOf(t, netip.MustParseAddrPort(second.addr), zone, "buoy") == fmt.Sprintf("192.0.2.%d", n)
				})
			}
			for range 5 {
				change(message.NoError)
			}
			follows("at first")
			was := serial(t, d.addr, "tides.example")
			versions := filepath.Join(primary, "state", "versions.db")
			told := func(words string) {
				t.Helper()
				want(t, fp(t, primary, "status"), 1, words, "next: look whether the zones are as they should be")
				want(t, fp(t, primary, "check"), 1, "store-damaged", words)
				for _, pattern := range []string{".lost-*", ".damaged-*"} {
					files, _ := filepath.Glob(versions + pattern)
					for _, f := range files {
						_ = os.Remove(f)
					}
				}
				want(t, fp(t, primary, "status"), 0)
			}
			kept := func(what string) {
				t.Helper()
				if got := addressOf(t, at, zone, "buoy"); got != fmt.Sprintf("192.0.2.%d", n) || addressOf(t, at, zone, "p0") == "" {
					t.Fatalf("%s: the buoy has %s", what, got)
				}
				if now := serial(t, d.addr, "tides.example"); now < was {
					t.Errorf("%s: serial %d, and it was %d", what, now, was)
				}
			}

			d.kill()
			if err := os.Remove(versions); err != nil {
				t.Fatal(err)
			}
			d.start()
			kept("lost")
			told("were gone at a start")
			change(message.NoError)
			follows("after the loss")

			f, err := os.OpenFile(versions, os.O_RDWR, 0)
			if err != nil {
				t.Fatal(err)
			}
			info, _ := f.Stat()
			if _, err := f.WriteAt([]byte(strings.Repeat("\xa5", int(info.Size()-2*4096))), 2*4096); err != nil {
				t.Fatal(err)
			}
			f.Close()
			change(message.NoError)
			kept("damaged while it was in use")
			told("were damaged and set aside")
			follows("after the damage")
			d.kill()
			d.start()
			kept("after another start")

			// With all of the state gone, only the secondary knows how far it was.
			if c.denial != "" {
				return // its keys know too
			}
			was = serial(t, d.addr, "tides.example")
			d.kill()
			if err := os.RemoveAll(filepath.Join(primary, "state")); err != nil {
				t.Fatal(err)
			}
			d.start()
			if now := serial(t, d.addr, "tides.example"); now <= was {
				t.Errorf("all gone: serial %d, and it was %d", now, was)
			}
			change(message.NoError)
			follows("with all of the state gone")
		})
	}
}
