package rr

import (
	"bytes"
	"errors"
	"fmt"

	"fencepost/dnsname"
)

// ErrData is wrapped by the errors about data that do not fit their type.
var ErrData = errors.New("malformed record data")

// Part is one field of a record's data.
type Part struct {
	Field *Field
	Bytes []byte
}

// IsName reports whether the part is a domain name, and whether it may be
// compressed when sent.
func (p Part) IsName() (name, packed bool) {
	k := p.Field.Kind.names
	return k != 0, k&namesPacked != 0
}

// Parts walks over the fields of data. Use it as
//
//	for it := rr.NewParts(t, data); it.Next(); { use(it.Part) }
//
// It yields nothing for types without a declaration, and ends early at
// malformed data.
type Parts struct {
	Part
	fields []Field
	rest   []byte
}

// NewParts begins a walk over data of type t.
func NewParts(t Type, data []byte) Parts {
	if info := Lookup(t); info != nil {
		return Parts{fields: info.Fields, rest: data}
	}
	return Parts{}
}

// Next goes to the next field.
func (it *Parts) Next() bool {
	if len(it.fields) == 0 {
		return false
	}
	it.Field = &it.fields[0]
	n := it.Field.Kind.size(it.rest)
	if n < 0 {
		return false
	}
	it.Bytes, it.rest, it.fields = it.rest[:n], it.rest[n:], it.fields[1:]
	return true
}

// HasNames reports whether data of type t hold domain names.
func HasNames(t Type) bool {
	info := Lookup(t)
	return info != nil && info.hasNames
}

// Validate reports whether data is well-formed for t. Types without a
// declaration take anything (RFC 3597 §3).
func Validate(t Type, data []byte) error {
	info := Lookup(t)
	if info == nil {
		return nil
	}
	rest := data
	for i := range info.Fields {
		f := &info.Fields[i]
		n := f.Kind.size(rest)
		if n < 0 {
			return fmt.Errorf("%w: the %s of %s", ErrData, f.Name, info.Mnemonic)
		}
		rest = rest[n:]
	}
	if len(rest) > 0 && info.Fields != nil {
		return fmt.Errorf("%w: %d octets after the last field of %s", ErrData, len(rest), info.Mnemonic)
	}
	return nil
}

// AppendCanonical appends the canonical form of data: names in lower case for
// the types that RFC 4034 §6.2 and RFC 6840 §5.1 list, all else as it is.
func AppendCanonical(dst []byte, t Type, data []byte) []byte {
	info := Lookup(t)
	if info == nil || !info.lower {
		return append(dst, data...)
	}
	it := NewParts(t, data)
	for it.Next() {
		if it.Field.Kind.names&namesLower != 0 {
			dst = dnsname.AppendLower(dst, it.Bytes)
		} else {
			dst = append(dst, it.Bytes...)
		}
	}
	return append(dst, it.rest...)
}

// AppendFolded appends data with all names in lower case, whatever the type: data
// that are equal then mean the same (RFC 4343).
func AppendFolded(dst []byte, t Type, data []byte) []byte {
	if !HasNames(t) {
		return append(dst, data...)
	}
	it := NewParts(t, data)
	for it.Next() {
		if it.Field.Kind.names&isName != 0 {
			dst = dnsname.AppendLower(dst, it.Bytes)
		} else {
			dst = append(dst, it.Bytes...)
		}
	}
	return append(dst, it.rest...)
}

// SameData reports whether data of a type mean the same: names compare without case (RFC 4343).
func SameData(t Type, a, b []byte) bool {
	return bytes.Equal(a, b) || len(a) == len(b) && HasNames(t) && bytes.Equal(AppendFolded(nil, t, a), AppendFolded(nil, t, b))
}

// HasCanonicalNames reports whether AppendCanonical can change data of type t.
func HasCanonicalNames(t Type) bool {
	info := Lookup(t)
	return info != nil && info.lower
}

// Unpacks reports whether AppendUnpack can expand anything in data of type t.
func Unpacks(t Type) bool {
	info := Lookup(t)
	return info != nil && info.unpacks
}

