package app

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/keyring"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/server"
	"fencepost/signer"
	"fencepost/workspace"
	"fencepost/zone"
)

// steward signs one zone of the workspace and looks after its keys, for the
// server. The keyring's file is the truth: it is read each time and written before
// anything follows from it, so that a restart goes on where it was.
type steward struct {
	app  *App
	log  *slog.Logger
	dir  string
	zone *workspace.Zone
}

func (s *steward) open() (*keyring.Ring, error) { return keyring.Open(s.dir, s.zone.Name) }

// Fingerprint implements server.Signer.
func (s *steward) Fingerprint() (string, error) {
	ring, err := s.open()
	if err != nil {
		return "", err
	}
	return s.fingerprint(ring), nil
}

func (s *steward) fingerprint(ring *keyring.Ring) string {
	p := &s.zone.Sign.Signing
	return fmt.Sprintf("%s|%v|%v %v %d|%d|%v", ring.Shows(), p.Denial, p.Zonemd, p.Digests, p.DNSKEYTTL, cdsOf(s.zone.Sign, ring), p.KeepKeys)
}

// cdsOf is what the zone is to tell its parent.
func cdsOf(p *workspace.Policy, ring *keyring.Ring) signer.CDS {
	switch {
	case p.CDS == workspace.CDSNever:
		return signer.NoCDS
	case ring.Roll.Deletes():
		return signer.DeleteAll
	case p.CDS == workspace.CDSUntil && ring.Roll.Roll == nil:
		for _, e := range ring.Keys {
			if e.DS && e.Seen.IsZero() {
				return signer.WantDS
			}
		}
		return signer.NoCDS
	}
	return signer.WantDS
}

// Sign implements server.Signer.
func (s *steward) Sign(ctx context.Context, j server.SignJob) (out server.SignedZone, err error) {
	ring, err := s.open()
	if err != nil {
		return out, err
	}
	if err := s.begin(ctx, ring, j); err != nil {
		return out, err
	}
	j.Serial = s.serialAfter(ctx, ring, j)
	noteTTLs(ring, s.zone.Sign, j.Source, j.Now)
	if err := ring.Save(); err != nil {
		return out, err
	}
	out.Fingerprint = s.fingerprint(ring)
	if !ring.Roll.Signs() {
		out.Zone, err = withSerial(j.Source, j.Serial)
		return out, err
	}
	passphrase, err := readPassphrase(s.zone.Sign.PassphraseFile)
	if err != nil {
		return out, err
	}
	if err := ring.Unlock(keyring.Signing, passphrase); err != nil {
		return out, err
	}
	if err := clockWentBack(s.zone.Name, j.Signed, s.zone.Sign.Signing, j.Now); err != nil {
		if !clockConfirmed(ring, j.Now) {
			return out, err
		}
		s.log.Warn("everything is signed anew, as the clock was said to be right", "zone", s.zone.Name.String(), "before", err)
		j.Before, j.Signed = nil, nil
	}
	p := s.zone.Sign.Signing
	p.Serial, p.CDS, p.Previous = j.Serial, cdsOf(s.zone.Sign, ring), j.Signed
	p.TrustPrevious = true // it comes from our store
	full := p.Filled()
	// What falls due within a quarter of a day is renewed together.
	p.Refresh = full.Refresh + full.Validity/56
	var report signer.Report
	out.Zone, report, err = signer.Update(ctx, j.Before, j.Source, j.Signed, ring.Signers(), p, j.Now)
	if err != nil {
		return out, err
	}
	if report.Foreign > 0 {
		s.log.Warn("the unsigned zone holds keys that are not ours", "zone", s.zone.Name.String(), "keys", report.Foreign, "kept", p.KeepKeys)
	}
	ring.Serial, ring.ClockConfirmed = j.Serial, time.Time{}
	if err := ring.Save(); err != nil { // the zone is signed all the same
		s.log.Error("the serial could not be noted beside the keys", "zone", s.zone.Name.String(), "error", err)
	}
	s.log.Info("zone signed", "zone", s.zone.Name.String(), "serial", j.Serial, "made", report.Signatures, "kept", report.Kept)
	out.Expires, out.Renew = report.Expires, report.Expires.Add(-full.Refresh)
	return out, nil
}

