package app

import (
	"context"
	"encoding/binary"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/resolve"
	"fencepost/roll"
	"fencepost/rr"
	"fencepost/server"
	"fencepost/workspace"
	"fencepost/zone"
)

// LostKeysError says that a zone was signed with keys that are not here: to sign it
// with new ones would make validating resolvers reject it.
type LostKeysError struct {
	Zone   dnsname.Name
	Folder string
	Why    string // what says that it was signed
}

func (e *LostKeysError) Error() string {
	z := plainName(e.Zone)
	return fmt.Sprintf("the keys of %s are not in %s, and %s. New keys would make resolvers reject the zone, so none was made. "+
		"Bring the folder back from the backup and reload; or make a key (fencepost key new %s), have the parent add its DS beside the old one (fencepost handover %s), and it is used as soon as the parent shows it; "+
		"or have the parent take its DS away, and the zone is signed anew when that is seen", z, e.Folder, e.Why, z, z)
}

// mayBegin refuses to begin to sign a zone that was signed before with keys that are
// not in the ring. Where the parent can be asked, what counts is its DS; else what
// lies here.
func (s *steward) mayBegin(ctx context.Context, ring *keyring.Ring, j server.SignJob) error {
	lost := func(format string, args ...any) error {
		return &LostKeysError{s.zone.Name, Shown(s.dir), fmt.Sprintf(format, args...)}
	}
	w := &watcher{zone: s.zone.Name, ring: ring, now: s.app.Now}
	sets, asked := w.dsSets(ctx, s.parents(ctx))
	if asked {
		candidates := unused(ring)
		for _, set := range sets {
			if len(set.data) == 0 {
				continue
			}
			fits := slices.ContainsFunc(set.data, func(ds []byte) bool {
				return slices.ContainsFunc(candidates, func(e *keyring.Entry) bool { return entryPoint(e) && matchesDS(s.zone.Name, e.Public, ds) })
			})
			if !fits {
				return lost("the parent has a DS of key %s", dsTags(set.data))
			}
		}
		return nil
	}
	if tags := zoneTags(j.Signed); tags != "" {
		return lost("the version in service is signed with key %s", tags)
	}
	if files := strayKeys(ring); len(files) > 0 {
		return lost("private keys lie there that keyring.toml does not list: %s", strings.Join(files, ", "))
	}
	return nil
}

// dsSets are the DS sets at all servers of the parent; asked tells that each of them
// answered, and that there are some.
func (w *watcher) dsSets(ctx context.Context, parents []*workspace.Peer) (out []dsNow, asked bool) {
	out = make([]dsNow, len(parents))
	errs := make([]error, len(parents))
	var wg sync.WaitGroup
	for i, p := range parents {
		wg.Go(func() { out[i], errs[i] = w.parentDS(ctx, p.Address) })
	}
	wg.Wait()
	return out, len(parents) > 0 && !slices.ContainsFunc(errs, func(err error) bool { return err != nil })
}

// dsTags are the key tags in DS data.
func dsTags(set [][]byte) string {
	var tags []uint16
	for _, ds := range set {
		if len(ds) > 2 && !slices.Contains(tags, binary.BigEndian.Uint16(ds)) {
			tags = append(tags, binary.BigEndian.Uint16(ds))
		}
	}
	return roll.Names(tags)
}

// zoneTags are the tags of the keys in a zone; empty if it has none.
func zoneTags(z *zone.Snapshot) string {
	if z == nil {
		return ""
	}
	var apex zone.Node
	var tags []uint16
	z.ApexNode(&apex)
	set, _ := apex.Find(rr.TypeDNSKEY)
	for data := range set.Data {
		tags = append(tags, dnssec.KeyTag(data))
	}
	if len(tags) == 0 {
		return ""
	}
	return roll.Names(tags)
}

// strayKeys are the key files in a ring's folder that the ring does not list.
func strayKeys(ring *keyring.Ring) (out []string) {
	files, _ := filepath.Glob(filepath.Join(ring.Dir, "*.pem"))
	for _, f := range files {
		name := filepath.Base(f)
		if !slices.ContainsFunc(ring.Keys, func(e *keyring.Entry) bool { return filepath.Base(e.File) == name }) {
			out = append(out, name)
		}
	}
	return out
}

// serialAfter is the serial that a version is signed with: the server's wish, but
// after all that was signed before, also where the server's store is gone.
func (s *steward) serialAfter(ctx context.Context, ring *keyring.Ring, j server.SignJob) uint32 {
	serial := j.Serial
	raise := func(known uint32) {
		if known != 0 && !rr.NewerSerial(serial, known) {
			serial = rr.NextSerial(known)
		}
	}
	raise(ring.Serial)
	if j.Signed == nil && ring.Roll.Signs() { // signed before, and nothing is left of it
		for _, known := range s.servedElsewhere(ctx) {
			raise(known)
		}
		if serial != j.Serial || ring.Serial != 0 {
			s.log.Warn("the last signed version is not in the store; the serial goes on from what the keys and the secondaries know", "zone", s.zone.Name.String(), "serial", serial)
		}
	}
	return serial
}

