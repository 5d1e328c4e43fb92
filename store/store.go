// Package store keeps zones: the copies that a secondary fetched, the versions that
// were published, and how each came from the one before.
//
// Of a zone there is one whole version, the base, and a line of steps, each a zone.Delta
// with who made it and when. The head is the newest version: the base with the steps
// after it. Steps from before the base lead back from it. A base is written anew when the
// steps after it have become as large as it is, so that to load costs at most about twice
// what the zone does, and steps that are too old or too many go.
//
// Each piece has a checksum. What is stored is stored wholly or not at all, also when the
// process is killed; what is damaged is told (ErrDamaged) and never taken for a version.
package store

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/zone"
)

// Meta is what is known about the newest version of a zone.
type Meta struct {
	Zone    string    `json:"zone"`
	Serial  uint32    `json:"serial"`
	Stored  time.Time `json:"stored"`
	Checked time.Time `json:"checked"` // copies: when a primary last confirmed it
	From    string    `json:"from,omitempty"`
	Until   time.Time `json:"until,omitzero"` // copies: when it expires, where a primary said so
	// Signed versions: what they were made of and when the signatures end.
	SourceSerial uint32    `json:"source_serial,omitempty"`
	Source       string    `json:"source,omitempty"` // digest of the unsigned zone and the keys
	Expires      time.Time `json:"expires,omitzero"`
	Renew        time.Time `json:"renew,omitzero"` // when to sign again at the latest
	// Stamp says which files it was read from, in the words of whoever read them.
	Stamp string `json:"stamp,omitempty"`

	Line line `json:"line"`
}

// line is where the versions of a zone stand in the store. Steps are counted: step n
// leads from version n-1 to version n.
type line struct {
	Head  uint64 `json:"head"`  // the newest version
	Base  uint64 `json:"base"`  // the whole one
	First uint64 `json:"first"` // the oldest step that is kept; Head+1: there is none
	// Octets of the base, of all steps, and of those after the base.
	BaseOctets  int64 `json:"base_octets"`
	StepOctets  int64 `json:"step_octets"`
	SinceOctets int64 `json:"since_octets"`
	// Chunks is how many pieces of the base are under keys; a large one is in Blob.
	Chunks int    `json:"chunks"`
	Blob   string `json:"blob,omitempty"`
	Form   int    `json:"form,omitempty"` // of the base; see base.go
}

// Errors of a store.
var (
	ErrInUse     = errors.New("another fencepost is running on this workspace")
	ErrDamaged   = errors.New("the stored version is damaged")
	ErrNotHead   = errors.New("another version was stored meanwhile")
	ErrNoHistory = errors.New("no such version is kept")
)

// Store keeps zones. It is safe for concurrent use, and belongs to one process at a time.
type Store struct {
	e      engine
	large  blobs
	blobs  atomic.Uint64 // written so far, for names of their own
	limits atomic.Pointer[Limits]

	watchers watchers
	requests answered

	root   *Store // of a scope; else nil
	scope  string // what its keys begin with
	scopes sync.Mutex
	inner  map[string]*Store // by their scopes; under scopes

	// Aside is where Open put a file that was damaged; empty: it was not. Rescued is
	// how many versions could still be read of it.
	Aside   string
	Rescued int
}

// Limits bound what is kept of each zone besides its newest version.
type Limits struct {
	Keep   time.Duration // steps older than this go; 0: none do for their age
	Octets int64         // of all steps, or those of the zone where that is more
}

// DefaultLimits are those where nothing is said.
var DefaultLimits = Limits{Keep: 365 * 24 * time.Hour, Octets: 32 << 20}

// InMemory makes a store that lasts as long as the program.
func InMemory() *Store {
	return newStore(newMemory(), &heap{kept: map[string][][]byte{}})
}

// SetLimits sets what is kept from now on.
func (s *Store) SetLimits(l Limits) { s.limits.Store(&l) }

