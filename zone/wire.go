package zone

import (
	"encoding/binary"
	"errors"

	"fencepost/dnsname"
	"fencepost/rr"
)

// A delta in octets is the serials before and after as uint32, and for each set
//
//	owner in wire form, type uint16, what follows uint8: 1 removed, 2 added, 4 respelled, as a sum
//	for each of them: TTL uint32, count uvarint, octets uvarint, items as in a page
const (
	hasRemoved = 1 << iota
	hasAdded
	isRespelled
)

// AppendBinary appends the delta in the form that is stored; the apex is not in it.
func (d *Delta) AppendBinary(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, d.From)
	b = binary.BigEndian.AppendUint32(b, d.To)
	for i := range d.Sets {
		c := &d.Sets[i]
		var flags byte
		if c.Removed.N > 0 {
			flags |= hasRemoved
		}
		if c.Added.N > 0 {
			flags |= hasAdded
		}
		if c.Respelled {
			flags |= isRespelled
		}
		b = append(b, c.Owner.Wire()...)
		b = binary.BigEndian.AppendUint16(b, uint16(c.Type()))
		b = append(b, flags)
		b = appendPart(appendPart(b, c.Removed), c.Added)
	}
	return b
}

func appendPart(b []byte, set RRset) []byte {
	if set.N == 0 {
		return b
	}
	b = binary.BigEndian.AppendUint32(b, set.TTL)
	b = binary.AppendUvarint(b, uint64(set.N))
	b = binary.AppendUvarint(b, uint64(len(set.items)))
	return append(b, set.items...)
}

// ErrBinary means that octets are no delta.
var ErrBinary = errors.New("these octets hold no difference between versions")

// ParseDelta reads what AppendBinary made. It keeps b.
func ParseDelta(apex dnsname.Name, b []byte) (*Delta, error) {
	const serials = 8
	if len(b) < serials {
		return nil, ErrBinary
	}
	d := &Delta{Apex: apex, From: binary.BigEndian.Uint32(b), To: binary.BigEndian.Uint32(b[4:])}
	for b = b[serials:]; len(b) > 0; {
		c, rest, err := parseSet(b)
		if err != nil {
			return nil, err
		}
		d.Sets = append(d.Sets, c)
		b = rest
	}
	return d, nil
}

func parseSet(b []byte) (c SetDelta, rest []byte, err error) {
	n, err := dnsname.WireLen(b)
	if err != nil || len(b) < n+3 {
		return c, nil, ErrBinary
	}
	if c.Owner, err = dnsname.FromWire(b[:n]); err != nil {
		return c, nil, ErrBinary
	}
	t, flags := rr.Type(binary.BigEndian.Uint16(b[n:])), b[n+2]
	b = b[n+3:]
	c.Respelled = flags&isRespelled != 0
	if flags &^= isRespelled; flags == 0 || flags > hasRemoved|hasAdded {
		return c, nil, ErrBinary
	}
	for _, part := range []struct {
		flag byte
		set  *RRset
	}{{hasRemoved, &c.Removed}, {hasAdded, &c.Added}} {
		if flags&part.flag == 0 {
			continue
		}
		if *part.set, b, err = parsePart(t, b); err != nil {
			return c, nil, err
		}
	}
	if flags == hasRemoved|hasAdded && c.Removed.Covered() != c.Added.Covered() {
		return c, nil, ErrBinary
	}
	return c, b, nil
}

func parsePart(t rr.Type, b []byte) (set RRset, rest []byte, err error) {
	if len(b) < 4 {
		return set, nil, ErrBinary
	}
	set.Type, set.TTL = t, binary.BigEndian.Uint32(b)
	b = b[4:]
	count, w := binary.Uvarint(b)
	if w <= 0 || count == 0 || count > uint64(len(b)) {
		return set, nil, ErrBinary
	}
	b = b[w:]
	octets, w := binary.Uvarint(b)
	if w <= 0 || octets > uint64(len(b)-w) {
		return set, nil, ErrBinary
	}
	set.N, set.items, rest = int(count), b[w:w+int(octets)], b[w+int(octets):]
	items := set.items
	for range set.N {
		n, w := binary.Uvarint(items)
		if w <= 0 || n > uint64(len(items)-w) || n > rr.MaxData {
			return set, nil, ErrBinary
		}
		items = items[w+int(n):]
	}
	if len(items) > 0 {
		return set, nil, ErrBinary
	}
	return set, rest, nil
}