// servedElsewhere are the serials that the secondaries show.
func (s *steward) servedElsewhere(ctx context.Context) (out []uint32) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, p := range watched(s.zone) {
		wg.Go(func() {
			resp, err := resolve.Ask(ctx, p.Address, resolve.Request{Name: s.zone.Name, Type: rr.TypeSOA, Timeout: lookTimeout, TSIG: p.TSIG, Now: s.app.Now})
			if err != nil {
				return
			}
			for _, r := range resp.Answer {
				if soa, err := rr.ParseSOA(r.Data); r.Type == rr.TypeSOA && err == nil {
					mu.Lock()
					out = append(out, soa.Serial)
					mu.Unlock()
				}
			}
		})
	}
	wg.Wait()
	return out
}

// watchDSEvery is how often the parent is asked for the DS of a zone outside
// rollovers: for as long as the zone lives, for it may turn wrong at any time.
const watchDSEvery = time.Hour

// watchDS looks whether the parent has the DS of the keys in use, outside rollovers,
// and tells when to look again.
func (s *steward) watchDS(ctx context.Context, ring *keyring.Ring, z *zone.Snapshot, now time.Time) time.Time {
	if ring.Roll.Roll != nil || !slices.ContainsFunc(ring.Keys, func(e *keyring.Entry) bool { return e.DS }) {
		return time.Time{}
	}
	w := &watcher{zone: s.zone.Name, ring: ring, now: s.app.Now}
	looks, ttl := w.looks(ctx, nil, s.parents(ctx))
	if ttl > 0 {
		ring.TTLs.DS = ring.TTLs.DS.Note(ttl, now, expireOf(z))
	}
	if ring.Roll.Unseen() && ring.Roll.NoteParent(looks, now) {
		s.tell([]string{"the parent has the DS of the keys in use"})
	}
	s.noteParent(ring, looks, w.rejects.Load(), now)
	return now.Add(watchDSEvery)
}

// noteParent keeps what is wrong at the parent, and tells when that changes.
func (s *steward) noteParent(ring *keyring.Ring, looks []roll.Look, rejects bool, now time.Time) {
	problem, answered := "", false
	for _, l := range looks {
		answered = answered || l.Err == nil
		if l.Err == nil && l.Wrong != "" && problem == "" {
			problem = l.Server + ": " + l.Wrong
		}
	}
	if !answered {
		return // nothing new is known
	}
	if ring.Roll.Unseen() && !rejects { // the parent was not told yet, or is slow: that is no trouble
		problem = ""
	}
	if problem == ring.Parent.Problem {
		return
	}
	if ring.Parent.Problem == "" {
		ring.Parent.Since = now
	}
	ring.Parent.Problem, ring.Parent.Rejects = problem, rejects
	if problem == "" {
		ring.Parent.Since = time.Time{}
		s.log.Info("the DS at the parent is right again", "zone", s.zone.Name.String())
		return
	}
	s.log.Error("the DS at the parent is not that of the keys in use", "zone", s.zone.Name.String(), "problem", problem, "rejected", rejects)
}

// stuckAfter is for how long something may be wrong before a rollover counts as
// stuck.
const stuckAfter = time.Hour

// State implements server.Signer.
func (s *steward) State() (out server.KeyState) {
	ring, err := s.open()
	if err != nil {
		return out // the server has the same problem, and says so
	}
	now := s.app.Now()
	if r := ring.Roll.Roll; r != nil {
		t := timing(ring, s.zone.Sign)
		out.Rollover = r.Kind.Words()
		for _, row := range r.Timeline(now, &t) {
			if row.Phase == roll.Now {
				out.Step, out.Waits = row.Title, row.Waits
			}
		}
		for _, o := range r.Sights {
			out.Stuck = out.Stuck || o.Problem != "" && now.Sub(later(o.Seen, r.Shown)) > stuckAfter && !r.Shown.IsZero()
			if o.Parent && strings.Contains(o.Problem, rejectsWords) {
				out.DS, out.DSWrong = o.Server+": "+o.Problem, true
			}
		}
		return out
	}
	if out.DS, out.DSWrong = ring.Parent.Problem, ring.Parent.Rejects; out.DS != "" {
		out.Stuck = true
		return out
	}
	for _, e := range ring.Keys {
		switch {
		case e.DS && !e.Seen.IsZero():
			out.DS = fmt.Sprintf("the parent has the DS of key %d", e.Tag)
		case e.DS:
			out.DS = fmt.Sprintf("the parent has not been seen to have the DS of key %d", e.Tag)
		}
	}
	return out
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
