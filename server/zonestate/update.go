package zonestate

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/netio"
	"fencepost/rr"
	"fencepost/server/request"
	"fencepost/store"
	"fencepost/tsig"
	"fencepost/update"
	"fencepost/zone"
)

// Updates says who may change a zone by requests (RFC 2136).
type Updates struct {
	Grants update.Grants
	Keys   []*tsig.Key // those that the grants name
	// Gather is how long after one version requests are gathered for the next, while they come several
	// at once: a burst of them makes few versions, and none waits longer. Who asks for one thing after
	// another would wait in vain, and does not.
	Gather time.Duration
	Limits update.Limits // of what the holders of keys make
}

// Limits of requests to change a zone.
const (
	mostWaiting  = 2048 // requests that wait for their turn, of one zone
	mostTogether = 1024 // that make one version
)

// updateQueue is the requests that a zone is to be changed by, in the order in which they came.
type updateQueue struct {
	mu      sync.Mutex
	waiting []*queued
	busy    bool // somebody carries them out
	// Of whoever does: when they made a version, and how many made it.
	last     time.Time
	together int
}

// queued is a request that waits.
type queued struct {
	request.Update
	done func(*update.Refusal)
	also []*zoneState // other versions of the zone that it changes too: all of them, or none
}

// Update implements request.Zone.
func (z requested) Update(u request.Update, done func(*update.Refusal)) {
	var targets []*zoneState
	for _, version := range z.s.table.Load().versions(z.name) {
		if g := version.cfg.Load().Updates; g != nil && len(g.Grants.For(u.Key, z.name)) > 0 {
			targets = append(targets, version)
		}
	}
	if len(targets) == 0 {
		targets = []*zoneState{z.zoneState} // which says why not
	}
	z.s.enqueueUpdate(targets[0], u, done, targets[1:]...)
}

// enqueueUpdate has a request carried out when those before it have been; also are other versions of the
// zone that it changes too.
func (s *Zones) enqueueUpdate(z *zoneState, u request.Update, done func(*update.Refusal), also ...*zoneState) {
	if !s.repeats.begins(u.Digest, done) {
		return
	}
	q := &queued{u, func(no *update.Refusal) {
		if no != nil {
			s.Log.Info("update refused", "zone", z.String(), "by", whose(&u), "from", u.From.String(), "code", no.Code.String(), "why", no.Why)
		}
		s.noteAnswered(&u, no)
		s.repeats.ended(u.Digest, no)
	}, also}
	if no := z.authorize(&u); no != nil {
		q.done(no)
		return
	}
	z.requests.mu.Lock()
	full := len(z.requests.waiting) >= mostWaiting
	begins := !full && !z.requests.busy
	if !full {
		z.requests.waiting = append(z.requests.waiting, q)
		z.requests.busy = true
	}
	z.requests.mu.Unlock()
	switch {
	case full:
		q.done(failed("too many changes wait already"))
	case begins:
		s.running.Go(func() { s.runQueue(z) })
	}
}

func failed(why string) *update.Refusal { return &update.Refusal{Code: message.ServFail, Why: why} }
func denied(why string) *update.Refusal { return &update.Refusal{Code: message.Refused, Why: why} }

// authorize is nil where whoever asks may change anything in a zone at all. Nothing is told of the zone
// to others.
func (z *zoneState) authorize(u *request.Update) *update.Refusal {
	cfg := z.cfg.Load()
	switch {
	case cfg.Role().Fetches():
		return denied("this server is secondary for the zone: send changes to its primary")
	case u.By != "":
	case cfg.Updates == nil || len(cfg.Updates.Grants.For(u.Key, z.name)) == 0:
		return denied("the key has no grant for this zone")
	}
	return nil
}

// runQueue carries out what waits, until nothing does.
func (s *Zones) runQueue(z *zoneState) {
	q := &z.requests
	for {
		s.gather(z)
		q.mu.Lock()
		batch := q.waiting[:togetherOf(q.waiting)]
		q.together = len(batch)
		q.waiting = slices.Clone(q.waiting[len(batch):])
		if len(batch) == 0 {
			q.busy = false
			q.mu.Unlock()
			return
		}
		q.mu.Unlock()
		if len(batch) == 1 && len(batch[0].also) > 0 {
			batch[0].done(s.changeVersions(z, batch[0]))
			continue
		}
		for i, no := range s.changeBy(z, batch) {
			batch[i].done(no)
		}
	}
}

// togetherOf is how many of the requests that wait make one version together. One that changes several
// versions is carried out by itself.
func togetherOf(waiting []*queued) int {
	n := slices.IndexFunc(waiting, func(q *queued) bool { return len(q.also) > 0 })
	switch {
	case n == 0:
		return 1
	case n > 0:
		return min(n, mostTogether)
	}
	return min(len(waiting), mostTogether)
}

