package zonefile

import "fencepost/rr"

// Classes of octets in a master file.
const (
	octetText = iota
	octetBlank
	octetNewline
	octetComment
	octetOpen
	octetClose
	octetQuote
	octetEscape
)

var octetClass = [256]uint8{' ': octetBlank, '\t': octetBlank, '\r': octetBlank, '\n': octetNewline, ';': octetComment,
	'(': octetOpen, ')': octetClose, '"': octetQuote, '\\': octetEscape}

// faultKind is what can be wrong with the layout of an entry.
type faultKind uint8

const (
	faultOpenParen  faultKind = iota + 1 // never closed
	faultCloseParen                      // never opened
	faultQuote                           // not closed before the end of the line
)

// fault is a mistake in the layout, at an offset of the source.
type fault struct {
	kind faultKind
	at   int
}

// scanner splits a master file into entries: a line, or several where
// parentheses join them. It never fails: faults are listed and it goes on at
// the next sensible place. It allocates only when an entry has more words than
// any before.
type scanner struct {
	src []byte
	pos int

	// The entry read last.
	start, end int        // whole lines, line end included
	indented   bool       // begins with a blank: the owner is the one before
	tokens     []rr.Token // the words
	offs       []int      // where each word begins, the quote included
	comment    int        // where the last comment begins, or -1
	faults     []fault
	cr         bool // saw a carriage return
}

// next reads an entry; false at the end of the source.
func (s *scanner) next() bool {
	s.tokens, s.offs, s.faults, s.comment = s.tokens[:0], s.offs[:0], s.faults[:0], -1
	s.start = s.pos
	if s.pos >= len(s.src) {
		return false
	}
	s.indented = octetClass[s.src[s.pos]] == octetBlank
	open := -1 // where the parenthesis was opened
	src, i := s.src, s.pos
	for i < len(src) {
		switch octetClass[src[i]] {
		case octetBlank:
			s.cr = s.cr || src[i] == '\r'
			i++
		case octetNewline:
			i++
			if open < 0 {
				s.pos, s.end = i, i
				return true
			}
		case octetComment:
			s.comment = i
			for i < len(src) && src[i] != '\n' {
				i++
			}
			if i > 0 && src[i-1] == '\r' {
				s.cr = true
			}
		case octetOpen:
			if open >= 0 { // the first was forgotten: begin again after it
				return s.giveUp(open)
			}
			open = i
			i++
		case octetClose:
			if open < 0 {
				s.faults = append(s.faults, fault{faultCloseParen, i})
			}
			open = -1
			i++
		case octetQuote:
			i = s.quoted(i)
		default:
			i = s.word(i)
		}
	}
	if open >= 0 {
		return s.giveUp(open)
	}
	s.pos, s.end = i, i
	return true
}

// word reads a word that begins at i and returns where it ends.
func (s *scanner) word(i int) int {
	src, start := s.src, i
	for i < len(src) {
		c := octetClass[src[i]]
		if c == octetText {
			i++
			continue
		}
		if c != octetEscape {
			break
		}
		i++
		if i < len(src) && src[i] != '\n' {
			i++
		}
	}
	s.tokens = append(s.tokens, rr.Token{Text: src[start:i]})
	s.offs = append(s.offs, start)
	return i
}

// quoted reads a string whose quote is at i.
func (s *scanner) quoted(i int) int {
	src, start := s.src, i
	i++
	for i < len(src) && src[i] != '"' && src[i] != '\n' {
		if src[i] == '\\' && i+1 < len(src) && src[i+1] != '\n' {
			i++
		}
		i++
	}
	n := len(s.tokens)
	glued := n > 0 && !s.tokens[n-1].Quoted && s.offs[n-1]+len(s.tokens[n-1].Text) == start
	s.tokens = append(s.tokens, rr.Token{Text: src[start+1 : i], Quoted: true, Glued: glued})
	s.offs = append(s.offs, start)
	if i >= len(src) || src[i] == '\n' {
		s.faults = append(s.faults, fault{faultQuote, start})
		return i
	}
	return i + 1
}

// giveUp deals with a parenthesis opened at open that is never closed. What
// belongs to its entry is guessed: the lines up to the next one that begins a
// record of its own, at the left margin. The rest of the file is then read as
// if the parenthesis had been closed there.
func (s *scanner) giveUp(open int) bool {
	src := s.src
	i := open
	for i < len(src) {
		for i < len(src) && src[i] != '\n' {
			i++
		}
		i = min(i+1, len(src))
		if i < len(src) {
			if c := octetClass[src[i]]; c == octetText || c == octetEscape {
				break
			}
		}
	}
	s.pos, s.end = i, i
	// Words that were read beyond that place are read again with their own entry.
	n := len(s.offs)
	for n > 0 && s.offs[n-1] >= i {
		n--
	}
	s.tokens, s.offs = s.tokens[:n], s.offs[:n]
	kept := s.faults[:0]
	for _, f := range s.faults {
		if f.at < i {
			kept = append(kept, f)
		}
	}
	s.faults = append(kept, fault{faultOpenParen, open})
	if s.comment >= i {
		s.comment = -1
	}
	return true
}