// tooShort says what is wrong with the times of signatures for a zone, in words;
// empty if nothing is (RFC 6781 §4.4.1).
func tooShort(p signer.Policy, z *zone.Snapshot) string {
	p = p.Filled()
	if expire := expireOf(z); p.Refresh < expire {
		return fmt.Sprintf("signatures are renewed %s before they end, and secondaries go on for %s without us (SOA expire): one that loses us would serve expired signatures in the end; make refresh longer, or expire shorter", roll.Span(p.Refresh), roll.Span(expire))
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
	longest := soa.Minimum
	for n := range z.Nodes {
		for set := range n.RRsets {
			longest = max(longest, set.TTL)
		}
	}
	return longest
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
	return z.With([]zone.Change{{Owner: z.Apex(), Records: w.Records()}})
}

// begin makes the keys of a zone that has none in use and begins to sign it, unless
// it was signed before with keys that are not here; a zone that went unsigned on
// purpose stays so. The step that is due is entered, so that what is signed next shows
// it.
func (s *steward) begin(ctx context.Context, ring *keyring.Ring, j server.SignJob) error {
	now := j.Now
	if ring.Roll.Roll == nil && !ring.Roll.Signs() && !ring.Roll.Unsigned {
		if err := s.mayBegin(ctx, ring, j); err != nil {
			return err
		}
		keys, err := freshKeys(ring, s.zone.Sign, roll.SignZone, nil, now)
		if err != nil {
			return err
		}
		for _, e := range keys {
			s.log.Info("key in use", "zone", s.zone.Name.String(), "role", keyring.RoleName(e.Role), "tag", e.Tag)
		}
		if err := ring.Roll.Start(roll.SignZone, rollKeys(keys), "the zone is signed for the first time", now); err != nil {
			return err
		}
	}
	t := timing(ring, s.zone.Sign)
	out := ring.Roll.Tend(now, nil, &t)
	s.tell(out.Events)
	return nil
}

func (s *steward) tell(events []string) {
	for _, e := range events {
		s.log.Info("rollover", "zone", s.zone.Name.String(), "event", e)
	}
}

func rollKeys(in []*keyring.Entry) (out []*roll.Key) {
	for _, e := range in {
		out = append(out, e.Key)
	}
	return out
}

// Served implements server.Signer.
func (s *steward) Served(serial uint32, now time.Time) error {
	ring, err := s.open()
	if err != nil || !ring.Roll.Served(serial, now) {
		return err
	}
	return ring.Save()
}

// Tend implements server.Signer.
func (s *steward) Tend(ctx context.Context, z *zone.Snapshot, now time.Time) (resign bool, again time.Time, err error) {
	ring, err := s.open()
	if err != nil {
		return false, again, err
	}
	before := s.fingerprint(ring)
	due, err := s.startDue(ring, now)
	if err != nil {
		return false, again, err
	}
	out := s.tend(ctx, ring, z, now)
	s.tell(out.Events)
	if again := s.watchDS(ctx, ring, z, now); !again.IsZero() {
		out.Again = again
	}
	if err := ring.Save(); err != nil {
		return false, again, err
	}
	if again = out.Again; again.IsZero() || !due.IsZero() && due.Before(again) {
		again = due
	}
	return out.Resign || s.fingerprint(ring) != before, again, nil
}

// tend looks at the servers, if a rollover needs it, and moves it on.
func (s *steward) tend(ctx context.Context, ring *keyring.Ring, z *zone.Snapshot, now time.Time) roll.Outcome {
	var looks []roll.Look
	if r := ring.Roll.Roll; r != nil && !r.Paused && !r.Shown.IsZero() {
		w := &watcher{zone: s.zone.Name, ring: ring, serial: r.Serial, extra: s.zone.Sign.Signing.KeepKeys, now: s.app.Now}
		here := roll.Look{Server: "this server"}
		if z.Serial() != r.Serial && !rr.NewerSerial(z.Serial(), r.Serial) {
			here.Wrong = fmt.Sprintf("it serves serial %d; %d is needed", z.Serial(), r.Serial)
		}
		var ttl uint32
		var parents []*workspace.Peer
		if ring.Roll.NeedsParent() {
			parents = s.parents(ctx)
		}
		looks, ttl = w.looks(ctx, watched(s.zone), parents)
		looks = append([]roll.Look{here}, looks...)
		now = s.app.Now() // until here a server may have shown the old state
		if ttl > 0 {
			ring.TTLs.DS = ring.TTLs.DS.Note(ttl, now, expireOf(z))
		}
	}
	t := timing(ring, s.zone.Sign)
	return ring.Roll.Tend(now, looks, &t)
}

// findParentWait bounds how long the system's resolver is waited for.
const findParentWait = 3 * time.Second

// parents are the servers of the zone above: those that the workspace names, else
// those that the system's resolver knows; none if it knows none either.
func (s *steward) parents(ctx context.Context) []*workspace.Peer {
	if len(s.zone.Parent) > 0 {
		return s.zone.Parent
	}
	ctx, cancel := context.WithTimeout(ctx, findParentWait)
	defer cancel()
	found, err := s.app.resolvedParent(ctx, s.zone.Name)
	if err != nil {
		s.log.Warn("the servers of the parent are not known", "zone", s.zone.Name.String(), "error", err)
	}
	return found
}

// startDue begins the rollover that the policy asks for, if its time has come, or
// tells when that is.
func (s *steward) startDue(ring *keyring.Ring, now time.Time) (time.Time, error) {
	if ring.Roll.Roll != nil || ring.Roll.Unsigned {
		return time.Time{}, nil
	}
	t := timing(ring, s.zone.Sign)
	kind, when := ring.Roll.Due(s.zone.Sign.Renew, &t)
	reason := "the key has been in use for as long as the policy allows"
	if k := demanded(ring, s.zone.Sign); k != "" {
		kind, when, reason = k, now, "the policy asks for other keys"
	}
	if kind == "" || now.Before(when) {
		return when, nil
	}
	keys, err := freshKeys(ring, s.zone.Sign, kind, nil, now)
	if err != nil {
		return when, err
	}
	return time.Time{}, ring.Roll.Start(kind, rollKeys(keys), reason, now)
}

// demanded is the rollover that brings the keys in line with a changed policy.
func demanded(ring *keyring.Ring, p *workspace.Policy) roll.Kind {
	split := false
	for _, e := range ring.Roll.InUse(roll.RollAll) {
		if e.Algorithm != p.Algorithm {
			return roll.RollAlgorithm
		}
		split = split || e.Role != signer.Single
	}
	if ring.Roll.Signs() && split != p.Split {
		return roll.RollAll
	}
	return ""
}

// watched are the servers that have to be seen in step.
func watched(z *workspace.Zone) []*workspace.Peer {
	if z.WaitFor != nil {
		return z.WaitFor
	}
	return z.SendTo
}

// expireOf is how long a secondary goes on with an old version.
func expireOf(z *zone.Snapshot) time.Duration {
	soa, _ := z.SOA()
	return time.Duration(soa.Expire) * time.Second
}

// noteTTLs notes the TTLs that caches may hold from now on.
func noteTTLs(ring *keyring.Ring, p *workspace.Policy, z *zone.Snapshot, now time.Time) {
	ring.TTLs.Keys = ring.TTLs.Keys.Note(p.Signing.Filled().DNSKEYTTL, now, expireOf(z))
	ring.TTLs.Data = ring.TTLs.Data.Note(longestTTL(z), now, expireOf(z))
}

// unknownDSTTL is how long caches are taken to hold a DS whose TTL has not been
// seen.
const unknownDSTTL = 86400

func timing(ring *keyring.Ring, p *workspace.Policy) roll.Timing {
	t := roll.Timing{Keys: ring.TTLs.Keys, Data: ring.TTLs.Data, DS: ring.TTLs.DS, Margin: p.Margin, ExpectServers: p.ExpectServers, ExpectParent: p.ExpectParent}
	if len(t.DS) == 0 {
		t.DS = roll.TTLs{{Seconds: unknownDSTTL}}
	}
	if len(t.Keys) == 0 {
		t.Keys = roll.TTLs{{Seconds: signer.Default.DNSKEYTTL}}
	}
	return t
}

// wantedRoles are the roles that a policy's keys have.
func wantedRoles(p *workspace.Policy, kind roll.Kind) []signer.Role {
	switch kind {
	case roll.RollKSK, roll.FastKSK:
		return []signer.Role{signer.KSK}
	case roll.RollZSK, roll.FastZSK:
		return []signer.Role{signer.ZSK}
	}
	if p.Split {
		return []signer.Role{signer.KSK, signer.ZSK}
	}
	return []signer.Role{signer.Single}
}

// freshKeys are keys for a rollover: those made before and used for nothing yet
// that fit, else new ones. passphrase protects new ones.
func freshKeys(ring *keyring.Ring, p *workspace.Policy, kind roll.Kind, passphrase []byte, now time.Time) (out []*keyring.Entry, err error) {
	if kind == roll.Unsign {
		return nil, nil
	}
	roles := wantedRoles(p, kind)
	if kind == roll.SignZone { // keys made by hand say how the work is parted
		if made := unused(ring); len(made) > 0 && covers(made) {
			return made, nil
		}
	}
	if len(passphrase) == 0 {
		if passphrase, err = readPassphrase(p.PassphraseFile); err != nil {
			return nil, err
		}
	}
	for _, role := range roles {
		var e *keyring.Entry
		for _, k := range unused(ring) {
			if k.Role == role && k.Public.Algorithm == p.Algorithm {
				e = k
				break
			}
		}
		if e == nil {
			if e, err = ring.Generate(keyring.NewKey{Algorithm: p.Algorithm, Role: role, Bits: p.Bits, Passphrase: passphrase}, now); err != nil {
				return nil, err
			}
		}
		out = append(out, e)
	}
	return out, nil
}

// unused are the keys of ours that were made and never used.
func unused(ring *keyring.Ring) (out []*keyring.Entry) {
	for _, e := range ring.Keys {
		if e.State == roll.Generated && !e.Foreign && !e.SignZone {
			out = append(out, e)
		}
	}
	return out
}

// covers tells whether keys can do all the work together.
func covers(keys []*keyring.Entry) bool {
	var signsKeys, signsZone bool
	for _, e := range keys {
		signsKeys = signsKeys || e.Role != signer.ZSK
		signsZone = signsZone || e.Role != signer.KSK
	}
	return signsKeys && signsZone
}

// readPassphrase reads a passphrase from a file that only its owner can read; none
// for no file.
func readPassphrase(path string) ([]byte, error) {
	if path == "" {
		return nil, nil
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("the passphrase: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the passphrase in %s: %w; run: chmod 600 %s", Shown(path), keyring.ErrReadable, Shown(path))
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	line, _, _ := strings.Cut(string(text), "\n")
	return []byte(strings.TrimRight(line, "\r")), nil
}

// plainName is a name without its final dot.
func plainName(n dnsname.Name) string { return strings.TrimSuffix(n.String(), ".") }

var _ server.Signer = (*steward)(nil)
