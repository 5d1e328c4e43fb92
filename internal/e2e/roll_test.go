package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/validate"
)

// lab is a signed zone at home, with a secondary at the harbour and a registry that
// reads CDS: three servers whose clock is played.
type lab struct {
	t                       *testing.T
	now                     time.Time
	home, harbour, registry *daemon
	seen                    *caches
	r                       *rand.Rand
}

const labZone = `$TTL 3600
@ SOA ns1 hostmaster 1 7200 900 1209600 300
@ NS ns1
@ NS ns2
ns1 A 198.51.100.53
ns2 A 203.0.113.54
www A 198.51.100.80
`

const labParent = `$TTL 1800
@ SOA ns1 hostmaster 1 7200 900 1209600 300
@ NS ns1
ns1 A 198.51.100.1
saltmarsh NS ns1.saltmarsh
saltmarsh NS ns2.saltmarsh
ns1.saltmarsh A 198.51.100.53
ns2.saltmarsh A 203.0.113.54
`

func newLab(t *testing.T, policy string) *lab {
	t.Helper()
	dir := t.TempDir()
	l := &lab{t: t, now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), r: rand.New(rand.NewPCG(8, 5)), seen: &caches{t: t}}
	a, b, c := freePort(t), freePort(t), freePort(t)
	at := func(port int) string { return fmt.Sprintf("\"127.0.0.1:%d\"", port) }
	write(t, filepath.Join(dir, "home", "fencepost.toml"), "[serve]\nlisten = ["+at(a)+"]\n[peer.harbour]\naddress = "+at(b)+"\n[peer.registry]\naddress = "+at(c)+
		"\n[policy.standard]\nmargin = \"0s\"\n"+policy+"\n[[zone]]\nname = \"saltmarsh.example\"\nsign = \"standard\"\nsend-to = [\"harbour\"]\nparent = [\"registry\"]\n")
	write(t, filepath.Join(dir, "home", "zones", "saltmarsh.example.zone"), labZone)
	write(t, filepath.Join(dir, "harbour", "fencepost.toml"), "[serve]\nlisten = ["+at(b)+"]\n[peer.home]\naddress = "+at(a)+"\n[[zone]]\nname = \"saltmarsh.example\"\nfetch-from = [\"home\"]\n")
	write(t, filepath.Join(dir, "registry", "fencepost.toml"), "[serve]\nlisten = ["+at(c)+"]\n[address-override]\n\"ns1.saltmarsh.example\" = "+at(a)+"\n\"ns2.saltmarsh.example\" = "+at(b)+"\n[[zone]]\nname = \"example\"\n")
	write(t, filepath.Join(dir, "registry", "zones", "example.zone"), labParent)
	start := func(name string) *daemon {
		d := &daemon{t: t, dir: filepath.Join(dir, name), log: filepath.Join(t.TempDir(), "log"), args: []string{"--now", l.stamp()}}
		d.start()
		t.Cleanup(d.stop)
		return d
	}
	l.home, l.harbour, l.registry = start("home"), start("harbour"), start("registry")
	l.inStep()
	return l
}

func (l *lab) stamp() string { return l.now.Format(time.RFC3339) }

// inStep waits until the harbour has what is served at home.
func (l *lab) inStep() {
	l.t.Helper()
	eventually(l.t, "the harbour in sync", func() bool {
		n := serial(l.t, l.home.addr, "saltmarsh.example")
		return n != 0 && serial(l.t, l.harbour.addr, "saltmarsh.example") == n
	})
}

// tick lets time pass: the registry reads what it is asked for, home does what is
// due, now and then after its power was cut, and validators look.
func (l *lab) tick(d time.Duration, kill bool) {
	l.t.Helper()
	l.seen.look(l)
	l.now = l.now.Add(d)
	// The first DS is entered by hand: nothing can prove it.
	r := fp(l.t, l.registry.dir, "delegate", "example", "saltmarsh.example", "--follow", "--first", "--now", l.stamp())
	if r.status == 0 && strings.Contains(r.err, "wrote") {
		ok(l.t, l.registry.dir, "reload")
	}
	l.seen.look(l)
	if kill { // at any moment of what it does now
		step := exec.Command(program, "roll", "step", "saltmarsh.example", "--now", l.stamp())
		step.Dir = l.home.dir
		if err := step.Start(); err != nil {
			l.t.Fatal(err)
		}
		time.Sleep(time.Duration(l.r.IntN(25)) * time.Millisecond)
		l.home.kill()
		_ = step.Wait() // its server is gone
		l.home.args = []string{"--now", l.stamp()}
		l.home.start()
	}
	want(l.t, fp(l.t, l.home.dir, "roll", "step", "saltmarsh.example", "--now", l.stamp()), 0)
	l.inStep()
	l.seen.look(l)
}

