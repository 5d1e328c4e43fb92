package keymanager_test

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/cryptotest"
	"time"

	"fencepost/answer"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/internal/testrun"
	"fencepost/keymanager"
	"fencepost/keyring"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// oneServer answers for the zones that a place has; nil: it is silent.
type oneServer func() *zone.Snapshot

func (s oneServer) Find([]byte, bool) (*zone.Snapshot, answer.State) { return s(), answer.Served }

// internet is the servers of a life. Answers come at once and are never cut off.
type internet struct {
	netio.Network // what else there is: nothing
	at            map[string]oneServer
}

func (n internet) Dial(_ context.Context, _ string, _ netip.Addr, to netip.AddrPort, _ time.Duration) (net.Conn, error) {
	s := n.at[to.Addr().String()]
	if s == nil || s() == nil {
		return nil, os.ErrDeadlineExceeded
	}
	return &asked{server: s}, nil
}

// asked is a connection for one question over UDP.
type asked struct {
	net.Conn
	server oneServer
	answer []byte
}

func (c *asked) Write(q []byte) (int, error) {
	var m message.Query
	var r answer.Responder
	if v, _ := message.ParseQuery(q, &m); v == message.Answer {
		c.answer = r.Respond(nil, &m, c.server, answer.Options{Limit: 4096, UDPSize: 4096})
	}
	return len(q), nil
}
func (c *asked) Read(b []byte) (int, error) { return copy(b, c.answer), nil }
func (*asked) SetDeadline(time.Time) error  { return nil }
func (*asked) Close() error                 { return nil }

// life is that of one signed zone: its keys, its secondary, its parent, and perhaps another signer.
type life struct {
	t          *testing.T
	m          *keymanager.Manager
	begin, now time.Time
	source     *zone.Snapshot
	served     *zone.Snapshot
	second     *zone.Snapshot
	parent     *zone.Snapshot
	other      *zone.Snapshot // of another signer
	serial     uint32
	ds         string // records at the parent
	behind     bool   // the secondary fetches nothing
	asleep     bool   // the parent enters nothing
	silent     bool   // the parent answers nothing
	text       strings.Builder
	state      string
	said       string // last
	print      string // of the keys that served was made with
}

// Write takes what is logged.
func (l *life) Write(b []byte) (int, error) {
	l.say("%s", strings.TrimSuffix(string(b), "\n"))
	return len(b), nil
}

// say notes what happens, once where it is said again and again.
func (l *life) say(format string, args ...any) {
	line := spans.ReplaceAllString(fmt.Sprintf(format, args...), "for a while")
	if line == l.said {
		return
	}
	l.said = line
	d := l.now.Sub(l.begin).Round(time.Second)
	fmt.Fprintf(&l.text, "%4dd%02dh%02dm%02d %s\n", d/(24*time.Hour), d/time.Hour%24, d/time.Minute%60, d/time.Second%60, line)
}

var living = dnsname.MustParse("tides.example.")

func snapshot(t *testing.T, apex dnsname.Name, text string) *zone.Snapshot {
	t.Helper()
	var set source.Set
	f, err := set.Add("z", []byte("$TTL 3600\n@ SOA ns.other. h.other. 1 7200 900 1209600 300\n@ NS ns.other.\n"+text))
	if err != nil {
		t.Fatal(err)
	}
	var diags diag.List
	s := zonefile.Load(f, zonefile.Options{Origin: apex}, &diags).Snapshot
	if s == nil {
		t.Fatal(diags.All)
	}
	return s
}

func newLife(t *testing.T, change func(*keymanager.Policy)) *life {
	p := keymanager.DefaultPolicy()
	p.Signing.DNSKEYTTL = 3600
	if change != nil {
		change(p)
	}
	l := &life{t: t, begin: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	l.now = l.begin
	l.source, l.parent = snapshot(t, living, "www A 192.0.2.80\n"), snapshot(t, living.Parent(), "tides NS ns.other.\n")
	n := internet{netio.NewMemory(netio.NewVirtual(l.begin)).Host(netip.MustParseAddr("192.0.2.9")), map[string]oneServer{
		"192.0.2.1": func() *zone.Snapshot { return l.second },
		"192.0.2.2": func() *zone.Snapshot {
			if l.silent {
				return nil
			}
			return l.parent
		},
		"192.0.2.3": func() *zone.Snapshot { return l.other },
	}}
	at := func(a, name string) []resolve.Server {
		return []resolve.Server{{Name: name, Address: netip.MustParseAddrPort(a + ":53")}}
	}
	plain := &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		if a.Key == slog.TimeKey || a.Key == "zone" {
			return slog.Attr{}
		}
		return a
	}}
	l.m = &keymanager.Manager{Env: keymanager.Env{Net: n, Now: func() time.Time { return l.now }, Log: slog.New(slog.NewTextHandler(l, plain)), Rings: &keyring.Cache{}},
		Zone: keymanager.Zone{Name: living, Dir: t.TempDir(), Policy: p, Servers: at("192.0.2.1", "secondary"), Parent: at("192.0.2.2", "parent")}}
	return l
}

