package lint

import (
	"bytes"
	"hash/maphash"
	"slices"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// CheckState says that checks found nothing in a version of a zone, and what they asked about
// names other than the one they were looking at. With that it can be told from what differs
// whether they find anything in the next version, without looking at the rest of it.
//
// What a check finds at a name depends on the records of the name and on what it asks the
// Pass. A name that asked about itself and names below it is looked at again when one of
// these changes; whether any name asked about one that lies elsewhere is all that is
// remembered of such questions.
//
// A CheckState never changes; it is safe for concurrent use.
type CheckState struct {
	zone   *zone.Snapshot
	checks []*Check
	asked  askedFilter
}

// Clear runs checks as Run does. It returns nil if any of them found something, or if what
// they found depends on more than the records: on how the file is written.
func Clear(checks []*Check, z *zonefile.Loaded, src *source.Set, now time.Time, diags *diag.List) *CheckState {
	had := len(diags.All)
	passes := run(checks, z, src, now, diags, true)
	if z.NotText || z.AnyCut() || z.AnyUnread() || len(diags.All) > had {
		return nil
	}
	all := newQuestions()
	for _, p := range passes {
		if p.readText {
			return nil
		}
		all.join(p.asked)
	}
	return &CheckState{z.Snapshot, checks, all.filter()}
}

// Zone is the version that was checked.
func (c *CheckState) Zone() *zone.Snapshot { return c.zone }

// As is the same of a snapshot that holds the same.
func (c *CheckState) As(z *zone.Snapshot) *CheckState {
	return &CheckState{z, c.checks, c.asked}
}

// AfterStep is After where the next version was read from nothing.
func (c *CheckState) AfterStep(z *zone.Snapshot, d *zone.Delta, now time.Time) *CheckState {
	none, err := (&source.Set{}).Add("", nil)
	if err != nil {
		return nil
	}
	return c.After(&zonefile.Loaded{Built: &zone.Built{Snapshot: z}, File: none}, d, now)
}

// maxAgain is how many names are looked at again at most: with more, all of them are as soon
// looked at, by several processors.
const maxAgain = 1 << 13

// After reports whether the checks find nothing in the version that a delta makes of the
// one that was checked: then what is known of that. Nil says that they found something, or
// that the whole has to be looked at to tell. z is the next version; its snapshot may be
// another than the one that was read, if it holds the same. What depends on the time alone
// is not seen.
func (c *CheckState) After(z *zonefile.Loaded, d *zone.Delta, now time.Time) *CheckState {
	if z.NotText || z.AnyCut() || z.AnyUnread() {
		return nil
	}
	w := &again{c: c, z: z.Snapshot}
	if !w.collect(d) {
		return nil
	}
	bare := *z // the places of its records are not those of z.Snapshot
	bare.Built = &zone.Built{Snapshot: z.Snapshot, Conflicts: z.Conflicts}
	pl, p := newPlan(c.checks), newPass(&bare, &source.Set{}, now)
	p.diags, p.asked = &diag.List{}, newQuestions()
	p.zoneChecks(pl)
	var n zone.Node
	for _, key := range w.keys() {
		if z.Get([]byte(key), &n) {
			p.name(pl, &n, 0)
		}
	}
	if len(p.diags.All) > 0 || len(p.tallies) > 0 || p.readText {
		return nil
	}
	asked, room := c.asked.with(p.asked)
	if !room {
		return nil // to be made anew, with the names there are now
	}
	return &CheckState{z.Snapshot, c.checks, asked}
}

// again finds out which names have to be looked at again.
type again struct {
	c     *CheckState
	z     *zone.Snapshot
	names map[string]bool // their keys
}

// keys are the names in canonical order: neighbours lie on the same pages.
func (w *again) keys() []string {
	out := make([]string, 0, len(w.names))
	for k := range w.names {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// collect goes through what differs; false: names elsewhere are concerned, or too many.
func (w *again) collect(d *zone.Delta) bool {
	w.names = map[string]bool{"": true} // the apex tells of the whole zone
	for at := 0; at < len(d.Sets); {
		end := at + 1
		for end < len(d.Sets) && d.Sets[end].Owner.Equal(d.Sets[at].Owner) {
			end++
		}
		if !d.Sets[at].Hashed() && !w.name(d.Sets[at:end]) {
			return false
		}
		at = end
	}
	return len(w.names) <= maxAgain
}

// name takes what became of one name.
func (w *again) name(sets []zone.SetDelta) bool {
	key, ok := w.z.AppendKey(nil, []byte(sets[0].Owner.Wire()))
	if !ok {
		return false
	}
	for labels := dnsname.KeyLabels(key); labels > 0; labels-- {
		w.names[string(dnsname.KeyPrefix(key, labels))] = true
	}
	for i := range sets {
		t := sets[i].Type()
		if !sets[i].SerialAlone() && w.c.asked.has(keyHash(key), t) {
			return false
		}
		if t == rr.TypeNS {
			w.servers(sets[i].Removed)
			w.servers(sets[i].Added)
		}
	}
	was, is := statusOf(w.c.zone, key), statusOf(w.z, key)
	return was == is || w.moved(key, was, is)
}

// servers are looked at again when they become servers, or are none any more; see IsServer.
func (w *again) servers(set zone.RRset) {
	for data := range set.Data {
		if key, ok := w.z.AppendKey(nil, data); ok {
			w.names[string(key)] = true
		}
	}
}

// moved takes a name of which others may be told something else now; false: some asked.
func (w *again) moved(key []byte, was, is status) bool {
	if w.concerns(key) {
		return false
	}
	if was.exists != is.exists { // with it, names above that have nothing else below them
		for labels := dnsname.KeyLabels(key) - 1; labels > 0; labels-- {
			above := dnsname.KeyPrefix(key, labels)
			if inTree(w.c.zone, above) != inTree(w.z, above) && w.concerns(above) {
				return false
			}
		}
	}
	if was.hides != is.hides {
		return w.below(key)
	}
	return true
}

// concerns reports whether somebody asked about what a name bears on: itself, names below
// it, and, of a wildcard, those beside it.
func (w *again) concerns(key []byte) bool {
	if parent, ok := bytes.CutSuffix(key, star); ok && w.c.asked.has(keyHash(parent), belowIt) {
		return true
	}
	return w.c.asked.has(keyHash(key), belowIt)
}

// star is the last label of a wildcard's key.
var star = []byte{'*', 0}

// below takes all names below one: they came to be hidden, or ceased to be.
func (w *again) below(key []byte) bool {
	for _, z := range []*zone.Snapshot{w.c.zone, w.z} {
		var cur zone.Cursor
		var n zone.Node
		cur.Seek(z, key)
		for ok := cur.Valid(); ok; ok = cur.Next() {
			cur.Node(&n)
			k := n.AppendKey(nil)
			if !bytes.HasPrefix(k, key) {
				if bytes.Compare(k, key) > 0 {
					break
				}
				continue // the name before
			}
			if w.names[string(k)] = true; len(w.names) > maxAgain {
				return false
			}
		}
	}
	return true
}

// status is what other names can be told of a name.
type status struct {
	exists, alias, address bool
	hides                  hides
}

// hides is what a name does to those below it.
type hides struct{ cut, dname bool }

func statusOf(z *zone.Snapshot, key []byte) (s status) {
	var n zone.Node
	if !z.Get(key, &n) {
		return s
	}
	_, a := n.Find(rr.TypeA)
	_, aaaa := n.Find(rr.TypeAAAA)
	_, dname := n.Find(rr.TypeDNAME)
	return status{exists: true, alias: n.HasAlias(), address: a || aaaa, hides: hides{n.IsCut(), dname}}
}

// inTree reports whether a name or one below it has records.
func inTree(z *zone.Snapshot, key []byte) bool {
	var cur zone.Cursor
	var n zone.Node
	if cur.Seek(z, key) {
		return true
	}
	if !cur.Valid() || !cur.Next() {
		return false
	}
	cur.Node(&n)
	return n.HasKeyPrefix(key)
}

// belowIt stands, among what was asked of a name, for a question about it or a name below
// it that is answered from several records; other questions are about records of one type.
const belowIt = rr.Type(0)

// questions are what checks asked about names that are neither the one they looked at nor
// below it.
type questions struct {
	hashes map[uint64]bool
	recent [256]uint64 // asked lately: many records name the same host
}

func newQuestions() *questions { return &questions{hashes: map[uint64]bool{}} }

var hashSeed = maphash.MakeSeed()

func keyHash(key []byte) uint64 { return maphash.Bytes(hashSeed, key) }

// ask notes a question about records of a name.
func (q *questions) ask(key []byte, t rr.Type) {
	h := askedHash(keyHash(key), t)
	if at := &q.recent[h%uint64(len(q.recent))]; *at != h {
		*at = h
		q.hashes[h] = true
	}
}

// askBelow notes a question about a name which those above it bear on, up to the apex.
func (q *questions) askBelow(key []byte) {
	for labels := dnsname.KeyLabels(key); labels >= 0; labels-- {
		q.ask(dnsname.KeyPrefix(key, labels), belowIt)
	}
}

func (q *questions) join(o *questions) {
	for h := range o.hashes {
		q.hashes[h] = true
	}
}

// askedHash mixes a type into the hash of a name.
func askedHash(h uint64, t rr.Type) uint64 {
	const odd = 0x9E3779B97F4A7C15
	return (h ^ uint64(t)) * odd
}

// askedFilter says of a question whether it was asked; now and then it says so of one that
// was not (a Bloom filter, two bits a question).
type askedFilter struct {
	bits []uint64 // a power of two of them
	n    int      // questions
}

// bitsPerQuestion leaves fewer than two of a hundred questions taken for others. When
// twice as many were added, the filter is full.
const bitsPerQuestion = 16

func (q *questions) filter() askedFilter {
	words := 1
	for words*64 < len(q.hashes)*bitsPerQuestion {
		words *= 2
	}
	f := askedFilter{bits: make([]uint64, words)}
	f.add(q)
	return f
}

func (f *askedFilter) add(q *questions) {
	for h := range q.hashes {
		for _, at := range f.places(h) {
			f.bits[at/64] |= 1 << (at % 64)
		}
	}
	f.n += len(q.hashes)
}

func (f *askedFilter) places(h uint64) [2]uint64 {
	all := uint64(len(f.bits)) * 64
	return [2]uint64{h % all, h >> 32 % all}
}

func (f *askedFilter) has(key uint64, t rr.Type) bool {
	for _, at := range f.places(askedHash(key, t)) {
		if f.bits[at/64]&(1<<(at%64)) == 0 {
			return false
		}
	}
	return true
}

// with is a filter with more questions; false: there is no room for them.
func (f *askedFilter) with(q *questions) (askedFilter, bool) {
	const most = bitsPerQuestion / 2
	news := &questions{hashes: map[uint64]bool{}}
	for h := range q.hashes {
		for _, at := range f.places(h) {
			if f.bits[at/64]&(1<<(at%64)) == 0 {
				news.hashes[h] = true
			}
		}
	}
	if len(news.hashes) == 0 {
		return *f, true
	}
	if (f.n+len(news.hashes))*most > len(f.bits)*64 {
		return askedFilter{}, false
	}
	out := askedFilter{slices.Clone(f.bits), f.n}
	out.add(news)
	return out, true
}
