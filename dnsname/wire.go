package dnsname

import (
	"bytes"
	"encoding/binary"
)

// The functions here work on wire forms in octet slices, so that loading,
// answering and signing need no Name values and no allocation.

// lowerTable maps ASCII upper case to lower case and leaves all else alone.
// Length octets (at most 63) are below 'A' and so map to themselves.
var lowerTable = func() (t [256]byte) {
	for i := range t {
		t[i] = byte(i)
		if i >= 'A' && i <= 'Z' {
			t[i] = byte(i + 'a' - 'A')
		}
	}
	return t
}()

// WireLen is the length of the uncompressed name at the head of b.
func WireLen(b []byte) (int, error) {
	i := 0
	for {
		if i >= len(b) {
			return 0, ErrTruncated
		}
		c := int(b[i])
		if c > MaxLabel {
			return 0, ErrLabelType
		}
		i += 1 + c
		if i > MaxWire {
			return 0, ErrTooLong
		}
		if c == 0 {
			return i, nil
		}
	}
}

// LabelsWire counts the labels of the wire form w without the root.
func LabelsWire(w []byte) int {
	n := 0
	for i := 0; i < len(w) && w[i] != 0; i += 1 + int(w[i]) {
		n++
	}
	return n
}

// EqualWire compares two wire forms without regard to ASCII case.
func EqualWire[A, B []byte | string](a A, b B) bool {
	if len(a) != len(b) {
		return false
	}
	if string(a) == string(b) { // nearly always
		return true
	}
	for i := 0; i < len(a); i++ {
		if a[i] != b[i] && lowerTable[a[i]] != lowerTable[b[i]] {
			return false
		}
	}
	return true
}

// AppendLower appends w with its ASCII letters in lower case.
func AppendLower(dst, w []byte) []byte {
	for _, c := range w {
		dst = append(dst, lowerTable[c])
	}
	return dst
}

// AppendSortKey appends the sort key of the wire form w without its last skip
// labels (the root not counted). Keys compare octet by octet as names do
// canonically (RFC 4034 §6.1): labels from the root down in lower case, each
// ended by a zero octet; the octets 0 and 1 inside a label become 1 1 and 1 2.
// The key of a name is a prefix of the keys of all its descendants.
func AppendSortKey(dst, w []byte, skip int) []byte {
	var starts [MaxWire / 2]uint8
	n := 0
	for i := 0; i < len(w) && w[i] != 0; i += 1 + int(w[i]) {
		starts[n] = uint8(i)
		n++
	}
	for n -= skip; n > 0; n-- {
		i := int(starts[n-1])
		dst = AppendLabelKey(dst, w[i+1:i+1+int(w[i])])
	}
	return dst
}

// AppendLabelKey appends the part of a sort key that stands for one label.
func AppendLabelKey(dst, label []byte) []byte {
	at := len(dst)
	dst = append(dst, label...)
	rest := dst[at:]
	for len(rest) >= 8 && plainOctets(binary.LittleEndian.Uint64(rest)) {
		rest = rest[8:]
	}
	for j, c := range rest {
		if c <= 1 {
			dst = appendEscaped(dst[:at], label)
			break
		}
		rest[j] = lowerTable[c]
	}
	return append(dst, 0)
}

// plainOctets reports whether eight octets at once are none of 0, 1 and A to Z, as
// in nearly all names. Octets beyond ASCII count as not plain.
func plainOctets(v uint64) bool {
	const ones, high = 0x0101010101010101, 0x8080808080808080
	// With the top bits clear, adding 128-n sets the top bit of octets >= n.
	if v&high != 0 {
		return false
	}
	atLeast2 := v + ones*(128-2)
	atLeastA := v + ones*(128-'A')
	aboveZ := v + ones*(128-'Z'-1)
	return (atLeast2&^(atLeastA&^aboveZ))&high == high
}

// appendEscaped appends a label to a sort key with the octets 0 and 1 escaped.
func appendEscaped(dst, label []byte) []byte {
	for _, c := range label {
		if c <= 1 {
			dst = append(dst, 1, c+1)
		} else {
			dst = append(dst, lowerTable[c])
		}
	}
	return dst
}