// state is what is said of the rollover.
func (l *lab) state() map[string]any {
	l.t.Helper()
	return object(l.t, ok(l.t, l.home.dir, "roll", "saltmarsh.example", "--format", "json", "--now", l.stamp()))
}

// finish ticks until the rollover has ended, and tells how many steps were done.
func (l *lab) finish(what string) int {
	l.t.Helper()
	for i := 0; i < 60; i++ {
		if l.state()["state"] == "finished" {
			steps, _ := l.state()["steps"].([]any)
			return len(steps)
		}
		l.tick(time.Duration(10+l.r.IntN(30))*time.Minute, l.r.IntN(4) == 0)
	}
	l.t.Fatalf("%s never ended:\n%s", what, ok(l.t, l.home.dir, "roll", "saltmarsh.example", "--now", l.stamp()))
	return 0
}

// caches hold what validators may hold: each set that any server showed, until its
// TTL has run out.
type caches struct {
	t               *testing.T
	ds, keys, data  []cached
	secure, without int
}

type cached struct {
	records []rr.Record
	until   time.Time
}

// look fetches from every server and then validates every mix of what is in caches.
func (c *caches) look(l *lab) {
	c.t.Helper()
	zone, www := dnsname.MustParse("saltmarsh.example."), dnsname.MustParse("www.saltmarsh.example.")
	for _, at := range []string{l.home.addr, l.harbour.addr} {
		c.keys = c.fetch(c.keys, l, at, zone, rr.TypeDNSKEY)
		c.data = c.fetch(c.data, l, at, www, rr.TypeA)
	}
	c.ds = c.fetch(c.ds, l, l.registry.addr, zone, rr.TypeDS)
	for _, ds := range c.ds {
		var anchors []rr.Record
		for _, r := range ds.records {
			if r.Type == rr.TypeDS && r.Name.Equal(zone) {
				anchors = append(anchors, r)
			}
		}
		if len(anchors) == 0 {
			c.without++
			continue // insecure: nothing can fail
		}
		for _, keys := range c.keys {
			for _, data := range c.data {
				p := validate.NewRRsets(keys.records, data.records)
				trusted, v := p.TrustKeys(zone, anchors, l.now)
				if trusted != nil {
					v = p.Set(trusted, www, rr.TypeA, l.now)
				}
				if v.Status != validate.Secure {
					c.t.Fatalf("at %s a validator finds the zone %s: %s\n%s", l.stamp(), v.Status, v.Reason, ok(c.t, l.home.dir, "roll", "saltmarsh.example", "--now", l.stamp()))
				}
				c.secure++
			}
		}
	}
}

// fetch asks a server and keeps the answer beside those that have not run out.
func (c *caches) fetch(have []cached, l *lab, at string, name dnsname.Name, t rr.Type) (out []cached) {
	for _, h := range have {
		if l.now.Before(h.until) {
			out = append(out, h)
		}
	}
	resp, err := resolve.Ask(context.Background(), netip.MustParseAddrPort(at), resolve.Request{Name: name, Type: t, DO: true})
	if err != nil {
		return out // it is away
	}
	ttl := uint32(300) // that of negative answers
	for _, r := range resp.Answer {
		ttl = r.TTL
	}
	got := cached{append(resp.Answer, resp.Authority...), l.now.Add(time.Duration(ttl) * time.Second)}
	for i := range out { // the same again only lasts longer
		if slices.EqualFunc(out[i].records, got.records, func(a, b rr.Record) bool { return a.Type == b.Type && string(a.Data) == string(b.Data) }) {
			out[i].until = got.until
			return out
		}
	}
	return append(out, got)
}

