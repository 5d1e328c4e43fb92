package zone

import (
	"errors"
	"fmt"

	"fencepost/dnsname"
	"fencepost/rr"
)

// DeltaBuilder puts a Delta together from single records, in any order.
type DeltaBuilder struct {
	apex  dnsname.Name
	at    map[setKey]int
	parts []setParts
}

// setParts are the records of one set.
type setParts struct {
	owner          dnsname.Name
	typ            rr.Type
	removed, added part
}

type part struct {
	ttl  uint32
	data [][]byte
}

// NewDelta begins a delta of a zone.
func NewDelta(apex dnsname.Name) *DeltaBuilder {
	return &DeltaBuilder{apex: apex, at: map[setKey]int{}}
}

// ErrTTLs means that the records of one set that come or go have several TTLs.
var ErrTTLs = errors.New("the records of a set differ in their TTL")

// Remove takes a record away. owner is an absolute name in wire form; data is copied.
func (b *DeltaBuilder) Remove(owner []byte, t rr.Type, ttl uint32, data []byte) error {
	p, err := b.set(owner, t, data)
	if err != nil {
		return err
	}
	return p.removed.add(p, ttl, data)
}

// Add adds a record.
func (b *DeltaBuilder) Add(owner []byte, t rr.Type, ttl uint32, data []byte) error {
	p, err := b.set(owner, t, data)
	if err != nil {
		return err
	}
	p.owner, _ = dnsname.FromWire(owner) // it is spelled so from now on
	return p.added.add(p, ttl, data)
}

func (b *DeltaBuilder) set(owner []byte, t rr.Type, data []byte) (*setParts, error) {
	name, err := dnsname.FromWire(owner)
	if err != nil {
		return nil, err
	}
	if !name.AtOrBelow(b.apex) {
		return nil, fmt.Errorf("%s: %w %s", name, ErrOutside, b.apex)
	}
	k := setKey{name.Key(), t, t}
	if t == rr.TypeRRSIG {
		k.covered = coveredType(data)
	}
	i, known := b.at[k]
	if !known {
		i = len(b.parts)
		b.at[k] = i
		b.parts = append(b.parts, setParts{owner: name, typ: t})
	}
	return &b.parts[i], nil
}

func (p *part) add(of *setParts, ttl uint32, data []byte) error {
	if len(p.data) > 0 && p.ttl != ttl {
		return fmt.Errorf("%s %s: %w", of.owner, of.typ, ErrTTLs)
	}
	p.ttl = ttl
	p.data = append(p.data, append([]byte(nil), data...))
	return nil
}

// Delta is what was put together, between two serials.
func (b *DeltaBuilder) Delta(from, to uint32) *Delta {
	d := &Delta{Apex: b.apex, From: from, To: to, Sets: make([]SetDelta, len(b.parts))}
	for i := range b.parts {
		p := &b.parts[i]
		c := &d.Sets[i]
		c.Owner = p.owner
		if len(p.removed.data) > 0 {
			c.Removed = NewRRset(p.typ, p.removed.ttl, p.removed.data)
		}
		if len(p.added.data) > 0 {
			c.Added = NewRRset(p.typ, p.added.ttl, p.added.data)
		}
	}
	d.sort()
	return d
}