// AppendUnpack appends the data of type t found at msg[off:off+n], expanding
// compressed names where RFC 3597 §4 has them accepted, and checks them.
func AppendUnpack(dst, msg []byte, off, n int, t Type) ([]byte, error) {
	start, end := len(dst), off+n
	info := Lookup(t)
	if info == nil || !info.unpacks {
		dst = append(dst, msg[off:end]...)
		return dst, Validate(t, dst[start:])
	}
	for i := range info.Fields {
		k := info.Fields[i].Kind
		if k.names&namesUnpack != 0 {
			out, next, err := dnsname.AppendUnpack(dst, msg[:end], off)
			if err != nil {
				return dst[:start], fmt.Errorf("%w: the %s of %s: %w", ErrData, info.Fields[i].Name, info.Mnemonic, err)
			}
			dst, off = out, next
			continue
		}
		size := k.size(msg[off:end])
		if size < 0 {
			return dst[:start], fmt.Errorf("%w: the %s of %s", ErrData, info.Fields[i].Name, info.Mnemonic)
		}
		dst = append(dst, msg[off:off+size]...)
		off += size
	}
	if off != end {
		return dst[:start], fmt.Errorf("%w: %s has %d octets too many", ErrData, info.Mnemonic, end-off)
	}
	return dst, nil
}

// AppendData appends the text form of data, in the generic form of RFC 3597 §5
// when the type has no declaration or the data do not fit it.
func AppendData(dst []byte, t Type, data []byte) []byte {
	info := Lookup(t)
	if info == nil || info.Fields == nil || Validate(t, data) != nil {
		return appendGeneric(dst, data)
	}
	start, first := len(dst), true
	for it := NewParts(t, data); it.Next(); {
		if it.Field.Kind == Tag && !plainTag(it.Bytes[1:]) {
			return appendGeneric(dst[:start], data) // it came from elsewhere; no file can say it in words
		}
		if it.Field.Kind == Prefixes && wordless(it.Bytes) {
			return appendGeneric(dst[:start], data)
		}
		at := len(dst)
		if !first {
			dst = append(dst, ' ')
		}
		before := len(dst)
		dst = it.Field.Kind.print(dst, it.Bytes)
		switch {
		case len(dst) > before:
			first = false
		case it.Field.Kind.optional: // an empty list is nothing
			dst = dst[:at]
		default: // an empty digest cannot be written in words
			return appendGeneric(dst[:start], data)
		}
	}
	return dst
}

func appendGeneric(dst, data []byte) []byte {
	dst = append(dst, `\# `...)
	dst = fmt.Appendf(dst, "%d", len(data))
	if len(data) > 0 {
		dst = append(dst, ' ')
		dst = printHex(dst, data)
	}
	return dst
}

// DataText is the text form of data.
func DataText(t Type, data []byte) string { return string(AppendData(nil, t, data)) }

// SOA is the data of a SOA record.
type SOA struct {
	MName, RName                            dnsname.Name
	Serial, Refresh, Retry, Expire, Minimum uint32
}

// ParseSOA reads the data of a SOA record.
func ParseSOA(data []byte) (SOA, error) {
	if err := Validate(TypeSOA, data); err != nil {
		return SOA{}, err
	}
	m, _ := dnsname.WireLen(data)
	r, _ := dnsname.WireLen(data[m:])
	var s SOA
	s.MName, _ = dnsname.FromWire(data[:m])
	s.RName, _ = dnsname.FromWire(data[m : m+r])
	b := data[m+r:]
	s.Serial, s.Refresh, s.Retry, s.Expire, s.Minimum = be32(b), be32(b[4:]), be32(b[8:]), be32(b[12:]), be32(b[16:])
	return s, nil
}

// SetSerial returns a copy of SOA data with another serial.
func SetSerial(data []byte, serial uint32) []byte {
	out := append([]byte(nil), data...)
	b := out[len(out)-20:]
	b[0], b[1], b[2], b[3] = byte(serial>>24), byte(serial>>16), byte(serial>>8), byte(serial)
	return out
}