func newStore(e engine, large blobs) *Store {
	s := &Store{e: e, large: large}
	s.SetLimits(DefaultLimits)
	return s
}

// Close closes the store.
func (s *Store) Close() error {
	s.requests.closeAll()
	return s.e.close()
}

// top is the store that a scope is of, or the store itself.
func (s *Store) top() *Store {
	if s.root != nil {
		return s.root
	}
	return s
}

// chunkSize is about how many octets are stored in one piece; one name more may be in it.
const (
	chunkSize = 256 << 10
	maxChunk  = 1 << 30
)

func chunkKey(zone string, i int) []byte {
	return binary.BigEndian.AppendUint32(append([]byte(zone), 0), uint32(i))
}

// Version is a version with what is known about it.
type Version struct {
	Zone *zone.Snapshot
	Meta Meta // Zone, Serial and Line are worked out
	Info Info // By and Way
	// Delta is how it came from the version that Prev is the Meta of; nil has it worked
	// out from what is stored.
	Delta *zone.Delta
	Prev  Meta
	// Pending changes what is kept beside the versions, together with this one.
	Pending Pending
}

// Put stores the next version of a zone.
func (s *Store) Put(v Version) (Meta, error) {
	metas, err := s.PutAll([]Version{v})
	if err != nil {
		return Meta{}, err
	}
	return metas[0], nil
}