// sign makes and serves a version, and reports whether it could.
func (l *life) sign() bool {
	job := keymanager.Job{Source: l.source, Signed: l.served, Serial: l.serial + 1, Now: l.now}
	out, err := l.m.Sign(l.t.Context(), job)
	if err != nil {
		l.say("not signed: %v", err)
		return false
	}
	l.served, l.serial, l.print = out.Zone, out.Zone.Serial(), out.Fingerprint
	if !l.behind {
		l.second = l.served
	}
	if err := l.m.Served(l.serial, l.now); err != nil {
		l.t.Fatal(err)
	}
	return true
}

// follow is what the parent does: it enters what the zone asks for (RFC 7344).
func (l *life) follow() {
	var lines []string
	var apex zone.Node
	l.served.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeCDS)
	if set.N == 0 || l.asleep {
		return
	}
	for data := range set.Data {
		if data[2] != 0 { // what asks for no DS at all (RFC 8078 §4)
			lines = append(lines, "tides DS "+rr.DataText(rr.TypeDS, data))
		}
	}
	slices.Sort(lines)
	l.enter(strings.Join(lines, "\n"))
}

// enter puts DS records into the parent's zone.
func (l *life) enter(ds string) {
	if ds == l.ds {
		return
	}
	l.ds = ds
	l.parent = snapshot(l.t, living.Parent(), "tides NS ns.other.\n"+ds+"\n")
	l.say("the parent has: %s", strings.ReplaceAll(ds, "\n", "; "))
}

// live goes on for a time, as a server does.
func (l *life) live(d time.Duration) {
	for end := l.now.Add(d); l.now.Before(end); {
		if print, err := l.m.Fingerprint(); err != nil || l.served == nil || l.changed(print) {
			if !l.sign() {
				l.now = end
				return
			}
		}
		if !l.behind {
			l.second = l.served
		}
		seen, err := l.m.Observe(l.t.Context())
		if err != nil {
			l.t.Fatal(err)
		}
		resign, again, err := l.m.Advance(seen, l.served, l.now)
		if err != nil {
			l.say("no advance: %v", err)
		}
		l.tell(l.m.State())
		if resign {
			l.sign()
			continue
		}
		if again.IsZero() || again.After(l.now.Add(6*time.Hour)) {
			again = l.now.Add(6 * time.Hour)
		}
		l.now = again
		l.follow()
	}
}

// tell says what the state is, where it is another.
func (l *life) tell(s keymanager.State) {
	stuck := map[bool]string{true: " STUCK"}[s.Stuck]
	wrong := map[bool]string{true: " WRONG"}[s.DSWrong]
	text := fmt.Sprintf("STATE %s/%s %q DS %q%s next %q%s", s.Rollover, s.Step, s.Waits, s.DS, wrong, s.NextForDS, stuck)
	if text != l.state {
		l.state = text
		l.say("%s", text)
	}
}

// spans are those that grow as long as something is waited for.
var spans = regexp.MustCompile(`for [0-9]+ (s|min|h|d|day|days|hours?)( [0-9]+ (s|min|h|hours?))*`)

// changed reports whether keys are others than those that the version in service was made with.
func (l *life) changed(print string) bool {
	return l.print != print
}

// ring changes the keys by hand.
func (l *life) ring(change func(*keyring.Ring) error) {
	l.t.Helper()
	r, err := keyring.Open(l.m.Dir, living)
	if err == nil {
		err = change(r)
	}
	if err == nil {
		err = r.Save()
	}
	if err != nil {
		l.say("refused: %v", err)
	}
}

func (l *life) start(kind roll.Kind) {
	l.say("start %s", kind)
	l.ring(func(r *keyring.Ring) error { return l.m.Policy.Start(r, kind, "", l.now) })
}

const day = 24 * time.Hour

