package keymanager

import (
	"context"
	"encoding/binary"
	"fmt"
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
	return fmt.Sprintf("the keys of %s are not in %s, and %s. New keys would make resolvers reject the zone, so none was made", e.Zone.Plain(), e.Folder, e.Why)
}

// mayBegin refuses to begin to sign a zone that was signed before with keys that are
// not in the ring. Where the parent can be asked, what counts is its DS; else what
// lies here.
func (s *Manager) mayBegin(ctx context.Context, ring *keyring.Ring, j Job) error {
	lost := func(format string, args ...any) error {
		return &LostKeysError{s.Name, s.Dir, fmt.Sprintf(format, args...)}
	}
	sets, asked := s.observer(ring).dsSets(ctx, s.parents(ctx))
	if asked {
		candidates := ring.Unused()
		for _, set := range sets {
			if len(set.Data) == 0 {
				continue
			}
			fits := slices.ContainsFunc(set.Data, func(ds []byte) bool {
				return slices.ContainsFunc(candidates, func(e *keyring.Entry) bool { return e.EntryPoint() && matchesDS(s.Name, e.Public, ds) })
			})
			if !fits {
				return lost("the parent has a DS of key %s", dsTags(set.Data))
			}
		}
		return nil
	}
	if tags := zoneTags(j.Signed); tags != "" {
		return lost("the version in service is signed with key %s", tags)
	}
	if files := ring.Unlisted(); len(files) > 0 {
		return lost("private keys lie there that keyring.toml does not list: %s", strings.Join(files, ", "))
	}
	return nil
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

// serialAfter is the serial that a version is signed with: the server's wish, but
// after all that was signed before, also where the server's store is gone.
func (s *Manager) serialAfter(ctx context.Context, ring *keyring.Ring, j Job) uint32 {
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
			s.Log.Warn("the last signed version is not in the store; the serial goes on from what the keys and the secondaries know", "zone", s.Name.String(), "serial", serial)
		}
	}
	return serial
}

// servedElsewhere are the serials that the secondaries show.
func (s *Manager) servedElsewhere(ctx context.Context) (out []uint32) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, p := range s.Servers {
		wg.Go(func() {
			resp, err := resolve.Ask(ctx, p.Address, resolve.Request{Net: s.Net, Name: s.Name, Type: rr.TypeSOA, Timeout: LookTimeout, TSIG: p.Key})
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

// watchesDS reports whether the parent is asked for the DS outside of rollovers: there are
// keys that it is to have one of.
func watchesDS(ring *keyring.Ring) bool {
	return ring.Roll.Roll == nil && slices.ContainsFunc(ring.Keys, func(e *keyring.Entry) bool { return e.DS })
}

// heardOfDS notes whether the parent has the DS of the keys in use.
func (s *Manager) heardOfDS(ring *keyring.Ring, o *observed, z *zone.Snapshot, now time.Time) {
	if o.ttl > 0 {
		ring.TTLs.DS = ring.TTLs.DS.Note(o.ttl, now, expireOf(z))
	}
	if (ring.Roll.Unseen() || ring.Roll.Lingers()) && ring.Roll.NoteParent(o.looks, now) {
		s.tell([]string{"the parent has the DS of the keys in use, and no other"})
	}
	s.noteParent(ring, o.looks, o.rejects, now)
}

// noteParent keeps what is wrong at the parent, and tells when that changes.
func (s *Manager) noteParent(ring *keyring.Ring, looks []roll.Observation, rejects bool, now time.Time) {
	problem, answered := "", false
	for _, l := range looks {
		answered = answered || l.Err == nil
		if l.Err == nil && l.Mismatch != "" && problem == "" {
			problem = l.Server + ": " + l.Mismatch
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
		s.Log.Info("the DS at the parent is right again", "zone", s.Name.String())
		return
	}
	s.Log.Error("the DS at the parent is not that of the keys in use", "zone", s.Name.String(), "problem", problem, "rejected", rejects)
}

// stuckAfter is for how long something may be wrong before a rollover counts as
// stuck.
const stuckAfter = time.Hour

// State tells what there is to tell of the keys. It asks nobody and does not wait.
func (s *Manager) State() (out State) {
	ring, err := s.open()
	if err != nil {
		return out // the server has the same problem, and says so
	}
	now := s.Now()
	if r := ring.Roll.Roll; r != nil {
		t := s.Policy.Timing(ring)
		out.Rollover = r.Kind.Description()
		for _, row := range r.Timeline(now, &t) {
			if row.Phase == roll.Now {
				out.Step, out.Waits = row.Title, row.Waits
			}
		}
		for _, o := range r.States {
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