// A single key: the zone becomes signed, the key is replaced, and the zone becomes
// unsigned; the power is cut now and then, and no validator ever fails.
func TestRollSingleKey(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"single\"")
	if n := l.finish("signing"); n != 2 {
		t.Errorf("signing took %d steps", n)
	}
	old := fmt.Sprint(l.state()["keys"].([]any)[0].(map[string]any)["key_tag"])
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example")
	want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example"), 3, "a rollover is under way")
	if n := l.finish("the rollover"); n != 4 {
		t.Errorf("the rollover took %d steps", n)
	}
	list := ok(t, l.home.dir, "key", "list", "saltmarsh.example")
	if !strings.Contains(list, "removed") || strings.Count(list, "active") != 1 {
		t.Errorf("the keys afterwards:\n%s", list)
	}
	ok(t, l.home.dir, "key", "delete", "saltmarsh.example", old)
	if l.seen.secure < 50 {
		t.Errorf("only %d validations", l.seen.secure)
	}
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "unsign")
	l.finish("going unsigned")
	if out := ok(t, l.home.dir, "ask", "saltmarsh.example", "DNSKEY", "--at", l.harbour.addr); strings.Contains(out, "DNSKEY 257") {
		t.Errorf("the zone still has keys:\n%s", out)
	}
	if text := read(t, filepath.Join(l.registry.dir, "zones", "example.zone")); strings.Contains(text, " DS ") {
		t.Errorf("the parent still has a DS:\n%s", text)
	}
	if !strings.Contains(read(t, filepath.Join(l.home.dir, "zones", "saltmarsh.example.zone")), "hostmaster 1 ") {
		t.Error("the serial of the file was moved")
	}
}

// A KSK and a ZSK, one after the other, with NSEC3 and short lifetimes: the policy
// begins the rollovers by itself.
func TestRollByPolicy(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"split\"\ndenial = \"nsec3\"\nrenew-ksk = \"3d\"\nrenew-zsk = \"2d\"\ndigests = [2, 4]\nverify = \"all\"")
	l.finish("signing")
	kinds := map[string]bool{}
	for range 40 {
		v := l.state()
		if kind, _ := v["kind"].(string); v["state"] == "rolling" {
			kinds[kind] = true
		}
		if kinds["ksk"] && kinds["zsk"] && v["state"] == "finished" {
			break
		}
		if v["state"] == "finished" {
			l.tick(6*time.Hour, false)
		} else {
			l.tick(40*time.Minute, false)
		}
	}
	if !kinds["ksk"] || !kinds["zsk"] {
		t.Errorf("the policy began %v", kinds)
	}
	out := ok(t, l.home.dir, "dump", "saltmarsh.example")
	write(t, filepath.Join(l.home.dir, "served.zone"), out)
	want(t, fp(t, l.home.dir, "verify", "served.zone", "--origin", "saltmarsh.example", "--now", l.stamp()), 0, "proved", "NSEC3")
}

// Where others follow the keys as trust anchors, a new KSK waits until they trust it, and
// the old one stays, revoked, until they have seen that (RFC 5011 §2, §6): its flags are
// 385 then, it signs the keys and nothing else.
func TestRollRevokes(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"split\"\nalgorithm = \"RSASHA256\"\nrevoke = true\nverify = \"all\"")
	l.finish("signing")
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "ksk")
	want(t, fp(t, l.home.dir, "roll", "saltmarsh.example"), 0, "revoke the old key", "30 d 2 h", "30 d 1 h")
	began, after := l.now, time.Duration(0)
	var revoked string
	for range 60 {
		if l.state()["state"] == "finished" {
			break
		}
		l.tick(36*time.Hour, l.r.IntN(4) == 0)
		keys := ok(t, l.home.dir, "ask", "saltmarsh.example", "DNSKEY", "--at", l.harbour.addr)
		if revoked != "" || !strings.Contains(keys, "385 3 8") {
			continue
		}
		after = l.now.Sub(began)
		list := ok(t, l.home.dir, "key", "list", "saltmarsh.example")
		for _, k := range l.state()["keys"].([]any) {
			if m := k.(map[string]any); m["state"] == "revoked" {
				revoked = fmt.Sprint(m["key_tag"])
			}
		}
		if !strings.Contains(list, "DNSKEY as revoked, tag ") {
			t.Errorf("the keys once one is revoked:\n%s", list)
		}
		served := ok(t, l.home.dir, "dump", "saltmarsh.example")
		if by, all := regexp.MustCompile(`RRSIG\s+DNSKEY `).FindAllString(served, -1), regexp.MustCompile(`RRSIG\s+CDS `).FindAllString(served, -1); len(by) != 2 || len(all) != 1 {
			t.Errorf("%d signatures over the keys, %d over the CDS:\n%s", len(by), len(all), served)
		}
		write(t, filepath.Join(l.home.dir, "served.zone"), served)
		want(t, fp(t, l.home.dir, "verify", "served.zone", "--origin", "saltmarsh.example", "--now", l.stamp()), 0, "proved")
		want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", revoked), 3, "was revoked on", "resolvers that use it as a trust anchor")
		want(t, fp(t, l.home.dir, "key", "activate", "saltmarsh.example", revoked), 2, "for ever")
		want(t, fp(t, l.home.dir, "roll", "cancel", "saltmarsh.example"), 3, "the old key is revoked")
	}
	if took := l.now.Sub(began); l.state()["state"] != "finished" || after < 30*24*time.Hour || took < after+28*24*time.Hour {
		t.Errorf("it took %s; the old key was revoked after %s; it is %s", took, after, l.state()["state"])
	}
	if keys := ok(t, l.home.dir, "ask", "saltmarsh.example", "DNSKEY", "--at", l.harbour.addr); strings.Contains(keys, "385 3 8") {
		t.Errorf("the revoked key is still there:\n%s", keys)
	}
}

