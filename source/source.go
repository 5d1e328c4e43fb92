// Package source keeps the texts of files and turns small positions into file,
// line and column when somebody wants to see them.
package source

import (
	"bytes"
	"fmt"
	"sort"
	"unicode/utf8"
)

// Pos is an octet offset into all files of a Set laid end to end, plus one; the
// zero Pos is "nowhere".
type Pos uint32

// Span covers the octets [Start, End) of one file.
type Span struct{ Start, End Pos }

// IsZero reports whether the span is nowhere.
func (s Span) IsZero() bool { return s.Start == 0 }

// MaxTotal is the most octets a Set can hold, so that a Pos fits 32 bits.
const MaxTotal = 1<<32 - 2

// File is one text of a Set. Content must not be changed.
type File struct {
	Name    string // as the user named it
	Content []byte
	base    Pos // Pos of its first octet
}

// Pos is the position of the octet at offset.
func (f *File) Pos(offset int) Pos { return f.base + Pos(offset) }

// Offset is the octet offset of p in the file.
func (f *File) Offset(p Pos) int { return int(p - f.base) }

// Set holds the files that positions point into. The zero Set is empty and ready.
type Set struct {
	files []*File
	next  Pos
}

// Add takes a text into the set. It fails when the set would pass MaxTotal octets.
func (s *Set) Add(name string, content []byte) (*File, error) {
	if s.next == 0 {
		s.next = 1
	}
	if uint64(s.next)+uint64(len(content))+1 > MaxTotal {
		return nil, fmt.Errorf("%s: the files read together are larger than 4 GiB", name)
	}
	f := &File{Name: name, Content: content, base: s.next}
	s.files = append(s.files, f)
	s.next += Pos(len(content)) + 1 // one more: the end of a file is a place too
	return f, nil
}

// Files are the files in the order they were added.
func (s *Set) Files() []*File { return s.files }

// File is the file that p lies in, or nil.
func (s *Set) File(p Pos) *File {
	if p == 0 {
		return nil
	}
	i := sort.Search(len(s.files), func(i int) bool { return s.files[i].base > p }) - 1
	if i < 0 {
		return nil
	}
	return s.files[i]
}

// Position is a place as people say it.
type Position struct {
	File   string
	Line   int // from 1
	Column int // from 1, in octets
}

func (p Position) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Position works out file, line and column of p.
func (s *Set) Position(p Pos) Position {
	f := s.File(p)
	if f == nil {
		return Position{}
	}
	off := min(f.Offset(p), len(f.Content))
	before := f.Content[:off]
	return Position{
		File:   f.Name,
		Line:   1 + bytes.Count(before, []byte{'\n'}),
		Column: off - bytes.LastIndexByte(before, '\n'),
	}
}

// Line is the text of the line that p lies in, without its line end, and the
// offset of p within it.
func (s *Set) Line(p Pos) (text []byte, column int) {
	f := s.File(p)
	if f == nil {
		return nil, 0
	}
	off := min(f.Offset(p), len(f.Content))
	start := bytes.LastIndexByte(f.Content[:off], '\n') + 1
	end := len(f.Content)
	if i := bytes.IndexByte(f.Content[off:], '\n'); i >= 0 {
		end = off + i
	}
	return bytes.TrimSuffix(f.Content[start:end], []byte{'\r'}), off - start
}

// Runes is the column of p counted in characters, from 1.
func (s *Set) Runes(p Pos) int {
	line, column := s.Line(p)
	return utf8.RuneCount(line[:min(column, len(line))]) + 1
}

// LineStart is the first place of the line that p lies in.
func (s *Set) LineStart(p Pos) Pos {
	_, column := s.Line(p)
	return p - Pos(column)
}

// Text is the text that the span covers.
func (s *Set) Text(sp Span) []byte {
	f := s.File(sp.Start)
	if f == nil {
		return nil
	}
	return f.Content[f.Offset(sp.Start):min(f.Offset(sp.End), len(f.Content))]
}