// lives are what may come to a zone.
var lives = map[string]struct {
	policy func(*keymanager.Policy)
	run    func(*life)
}{
	"split": {func(p *keymanager.Policy) { p.Split = true }, func(l *life) {
		l.live(3 * day)
		for _, k := range []roll.Kind{roll.RollZSK, roll.RollKSK, roll.RollAll, roll.EmergencyZSK, roll.EmergencyKSK, roll.EmergencyAll} {
			l.start(k)
			l.start(k) // while it is going on
			l.live(4 * day)
		}
		l.start(roll.GoSecure) // which it is
		l.m.Policy.Algorithm = rr.ED25519
		l.live(5 * day)
		l.m.Policy.Split = false
		l.live(5 * day)
		l.start(roll.GoInsecure)
		l.live(5 * day)
		l.live(2 * day) // and stays so
		l.start(roll.GoSecure)
		l.live(4 * day)
	}},
	"emergency in the middle": {nil, func(l *life) {
		l.live(3 * day)
		l.start(roll.RollAll)
		l.live(90 * time.Minute)
		l.start(roll.EmergencyAll)
		l.live(4 * day)
	}},
	"lifetimes, CDS until confirmed": {func(p *keymanager.Policy) {
		p.Split, p.CDS = true, keymanager.CDSUntil
		p.Renew = roll.Lifetimes{KSK: 20 * day, ZSK: 7 * day}
	}, func(l *life) { l.live(30 * day) }},
	"revoked": {func(p *keymanager.Policy) { p.Split, p.Revoke = true, true }, func(l *life) {
		l.live(3 * day)
		l.start(roll.RollKSK)
		l.live(80 * day)
	}},
	"the secondary is behind": {nil, func(l *life) {
		l.live(3 * day)
		l.behind = true
		l.start(roll.RollAll)
		l.live(day)
		l.second = nil // and does not answer
		l.live(day)
		l.behind = false
		l.live(3 * day)
	}},
	"the parent": {nil, func(l *life) {
		l.asleep = true
		l.live(2 * day) // it enters nothing
		l.asleep = false
		l.live(2 * day)
		good := l.ds
		l.asleep = true
		l.enter(regexp.MustCompile(`DS (\d+) 13 2 (..)`).ReplaceAllString(good, "DS $1 13 2 00"))
		l.live(3 * time.Hour)
		l.enter("tides DS 4711 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A")
		l.live(3 * time.Hour)
		l.enter(good + "\ntides DS 4711 13 2 2BB183AF5F22588179A53B0A98631FAD1A2921182BB183AF5F22588179A53B0A")
		l.live(3 * time.Hour)
		l.enter("")
		l.live(3 * time.Hour)
		l.silent = true
		l.live(3 * time.Hour)
		l.silent = false
		l.enter(good)
		l.live(3 * time.Hour)
		l.asleep = false
		l.start(roll.RollAll)
		l.live(4 * day)
		l.asleep = true
		l.enter(good) // as from a backup
		l.live(3 * time.Hour)
		l.start(roll.RollAll)
		l.live(3 * time.Hour)
		l.asleep = false
		l.live(4 * day)
	}},
	"the keys are lost": {nil, func(l *life) {
		l.live(3 * day)
		keys := l.m.Dir
		l.m.Dir = filepath.Join(keys, "none")
		l.served = nil
		l.live(time.Hour) // the parent has a DS
		l.silent = true
		l.served, l.serial = l.second, 0
		l.live(time.Hour) // what is served is signed
		l.served, l.m.Dir = nil, keys
		if err := os.Rename(filepath.Join(keys, keyring.IndexFile), filepath.Join(keys, "gone")); err != nil {
			l.t.Fatal(err)
		}
		l.live(time.Hour) // private keys lie there
		if err := os.Rename(filepath.Join(keys, "gone"), filepath.Join(keys, keyring.IndexFile)); err != nil {
			l.t.Fatal(err)
		}
		l.ring(func(r *keyring.Ring) error { r.Serial = 0; return nil })
		l.serial = 0
		l.live(time.Hour) // only the secondary knows the serial
	}},
	"the clock": {nil, func(l *life) {
		l.live(3 * day)
		l.now = l.now.Add(30 * day)
		l.sign()
		l.now = l.now.Add(-30 * day)
		l.sign()
		l.now = l.now.Add(-59 * time.Minute).Add(30 * day)
		l.sign()
		l.now = l.now.Add(-30 * day)
		l.ring(func(r *keyring.Ring) error { r.ConfirmClock(l.now); return nil })
		l.sign()
		l.now = l.now.Add(-61 * time.Minute)
		l.sign()
	}},
	"another signer": {nil, func(l *life) {
		l.m.Signers = []resolve.Server{{Name: "other", Address: netip.MustParseAddrPort("192.0.2.3:53")}}
		l.live(3 * time.Hour) // it does not answer
		alone := snapshot(l.t, living, "")
		l.other = alone
		l.live(3 * time.Hour) // and has no key of ours
		both := func() {
			var lines []string
			l.ring(func(r *keyring.Ring) error {
				for _, e := range r.Keys {
					lines = append(lines, "@ 1800 DNSKEY "+keyring.PublicText(e.Public.Data))
				}
				return nil
			})
			l.other = snapshot(l.t, living, strings.Join(lines, "\n")+"\n")
		}
		both()
		l.live(2 * day)
		l.start(roll.RollAll)
		l.live(day)
		both()
		l.live(day / 2)
		key := ""
		l.ring(func(r *keyring.Ring) error {
			e := r.Keys[0]
			key = fmt.Sprintf("\n@ 1800 DNSKEY %s\n@ CDS %s\n", keyring.PublicText(e.Public.Data), rr.DataText(rr.TypeDS, dnssec.DS(living, e.Public.Data, 2)))
			l.say("still used by: %s", l.m.Observers(r).StillUsed(l.t.Context(), l.m.Signers, e.Public))
			return nil
		})
		l.other = snapshot(l.t, living, key)
		l.live(2 * day)
		both()
		l.live(3 * day)
	}},
	"keys made by hand": {func(p *keymanager.Policy) { p.CDS = keymanager.CDSNever }, func(l *life) {
		make := func(role signer.Role, a rr.AlgorithmNumber) {
			l.ring(func(r *keyring.Ring) error {
				_, err := r.Generate(keyring.NewKey{Algorithm: a, Role: role}, l.now)
				return err
			})
		}
		make(signer.KSK, rr.ECDSAP256SHA256)
		make(signer.ZSK, rr.ECDSAP256SHA256)
		l.m.Policy.Split = true
		l.live(2 * day)
		dsByHand := func() {
			var lines []string
			l.ring(func(r *keyring.Ring) error {
				for _, e := range r.Keys {
					if e.DS {
						lines = append(lines, "tides DS "+rr.DataText(rr.TypeDS, dnssec.DS(living, e.Public.Data, 4)))
					}
				}
				return nil
			})
			l.enter(strings.Join(lines, "\n"))
		}
		dsByHand()
		l.live(2 * day)
		make(signer.KSK, rr.ED25519) // of another algorithm: not taken
		make(signer.ZSK, rr.ECDSAP256SHA256)
		l.start(roll.RollZSK)
		l.live(day)
		l.start(roll.RollKSK)
		l.live(day)
		dsByHand()
		l.live(day)
	}},
}

