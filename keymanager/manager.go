// Package keymanager looks after the keys of a signed zone: it makes them, signs with them,
// watches the servers of the zone and of its parent, and moves rollovers on by what it sees
// (RFC 6781, RFC 7583, RFC 8078). Policy, network and clock come from whoever calls; what it
// has to remember it keeps in the key folder (package keyring).
package keymanager

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/keyring"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/wholefile"
	"fencepost/zone"
)

// Env is what the managers of a program share.
type Env struct {
	Net netio.Network // nil is the system's
	Now func() time.Time
	Log *slog.Logger
	// Parents finds the servers of parents where none are given; nil: they are not looked for.
	Parents *Parents
	// Fingerprints saves reading the keys again, and Rings understanding them; nil: it is done each
	// time.
	Fingerprints *FingerprintCache
	Rings        *keyring.Cache
}

// Zone is a zone that is signed.
type Zone struct {
	Name    dnsname.Name
	Dir     string // the folder of its keys
	Policy  *Policy
	Servers []resolve.Server // those that have to be seen in step, beside our own
	Parent  []resolve.Server // servers of the zone above; empty: they are looked for
	// Signers sign the zone too, each with keys of its own (RFC 8901). What they serve has serials and
	// signatures of its own: what counts is whether their DNSKEY and CDS sets have our keys.
	Signers []resolve.Server
	// Mark tells policies apart for a FingerprintCache.
	Mark string
}

// Manager signs one zone and looks after its keys. The keyring's file is the truth: it is
// read each time and written before anything follows from it, so that a restart goes on
// where it was. Calls for one zone must not overlap, but for Observe.
type Manager struct {
	Env
	Zone
}

// Job says what is to be signed.
type Job struct {
	Source *zone.Snapshot // unsigned
	// Signed is the version in service, nil if there is none. Before is the unsigned
	// one that it was made of; nil if that, the keys or the policy are others now. With
	// Before only what changed need be signed; the rest keeps its time.
	Before, Signed *zone.Snapshot
	Serial         uint32
	Now            time.Time
}

// Signed is what Sign made.
type Signed struct {
	Zone        *zone.Snapshot
	Fingerprint string    // what it was made with
	Expires     time.Time // when the first signature does; zero without signatures
	Renew       time.Time // when to sign again at the latest
}

// State is what there is to tell of the keys of a zone.
type State struct {
	Rollover string   // what is going on, in words
	Step     string   // the step that it is at
	Waits    []string // what it waits for
	DS       string   // what the parent has
	// DSWrong tells that validating resolvers reject the zone for the parent's DS, or that it has none
	// of a key any more and nobody validates by it.
	DSWrong bool
	// NextForDS is what to do about it, or about a DS that is still there; empty: nothing.
	NextForDS string
	// Stuck tells that what it waits for has been wrong for long.
	Stuck bool
}

// FingerprintCache is the fingerprints of key folders as they were last read, so that they are read
// again only when they have changed. The zero value is ready for use, by many at once.
type FingerprintCache struct{ byDir sync.Map }

type seenPrint struct {
	at    wholefile.Mark
	mark  string
	print string
}

func (s *Manager) open() (*keyring.Ring, error) { return s.Rings.Open(s.Dir, s.Name) }

// Usable tells why the keys could not sign, or not soon; nil if they can, or if there are none yet.
func (s *Manager) Usable() error {
	return s.Rings.Usable(s.Dir, s.Name, s.Policy.PassphraseFile)
}

func (s *Manager) observer(ring *keyring.Ring) *Observer {
	return NewObserver(s.Net, s.Name, ring)
}

