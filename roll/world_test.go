package roll_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
)

// The world of the tests: a primary, servers that follow it late or are away,
// parents that act on a request late and one by one, and every cache there could
// be. A cache may hold whatever any server showed, until its TTL has run out; a
// validator may hold any mix of such contents.

// content is what a server shows of one kind: tags of keys and of signers.
type content struct {
	keys    string // DNSKEY set: algorithm/tag, sorted
	keySigs string // who signed it
	sigs    string // who signed the data; empty: unsigned
	ds      string
}

// held is content in caches: until when it may be there.
type held struct {
	content
	until time.Time
}

type version struct {
	serial          uint32
	keys            content // keys and keySigs
	data            content // sigs
	keyTTL, dataTTL uint32
}

type server struct {
	have version
	away bool
}

type world struct {
	t       *testing.T
	r       *rand.Rand
	now     time.Time
	ring    *roll.KeySet
	timing  roll.Timing
	zone    version
	servers []*server
	parents []content
	dsTTL   uint32
	asked   content           // the DS that the parent should have
	backups []content         // what the parent had before
	caches  map[string][]held // by kind
	log     []string
	stride  int // the most minutes that a tick takes
	// Those who follow the keys as trust anchors, if there are any.
	followers []*follower
}

// follower keeps trust anchors up to date as RFC 5011 §4 has it.
type follower struct {
	next   time.Time
	states map[string]string // "pending", "valid", "missing", "revoked" by key
	since  map[string]time.Time
}

// poll asks: the set is believed if one that is trusted signed it, and a key that is
// revoked if it signed that itself.
func (f *follower) poll(keys content, now time.Time) (trusted bool) {
	for k, s := range f.states {
		trusted = trusted || (s == "valid" || s == "missing") && has(keys.keys, k) && has(keys.keySigs, k)
	}
	if !trusted {
		return false
	}
	for k, s := range f.states {
		switch {
		case has(keys.keys, k+"!") && has(keys.keySigs, k+"!"):
			f.states[k] = "revoked"
		case s == "pending" && !has(keys.keys, k):
			delete(f.states, k)
		case s == "pending" && now.Sub(f.since[k]) >= 30*24*time.Hour, s == "missing" && has(keys.keys, k):
			f.states[k] = "valid"
		case s == "valid" && !has(keys.keys, k):
			f.states[k] = "missing"
		}
	}
	for _, k := range strings.Fields(keys.keys) {
		if !strings.HasSuffix(k, "!") && has(keys.keySigs, k) && f.states[k] == "" { // as if with the SEP flag
			f.states[k], f.since[k] = "pending", now
		}
	}
	return true
}

// follow lets those poll whose time it is, each at the server it likes.
func (w *world) follow() {
	w.t.Helper()
	for _, f := range w.followers {
		if w.now.Before(f.next) {
			continue
		}
		have := w.servers[w.r.IntN(len(w.servers))].have
		if !f.poll(have.keys, w.now) {
			w.t.Fatalf("at %s one who follows trust anchors finds none: %v\nDNSKEY %q signed by %q\n%s", w.now.Format(time.RFC3339), f.states, have.keys.keys, have.keys.keySigs, strings.Join(w.log, "\n"))
		}
		f.next = w.now.Add(max(time.Hour, min(15*24*time.Hour, time.Duration(have.keyTTL)*time.Second/2)) / time.Duration(1+w.r.IntN(2)))
		if w.ring.Roll == nil || w.ring.Roll.RollingBack {
			continue
		}
		for _, k := range w.ring.Keys { // RFC 7583 §3.3.4.1: who has it in use is trusted by all
			if name := fmt.Sprintf("%d/%d", k.Algorithm, k.Tag); k.State == roll.Ready && k.SignKeys && f.states[name] != "valid" {
				w.t.Fatalf("at %s key %d is ready, and one who follows trust anchors has %v\n%s", w.now.Format(time.RFC3339), k.Tag, f.states, strings.Join(w.log, "\n"))
			}
		}
	}
}

