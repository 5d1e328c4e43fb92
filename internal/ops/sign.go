package ops

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/keyring"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
)

// SignOptions of Sign.
type SignOptions struct {
	Operand string // file or zone
	Origin  string
	Keys    string // folder; empty: the workspace's
	// Previous is a signed version of before, whose signatures are kept where they
	// still fit: a file, or empty.
	Previous       string
	Denial         string // nsec or nsec3; empty: as the policy says, else nsec
	Salt           string // hexadecimal
	Iterations     int
	OptOut         bool
	Zonemd         bool
	Validity       string
	CheckAll       bool // verify every signature made
	Prove          bool // verify the whole file before it appears
	KeepKeys       bool
	PassphraseFile string
	Out            string // "-" is standard output, "" NAME.signed in the present folder
	Stdout         io.Writer
	// Progress is told of names done out of all.
	Progress func(done, all int)
}

// Signed is the result of Sign.
type Signed struct {
	Zone   dnsname.Name
	Serial uint32
	Out    string
	signer.Report
	Keys     int
	Started  []uint16 // keys put to use by this
	Warnings []string
	Elapsed  time.Duration
	Input    *Checked
}

// zoneFileOf is zoneFile where --origin may name the zone that the file holds.
func (a *App) zoneFileOf(operand, origin string) (path string, name dnsname.Name, err error) {
	if path, name, err = a.ZoneFile(operand); err == nil && origin != "" {
		name, err = edit.GivenOrigin(origin)
	}
	return path, name, err
}

// input loads the zone that an operand means for signing or proving.
func (a *App) input(operand, origin string, src *source.Set, diags *diag.List) (*edit.Input, error) {
	path, name, err := a.zoneFileOf(operand, origin)
	if err != nil {
		return nil, err
	}
	r := a.Reader()
	in, err := edit.LoadZone(r, src, diags, path, name, dnsname.Name{})
	if err == nil {
		*diags = *r.Settings.Settle(diags, src.Files(), false)
	}
	return in, err
}

// Sign signs a zone file. A file with errors is not signed.
func (a *App) Sign(ctx context.Context, o SignOptions) (*Signed, error) {
	start := time.Now()
	in := &Checked{Source: &source.Set{}, Diags: &diag.List{}}
	zi, err := a.input(o.Operand, o.Origin, in.Source, in.Diags)
	if err != nil {
		return nil, err
	}
	out := o.Out
	if out == "" && zi.Zone != nil {
		out = zi.Zone.Apex().Plain() + ".signed"
	}
	if err := a.mayOverwrite(zi.Path, out); err != nil {
		return nil, err
	}
	in.Diags.Sort()
	if zi.Errors() > 0 {
		return &Signed{Input: in}, fmt.Errorf("nothing was signed: %w", edit.ErrFindings)
	}
	ring, started, commit, err := a.ringToSign(zi.Zone.Apex(), &o)
	if err != nil {
		return nil, err
	}
	p, warnings, err := a.signingPolicy(zi.Zone.Apex(), ring, &o)
	if err != nil {
		return nil, err
	}
	p.Done = progress(o.Progress, zi.Zone.Names())
	if w := keymanager.TooShort(p, zi.Zone.Snapshot); w != "" {
		warnings = append(warnings, w)
	}
	if o.Previous != "" {
		if p.Previous, err = a.previous(o.Previous, zi.Zone.Apex()); err != nil {
			return nil, err
		}
	}
	snap, report, err := signer.Sign(ctx, zi.Zone.Snapshot, ring.Signers(), p, a.Now())
	if err != nil {
		return nil, err
	}
	if report.Foreign > 0 && !p.KeepKeys {
		warnings = append(warnings, fmt.Sprintf("%d DNSKEY records in the file are of keys that are not here and were left out; keep those of another operator with --keep-keys", report.Foreign))
	}
	was := signedBefore(out, snap.Apex())
	if err := a.writeSigned(ctx, out, o, snap, commit); err != nil {
		return nil, err
	}
	if w := sameSerial(was, p.Previous, snap, out); w != "" {
		warnings = append(warnings, w)
	}
	return &Signed{Zone: snap.Apex(), Serial: snap.Serial(), Out: out, Report: report, Keys: len(ring.Signers()), Started: started, Warnings: warnings, Elapsed: time.Since(start), Input: in}, nil
}

