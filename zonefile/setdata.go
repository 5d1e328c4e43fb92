package zonefile

import (
	"bytes"
	"strings"

	"fencepost/rr"
)

// SetData replaces the data of a record by text. Words that stay the same are not
// touched, nor are comments, nor parentheses that join lines with comments.
func (ed *Editor) SetData(e *Entry, text string) {
	first := e.TypeTok + 1
	if first >= len(e.Tokens) { // a record without data, as an empty APL
		end := e.tokenEnd(e.TypeTok)
		ed.replace(e.File, end, end, " "+text)
		return
	}
	words := dataWords(text)
	from, to := e.Offsets[first], e.tokenEnd(len(e.Tokens)-1)
	if e.open(from, to) > 0 { // a parenthesis opened inside the data goes with its closing one
		to = e.closing(to)
	}
	switch {
	case len(words) == len(e.Tokens)-first && !e.glued(first):
		for i, w := range words {
			ed.replaceWord(e, first+i, w)
		}
	case e.hasRemark(from, to):
		ed.replaceWord(e, first, text)
		for i := first + 1; i < len(e.Tokens); i++ {
			ed.takeWord(e, i)
		}
	default:
		ed.replace(e.File, from, to, text)
	}
}

// dataWords are the words of a text, as they are written.
func dataWords(text string) (out []string) {
	s := scanner{src: []byte(text)}
	if !s.next() || len(s.faults) > 0 {
		return nil
	}
	for i, t := range s.tokens {
		end := s.offs[i] + len(t.Text)
		if t.Quoted {
			end += 2
		}
		if t.Glued {
			return nil
		}
		out = append(out, text[s.offs[i]:end])
	}
	return out
}

// glued reports whether a word from the first on stands right behind another.
func (e *Entry) glued(first int) bool {
	for i := first; i < len(e.Tokens); i++ {
		if e.Tokens[i].Glued || i > first && e.Offsets[i] == e.tokenEnd(i-1) {
			return true
		}
	}
	return false
}

// replaceWord writes another word in the place of the i-th. A comment behind it
// stays in its column where there is room.
func (ed *Editor) replaceWord(e *Entry, i int, text string) {
	from, to := e.Offsets[i], e.tokenEnd(i)
	content := e.File.Content
	old := string(content[from:to])
	if old == text {
		return
	}
	end := skipBlanks(content, to)
	between := "" // a parenthesis may come first
	if end < len(content) && content[end] == ')' {
		between = string(content[to : end+1])
		end = skipBlanks(content, end+1)
	}
	if end == to || end >= len(content) || content[end] != ';' || content[end-1] != ' ' {
		ed.replace(e.File, from, to, text)
		return
	}
	text += between
	ed.replace(e.File, from, end, text+strings.Repeat(" ", max(1, end-from-len(text))))
}

func skipBlanks(content []byte, at int) int {
	for at < len(content) && content[at] == ' ' {
		at++
	}
	return at
}

// takeWord takes the i-th word out, with its line where nothing else is on it.
func (ed *Editor) takeWord(e *Entry, i int) {
	content := e.File.Content
	from, to := e.Offsets[i], e.tokenEnd(i)
	start := from
	for start > 0 && (content[start-1] == ' ' || content[start-1] == '\t') {
		start--
	}
	end := to
	for end < len(content) && (content[end] == ' ' || content[end] == '\t' || content[end] == '\r') {
		end++
	}
	switch {
	case start > 0 && content[start-1] == '\n' && end < len(content) && content[end] == '\n':
		ed.replace(e.File, start, end+1, "")
	case start > 0 && content[start-1] == '\n': // what follows keeps its indentation
		ed.replace(e.File, from, to, "")
	default:
		ed.replace(e.File, start, to, "")
	}
}