// A secondary that is lost in the middle stops the rollover, which says so, since
// when, and goes on when it is back. Going back is possible until then.
func TestRollWaitsForSecondary(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"split\"")
	l.finish("signing")
	l.harbour.stop()
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "zsk")
	for range 4 {
		l.now = l.now.Add(3 * time.Hour)
		ok(t, l.home.dir, "roll", "step", "saltmarsh.example", "--now", l.stamp())
		l.seen.look(l)
	}
	r := fp(t, l.home.dir, "roll", "saltmarsh.example", "--now", l.stamp())
	want(t, r, 0, "publish the new key", "nothing has been seen of harbour", "for 12 h")
	if strings.Contains(r.out, "✓") {
		t.Errorf("a step was done without the harbour:\n%s", r.out)
	}
	svg := ok(t, l.home.dir, "roll", "saltmarsh.example", "--format", "svg", "--now", l.stamp())
	for _, s := range []string{"<svg ", "publish the new key", "nothing has been seen of harbour", "</svg>"} {
		if !strings.Contains(svg, s) {
			t.Errorf("the drawing lacks %q", s)
		}
	}
	zsk := ""
	for _, k := range l.state()["keys"].([]any) {
		if m := k.(map[string]any); m["role"] == "zsk" && m["state"] == "active" {
			zsk = fmt.Sprint(m["key_tag"])
		}
	}
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", zsk), 3, "refused", "part of the present rollover")
	l.harbour.args = []string{"--now", l.stamp()}
	l.harbour.start()
	l.inStep()
	l.tick(time.Minute, false)
	ok(t, l.home.dir, "roll", "pause", "saltmarsh.example")
	for range 3 {
		l.tick(2*time.Hour, true)
	}
	want(t, fp(t, l.home.dir, "roll", "saltmarsh.example"), 0, "paused", "roll resume")
	ok(t, l.home.dir, "roll", "resume", "saltmarsh.example")
	l.tick(time.Minute, false)
	want(t, fp(t, l.home.dir, "roll", "saltmarsh.example", "--now", l.stamp()), 0, "▶ sign with the new key", "✓ publish the new key")
	want(t, fp(t, l.home.dir, "key", "retire", "saltmarsh.example", zsk), 3, "refused")
	ok(t, l.home.dir, "roll", "cancel", "saltmarsh.example")
	l.finish("the way back")
	for _, k := range l.state()["keys"].([]any) {
		if m := k.(map[string]any); fmt.Sprint(m["key_tag"]) == zsk && m["state"] != "active" {
			t.Errorf("the old key is %v", m["state"])
		}
	}
	want(t, fp(t, l.home.dir, "roll", "cancel", "saltmarsh.example"), 3, "no rollover is under way")
}

// One folder of keys has one signer.
func TestTwoSigners(t *testing.T) {
	t.Parallel()
	l := newLab(t, "")
	other := t.TempDir()
	write(t, filepath.Join(other, "fencepost.toml"), strings.Replace(read(t, filepath.Join(l.home.dir, "fencepost.toml")), l.home.addr, "127.0.0.1:0", 1))
	write(t, filepath.Join(other, "zones", "saltmarsh.example.zone"), labZone)
	if err := os.Symlink(filepath.Join(l.home.dir, "keys"), filepath.Join(other, "keys")); err != nil {
		t.Fatal(err)
	}
	want(t, fp(t, other, "serve"), 3, "another fencepost looks after the keys", "two signers")
	want(t, fp(t, other, "key", "new", "saltmarsh.example"), 3, "another fencepost")
}