// changeVersions carries out a request in several versions of a zone: in all, or, where one refuses it or
// cannot be stored, in none.
func (s *Zones) changeVersions(z *zoneState, q *queued) *update.Refusal {
	all := append([]*zoneState{z}, q.also...) // everyone's first: all do it in one order
	batches, before := make([]*batchOf, len(all)), make([]version, len(all))
	for i, v := range all {
		v.contentMu.Lock()
		defer v.contentMu.Unlock()
		if no := s.changeable(v); no != nil {
			return no
		}
		before[i] = v.lastGood()
		batches[i] = newBatch(before[i], 1)
		if no := batches[i].change(q, v.cfg.Load().Updates, 0); no != nil {
			return no
		}
	}
	for i, v := range all {
		if batches[i].by == nil {
			continue
		}
		err := s.installUpdate(v, batches[i].now, batches[i].who(), before[i])
		if err == nil {
			continue
		}
		s.Log.Error("changes could not be made", "zone", v.String(), "error", err)
		for j, done := range all[:i] {
			if batches[j].by != nil {
				s.takeBack(done, before[j])
			}
		}
		return failed("the change could not be stored, and was not made")
	}
	for _, v := range all {
		s.notifyPeers(v)
	}
	return nil
}

// takeBack makes a version what it was, under a new serial: secondaries go forward only.
func (s *Zones) takeBack(z *zoneState, was version) {
	last := z.lastGood()
	back, err := was.source.Replace([]zone.Content{apexWithSerial(was.source, rr.NextSerial(last.source.Serial()))})
	if err == nil {
		err = s.installUpdate(z, back, "the server itself", last)
	}
	if err != nil {
		s.Log.Error("a change could be made in one version of the zone alone, and not be taken back", "zone", z.String(), "error", err)
	}
}

// apexWithSerial is the content of a zone's apex with another serial.
func apexWithSerial(z *zone.Snapshot, serial uint32) zone.Content {
	var apex zone.Node
	z.ApexNode(&apex)
	var w zone.NodeWriter
	for set := range apex.RRsets {
		if set.Type == rr.TypeSOA {
			set = set.With(rr.SetSerial(slices.Clone(set.First()), serial))
		}
		w.AddSet(set)
	}
	return zone.Content{Owner: z.Apex(), Records: w.Records()}
}

// gather waits for the time of the next version. Where time is set by somebody, nobody waits.
func (s *Zones) gather(z *zoneState) {
	cfg, q := z.cfg.Load(), &z.requests
	q.mu.Lock()
	alone := len(q.waiting) <= 1 && q.together <= 1
	q.mu.Unlock()
	if s.Stepped || cfg.Updates == nil || alone {
		return
	}
	if wait := q.last.Add(cfg.Updates.Gather).Sub(s.Now()); wait > 0 && wait <= cfg.Updates.Gather {
		select {
		case <-netio.After(s.clock, wait):
		case <-s.ending:
		}
	}
}

// changeBy makes the next version of a zone by requests, each in turn, and tells what came of them.
func (s *Zones) changeBy(z *zoneState, batch []*queued) []*update.Refusal {
	z.contentMu.Lock()
	defer z.contentMu.Unlock()
	out := make([]*update.Refusal, len(batch))
	all := func(from int, no *update.Refusal) []*update.Refusal {
		for i := range out[from:] {
			out[from+i] = no
		}
		return out
	}
	if no := s.changeable(z); no != nil {
		return all(0, no)
	}
	cfg, last := z.cfg.Load(), z.lastGood()
	b := newBatch(last, len(batch))
	for i, q := range batch {
		out[i] = b.change(q, cfg.Updates, i)
	}
	if b.first == len(batch) {
		return out
	}
	z.requests.last = s.Now()
	if err := s.installUpdate(z, b.now, b.who(), last); err != nil {
		s.Log.Error("changes could not be made", "zone", z.String(), "error", err)
		// What came after the first of them was worked out from what never was.
		return all(b.first, s.notMade(z, err))
	}
	s.notifyPeers(z)
	return out
}

// notMade takes note of why changes could not be made, and is the answer to who asked for them.
func (s *Zones) notMade(z *zoneState, err error) *update.Refusal {
	if signing, is := errors.AsType[*signingError](err); is {
		s.setProblem(z, signing)
		return failed("the zone could not be signed with the change, which was not made")
	}
	s.setUnstored(z, err)
	s.planStoreProbe(z)
	return failed("the change could not be stored, and was not made")
}