// AppendKeyWire appends the lower-case wire form, without the final root label,
// of the name whose sort key relative to some apex is key: the labels above that apex.
func AppendKeyWire(dst, key []byte) []byte {
	// Labels stand root first in the key; the wire form wants them the other way.
	escaped := bytes.IndexByte(key, 1) >= 0
	for end := len(key); end > 0; {
		start := bytes.LastIndexByte(key[:end-1], 0) + 1
		label := key[start : end-1]
		at := len(dst)
		dst = append(dst, byte(len(label)))
		dst = append(dst, label...)
		if escaped {
			dst = appendUnescaped(dst[:at+1], label)
			dst[at] = byte(len(dst) - at - 1)
		}
		end = start
	}
	return dst
}

// appendUnescaped takes back what appendEscaped did.
func appendUnescaped(dst, label []byte) []byte {
	for i := 0; i < len(label); i++ {
		c := label[i]
		if c == 1 {
			i++
			c = label[i] - 1
		}
		dst = append(dst, c)
	}
	return dst
}

// ValidSortKey reports whether octets are the sort key of a name, relative to some apex,
// whose labels take at most room octets in wire form.
func ValidSortKey(key []byte, room int) bool {
	label := 0 // octets of the present one so far
	for i := 0; i < len(key); i++ {
		switch c := key[i]; {
		case c == 0:
			if label == 0 || label > MaxLabel {
				return false
			}
			room -= 1 + label
			label = 0
			continue
		case c == 1:
			if i++; i == len(key) || key[i] != 1 && key[i] != 2 {
				return false
			}
		case lowerTable[c] != c:
			return false
		}
		label++
	}
	return label == 0 && room >= 0
}

// KeyLabels counts the labels in a sort key.
func KeyLabels(key []byte) int {
	n := 0
	for _, c := range key {
		if c == 0 {
			n++
		}
	}
	return n
}

// KeyPrefix is the part of key that holds its first n labels, counted from the apex.
func KeyPrefix(key []byte, n int) []byte {
	if n == 0 {
		return key[:0]
	}
	for i, c := range key {
		if c == 0 {
			if n--; n == 0 {
				return key[:i+1]
			}
		}
	}
	return key
}

// SharedLabels counts the labels that two sort keys have in common from the apex down.
func SharedLabels(a, b []byte) int {
	n := 0
	for i := 0; i < len(a) && i < len(b) && a[i] == b[i]; i++ {
		if a[i] == 0 {
			n++
		}
	}
	return n
}

// AppendUnpack appends the uncompressed wire form of the name at msg[off:],
// which may be compressed (RFC 1035 §4.1.4), to dst. next is the offset after
// the name in msg. Every pointer must point before the place where the part of
// the name that holds it began, so the work is bounded whatever msg holds.
func AppendUnpack(dst, msg []byte, off int) (out []byte, next int, err error) {
	start, limit := len(dst), off
	next = -1
	for {
		if off >= len(msg) {
			return dst[:start], 0, ErrTruncated
		}
		c := int(msg[off])
		switch {
		case c == 0:
			if len(dst)-start+1 > MaxWire {
				return dst[:start], 0, ErrTooLong
			}
			if next < 0 {
				next = off + 1
			}
			return append(dst, 0), next, nil
		case c <= MaxLabel:
			if off+1+c > len(msg) {
				return dst[:start], 0, ErrTruncated
			}
			if len(dst)-start+1+c+1 > MaxWire {
				return dst[:start], 0, ErrTooLong
			}
			dst = append(dst, msg[off:off+1+c]...)
			off += 1 + c
		case c >= 0xc0:
			if off+1 >= len(msg) {
				return dst[:start], 0, ErrTruncated
			}
			to := (c&0x3f)<<8 | int(msg[off+1])
			if next < 0 {
				next = off + 2
			}
			if to >= limit {
				return dst[:start], 0, ErrPointer
			}
			off, limit = to, to
		default:
			return dst[:start], 0, ErrLabelType
		}
	}
}
