// Package dnsname holds the domain name value: its text form, its wire form,
// comparison and canonical order.
//
// It follows RFC 1035 §2.3.4, §3.1 and §5.1 (limits, wire form, text form),
// RFC 4343 (letters compare without case, all other octets exactly) and
// RFC 4034 §6.1 (canonical order). A label may hold any octet (RFC 2181 §11);
// whether a name is a usable host name is the business of package lint.
package dnsname

import (
	"errors"
	"strings"
)

// Limits of RFC 1035 §2.3.4, in octets. MaxWire counts the final root label.
const (
	MaxLabel = 63
	MaxWire  = 255
)

// Name is an absolute domain name in uncompressed wire form, its letters in the
// case they were written. The zero Name is "no name"; Root is ".". Names are
// comparable with ==, but == is sensitive to case: use Equal, or Key in maps.
type Name struct{ w string }

// Root is the name of the root zone.
var Root = Name{"\x00"}

// Errors of names in wire form.
var (
	ErrTruncated = errors.New("name runs past the end of the data")
	ErrLabelType = errors.New("label type is not 00 (RFC 1035 §4.1.4)")
	ErrTooLong   = errors.New("name is longer than 255 octets (RFC 1035 §2.3.4)")
	ErrTrailing  = errors.New("data after the name")
	ErrPointer   = errors.New("compression pointer does not point backwards (RFC 1035 §4.1.4)")
)

// FromWire makes a Name of b, which must be exactly one uncompressed name.
func FromWire(b []byte) (Name, error) {
	n, err := WireLen(b)
	if err != nil {
		return Name{}, err
	}
	if n != len(b) {
		return Name{}, ErrTrailing
	}
	return Name{string(b)}, nil
}

// MustParse is Parse for names known to be good, relative to the root.
func MustParse(text string) Name {
	n, err := Parse(text, Root)
	if err != nil {
		panic(err)
	}
	return n
}

// IsZero reports whether n is the zero Name, which is no name at all.
func (n Name) IsZero() bool { return n.w == "" }

// Wire is the uncompressed wire form, final root label included.
func (n Name) Wire() string { return n.w }

// AppendWire appends the uncompressed wire form to b.
func (n Name) AppendWire(b []byte) []byte { return append(b, n.w...) }

// String is the text form with a final dot; "" for the zero Name.
func (n Name) String() string {
	if n.w == "" {
		return ""
	}
	return string(AppendText(make([]byte, 0, len(n.w)+8), []byte(n.w)))
}

// Plain is the name as people write it in prose: without the final dot, but for the root.
func (n Name) Plain() string {
	s := n.String()
	if len(s) > 1 {
		return strings.TrimSuffix(s, ".")
	}
	return s
}

// Labels counts the labels without the root: 0 for ".".
func (n Name) Labels() int { return LabelsWire([]byte(n.w)) }

// Parent is n without its leftmost label. The parent of the root is the root, and that of the zero
// Name too: whoever goes up ends there, wherever it began.
func (n Name) Parent() Name {
	if len(n.w) <= 1 {
		return Root
	}
	return Name{n.w[1+int(n.w[0]):]}
}

// Label is the leftmost label, without escapes; "" for the root.
func (n Name) Label() string {
	if len(n.w) <= 1 {
		return ""
	}
	return n.w[1 : 1+int(n.w[0])]
}

// Child is label.n; it fails when the label or the name would be too long. The label is its
// octets: nothing in it is an escape.
func (n Name) Child(label string) (Name, error) {
	if len(label) == 0 || len(label) > MaxLabel {
		return Name{}, &SyntaxError{Kind: LabelTooLong, Len: len(label)}
	}
	if len(n.w)+1+len(label) > MaxWire {
		return Name{}, ErrTooLong
	}
	return Name{string(rune(len(label))) + label + n.w}, nil
}

// Equal compares as the DNS does: ASCII letters without case (RFC 4343 §3).
func (n Name) Equal(m Name) bool { return EqualWire(n.w, m.w) }

// Key is the lower-case wire form, for maps.
func (n Name) Key() string {
	for i := 0; i < len(n.w); i++ {
		if c := n.w[i]; c >= 'A' && c <= 'Z' {
			return string(AppendLower(make([]byte, 0, len(n.w)), []byte(n.w)))
		}
	}
	return n.w
}

// Lower is n with its ASCII letters in lower case, the canonical form of RFC 4034 §6.2.
func (n Name) Lower() Name { return Name{n.Key()} }

// IsWildcard reports whether the leftmost label is a single asterisk (RFC 4592 §2.1.1).
func (n Name) IsWildcard() bool { return strings.HasPrefix(n.w, "\x01*") }

// Below reports whether n is a descendant of m and not m itself.
func (n Name) Below(m Name) bool { return len(n.w) > len(m.w) && n.AtOrBelow(m) }

// AtOrBelow reports whether n is m or a descendant of m.
func (n Name) AtOrBelow(m Name) bool {
	d := len(n.w) - len(m.w)
	if d < 0 || m.w == "" {
		return false
	}
	i := 0
	for i < d {
		i += 1 + int(n.w[i])
	}
	return i == d && EqualWire(n.w[d:], m.w)
}

// Compare orders names canonically (RFC 4034 §6.1): -1, 0 or +1.
func (n Name) Compare(m Name) int {
	var a, b [2 * MaxWire]byte
	return strings.Compare(
		string(AppendSortKey(a[:0], []byte(n.w), 0)),
		string(AppendSortKey(b[:0], []byte(m.w), 0)))
}

// Relative is the text of n relative to origin as a master file writes it: "@"
// for the origin itself, no final dot below it, the absolute form elsewhere.
func (n Name) Relative(origin Name) string {
	if n.Equal(origin) {
		return "@"
	}
	if len(origin.w) > 1 && n.Below(origin) {
		head := n.w[:len(n.w)-len(origin.w)] + "\x00"
		text := AppendText(nil, []byte(head))
		return string(text[:len(text)-1])
	}
	return n.String()
}