// Fingerprint tells apart what the keys and the policy make a zone show: when it
// differs from that of the version in service, the zone is to be signed again.
func (s *Manager) Fingerprint() (string, error) {
	// The folder is ours alone while the server runs, so times tell of each change.
	st, err := wholefile.MarkOf(filepath.Join(s.Dir, keyring.IndexFile))
	known := err == nil && s.Fingerprints != nil && !st.Fresh()
	if known {
		if v, ok := s.Fingerprints.byDir.Load(s.Dir); ok && v.(seenPrint).at == st && v.(seenPrint).mark == s.Mark {
			return v.(seenPrint).print, nil
		}
	}
	ring, err := s.open()
	if err != nil {
		return "", err
	}
	print := s.fingerprint(ring)
	if known {
		s.Fingerprints.byDir.Store(s.Dir, seenPrint{st, s.Mark, print})
	}
	return print, nil
}

func (s *Manager) fingerprint(ring *keyring.Ring) string {
	p := &s.Policy.Signing
	return fmt.Sprintf("%s|%v|%v %v %d|%d|%v", ring.Shows(), p.Denial, p.Zonemd, p.Digests, p.DNSKEYTTL, s.Policy.CDSOf(ring), p.KeepKeys)
}

// Sign makes a signed version. Where the zone has no keys yet, it begins with them.
func (s *Manager) Sign(ctx context.Context, j Job) (out Signed, err error) {
	return s.sign(ctx, j, true)
}

// sign is Sign; serials of a version that is not everyone's are not noted beside the keys.
func (s *Manager) sign(ctx context.Context, j Job, everyones bool) (out Signed, err error) {
	ring, err := s.open()
	if err != nil {
		return out, err
	}
	if err := s.begin(ctx, ring, j); err != nil {
		return out, err
	}
	if everyones {
		j.Serial = s.serialAfter(ctx, ring, j)
	}
	s.noteTTLs(ring, j.Source, j.Now)
	if err := ring.Save(); err != nil {
		return out, err
	}
	out.Fingerprint = s.fingerprint(ring)
	if !ring.Roll.Signs() {
		out.Zone, err = withSerial(j.Source, j.Serial)
		return out, err
	}
	passphrase, err := keyring.ReadPassphrase(s.Policy.PassphraseFile)
	if err != nil {
		return out, err
	}
	if err := ring.Unlock(keyring.Signing, passphrase); err != nil {
		return out, err
	}
	if err := clockWentBack(s.Name, j.Signed, s.Policy.Signing, j.Now); err != nil {
		if !clockConfirmed(ring, j.Now) {
			return out, err
		}
		s.Log.Warn("everything is signed anew, as the clock was said to be right", "zone", s.Name.String(), "before", err)
		j.Before, j.Signed = nil, nil
	}
	p := s.Policy.Signing
	p.Serial, p.CDS, p.Previous = j.Serial, s.Policy.CDSOf(ring), j.Signed
	p.TrustPrevious = true // it comes from our store
	full := p.Filled()
	p.Refresh = full.Refresh + full.Jitter/time.Duration(renewals(j.Source))
	var report signer.Report
	out.Zone, report, err = signer.Update(ctx, j.Before, j.Source, j.Signed, ring.Signers(), p, j.Now)
	if err != nil {
		return out, err
	}
	if report.Foreign > 0 {
		s.Log.Warn("the unsigned zone holds keys that are not ours", "zone", s.Name.String(), "keys", report.Foreign, "kept", p.KeepKeys)
	}
	if everyones {
		ring.Serial, ring.ClockConfirmed = j.Serial, time.Time{}
	}
	if err := ring.Save(); err != nil { // the zone is signed all the same
		s.Log.Error("the serial could not be noted beside the keys", "zone", s.Name.String(), "error", err)
	}
	s.Log.Info("zone signed", "zone", s.Name.String(), "serial", j.Serial, "made", report.Signatures, "kept", report.Kept)
	out.Expires, out.Renew = report.Expires, report.Expires.Add(-full.Refresh)
	return out, nil
}

// renewals is in how many parts the signatures of a zone are renewed: each makes a new version, which
// secondaries fetch, and a large zone has much to sign and to send.
func renewals(z *zone.Snapshot) int {
	const few, many, together = 4, 192, 250
	return min(max(few, z.Names()/together), many)
}

