package rr

import "slices"

// AppendBitmap appends the type bitmap of RFC 4034 §4.1.2 for types, which may
// be in any order and hold duplicates; it sorts types in place.
func AppendBitmap(dst []byte, types []Type) []byte {
	slices.Sort(types)
	for i := 0; i < len(types); {
		window := byte(types[i] >> 8)
		at := len(dst)
		dst = append(dst, window, 0)
		for ; i < len(types) && byte(types[i]>>8) == window; i++ {
			low := int(types[i] & 0xff)
			for len(dst)-at-2 <= low/8 {
				dst = append(dst, 0)
			}
			dst[at+2+low/8] |= 0x80 >> (low % 8)
		}
		dst[at+1] = byte(len(dst) - at - 2)
	}
	return dst
}

// BitmapHas reports whether t is in the bitmap.
func BitmapHas(b []byte, t Type) bool {
	for len(b) >= 2 && len(b) >= 2+int(b[1]) {
		if b[0] == byte(t>>8) {
			i := int(t & 0xff)
			return i/8 < int(b[1]) && b[2+i/8]&(0x80>>(i%8)) != 0
		}
		b = b[2+int(b[1]):]
	}
	return false
}

// BitmapTypes lists the types in the bitmap in ascending order.
func BitmapTypes(b []byte) []Type {
	var types []Type
	for len(b) >= 2 && len(b) >= 2+int(b[1]) {
		for i := 0; i < 8*int(b[1]); i++ {
			if b[2+i/8]&(0x80>>(i%8)) != 0 {
				types = append(types, Type(b[0])<<8|Type(i))
			}
		}
		b = b[2+int(b[1]):]
	}
	return types
}

// sizeBitmap demands what RFC 4034 §4.1.2 does: windows ascend, have 1 to 32
// octets and no trailing zero octet.
func sizeBitmap(b []byte) int {
	last := -1
	for i := 0; i < len(b); {
		if i+2 > len(b) {
			return -1
		}
		window, n := int(b[i]), int(b[i+1])
		if window <= last || n == 0 || n > 32 || i+2+n > len(b) || b[i+1+n] == 0 {
			return -1
		}
		last = window
		i += 2 + n
	}
	return len(b)
}

func printBitmap(dst, b []byte) []byte {
	for i, t := range BitmapTypes(b) {
		if i > 0 {
			dst = append(dst, ' ')
		}
		dst = append(dst, t.String()...)
	}
	return dst
}

func parseBitmap(p *Parser) *FieldError {
	var types []Type
	for ; p.i < len(p.tokens); p.i++ {
		t, ok := ParseType(p.tokens[p.i].Text)
		if !ok {
			return p.fail(RuleBadTypeCode, "%q is not a record type", p.tokens[p.i].Text)
		}
		types = append(types, t)
	}
	p.out = AppendBitmap(p.out, types)
	return nil
}
