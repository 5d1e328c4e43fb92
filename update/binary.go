package update

import (
	"encoding/binary"
	"errors"
	"time"

	"fencepost/dnsname"
	"fencepost/zone"
)

// Flags of a kept change: which of its sets are there, and whether it was offered.
const (
	keptFile = 1 << iota
	keptNow
	keptOffered
	wasOffered
)

// AppendBinary appends a change as it is kept: flags, time in seconds since 1970, the length of By and
// By, then its sets as zone.Delta has them.
func (c *Change) AppendBinary(b []byte) []byte {
	var flags byte
	d := &zone.Delta{}
	part := func(flag byte, set zone.RRset) {
		if set.N > 0 {
			flags |= flag
			d.Sets = append(d.Sets, zone.SetDelta{Owner: c.Owner, Added: set})
		}
	}
	part(keptFile, c.File)
	part(keptNow, c.Now)
	if c.Offered != nil {
		flags |= wasOffered
		part(keptOffered, *c.Offered)
	}
	b = binary.BigEndian.AppendUint64(append(b, flags), uint64(c.At.Unix()))
	b = append(binary.AppendUvarint(b, uint64(len(c.By))), c.By...)
	return d.AppendBinary(b)
}

// ErrBinary means that octets are no kept change.
var ErrBinary = errors.New("these octets hold no pending change")

// ParseChange reads what AppendBinary made, of a zone. It keeps b.
func ParseChange(apex dnsname.Name, b []byte) (*Change, error) {
	const head = 9
	if len(b) < head {
		return nil, ErrBinary
	}
	c, flags := &Change{At: time.Unix(int64(binary.BigEndian.Uint64(b[1:])), 0).UTC()}, b[0]
	n, width := binary.Uvarint(b[head:])
	if width <= 0 || n > uint64(len(b)-head-width) {
		return nil, ErrBinary
	}
	b = b[head+width:]
	c.By = string(b[:n])
	d, err := zone.ParseDelta(apex, b[n:])
	if err != nil || len(d.Sets) == 0 {
		return nil, ErrBinary
	}
	c.Owner, c.Type = d.Sets[0].Owner, d.Sets[0].Type()
	if flags&wasOffered != 0 {
		c.Offered = &zone.RRset{}
	}
	sets := d.Sets
	for _, part := range []struct {
		flag byte
		to   *zone.RRset
	}{{keptFile, &c.File}, {keptNow, &c.Now}, {keptOffered, c.Offered}} {
		if part.to != nil {
			part.to.Type = c.Type
		}
		if flags&part.flag == 0 {
			continue
		}
		if part.to == nil || len(sets) == 0 || !sets[0].Owner.Equal(c.Owner) || sets[0].Added.N == 0 || sets[0].Added.Type != c.Type {
			return nil, ErrBinary
		}
		*part.to, sets = sets[0].Added, sets[1:]
	}
	if len(sets) > 0 {
		return nil, ErrBinary
	}
	return c, nil
}
