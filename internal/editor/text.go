package editor

import (
	"net/url"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

// lineStarts are the offsets at which the lines of a text begin.
func lineStarts(text string) []int {
	starts := []int{0}
	for i := 0; i < len(text); i++ {
		if text[i] == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

// offset is where a position lies in the text; positions beyond a line's end are
// its end.
func offset(text string, starts []int, p position) int {
	if p.Line < 0 {
		return 0
	}
	if p.Line >= len(starts) {
		return len(text)
	}
	at, units := starts[p.Line], 0
	for at < len(text) && text[at] != '\n' && units < p.Character {
		r, n := utf8.DecodeRuneInString(text[at:])
		units += utf16Len(r)
		at += n
	}
	return at
}

// positionOf is the position of an offset.
func positionOf(text string, starts []int, off int) position {
	off = min(max(off, 0), len(text))
	line, hi := 0, len(starts)
	for hi-line > 1 {
		if mid := (line + hi) / 2; starts[mid] <= off {
			line = mid
		} else {
			hi = mid
		}
	}
	units := 0
	for _, r := range text[starts[line]:off] {
		units += utf16Len(r)
	}
	return position{line, units}
}

func utf16Len(r rune) int {
	if r >= 0x10000 {
		return 2
	}
	return 1
}

// pathOf is the path of a file URI, or "" for any other.
func pathOf(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return ""
	}
	return filepath.FromSlash(u.Path)
}

func uriOf(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	return (&url.URL{Scheme: "file", Path: filepath.ToSlash(path)}).String()
}

// apply makes one change to a text: of a range, or of all of it.
func apply(text string, r *textRange, new string) string {
	if r == nil {
		return new
	}
	starts := lineStarts(text)
	from, to := offset(text, starts, r.Start), offset(text, starts, r.End)
	if from > to {
		from, to = to, from
	}
	return strings.Join([]string{text[:from], new, text[to:]}, "")
}