// gaps calls f for the octets of the entry from an offset up to another that are
// neither words nor comments, until it returns false; remark is called for each
// comment.
func (e *Entry) gaps(from, to int, f func(at int, c byte) bool, remark func(at int) bool) {
	content, tok := e.File.Content, 0
	for tok < len(e.Tokens) && e.tokenEnd(tok) <= from {
		tok++
	}
	for at := from; at < to; {
		if tok < len(e.Tokens) && at >= e.Offsets[tok] {
			at = max(at, e.tokenEnd(tok))
			tok++
			continue
		}
		if content[at] == ';' {
			if !remark(at) {
				return
			}
			for at < to && content[at] != '\n' {
				at++
			}
			continue
		}
		if !f(at, content[at]) {
			return
		}
		at++
	}
}

// hasRemark reports whether a comment stands between two offsets.
func (e *Entry) hasRemark(from, to int) (found bool) {
	e.gaps(from, to, func(int, byte) bool { return true }, func(int) bool { found = true; return false })
	return found
}

// open counts the parentheses that are opened between two offsets and not closed.
func (e *Entry) open(from, to int) (n int) {
	e.gaps(from, to, func(_ int, c byte) bool {
		switch c {
		case '(':
			n++
		case ')':
			n--
		}
		return true
	}, func(int) bool { return true })
	return n
}

// closing is the place behind the parenthesis that closes the entry after from.
func (e *Entry) closing(from int) int {
	out, end := from, e.File.Offset(e.Span.End)
	e.gaps(from, end, func(at int, c byte) bool {
		if c == ')' {
			out = at + 1
		}
		return c != ')'
	}, func(int) bool { return true })
	return out
}

// SOASerialField is the serial among the words of a SOA's data.
const SOASerialField = 2

// SetField writes one word of a record's data, counted from 0.
func (ed *Editor) SetField(e *Entry, field int, text string) {
	ed.replaceWord(e, e.TypeTok+1+field, text)
}

// ReplaceRemark writes another comment behind a word of a record's data, counted from
// 0, if the comment there is the one given: what a person wrote stays.
func (ed *Editor) ReplaceRemark(e *Entry, field int, from, to string) {
	content, at := e.File.Content, e.tokenEnd(e.TypeTok+1+field)
	line := content[at:]
	if i := bytes.IndexByte(line, '\n'); i >= 0 {
		line = line[:i]
	}
	i := bytes.IndexByte(line, ';')
	if i < 0 || len(bytes.Trim(line[:i], " \t)")) > 0 {
		return
	}
	if text := bytes.TrimSpace(line[i+1:]); string(text) == from {
		start := at + bytes.Index(line, text)
		ed.replace(e.File, start, start+len(text), to)
	}
}

// DataIn is the text of data as it has to be written where origin is in force: as it
// was given, or with whole names where that would mean something else.
func DataIn(origin []byte, t rr.Type, text string, data []byte) string {
	s := scanner{src: []byte(text)}
	if data == nil || !s.next() || len(s.faults) > 0 {
		return text
	}
	p := rr.Parser{Origin: origin}
	if got, err := p.Data(nil, t, s.tokens); err == nil && bytes.Equal(got, data) {
		return text
	}
	return rr.DataText(t, data)
}

// HasDefault reports whether a record without a TTL would take that of a $TTL.
func (ed *Editor) HasDefault(r *Entry) bool {
	for _, e := range ed.f.All {
		if e == r {
			return false
		}
		if e.Kind == Directive && e.File == r.File && bytes.EqualFold(e.Tokens[0].Text, []byte("$TTL")) {
			return true
		}
	}
	return false
}

// DropTTL takes the TTL of a record out, so that the default counts. Where other
// fields stand in columns they stay there.
func (ed *Editor) DropTTL(e *Entry) {
	if e.TTLTok < 0 {
		return
	}
	content := e.File.Content
	from, to := e.Offsets[e.TTLTok], e.tokenEnd(e.TTLTok)
	if from >= 2 && content[from-1] == ' ' && content[from-2] == ' ' {
		ed.replace(e.File, from, to, strings.Repeat(" ", to-from))
		return
	}
	for to < len(content) && (content[to] == ' ' || content[to] == '\t') {
		to++
	}
	ed.replace(e.File, from, to, "")
}
