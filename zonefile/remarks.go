package zonefile

import (
	"bytes"

	"fencepost/source"
)

// Remark is a comment with a mark in it, and the entry it is about: the one it
// stands in or, on a line of its own, the next.
type Remark struct {
	Text  string // what follows the mark on its line
	At    source.Pos
	Entry source.Span
}

// Remarks finds the comments of a file that begin with mark.
func Remarks(f *source.File, mark string) (out []Remark) {
	s := scanner{src: f.Content}
	var waiting []int // in out: still without an entry
	for s.next() {
		entry := source.Span{Start: f.Pos(s.start), End: f.Pos(s.end)}
		for at := s.start; ; {
			i := bytes.Index(f.Content[at:s.end], []byte(mark))
			if i < 0 {
				break
			}
			at += i + len(mark)
			if !s.inComment(at - len(mark)) {
				continue
			}
			line := f.Content[at:s.end]
			if nl := bytes.IndexByte(line, '\n'); nl >= 0 {
				line = line[:nl]
			}
			out = append(out, Remark{Text: string(line), At: f.Pos(at), Entry: entry})
			if len(s.tokens) == 0 {
				waiting = append(waiting, len(out)-1)
			}
		}
		if len(s.tokens) > 0 {
			for _, i := range waiting {
				out[i].Entry = entry
			}
			waiting = waiting[:0]
		}
	}
	return out
}

// inComment reports whether a mark at an offset of the present entry is the first
// thing in a comment.
func (s *scanner) inComment(at int) bool {
	for i := range s.tokens {
		if at >= s.offs[i] && at <= s.offs[i]+len(s.tokens[i].Text) {
			return false
		}
	}
	i := at - 1
	for i >= s.start && (s.src[i] == ' ' || s.src[i] == '\t') {
		i--
	}
	return i >= s.start && s.src[i] == ';'
}