// PutAll stores the next versions of several zones, each at most once, all or none. The
// error wraps ErrNotHead where a Delta does not begin at the newest version.
func (s *Store) PutAll(list []Version) (metas []Meta, err error) {
	const attempts = 5 // somebody else may store a version of a zone meanwhile
	for range attempts {
		var plans []*plan
		for i := range list {
			p, perr := s.plan(&list[i])
			if perr != nil {
				s.discard(plans)
				return nil, perr
			}
			plans = append(plans, p)
		}
		err = s.e.update(func(t tx) error {
			for _, p := range plans {
				if err := p.write(t); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			s.discard(plans)
			if errors.Is(err, errMoved) {
				continue
			}
			return nil, err
		}
		metas = make([]Meta, len(plans))
		for i, p := range plans {
			metas[i] = p.meta
			if old := p.old.Line.Blob; old != "" && old != p.meta.Line.Blob {
				_ = s.large.remove(old) // what is left is removed when the store is opened
			}
		}
		s.watchers.changed(plans)
		return metas, nil
	}
	return nil, err
}

// errMoved means that a plan was made for a version that is not the newest any more.
var errMoved = errors.New("another version was stored at the same time")

// plan is what is to be stored of one version. It is worked out, and what is large is
// written, before the transaction.
type plan struct {
	zone   *zone.Snapshot
	old    Meta
	found  bool // there was an older version
	meta   Meta
	forget bool // nothing leads from what there was to this
	step   []byte
	chunks [][]byte // of a new base that is small
	base   bool     // there is a new base
	limits Limits

	pending Pending
}

// discard removes what plans wrote that were not carried out.
func (s *Store) discard(plans []*plan) {
	for _, p := range plans {
		if b := p.meta.Line.Blob; b != "" && b != p.old.Line.Blob {
			_ = s.large.remove(b)
		}
	}
}

func (s *Store) plan(v *Version) (*plan, error) {
	p := &plan{zone: v.Zone, meta: v.Meta, limits: s.limit(), pending: v.Pending}
	m := &p.meta
	m.Zone, m.Serial = v.Zone.Apex().Key(), v.Zone.Serial()
	var readErr error
	err := s.e.view(func(t tx) error {
		p.old, p.found, readErr = readMeta(t, m.Zone)
		return nil
	})
	if err != nil {
		return nil, err
	}
	delta := v.Delta
	switch {
	case delta != nil:
		if !p.found || readErr != nil || p.old.Line.Head != v.Prev.Line.Head || p.old.Serial != delta.From {
			return nil, fmt.Errorf("%s: %w", v.Zone.Apex(), ErrNotHead)
		}
	case readErr == nil && p.found:
		if was, _, err := s.Load(v.Zone.Apex()); err == nil && was != nil {
			delta = zone.Diff(was, v.Zone)
		}
	}
	m.Line = p.old.Line
	l := &m.Line
	switch {
	case delta == nil:
		p.forget = true
		*l = line{Head: l.Head + 1, First: l.Head + 2, Chunks: l.Chunks, Blob: l.Blob}
	case !delta.Empty():
		if p.step, err = makeStep(v, m, delta); err != nil {
			return nil, err
		}
		l.Head++
		l.StepOctets += int64(len(p.step))
		l.SinceOctets += int64(len(p.step))
	}
	// What a step costs to replay besides its octets, in octets.
	const perStep = 256
	if p.forget || l.SinceOctets+perStep*int64(l.Head-l.Base) > l.BaseOctets+chunkSize/4 {
		err = s.planBase(p)
	}
	return p, err
}

// inBlob is from how many octets on a base is kept outside of transactions. Tests lower it.
var inBlob = 1 << 20

// planBase makes the new version the base.
func (s *Store) planBase(p *plan) error {
	p.base = true
	l := &p.meta.Line
	l.Form = zone.PageForm
	l.Base, l.SinceOctets, l.BaseOctets, l.Blob = l.Head, 0, 0, ""
	if p.zone.Octets() < inBlob {
		l.Chunks = 0
		return encode(p.zone, func(chunk []byte) error {
			p.chunks = append(p.chunks, append(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(chunk)), chunk...))
			l.BaseOctets += int64(len(chunk))
			l.Chunks++
			return nil
		})
	}
	name := sha256.Sum256([]byte(s.scope + p.meta.Zone))
	l.Blob, l.Chunks = fmt.Sprintf("%x-%d-%d", name[:12], l.Head, s.blobs.Add(1)), 0
	return s.large.write(l.Blob, func(put func([]byte) error) error {
		return encode(p.zone, func(chunk []byte) error {
			l.BaseOctets += int64(len(chunk))
			return put(chunk)
		})
	})
}

func (p *plan) write(t tx) error {
	m := &p.meta
	now, found, err := readMeta(t, m.Zone)
	if found != p.found || err == nil && now.Line.Head != p.old.Line.Head {
		return errMoved
	}
	if p.forget {
		if err := forget(t, m.Zone); err != nil {
			return err
		}
	}
	if p.step != nil {
		if err := t.put(bucketSteps, stepKey(m.Zone, m.Line.Head), p.step); err != nil {
			return err
		}
	}
	if p.base {
		for i, chunk := range p.chunks {
			if err := t.put(bucketData, chunkKey(m.Zone, i), chunk); err != nil {
				return err
			}
		}
		for i := len(p.chunks); i < p.old.Line.Chunks; i++ {
			if err := t.delete(bucketData, chunkKey(m.Zone, i)); err != nil {
				return err
			}
		}
	}
	if err := p.pending.write(t, m.Zone); err != nil {
		return err
	}
	kept := *m
	if err := p.limits.trim(t, &kept); err != nil {
		return err
	}
	return writeMeta(t, kept)
}

// trim lets the oldest steps go that are too many or too old. Those after the base are
// needed.
func (limits Limits) trim(t tx, m *Meta) error {
	l := &m.Line
	oldest := m.Stored.Add(-limits.Keep)
	most := max(limits.Octets, l.BaseOctets)
	for l.First <= l.Base {
		text := t.get(bucketSteps, stepKey(m.Zone, l.First))
		info, err := stepInfo(text)
		tooOld := err == nil && limits.Keep > 0 && info.At.Before(oldest)
		if err == nil && l.StepOctets <= most && !tooOld {
			return nil
		}
		l.StepOctets -= int64(len(text))
		if err := t.delete(bucketSteps, stepKey(m.Zone, l.First)); err != nil {
			return err
		}
		l.First++
	}
	return nil
}

// Load reads the newest version of a zone; nil when there is none.
func (s *Store) Load(name dnsname.Name) (z *zone.Snapshot, m Meta, err error) {
	const attempts = 5
	for range attempts {
		// Where a new base was stored just now, the old one is gone.
		if z, m, err = s.load(name); !errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	return z, m, err
}

func (s *Store) load(name dnsname.Name) (z *zone.Snapshot, m Meta, err error) {
	var base baseReader
	var since []*zone.Delta
	found := false
	err = s.e.view(func(t tx) error {
		if m, found, err = readMeta(t, name.Key()); err != nil || !found {
			return err
		}
		if base, err = readerOf(m.Line.Form, name); err != nil {
			return err
		}
		for i := range m.Line.Chunks {
			chunk := t.get(bucketData, chunkKey(m.Zone, i))
			if len(chunk) < 4 || crc32.ChecksumIEEE(chunk[4:]) != binary.BigEndian.Uint32(chunk) {
				return fmt.Errorf("%w: piece %d is damaged", ErrDamaged, i)
			}
			if err := base.chunk(chunk[4:]); err != nil {
				return fmt.Errorf("%w: %w", ErrDamaged, err)
			}
		}
		if m.Line.Blob != "" {
			if err := s.large.read(m.Line.Blob, base.chunk); err != nil {
				return fmt.Errorf("%w: %w", ErrDamaged, err)
			}
		}
		for i := m.Line.Base + 1; i <= m.Line.Head; i++ {
			d, _, err := readStep(t, name, i)
			if err != nil {
				return fmt.Errorf("%w: %w", ErrDamaged, err)
			}
			since = append(since, d)
		}
		return nil
	})
	if err == nil && found {
		z, err = replay(base.zone(), since, m.Serial)
	}
	if err != nil {
		return nil, m, fmt.Errorf("%s: %w", name, err)
	}
	return z, m, nil
}

// replay is the base with the steps after it.
func replay(z *zone.Snapshot, since []*zone.Delta, serial uint32) (_ *zone.Snapshot, err error) {
	if len(since) > 0 {
		if z, err = z.With(zone.Join(since...)); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
	}
	if z.Serial() != serial {
		return nil, fmt.Errorf("%w: it has serial %d, not %d", ErrDamaged, z.Serial(), serial)
	}
	return z, nil
}

// Update changes what is known about the newest version of a zone.
func (s *Store) Update(name dnsname.Name, change func(*Meta)) error {
	return s.e.update(func(t tx) error {
		m, found, err := readMeta(t, name.Key())
		if err != nil || !found {
			return err
		}
		change(&m)
		return writeMeta(t, m)
	})
}

// Meta is what is known about the newest version of a zone; found is false when there
// is none.
func (s *Store) Meta(name dnsname.Name) (m Meta, found bool, err error) {
	err = s.e.view(func(t tx) error {
		m, found, err = readMeta(t, name.Key())
		return err
	})
	return m, found, err
}

func readMeta(t tx, zone string) (m Meta, found bool, err error) {
	text := t.get(bucketMeta, []byte(zone))
	if text == nil {
		return m, false, nil
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, true, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	m.Zone = zone          // JSON does not hold every octet of a name
	if m.Line.First == 0 { // stored before there were steps
		var old struct {
			Chunks int `json:"chunks"`
		}
		_ = json.Unmarshal(text, &old) // it was read once
		m.Line = line{First: 1, Chunks: old.Chunks}
	}
	return m, true, nil
}

func writeMeta(t tx, m Meta) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	t.served([]byte(m.Zone), m.Serial, m.SourceSerial)
	return t.put(bucketMeta, []byte(m.Zone), text)
}