// What happens to keys is told word for word, at its moments, whatever servers and parents do.
func TestLives(t *testing.T) {
	if testing.Short() { // as under the race detector, which takes twenty times as long
		for _, what := range []string{"emergency in the middle", "another signer"} {
			l := newLife(t, lives[what].policy)
			lives[what].run(l)
		}
		return
	}
	var all strings.Builder
	for _, what := range slices.Sorted(maps.Keys(lives)) {
		t.Run(what, func(t *testing.T) {
			cryptotest.SetGlobalRandom(t, 1)
			l := newLife(t, lives[what].policy)
			lives[what].run(l)
			fmt.Fprintf(&all, "# %s\n%s", what, l.told())
		})
	}
	testrun.Golden(t, "testdata/lives.txt", all.String())
}

// told is what was said, with letters for the keys: which they are is chance.
func (l *life) told() string {
	text := strings.NewReplacer(l.m.Dir, "KEYS", filepath.Dir(l.m.Dir), "DIR").Replace(l.text.String())
	tags := map[string]string{"4711": "4711"}
	for _, m := range regexp.MustCompile(`(?:key |keys |tag=|DS )(\d+)`).FindAllStringSubmatch(text, -1) {
		if tags[m[1]] == "" {
			tags[m[1]] = fmt.Sprintf("K%d", len(tags))
		}
	}
	text = regexp.MustCompile(`\d+`).ReplaceAllStringFunc(text, func(s string) string {
		if k := tags[s]; len(s) > 3 && k != "" {
			return k
		}
		return s
	})
	text = regexp.MustCompile(`parent has: .*`).ReplaceAllStringFunc(text, func(s string) string { // in the order of their names
		list := strings.Split(strings.TrimPrefix(s, "parent has: "), "; ")
		slices.Sort(list)
		return "parent has: " + strings.Join(list, "; ")
	})
	return regexp.MustCompile(`[0-9A-F]{64,96}|[A-Za-z0-9+/]{40,}=*`).ReplaceAllString(text, "…")
}
