package zonefile

import (
	"bytes"

	"fencepost/source"
)

// Line is one entry as words, for those who want no records: quotes are kept, so
// that a text can be told from a word.
type Line struct {
	Line     int // from 1
	Indented bool
	Words    []string
	Fault    string // what is wrong with its layout
}

// Words takes a text apart into entries; blank ones are left out.
func Words(f *source.File) (out []Line) {
	s := scanner{src: f.Content}
	at, line := 0, 1
	for s.next() {
		line += bytes.Count(f.Content[at:s.start], []byte{'\n'})
		at = s.start
		if len(s.tokens) == 0 {
			continue
		}
		l := Line{Line: line, Indented: s.indented}
		for i, t := range s.tokens {
			w := string(t.Text)
			if t.Quoted {
				w = "\"" + w + "\""
			}
			if t.Glued && i > 0 {
				l.Words[len(l.Words)-1] += w
				continue
			}
			l.Words = append(l.Words, w)
		}
		if len(s.faults) > 0 {
			l.Fault = "a parenthesis or a quote is not closed"
		}
		out = append(out, l)
	}
	return out
}