// ringToSign opens the keys that sign. Keys that were made and never used are put
// to use when no others are; commit notes that in the ring, once there is a signed
// zone.
func (a *App) ringToSign(apex dnsname.Name, o *SignOptions) (ring *keyring.Ring, started []uint16, commit func() error, err error) {
	if ring, err = a.ring(apex, o.Keys); err != nil {
		return nil, nil, nil, err
	}
	if plain := apex.Plain(); len(ring.Keys) == 0 {
		return nil, nil, nil, fmt.Errorf("%w of %s in %s; make one with: fencepost key new %s%s", errNoKeys, plain, edit.Shown(ring.Dir), plain, keysFlag(o.Keys))
	}
	commit = func() error { return nil }
	if !ring.Roll.Signs() {
		now := a.Now()
		if started, err = a.firstUse(ring, o, now); err != nil {
			return nil, nil, nil, err
		}
		commit = func() error {
			return a.withRing(ring.Dir, ring.Zone, func(again *keyring.Ring) error {
				_, err := a.firstUse(again, o, now)
				return err
			})
		}
	}
	passphrase, err := keyring.ReadPassphrase(o.PassphraseFile)
	if err != nil {
		return nil, nil, nil, err
	}
	return ring, started, commit, ring.Unlock(keyring.Signing, passphrase)
}

// firstUse puts keys to use that were made and never used. In a workspace that signs
// the zone that begins as its server does: the parent is asked for a DS only when
// caches have had time; with a folder of keys alone nobody but the user can tell.
func (a *App) firstUse(ring *keyring.Ring, o *SignOptions, now time.Time) (started []uint16, err error) {
	plain, fresh := ring.Zone.Plain(), ring.Unused()
	if !keymanager.Covers(fresh) {
		return nil, fmt.Errorf("the keys of %s in %s do not cover the work: a ksk and a zsk are needed, or a single key; make one with: fencepost key new %s --role zsk%s", plain, edit.Shown(ring.Dir), plain, keysFlag(o.Keys))
	}
	var keys []*roll.Key
	for _, e := range fresh {
		keys = append(keys, e.Key)
		started = append(started, e.Tag)
	}
	if o.Keys == "" && a.policyOf(ring.Zone) != nil {
		if err := ring.Roll.Start(roll.GoSecure, keys, "the zone is signed for the first time", now); err != nil {
			return nil, err
		}
		t := a.timingOf(ring)
		ring.Roll.Advance(now, nil, &t)
		return started, nil
	}
	for _, k := range keys {
		k.Use(now)
	}
	return started, nil
}

// signingPolicy is the policy of the zone in its workspace, changed by options.
func (a *App) signingPolicy(apex dnsname.Name, ring *keyring.Ring, o *SignOptions) (p signer.Policy, warnings []string, err error) {
	pol := keymanager.DefaultPolicy()
	if of := a.policyOf(apex); of != nil && o.Keys == "" {
		pol = of
	}
	p = pol.Signing
	switch o.Denial {
	case "":
	case "nsec", "nsec3":
		p.Denial = signer.Denial{NSEC3: o.Denial == "nsec3"}
	default:
		return p, nil, edit.Usage("--denial %s: write nsec or nsec3", o.Denial)
	}
	if (o.OptOut || o.Salt != "" || o.Iterations != 0) && !p.Denial.NSEC3 {
		return p, nil, edit.Usage("--opt-out, --salt and --iterations mean something with --denial nsec3 only")
	}
	if o.Iterations < 0 || o.Iterations > signer.MaxIterations {
		return p, nil, edit.Usage("--iterations %d: resolvers treat such a zone as unsigned (RFC 9276 §3.2); leave it out", o.Iterations)
	}
	if o.Iterations > 0 || o.Salt != "" {
		warnings = append(warnings, "RFC 9276 asks for no salt and 0 iterations: others cost every resolver time and hide nothing")
		if p.Denial.Params.Salt, err = hex.DecodeString(o.Salt); err != nil || len(p.Denial.Params.Salt) > 255 {
			return p, nil, edit.Usage("--salt %s is not hexadecimal of at most 255 octets", o.Salt)
		}
		p.Denial.Params.Iterations = uint16(o.Iterations)
	}
	p.Denial.OptOut = p.Denial.OptOut || o.OptOut
	if o.Zonemd && len(p.Zonemd) == 0 {
		p.Zonemd = []uint8{signer.ZonemdSHA384}
	}
	if o.Validity != "" {
		if p.Validity, err = workspace.ParseSpan(o.Validity); err != nil || p.Validity == 0 {
			return p, nil, edit.Usage("--valid-for %s: write a time such as 14d or 12h", o.Validity)
		}
		p.Refresh, p.Jitter = 0, 0
	}
	if o.CheckAll {
		p.CheckEvery = 1
	}
	p.KeepKeys = p.KeepKeys || o.KeepKeys
	p.CDS = pol.CDSOf(ring)
	for _, e := range ring.Keys {
		if c := e.Public.KeyConcern(); c != "" && keyring.Signing(e) {
			warnings = append(warnings, fmt.Sprintf("key %d, %s of %d bits: %s", e.Tag, e.Public.Algorithm, e.Public.Bits(), c))
		}
	}
	return p, warnings, nil
}

