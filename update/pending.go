package update

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// Change is what became of one RRset by requests, beside the file of its zone. The serial of an SOA
// is 0 in all its sets: serials are nobody's change.
type Change struct {
	Owner dnsname.Name
	Type  rr.Type
	// File is the set as the file has it, Now as it is served. N is 0 where there is none.
	File, Now zone.RRset
	// Offered is what Now was when it was given away to be written into the file: a file with that
	// knows of what was changed until then. Nil: it was not.
	Offered *zone.RRset
	By      string // who changed it last, in words
	At      time.Time
}

// Key is where the change is kept, in Touched too.
func (c *Change) Key() string { return keyOf(c.Owner, c.Type) }

func keyOf(owner dnsname.Name, t rr.Type) string {
	return owner.Key() + string([]byte{byte(t >> 8), byte(t)})
}

// Differs is false where the set is served as the file has it.
func (c *Change) Differs() bool { return !same(c.File, c.Now) }

// On is the change as one of a file as it is now, whatever that was changed to.
func (c *Change) On(file *zone.Snapshot) *Change {
	next := *c
	next.File, next.Offered = owned(setOf(file, c.Owner, c.Type)), nil
	return &next
}

// Touched is what becomes of what is pending: changes by their keys; nil where the file and what is
// served agree, so that nothing has to be kept.
type Touched map[string]*Change

// Pending is what requests have changed in a zone and its file does not have. A set that somebody
// changes in the file while it is pending is merged with it (Merge). It is safe for concurrent use;
// changes in it are never written to.
type Pending struct {
	mu   sync.RWMutex
	sets map[string]*Change
}

// NewPending is what was kept.
func NewPending(kept ...*Change) *Pending {
	p := &Pending{sets: map[string]*Change{}}
	for _, c := range kept {
		p.sets[c.Key()] = c
	}
	return p
}

// Take makes what was worked out with p so. It is called when that is on stable storage.
func (p *Pending) Take(t Touched) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, c := range t {
		if c == nil {
			delete(p.sets, key)
		} else {
			p.sets[key] = c
		}
	}
}

// Empty reports whether nothing is kept.
func (p *Pending) Empty() bool {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return len(p.sets) == 0
}

// Change is what became of a set; nil: nothing.
func (p *Pending) Change(owner dnsname.Name, t rr.Type) *Change {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.sets[keyOf(owner, t)]
}

// List is all that is kept, in canonical order of the owners.
func (p *Pending) List() []*Change {
	p.mu.RLock()
	defer p.mu.RUnlock()
	out := make([]*Change, 0, len(p.sets))
	for _, c := range p.sets {
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b *Change) int {
		return cmp.Or(a.Owner.Compare(b.Owner), cmp.Compare(a.Type, b.Type))
	})
	return out
}

// Offer is what becomes of p when all of it is given away to be written into the file. What was offered
// before has been written, and merged, or never will be.
func (p *Pending) Offer() Touched {
	t := Touched{}
	for _, c := range p.List() {
		if !c.Differs() {
			t[c.Key()] = nil
			continue
		}
		next := *c
		next.Offered = &next.Now
		t[c.Key()] = &next
	}
	return t
}

// After is what becomes of p by a step from one version of the zone to another that requests have
// made.
func (p *Pending) After(before, after *zone.Snapshot, by string, at time.Time) Touched {
	p.mu.RLock()
	defer p.mu.RUnlock()
	t := Touched{}
	for d := range zone.Changes(before, after) {
		if d.SerialAlone() {
			continue
		}
		next := &Change{Owner: d.Owner, Type: d.Type(), By: by, At: at}
		key := next.Key()
		if have := p.sets[key]; have != nil {
			next.File, next.Offered = have.File, have.Offered
		} else {
			next.File = owned(setOf(before, d.Owner, d.Type()))
		}
		next.Now = owned(setOf(after, d.Owner, d.Type()))
		if next.Offered == nil && !next.Differs() {
			next = nil
		}
		t[key] = next
	}
	return t
}