// planStoreProbe plans to see whether the store takes something for a zone again.
func (s *Zones) planStoreProbe(z *zoneState) {
	s.sched.plan(z, here, "probe "+storeID(z), s.Now().Add(storeRetry), func(context.Context) {
		err := s.storing(func() error { return s.storeOf(z).Update(z.name, func(*store.Meta) {}) })
		z.mu.Lock()
		owed := z.head != nil && z.head != z.lastGood().served // that is stored by itself, see storeOr
		z.mu.Unlock()
		if err != nil {
			s.setUnstored(z, err)
			s.planStoreProbe(z)
		} else if !owed {
			s.setUnstored(z, nil)
		}
	})
}

// changeable is nil where requests can change a zone now. What a signed version was made of is read
// where that has not been done since the start.
func (s *Zones) changeable(z *zoneState) *update.Refusal {
	if s.table.Load().zones[z.id()] != z {
		return &update.Refusal{Code: message.NotAuth, Why: "the zone is no longer served from here"}
	}
	if last := z.lastGood(); last.source == nil && z.snap() != nil && !z.role().Fetches() {
		o := last.origin
		source, err := s.sourceOf(context.Background(), z, &o)
		if err != nil {
			return failed(fmt.Sprintf("the zone's file could not be read: %v", err))
		}
		z.mu.Lock()
		z.amend(func(v *version) { v.source, v.stamp, v.checks, v.read = source, o.stamp, o.checks, o.read })
		z.mu.Unlock()
	}
	switch last := z.lastGood(); {
	case last.source == nil || z.snap() == nil:
		return failed("the zone's file could not be read")
	case !z.role().Signs() && last.source.Signed():
		return denied("the zone is signed elsewhere: its signatures would not fit")
	}
	return nil
}

// newBatch begins a version after the last one by n requests.
func newBatch(last version, n int) *batchOf {
	return &batchOf{now: last.source, next: rr.NextSerial(last.source.Serial()), first: n}
}

// batchOf is a version that requests are making.
type batchOf struct {
	now   *zone.Snapshot
	next  uint32 // serial of the version, where no request brings one
	first int    // the first request that changed anything
	by    map[string]bool
}

// change carries out one request, in the order of RFC 2136 §3.
func (b *batchOf) change(q *queued, u *Updates, i int) *update.Refusal {
	var mine update.Grants
	if u != nil {
		mine = u.Grants.For(q.Key, q.Zone)
	}
	if q.By == "" && len(mine) == 0 { // the configuration has changed meanwhile
		return denied("the key has no grant for this zone")
	}
	if q.By == "" {
		if no := mine.MayAsk(q.Request); no != nil {
			return no
		}
	}
	if no := q.Check(b.now); no != nil {
		return no
	}
	if q.By == "" {
		if no := mine.Allow(q.Request, b.now, q.Asker); no != nil {
			return no
		}
	}
	if no := q.Scan(); no != nil {
		return no
	}
	next, err := q.Apply(b.now, func(serial uint32) uint32 {
		if rr.NewerSerial(serial, b.next) { // a request brought it
			return serial
		}
		return b.next
	})
	if err != nil {
		return failed(err.Error())
	}
	limits := update.Limits{}
	if u != nil && q.By == "" {
		limits = u.Limits
	}
	if no := q.Forbidden(b.now, next, limits); no != nil {
		return no
	}
	switch {
	case next == b.now:
		return nil
	case b.by == nil:
		b.by, b.first = map[string]bool{}, i
	}
	b.now = next
	b.by[whose(&q.Update)] = true
	return nil
}

// whose a request is, in words.
func whose(u *request.Update) string {
	if u.By != "" {
		return u.By
	}
	return "key " + u.Key.Plain()
}

// UpdateBy has a request carried out that somebody may give without a key. by says who, in words.
func (s *Zones) UpdateBy(name dnsname.Name, r *update.Request, by string) error {
	z := s.table.Load().zones[name.Key()]
	if z == nil {
		return fmt.Errorf("%s: %w", name, ErrNoZone)
	}
	u := request.Update{Request: r, By: by}
	_, _ = rand.Read(u.Digest[:]) // never fails (crypto/rand); no two are the same
	done := make(chan *update.Refusal, 1)
	s.enqueueUpdate(z, u, func(no *update.Refusal) { done <- no })
	if no := <-done; no != nil {
		return no
	}
	return nil
}

// who made the version, in words.
func (b *batchOf) who() string {
	const most = 3
	all := slices.Sorted(maps.Keys(b.by))
	if len(all) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(all[:most], ", "), len(all)-most)
	}
	return strings.Join(all, ", ")
}