// A signer in the middle: an unsigned zone comes by transfer from a hidden primary
// and goes on signed; its serials follow the source's where they can.
func TestSignerInTheMiddle(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	a, b := freePort(t), freePort(t)
	write(t, filepath.Join(dir, "hidden", "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.signer]\naddress = \"127.0.0.1:%d\"\n[[zone]]\nname = \"saltmarsh.example\"\nsend-to = [\"signer\"]\n", a, b))
	write(t, filepath.Join(dir, "hidden", "zones", "saltmarsh.example.zone"), labZone)
	write(t, filepath.Join(dir, "signer", "fencepost.toml"), fmt.Sprintf("[serve]\nlisten = [\"127.0.0.1:%d\"]\n[peer.hidden]\naddress = \"127.0.0.1:%d\"\n[policy.standard]\ndenial = \"nsec3\"\n[[zone]]\nname = \"saltmarsh.example\"\nsign = \"standard\"\nfetch-from = [\"hidden\"]\n", b, a))
	hidden := serve(t, filepath.Join(dir, "hidden"))
	d := serve(t, filepath.Join(dir, "signer"))
	eventually(t, "the signed zone", func() bool { return serial(t, d.addr, "saltmarsh.example") == 1 })
	verify := func() {
		t.Helper()
		write(t, filepath.Join(d.dir, "served.zone"), ok(t, d.dir, "dump", "saltmarsh.example"))
		want(t, fp(t, d.dir, "verify", "served.zone", "--origin", "saltmarsh.example"), 0, "proved", "NSEC3")
	}
	verify()
	publish := func(n int) {
		t.Helper()
		write(t, filepath.Join(hidden.dir, "zones", "saltmarsh.example.zone"), strings.Replace(labZone, "hostmaster 1 ", fmt.Sprintf("hostmaster %d ", n), 1)+fmt.Sprintf("h%d A 198.51.100.9\n", n))
		ok(t, hidden.dir, "reload")
		eventually(t, "the new version", func() bool {
			return strings.Contains(fp(t, d.dir, "ask", fmt.Sprintf("h%d.saltmarsh.example", n), "--at", d.addr).out, "198.51.100.9")
		})
		verify()
	}
	publish(20)
	if n := serial(t, d.addr, "saltmarsh.example"); n != 20 {
		t.Errorf("the serial does not follow: %d", n)
	}
	ok(t, d.dir, "roll", "pause", "saltmarsh.example")
	d.kill()
	d.start()
	eventually(t, "the same version after the power was cut", func() bool { return serial(t, d.addr, "saltmarsh.example") == 20 })
	publish(21)
	// While the hidden primary is away the zone stays signed, also after a restart and by another policy:
	// what it is made of is known.
	hidden.stop()
	d.kill()
	write(t, filepath.Join(d.dir, "fencepost.toml"), strings.Replace(read(t, filepath.Join(d.dir, "fencepost.toml")), "nsec3", "nsec", 1))
	pems, _ := filepath.Glob(filepath.Join(d.dir, "keys", "saltmarsh.example", "*.pem"))
	if len(pems) != 1 || os.Rename(pems[0], pems[0]+".away") != nil { // what is missing at the start is put back, and a reload is enough
		t.Fatalf("the keys are in %q", pems)
	}
	d.start()
	if err := os.Rename(pems[0]+".away", pems[0]); err != nil {
		t.Fatal(err)
	}
	ok(t, d.dir, "reload")
	eventually(t, "the zone is signed by the new policy", func() bool {
		return strings.Contains(fp(t, d.dir, "ask", "nobody.saltmarsh.example", "--dnssec", "--at", d.addr).out, " NSEC ")
	})
	write(t, filepath.Join(d.dir, "served.zone"), ok(t, d.dir, "dump", "saltmarsh.example"))
	want(t, fp(t, d.dir, "verify", "served.zone", "--origin", "saltmarsh.example"), 0, "proved")
	hidden.start()
	publish2 := strings.Replace(read(t, filepath.Join(hidden.dir, "zones", "saltmarsh.example.zone")), "hostmaster 21 ", "hostmaster 30 ", 1) + "h30 A 198.51.100.9\n"
	write(t, filepath.Join(hidden.dir, "zones", "saltmarsh.example.zone"), publish2)
	ok(t, hidden.dir, "reload")
	eventually(t, "the change after it", func() bool {
		return strings.Contains(fp(t, d.dir, "ask", "h30.saltmarsh.example", "--at", d.addr).out, "198.51.100.9")
	})
	hidden.logs("serial=30 to=signer form=changes") // and not the whole zone after the restart
}