// Conflict is a set that is pending and was changed in the file to something else.
type Conflict struct {
	*Change
	InFile zone.RRset // what the file has now
	Why    string     // in words
}

// Conflicts is the error where a file cannot be merged with what is pending.
type Conflicts struct{ List []Conflict }

func (e *Conflicts) Error() string {
	c := e.List[0]
	s := fmt.Sprintf("%s %s %s", c.Owner, c.Type, c.Why)
	if n := len(e.List) - 1; n > 0 {
		s += fmt.Sprintf(", and %d more", n)
	}
	return s
}

// Merge is the zone of a file with what is pending in it, under the file's serial. What the file has
// as it is served needs no keeping any more; what it has as it was when the request came, or as it
// was offered, gets what is pending. A file in which only the TTL of a set changed goes together with
// a request that changed the records. Of other sets that were changed in both places the error,
// *Conflicts, tells. Those that drop names are as in the file, whatever is pending; nil is none.
func (p *Pending) Merge(file *zone.Snapshot, drop func(*Change) bool) (merged *zone.Snapshot, t Touched, err error) {
	t = Touched{}
	var wrong []Conflict
	names := map[string]*merging{}
	var order []*merging
	for _, c := range p.List() {
		have := setOf(file, c.Owner, c.Type)
		next, now, fits := c.merge(have)
		switch {
		case drop != nil && drop(c):
			next, now = nil, have
		case !fits:
			wrong = append(wrong, Conflict{c, have, "was changed in the file and by " + c.By})
			continue
		}
		if next != c {
			t[c.Key()] = next
		}
		if same(now, have) {
			continue
		}
		m := names[c.Owner.Key()]
		if m == nil {
			m = beginMerge(file, c.Owner)
			names[c.Owner.Key()] = m
			order = append(order, m)
		}
		m.replace(c, now)
	}
	contents := make([]zone.Content, len(order))
	for i, m := range order {
		contents[i] = zone.Content{Owner: m.owner, Records: m.records}
		if why := m.impossible(file.Apex()); why != "" {
			wrong = append(wrong, Conflict{m.last, setOf(file, m.owner, m.last.Type), why})
		}
	}
	if len(wrong) > 0 {
		return nil, nil, &Conflicts{wrong}
	}
	if len(contents) == 0 {
		return file, t, nil
	}
	merged, err = file.Replace(contents)
	return merged, t, err
}

// merge is what becomes of a change where the file has a set; nil where it is settled. now is what is
// to be served; fits is false where both were changed.
func (c *Change) merge(have zone.RRset) (next *Change, now zone.RRset, fits bool) {
	offered := c.Offered != nil && same(have, *c.Offered)
	switch {
	case same(have, c.File) && c.Offered != nil && !offered: // the offer may still come to be written
		return c, c.Now, true
	case same(have, c.Now):
		return nil, have, true
	case same(have, c.File):
		return c, c.Now, true
	case offered:
		moved := *c
		moved.File, moved.Offered = owned(have), nil
		return &moved, c.Now, true
	case !c.Differs():
		return nil, have, true
	case sameData(have, c.Now): // whoever wrote it into the file said with what TTL
		return nil, have, true
	case sameData(have, c.File) && have.N > 0:
		moved := *c
		moved.File = owned(have)
		if c.Now.TTL == c.File.TTL && c.Now.N > 0 {
			moved.Now.TTL = have.TTL
		}
		return &moved, moved.Now, true
	}
	return nil, have, false
}

// merging is a name into which changes are put.
type merging struct {
	owner   dnsname.Name
	records []rr.Record
	last    *Change
}

func beginMerge(z *zone.Snapshot, owner dnsname.Name) *merging {
	m := &merging{owner: owner}
	var n zone.Node
	if z.GetName(owner, &n) {
		m.owner = z.Owner(&n)
		for set := range n.RRsets {
			m.records = appendRecords(m.records, m.owner, set)
		}
	}
	return m
}