func list(keys []*roll.Key, does func(*roll.Key) bool) string {
	var out []string
	for _, k := range keys {
		if does(k) {
			out = append(out, fmt.Sprintf("%d/%d%s", k.Algorithm, k.Tag, map[bool]string{true: "!"}[k.Revoked]))
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// publish makes the version that the ring asks for.
func (w *world) publish() {
	keys := w.ring.Keys
	w.zone.serial++
	w.zone.keys = content{keys: list(keys, func(k *roll.Key) bool { return k.Publish }), keySigs: list(keys, func(k *roll.Key) bool { return k.SignKeys })}
	w.zone.data = content{sigs: list(keys, func(k *roll.Key) bool { return k.SignZone })}
	w.backups = append(w.backups, w.asked)
	w.asked = content{ds: list(keys, func(k *roll.Key) bool { return k.DS })}
	w.servers[0].have = w.zone
	w.ring.Served(w.zone.serial, w.now)
}

// remember puts what is shown now into all caches.
func (w *world) remember() {
	put := func(kind string, c content, ttl uint32) {
		until := w.now.Add(time.Duration(ttl) * time.Second)
		for i := range w.caches[kind] {
			if h := &w.caches[kind][i]; h.content == c {
				if until.After(h.until) {
					h.until = until
				}
				return
			}
		}
		w.caches[kind] = append(w.caches[kind], held{c, until})
	}
	for _, s := range w.servers { // also those that are away from us: others may reach them
		put("keys", s.have.keys, s.have.keyTTL)
		put("data", s.have.data, s.have.dataTTL)
	}
	for _, p := range w.parents {
		put("ds", p, w.dsTTL)
	}
	for kind, hs := range w.caches {
		w.caches[kind] = slices.DeleteFunc(hs, func(h held) bool { return !w.now.Before(h.until) })
	}
}

func has(list, item string) bool { return slices.Contains(strings.Fields(list), item) }

// bogus tells why a validator that holds these would reject the data; a strict one
// also demands every algorithm (RFC 6840 §5.11 asks validators not to, and signers
// to make it hold).
func bogus(ds, keys, data content) string {
	if ds.ds == "" {
		return ""
	}
	anchored := false
	for _, k := range strings.Fields(ds.ds) {
		anchored = anchored || has(keys.keys, k) && has(keys.keySigs, k)
	}
	if !anchored {
		return "no DS leads to a key"
	}
	signed := false
	for _, s := range strings.Fields(data.sigs) {
		signed = signed || has(keys.keys, s)
	}
	if !signed {
		return "no signature over the data fits a key"
	}
	for _, k := range strings.Fields(keys.keys) {
		alg, _, _ := strings.Cut(k, "/")
		if !slices.ContainsFunc(strings.Fields(data.sigs), func(s string) bool { return strings.HasPrefix(s, alg+"/") }) {
			return "data without a signature of algorithm " + alg
		}
	}
	for _, k := range strings.Fields(ds.ds) {
		alg, _, _ := strings.Cut(k, "/")
		if !slices.ContainsFunc(strings.Fields(keys.keySigs), func(s string) bool { return strings.HasPrefix(s, alg+"/") }) {
			return "keys without a signature of algorithm " + alg
		}
	}
	return ""
}

// check looks at every mix of what caches can hold.
func (w *world) check() {
	w.t.Helper()
	for _, ds := range w.caches["ds"] {
		for _, keys := range w.caches["keys"] {
			for _, data := range w.caches["data"] {
				if why := bogus(ds.content, keys.content, data.content); why != "" {
					w.t.Fatalf("at %s a validator finds the zone bogus: %s\nDS %q\nDNSKEY %q signed by %q\ndata signed by %q\n%s", w.now.Format(time.RFC3339), why,
						ds.ds, keys.keys, keys.keySigs, data.sigs, strings.Join(w.log, "\n"))
				}
			}
		}
	}
}

var errAway = errors.New("no answer")

func (w *world) looks() (out []roll.Observation) {
	for i, s := range w.servers {
		l := roll.Observation{Server: fmt.Sprintf("server %d", i)}
		switch {
		case s.away:
			l.Err = errAway
		case w.ring.Roll != nil && s.have.serial < w.ring.Roll.Serial:
			l.Mismatch = "it has an older version"
		}
		out = append(out, l)
	}
	for i, p := range w.parents {
		l := roll.Observation{Server: fmt.Sprintf("parent %d", i), Parent: true}
		if p != w.asked {
			l.Mismatch = "it has another DS"
		}
		out = append(out, l)
	}
	return out
}

// tick lets some time pass and everything happen that may.
func (w *world) tick() {
	w.remember() // up to the last moment
	w.now = w.now.Add(time.Duration(1+w.r.IntN(w.stride)) * time.Minute)
	for _, s := range w.servers[1:] {
		if w.r.IntN(30) == 0 {
			s.away = !s.away
		}
		if !s.away && w.r.IntN(3) > 0 {
			s.have = w.zone
		}
	}
	for i := range w.parents {
		if w.r.IntN(8) == 0 {
			w.parents[i] = w.asked
		}
	}
	w.restoreBackup()
	w.remember()
	w.check()
	w.follow()
	if w.r.IntN(60) == 0 { // somebody edits the TTLs
		w.zone.keyTTL, w.zone.dataTTL = ttl(w.r), ttl(w.r)
		w.publish()
	}
	w.noteTTLs()
	out := w.ring.Advance(w.now, w.looks(), &w.timing)
	for _, e := range out.Events {
		w.log = append(w.log, w.now.Format(time.RFC3339)+" "+e)
	}
	if out.Resign {
		w.publish()
		w.ring.Advance(w.now, nil, &w.timing)
	}
	w.remember()
	w.check()
}

// restoreBackup lets the parent have now and then what it had before: where the keys that it
// names are still there, nobody is hurt, and they have to stay.
func (w *world) restoreBackup() {
	if w.r.IntN(40) != 0 {
		return
	}
	old := w.backups[w.r.IntN(len(w.backups))]
	if old.ds == "" || w.asked.ds == "" {
		return // signed or not is another matter
	}
	for _, keys := range w.caches["keys"] {
		for _, data := range w.caches["data"] {
			if bogus(old, keys.content, data.content) != "" {
				return
			}
		}
	}
	w.parents[w.r.IntN(len(w.parents))] = old
	w.log = append(w.log, w.now.Format(time.RFC3339)+" the parent restores "+old.ds)
}

func (w *world) noteTTLs() {
	w.timing.Keys = w.timing.Keys.Note(w.zone.keyTTL, w.now, expire)
	w.timing.Data = w.timing.Data.Note(w.zone.dataTTL, w.now, expire)
	w.timing.DS = w.timing.DS.Note(w.dsTTL, w.now, expire)
}

const expire = 30 * 24 * time.Hour

func ttl(r *rand.Rand) uint32 { return uint32(60 + r.IntN(40000)) }

func newWorld(t *testing.T, seed uint64, keys ...*roll.Key) *world {
	w := &world{t: t, stride: 40, r: rand.New(rand.NewPCG(seed, 583)), now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), caches: map[string][]held{}, dsTTL: 3600}
	w.dsTTL = ttl(w.r)
	w.zone.keyTTL, w.zone.dataTTL = ttl(w.r), ttl(w.r)
	w.ring = &roll.KeySet{Keys: keys}
	for range 1 + w.r.IntN(3) {
		w.servers = append(w.servers, &server{})
	}
	for _, k := range keys {
		k.Use(w.now)
	}
	w.publish()
	for _, s := range w.servers {
		s.have = w.zone
	}
	for range 1 + w.r.IntN(2) {
		w.parents = append(w.parents, w.asked)
	}
	w.noteTTLs()
	w.timing.Margin = time.Duration(w.r.IntN(2)) * time.Hour
	return w
}

func key(tag uint16, a rr.AlgorithmNumber, role signer.Role) *roll.Key {
	return &roll.Key{Tag: tag, Algorithm: a, Role: role, State: roll.Generated}
}

// followed makes it a world in which some follow the keys as trust anchors.
func (w *world) followed() {
	w.timing.Followed, w.stride = true, 120
	for range 3 {
		f := &follower{next: w.now, states: map[string]string{}, since: map[string]time.Time{}}
		for _, k := range strings.Fields(w.zone.keys.keySigs) {
			f.states[k] = "valid"
		}
		w.followers = append(w.followers, f)
	}
}

var kinds = []roll.Kind{roll.RollZSK, roll.RollKSK, roll.RollAll, roll.RollKSKRevoke, roll.RollAllRevoke, roll.RollAlgorithm, roll.EmergencyZSK, roll.EmergencyKSK, roll.EmergencyAll, roll.GoSecure, roll.GoInsecure}

// setup is the keys of a zone and those that replace them.
func setup(kind roll.Kind, r *rand.Rand) (old, fresh []*roll.Key) {
	const a, b = rr.ECDSAP256SHA256, rr.ED25519
	split := r.IntN(2) == 0
	pair := func(tag uint16, alg rr.AlgorithmNumber) []*roll.Key {
		if split {
			return []*roll.Key{key(tag, alg, signer.KSK), key(tag+1, alg, signer.ZSK)}
		}
		return []*roll.Key{key(tag, alg, signer.Single)}
	}
	switch kind {
	case roll.RollZSK, roll.EmergencyZSK:
		return []*roll.Key{key(1, a, signer.KSK), key(2, a, signer.ZSK)}, []*roll.Key{key(12, a, signer.ZSK)}
	case roll.RollKSK, roll.RollKSKRevoke, roll.EmergencyKSK:
		return []*roll.Key{key(1, a, signer.KSK), key(2, a, signer.ZSK)}, []*roll.Key{key(11, a, signer.KSK)}
	case roll.RollAlgorithm:
		return pair(1, a), pair(11, b)
	case roll.GoSecure:
		return nil, pair(11, a)
	case roll.GoInsecure:
		return pair(1, a), nil
	}
	old = pair(1, a)
	split = r.IntN(2) == 0 // from one key to two, or back
	return old, pair(11, a)
}

// TestNoValidatorFails plays every kind of rollover through with random TTLs,
// delays, failures, pauses and changes of mind: no mix of cache contents ever makes
// a validator reject the zone, and in the end the keys are those that were wanted.
func TestNoValidatorFails(t *testing.T) {
	rounds := 25
	if testing.Short() {
		rounds = 5
	}
	for _, kind := range kinds {
		cancelled, finished := 0, 0
		for seed := range uint64(rounds) {
			old, fresh := setup(kind, rand.New(rand.NewPCG(seed, uint64(len(kind)))))
			w := newWorld(t, seed, old...)
			w.log = append(w.log, string(kind)+fmt.Sprint(" seed ", seed))
			if kind.Revoking() == kind && strings.HasSuffix(string(kind), "-revoke") || kind == roll.RollAlgorithm && seed%4 == 0 {
				w.followed()
			}
			for range 20 {
				w.tick()
			}
			w.ring.Keys = append(w.ring.Keys, fresh...)
			if err := w.ring.Start(kind, fresh, "test", w.now); err != nil {
				t.Fatalf("%s: %v", kind, err)
			}
			turns := 0
			for steps := 0; w.ring.Roll != nil; steps++ {
				if steps > 20000 {
					t.Fatalf("%s, seed %d: it never ends\n%s", kind, seed, strings.Join(w.log, "\n"))
				}
				w.tick()
				if w.r.IntN(120) == 0 && turns < 3 && seed%2 == 0 && w.ring.Roll != nil {
					var never *roll.NoWayBackError
					if err := w.ring.Cancel(w.now); err == nil {
						turns++
						w.log = append(w.log, w.now.Format(time.RFC3339)+" cancelled")
					} else if !errors.As(err, &never) {
						t.Fatal(err)
					}
				}
			}
			for range 200 {
				w.tick()
			}
			finished++
			want, gone := fresh, old
			if w.ring.Last.RollingBack {
				cancelled++
				want, gone = old, fresh
			}
			for _, k := range gone {
				replaced := slices.Contains(w.ring.Last.Old, k.Tag)
				if replaced && (k.Publish || k.SignKeys || k.SignZone || k.DS || k.State != roll.Removed && k.State != roll.Generated) {
					t.Errorf("%s, seed %d: key %d is still %+v", kind, seed, k.Tag, *k)
				}
			}
			for _, k := range want {
				if !k.Publish || k.DS != (k.Role != signer.ZSK) || k.SignZone != (k.Role != signer.KSK) || k.State != roll.Active {
					t.Errorf("%s, seed %d: key %d is %+v\n%s", kind, seed, k.Tag, *k, strings.Join(w.log, "\n"))
				}
			}
			for _, k := range gone {
				if at, ok := k.Since[roll.Revoked]; ok && w.followers != nil && k.Since[roll.Removed].Sub(at) < 30*24*time.Hour+time.Hour {
					t.Errorf("%s, seed %d: key %d was revoked for %s only", kind, seed, k.Tag, k.Since[roll.Removed].Sub(at))
				}
			}
			for _, f := range w.followers {
				for k, s := range f.states {
					if s == "valid" != has(w.zone.keys.keySigs, k) || s == "missing" && kind != roll.RollAlgorithm {
						t.Errorf("%s, seed %d: one who follows trust anchors has %v; the keys are signed by %q\n%s", kind, seed, f.states, w.zone.keys.keySigs, strings.Join(w.log, "\n"))
					}
				}
			}
		}
		if cancelled == 0 || finished == cancelled {
			t.Errorf("%s: %d of %d were cancelled", kind, cancelled, finished)
		}
	}
}

// TestEmergencyAtAnyMoment begins an emergency at a random moment of every kind of
// rollover, cancelled ones and emergencies too: no validator ever rejects the zone,
// and in the end the keys are the fresh ones alone.
func TestEmergencyAtAnyMoment(t *testing.T) {
	rounds := 25
	if testing.Short() {
		rounds = 5
	}
	for _, kind := range kinds {
		overtaken := 0
		for seed := range uint64(rounds) {
			old, fresh := setup(kind, rand.New(rand.NewPCG(seed, uint64(len(kind)))))
			w := newWorld(t, seed+1000, old...)
			w.log = append(w.log, string(kind)+fmt.Sprint(" seed ", seed))
			w.ring.Keys = append(w.ring.Keys, fresh...)
			if err := w.ring.Start(kind, fresh, "test", w.now); err != nil {
				t.Fatal(err)
			}
			var last []*roll.Key
			for again := range 1 + w.r.IntN(3) {
				for range w.r.IntN([]int{1, 20, 150}[w.r.IntN(3)]) {
					w.tick()
					if w.r.IntN(80) == 0 && w.ring.Roll != nil && w.ring.Cancel(w.now) == nil {
						w.log = append(w.log, w.now.Format(time.RFC3339)+" cancelled")
					}
				}
				if w.ring.Roll == nil {
					break
				}
				alg, ok := w.ring.EmergencyAlgorithm()
				if !ok {
					alg = rr.ECDSAP256SHA256
				}
				tag := uint16(21 + 10*again)
				next := []*roll.Key{key(tag, alg, signer.Single)}
				if w.r.IntN(2) == 0 {
					next = []*roll.Key{key(tag, alg, signer.KSK), key(tag+1, alg, signer.ZSK)}
				}
				w.ring.Keys = append(w.ring.Keys, next...)
				if err := w.ring.Overtake(next, "lost", w.now); errors.Is(err, roll.ErrKeysOut) {
					break
				} else if err != nil {
					t.Fatal(err)
				}
				overtaken++
				last = next
				w.log = append(w.log, w.now.Format(time.RFC3339)+" emergency")
				if err := w.ring.Cancel(w.now); err == nil {
					t.Fatal("an emergency that took another's place was cancelled")
				}
			}
			for steps := 0; w.ring.Roll != nil; steps++ {
				if steps > 20000 {
					t.Fatalf("%s, seed %d: it never ends\n%s", kind, seed, strings.Join(w.log, "\n"))
				}
				w.tick()
			}
			for range 200 {
				w.tick()
			}
			if last == nil {
				continue
			}
			for _, k := range w.ring.Keys {
				if wanted := slices.Contains(last, k); wanted && (!k.Publish || k.State != roll.Active || k.DS != (k.Role != signer.ZSK)) || !wanted && (k.Publish || k.SignKeys || k.SignZone || k.DS) {
					t.Errorf("%s, seed %d: key %d is %+v\n%s", kind, seed, k.Tag, *k, strings.Join(w.log, "\n"))
				}
			}
		}
		if overtaken < rounds/5 {
			t.Errorf("%s: %d of %d were overtaken", kind, overtaken, rounds)
		}
	}
}