// previous reads a signed version whose signatures may be kept.
func (a *App) previous(path string, apex dnsname.Name) (*zone.Snapshot, error) {
	src, diags := &source.Set{}, &diag.List{}
	t, err := a.Reader().Open(src, path, apex)
	if err != nil {
		return nil, err
	}
	z, err := a.Reader().Read(t, diags)
	if err != nil || !z.Apex().Equal(apex) {
		return nil, fmt.Errorf("%s holds no version of %s", edit.Shown(path), apex.Plain())
	}
	return z.Snapshot, nil
}

// written is a signed file as far as it need be known to be compared.
type written struct {
	serial uint32
	sum    [sha256.Size]byte
	known  bool
}

// signedBefore looks at a signed zone that is about to be written over: its serial, which
// stands at its head, and the digest of the file. What is no such file is not known.
func signedBefore(path string, apex dnsname.Name) (w written) {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return w
	}
	f, err := os.Open(path)
	if err != nil {
		return w
	}
	defer f.Close()
	head := make([]byte, 16<<10)
	n, _ := io.ReadFull(f, head)
	head = head[:bytes.LastIndexByte(head[:n], '\n')+1]
	var src source.Set
	text, err := src.Add(path, head)
	if err != nil {
		return w
	}
	soa := zonefile.Parse(text, zonefile.Options{Origin: apex}, &diag.List{}).SOA()
	if soa == nil {
		return w
	}
	values, err := rr.ParseSOA(soa.Data)
	if _, serr := f.Seek(0, io.SeekStart); err != nil || serr != nil {
		return w
	}
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return w
	}
	return written{values.Serial, [sha256.Size]byte(h.Sum(nil)), true}
}

// sameSerial says that a signed zone differs from the one before under the same serial:
// the one that was named, else the file that was written over.
func sameSerial(was written, before, after *zone.Snapshot, out string) string {
	same := false
	switch now := signedBefore(out, after.Apex()); {
	case before != nil:
		same = before.Serial() == after.Serial() && !zone.Equal(before, after)
	case was.known && now.known:
		same = was.serial == now.serial && was.sum != now.sum
	}
	if !same {
		return ""
	}
	return fmt.Sprintf("the serial is still %d and what is signed is not the same: secondaries that have it will not fetch this; raise the serial with: fencepost serial FILE --next, and sign again", after.Serial())
}

func keysFlag(dir string) string {
	if dir == "" {
		return ""
	}
	return " --keys " + dir
}

// progress turns counts of names done into a running total. It may be called
// from several goroutines.
func progress(f func(done, all int), all int) func(int) {
	if f == nil {
		return nil
	}
	var total counter
	return func(n int) { f(total.add(n), all) }
}

// counter is a running total for several goroutines.
type counter struct{ n atomic.Int64 }

func (c *counter) add(n int) int { return int(c.n.Add(int64(n))) }