func appendRecords(to []rr.Record, owner dnsname.Name, set zone.RRset) []rr.Record {
	for data := range set.Data {
		to = append(to, rr.Record{Name: owner, Type: set.Type, Class: rr.ClassIN, TTL: set.TTL, Data: data})
	}
	return to
}

// replace puts a set in the place of what the name has of the type. An SOA keeps its serial.
func (m *merging) replace(c *Change, now zone.RRset) {
	m.last = c
	var serial uint32
	for _, x := range m.records {
		if soa, err := rr.ParseSOA(x.Data); x.Type == rr.TypeSOA && err == nil {
			serial = soa.Serial
		}
	}
	m.records = slices.DeleteFunc(m.records, func(x rr.Record) bool { return x.Type == c.Type })
	at := len(m.records)
	m.records = appendRecords(m.records, m.owner, now)
	for i := range m.records[at:] {
		if x := &m.records[at+i]; x.Type == rr.TypeSOA {
			x.Data = rr.SetSerial(x.Data, serial)
		}
	}
}

// impossible says why the name cannot be as it came out; empty: it can.
func (m *merging) impossible(apex dnsname.Name) string {
	has := func(t rr.Type) bool {
		return slices.ContainsFunc(m.records, func(x rr.Record) bool { return x.Type == t })
	}
	others := slices.ContainsFunc(m.records, func(x rr.Record) bool { return !beside[x.Type] })
	switch {
	case has(rr.TypeCNAME) && others:
		return "would stand beside an alias: one is in the file, the other came from " + m.last.By
	case m.owner.Equal(apex) && !has(rr.TypeNS):
		return "would leave the zone without name servers: some went in the file, the others by " + m.last.By
	}
	return ""
}

// WithSerial is a zone with another serial; itself where it has that.
func WithSerial(z *zone.Snapshot, serial uint32) (*zone.Snapshot, error) {
	if z.Serial() == serial {
		return z, nil
	}
	m := beginMerge(z, z.Apex())
	for i := range m.records {
		if x := &m.records[i]; x.Type == rr.TypeSOA {
			x.Data = rr.SetSerial(x.Data, serial)
		}
	}
	return z.Replace([]zone.Content{{Owner: m.owner, Records: m.records}})
}

// setOf is a set of a zone, an SOA with serial 0. N is 0 where there is none.
func setOf(z *zone.Snapshot, owner dnsname.Name, t rr.Type) zone.RRset {
	var n zone.Node
	if !z.GetName(owner, &n) {
		return zone.RRset{Type: t}
	}
	set, ok := n.Find(t)
	if !ok {
		return zone.RRset{Type: t}
	}
	if t == rr.TypeSOA {
		return set.With(rr.SetSerial(set.First(), 0))
	}
	return set
}

// owned is a set that is no view into pages of a zone.
func owned(set zone.RRset) zone.RRset {
	if set.N == 0 {
		return zone.RRset{Type: set.Type}
	}
	return zone.NewRRset(set.Type, set.TTL, slices.Collect(set.Data))
}

// same reports whether two sets of a type have the same records and the same TTL.
func same(a, b zone.RRset) bool { return sameData(a, b) && (a.N == 0 || a.TTL == b.TTL) }

// sameData reports whether they have the same records, by what they mean.
func sameData(a, b zone.RRset) bool {
	if a.N != b.N {
		return false
	}
	if a.N == 0 || a.Equal(zone.NewRRset(b.Type, a.TTL, slices.Collect(b.Data))) {
		return true
	}
	folded := func(set zone.RRset) (out []string) {
		for data := range set.Data {
			out = append(out, string(rr.AppendFolded(nil, set.Type, data)))
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	return slices.Equal(folded(a), folded(b))
}

// Describe is a set in words of a master file, for messages: at most a few records.
func Describe(set zone.RRset) string {
	const most = 3
	var out []string
	for data := range set.Data {
		if len(out) == most {
			out = append(out, fmt.Sprintf("and %d more", set.N-most))
			break
		}
		out = append(out, rr.DataText(set.Type, data))
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, ", ")
}
