package dnsname

import "fmt"

// A SyntaxKind says what is wrong with a name in text form.
type SyntaxKind uint8

// The ways in which a name can be written wrongly.
const (
	EmptyName     SyntaxKind = iota + 1 // nothing at all
	EmptyLabel                          // two dots, or a leading dot
	LabelTooLong                        // over 63 octets
	NameTooLong                         // over 255 octets in wire form
	BadEscape                           // \ at the end, \DDD that is no octet
	MissingOrigin                       // relative, and no origin is known
)

// SyntaxError reports a name that cannot be read. Offset counts octets of the
// text; Len is the length that was too long, where the kind is about length.
type SyntaxError struct {
	Kind   SyntaxKind
	Offset int
	Len    int
}

func (e *SyntaxError) Error() string {
	switch e.Kind {
	case EmptyName:
		return "the name is empty"
	case EmptyLabel:
		return "the name has an empty label (two dots in a row, or one in front)"
	case LabelTooLong:
		return fmt.Sprintf("a label of the name has %d octets; at most 63 are allowed", e.Len)
	case NameTooLong:
		return fmt.Sprintf("the name has %d octets; at most 255 are allowed", e.Len)
	case BadEscape:
		return `the name has a bad escape: after \ comes one character, or three digits up to 255`
	default:
		return "the name has no final dot and there is no origin to complete it"
	}
}

// Parse reads a name in master-file form. A name without a final dot is
// completed with origin; "@" is the origin. The zero origin permits only
// absolute names. The error, if any, is a *SyntaxError.
func Parse(text string, origin Name) (Name, error) {
	var buf [MaxWire + 1]byte
	w, err := AppendParse(buf[:0], []byte(text), []byte(origin.w))
	if err != nil {
		return Name{}, err
	}
	return Name{string(w)}, nil
}

// AppendParse appends the wire form of the name written in text to dst; origin
// is the wire form of the origin, empty if there is none. On an error dst comes
// back as it was, and the error says where in text the trouble is.
func AppendParse(dst, text, origin []byte) ([]byte, *SyntaxError) {
	start := len(dst)
	fail := func(k SyntaxKind, off, n int) ([]byte, *SyntaxError) {
		return dst[:start], &SyntaxError{k, off, n}
	}
	switch {
	case len(text) == 0:
		return fail(EmptyName, 0, 0)
	case len(text) == 1 && text[0] == '@':
		if len(origin) == 0 {
			return fail(MissingOrigin, 0, 0)
		}
		return append(dst, origin...), nil
	case len(text) == 1 && text[0] == '.':
		return append(dst, 0), nil
	}
	lenAt := len(dst) // where the length of the label being read goes
	labelOff := 0
	dst = append(dst, 0)
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c == '.' {
			n := len(dst) - lenAt - 1
			if n == 0 {
				return fail(EmptyLabel, i, 0)
			}
			if n > MaxLabel {
				return fail(LabelTooLong, labelOff, n)
			}
			dst[lenAt] = byte(n)
			lenAt, labelOff = len(dst), i+1
			dst = append(dst, 0)
			continue
		}
		if c == '\\' {
			b, n := Unescape(text[i:])
			if n == 0 {
				return fail(BadEscape, i, 0)
			}
			dst = append(dst, b)
			i += n - 1
			continue
		}
		dst = append(dst, c)
	}
	if n := len(dst) - lenAt - 1; n > 0 { // no final dot: relative
		if n > MaxLabel {
			return fail(LabelTooLong, labelOff, n)
		}
		dst[lenAt] = byte(n)
		if len(origin) == 0 {
			return fail(MissingOrigin, 0, 0)
		}
		dst = append(dst, origin...)
	}
	if n := len(dst) - start; n > MaxWire {
		return fail(NameTooLong, 0, n)
	}
	return dst, nil
}

// Unescape reads the escape at the head of text, which begins with a backslash
// (RFC 1035 §5.1): the octet it stands for and the octets of text it takes, or
// 0 when it is no escape.
func Unescape(text []byte) (octet byte, n int) {
	if len(text) < 2 {
		return 0, 0
	}
	if c := text[1]; c < '0' || c > '9' {
		return c, 2
	}
	if len(text) < 4 || !isDigit(text[2]) || !isDigit(text[3]) {
		return 0, 0
	}
	v := int(text[1]-'0')*100 + int(text[2]-'0')*10 + int(text[3]-'0')
	if v > 255 {
		return 0, 0
	}
	return byte(v), 4
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// nameEscape says how each octet of a label is written: as it is, after a
// backslash, or as \DDD.
var nameEscape = func() (t [256]byte) {
	for i := range t {
		switch {
		case i <= ' ' || i >= 0x7f:
			t[i] = 'd'
		case i == '.' || i == '\\' || i == '"' || i == ';' || i == '(' || i == ')' || i == '@' || i == '$':
			t[i] = '\\'
		}
	}
	return t
}()

// AppendText appends the text form, final dot included, of the wire form w,
// escaped so that it reads back as the same octets wherever a name may stand.
func AppendText(dst, w []byte) []byte {
	if len(w) <= 1 {
		return append(dst, '.')
	}
	start := len(dst)
	for i := 0; i < len(w) && w[i] != 0; i += 1 + int(w[i]) {
		for _, c := range w[i+1 : i+1+int(w[i])] {
			switch nameEscape[c] {
			case 0:
				dst = append(dst, c)
			case '\\':
				dst = append(dst, '\\', c)
			default:
				dst = append(dst, '\\', '0'+c/100, '0'+c/10%10, '0'+c%10)
			}
		}
		dst = append(dst, '.')
	}
	// At the head of a line # and // would look like a comment of another language, and
	// \# in data announces octets (RFC 3597 §5): so in digits.
	if dst[start] == '#' || dst[start] == '/' && dst[start+1] == '/' {
		c := dst[start]
		dst = append(dst, 0, 0, 0)
		copy(dst[start+4:], dst[start+1:])
		copy(dst[start:], []byte{'\\', '0', '0' + c/10%10, '0' + c%10})
	}
	return dst
}
