package ui

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Whatever is shown may hold text from outside: names of files, octets of zones,
// messages of other machines. A terminal obeys control characters, so none of those leaves
// here; our own are in a Text.

// obeyed reports whether a terminal, or a person who reads along, is led astray by a
// character: controls (C0, C1, DEL) and changes of direction.
func obeyed(r rune) bool {
	return r < ' ' || r >= 0x7f && r < 0xa0 || r == 0x200e || r == 0x200f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0xfeff
}

// escaped makes text safe to show. Octets are written as in zones, \DDD, line ends too: what comes from
// outside is on one line.
func escaped(s string) string {
	if !strings.ContainsFunc(s, func(r rune) bool { return obeyed(r) && r != '\t' || r == utf8.RuneError }) {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == '\t':
			b.WriteRune(r)
		case r == utf8.RuneError && n == 1, r < 0x80 && obeyed(r):
			fmt.Fprintf(&b, `\%03d`, s[0])
		case obeyed(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
		s = s[n:]
	}
	return b.String()
}

// cleanJSON does the same to encoded JSON, in which C0 controls are escaped already.
func cleanJSON(text []byte) []byte {
	if !strings.ContainsFunc(string(text), func(r rune) bool { return r != '\n' && obeyed(r) }) {
		return text
	}
	var b strings.Builder
	for _, r := range string(text) {
		if r != '\n' && obeyed(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return []byte(b.String())
}