// An emergency: the new key and its DS come at once and the old one goes as soon as
// caches permit, while validators look; CDS records leave when the parent has acted.
func TestEmergency(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"split\"\ncds = \"until-confirmed\"")
	l.finish("signing")
	l.tick(time.Minute, false)
	cds := func() bool {
		return strings.Contains(fp(t, l.home.dir, "ask", "saltmarsh.example", "CDS", "--at", l.home.addr).out, " 13 2 ")
	}
	if cds() {
		t.Error("CDS records are still there although the parent has the DS")
	}
	want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "unsign", "--emergency"), 2, "no short way")
	want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "everything"), 2, "keys, ksk, zsk")
	want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "sign"), 2, "signed already")
	for _, what := range []string{"ksk", "zsk", "keys"} {
		begin := l.now
		want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", what, "--emergency", "--reason", "laptop lost"), 0, "laptop lost", "emergency")
		if what == "ksk" && !cds() {
			t.Error("the parent is not asked for the new DS")
		}
		if n := l.finish("the emergency"); n != 2 {
			t.Errorf("%s: %d steps", what, n)
		}
		if took := l.now.Sub(begin); took > 5*time.Hour { // keys are remembered for 2 h, the margin is 90 min
			t.Errorf("%s: it took %s", what, took)
		}
	}
	if out := ok(t, l.home.dir, "key", "list", "saltmarsh.example"); strings.Count(out, "removed") != 4 || strings.Count(out, "active") != 2 {
		t.Errorf("the keys afterwards:\n%s", out)
	}
}

// An emergency takes the place of whatever goes on, of its cancellation and of another
// emergency, and every key there was is replaced.
func TestEmergencyAnyTime(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"split\"")
	l.finish("signing")
	before := tagsOf(t, l.home.dir)
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "ksk")
	l.tick(time.Minute, true)
	l.tick(time.Hour, true)
	want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "ksk"), 3, "a rollover is under way")
	l.harbour.kill() // the way back is over once the harbour has followed
	ok(t, l.home.dir, "roll", "cancel", "saltmarsh.example")
	want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example", "--emergency", "--reason", "laptop lost"), 0, "laptop lost", "instead of: KSK rollover")
	l.harbour.start()
	l.tick(time.Minute, true)
	want(t, fp(t, l.home.dir, "roll", "cancel", "saltmarsh.example"), 3, "no way back")
	want(t, fp(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "zsk", "--emergency"), 0, "emergency")
	l.finish("the second emergency")
	for _, line := range strings.Split(ok(t, l.home.dir, "key", "list", "saltmarsh.example"), "\n") {
		if f := strings.Fields(line); len(f) > 0 && slices.Contains(before, f[0]) && !strings.Contains(line, "removed") {
			t.Errorf("a key of before is still there: %s", line)
		}
	}
	write(t, filepath.Join(l.home.dir, "served.zone"), ok(t, l.home.dir, "dump", "saltmarsh.example"))
	want(t, fp(t, l.home.dir, "verify", "served.zone", "--origin", "saltmarsh.example", "--now", l.stamp()), 0, "proved")
}

// Another algorithm in the policy is rolled to in the conservative order.
func TestRollAlgorithm(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"single\"")
	l.finish("signing")
	conf := filepath.Join(l.home.dir, "fencepost.toml")
	write(t, conf, strings.Replace(read(t, conf), "keys = \"single\"", "keys = \"split\"\nalgorithm = \"ED25519\"", 1))
	ok(t, l.home.dir, "reload")
	l.tick(time.Minute, true)
	want(t, fp(t, l.home.dir, "roll", "saltmarsh.example"), 0, "algorithm rollover", "the policy asks for other keys", "sign with the new algorithm too")
	if n := l.finish("the algorithm rollover"); n != 5 {
		t.Errorf("%d steps", n)
	}
	write(t, filepath.Join(l.home.dir, "served.zone"), ok(t, l.home.dir, "dump", "saltmarsh.example"))
	r := fp(t, l.home.dir, "verify", "served.zone", "--origin", "saltmarsh.example", "--now", l.stamp())
	want(t, r, 0, "proved", "ED25519")
	if strings.Contains(r.out, "ECDSA") {
		t.Errorf("the old key is still there:\n%s", r.out)
	}
}