// TooShort says what is wrong with the times of signatures for a zone, in words;
// empty if nothing is (RFC 6781 §4.4.1).
func TooShort(p signer.Policy, z *zone.Snapshot) string {
	p = p.Filled()
	if expire := expireOf(z); p.Refresh < expire {
		return fmt.Sprintf("signatures are renewed %s before they expire, and secondaries answer for %s without their primary (SOA expire): a cut-off secondary would serve expired signatures; make renew-before-end longer, or expire shorter", roll.Span(p.Refresh), roll.Span(expire))
	}
	if longest := time.Duration(longestTTL(z)) * time.Second; p.Refresh < longest {
		return fmt.Sprintf("signatures are renewed %s before they end, and records are remembered for up to %s: some would expire in caches", roll.Span(p.Refresh), roll.Span(longest))
	}
	return ""
}

// longestTTL is for how many seconds caches may hold anything of a zone, negative
// answers included.
func longestTTL(z *zone.Snapshot) uint32 {
	soa, _ := z.SOA()
	return max(soa.Minimum, z.LongestTTL())
}

// withSerial is an unsigned zone with the serial that it is served with.
func withSerial(z *zone.Snapshot, serial uint32) (*zone.Snapshot, error) {
	var apex zone.Node
	z.ApexNode(&apex)
	var w zone.NodeWriter
	for set := range apex.RRsets {
		if set.Type == rr.TypeSOA {
			set = set.With(rr.SetSerial(set.First(), serial))
		}
		w.AddSet(set)
	}
	return z.Replace([]zone.Content{{Owner: z.Apex(), Records: w.Records()}})
}

// begin makes the keys of a zone that has none in use and begins to sign it, unless
// it was signed before with keys that are not here; a zone that went unsigned on
// purpose stays so. The step that is due is entered, so that what is signed next shows
// it.
func (s *Manager) begin(ctx context.Context, ring *keyring.Ring, j Job) error {
	now := j.Now
	if ring.Roll.Roll == nil && !ring.Roll.Signs() && !ring.Roll.Unsigned {
		if err := s.mayBegin(ctx, ring, j); err != nil {
			return err
		}
		keys, err := s.Policy.freshKeys(ring, roll.GoSecure, now)
		if err != nil {
			return err
		}
		for _, e := range keys {
			s.Log.Info("key in use", "zone", s.Name.String(), "role", keyring.RoleName(e.Role), "tag", e.Tag)
		}
		if err := ring.Roll.Start(roll.GoSecure, rollKeys(keys), "the zone is signed for the first time", now); err != nil {
			return err
		}
	}
	t := s.Policy.Timing(ring)
	out := ring.Roll.Advance(now, nil, &t)
	s.tell(out.Events)
	return nil
}

func (s *Manager) tell(events []string) {
	for _, e := range events {
		s.Log.Info("rollover", "zone", s.Name.String(), "event", e)
	}
}

// Served is told which version is in service, made as Fingerprint says now.
func (s *Manager) Served(serial uint32, now time.Time) error {
	ring, err := s.open()
	if err != nil || !ring.Roll.Served(serial, now) {
		return err
	}
	return ring.Save()
}

// expireOf is how long a secondary goes on with an old version.
func expireOf(z *zone.Snapshot) time.Duration {
	soa, _ := z.SOA()
	return time.Duration(soa.Expire) * time.Second
}

// noteTTLs notes the TTLs that caches may hold from now on.
func (s *Manager) noteTTLs(ring *keyring.Ring, z *zone.Snapshot, now time.Time) {
	ring.TTLs.Keys = ring.TTLs.Keys.Note(s.Policy.Signing.Filled().DNSKEYTTL, now, expireOf(z))
	ring.TTLs.Data = ring.TTLs.Data.Note(longestTTL(z), now, expireOf(z))
}
