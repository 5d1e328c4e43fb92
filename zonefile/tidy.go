package zonefile

import (
	"bytes"
	"strconv"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Tidy writes a file in the house style: owner, type and data in columns, a TTL
// that is stated right before the type, an owner once for a run of its records, types in capitals, times in seconds, no
// class (all are IN), at most one blank line in a row, LF at line ends. Comments
// stay with their records, records stay in their order, names as they are written
// and what could not be read as it is. Tidy text comes back unchanged.
func Tidy(f *File) []byte {
	t := tidier{f: f}
	t.measure()
	for _, e := range f.Entries {
		t.entry(e)
	}
	return t.finish()
}

// Columns are at least this wide, so that small files look alike, and owners
// beyond the limit do not push the others to the right.
const (
	ownerLeast = 16
	ownerMost  = 32
	typeWidth  = 7
	remarks    = 40 // comments after a record
)

type tidier struct {
	f      *File
	out    []byte
	owners map[*Entry][]byte // what is written in the owner column; missing: nothing
	owner  int               // width of the owner column
	blanks int
}

// measure decides what is written in the owner column, and how wide the columns
// are. An owner is left out where the line before is a record of the same one.
func (t *tidier) measure() {
	t.owner, t.owners = ownerLeast, map[*Entry][]byte{}
	var before, stated *Entry
	for _, e := range t.f.All { // an owner may come from an included file
		if e.OwnerTok >= 0 && e.Owner != nil { // also of a record with a mistake in its data
			stated = e
		}
		if e.Kind != Record || e.File != t.f.Source {
			before = nil
			continue
		}
		if before == nil || !bytes.Equal(before.Owner, e.Owner) {
			text := ownerText(e, stated)
			t.owners[e] = text
			if n := len(text) + 1; n <= ownerMost {
				t.owner = max(t.owner, n)
			}
		}
		before = e
	}
	t.owner = (t.owner + 3) / 4 * 4
}

// ownerText is the owner of a record as it was written where it was stated, whole
// if another origin was in force there.
func ownerText(e, stated *Entry) []byte {
	if stated != nil && (stated == e || bytes.Equal(stated.Origin, e.Origin)) {
		return stated.tokenText(0)
	}
	return dnsname.AppendText(nil, e.Owner)
}

func (t *tidier) entry(e *Entry) {
	text := bytes.TrimPrefix(e.text(), []byte("\xef\xbb\xbf"))
	switch e.Kind {
	case Blank:
		t.comment(text)
	case Directive:
		t.blanks = 0
		if e.multiline() {
			t.asItIs(e)
			return
		}
		t.directive(e)
		t.trailing(e, t.owner)
	case Record:
		t.blanks = 0
		if e.Cut { // what looks like a comment is text
			t.asItIs(e)
			return
		}
		t.record(e)
	default: // not understood
		t.blanks = 0
		t.asItIs(e)
	}
}

// asItIs keeps the lines of an entry, without blanks at their ends. A record
// keeps its owner.
func (t *tidier) asItIs(e *Entry) {
	if e.Kind == Record && e.OwnerTok < 0 && t.owners[e] != nil {
		t.out = append(t.out, t.owners[e]...)
	}
	for _, line := range bytes.SplitAfter(e.text(), []byte{'\n'}) {
		if len(line) > 0 {
			t.out = append(append(t.out, bytes.TrimRight(line, " \t\r\n")...), '\n')
		}
	}
}

// comment writes a line without words.
func (t *tidier) comment(text []byte) {
	line := bytes.TrimSpace(text)
	if len(line) == 0 {
		if t.blanks++; t.blanks == 1 && len(t.out) > 0 {
			t.out = append(t.out, '\n')
		}
		return
	}
	t.blanks = 0
	if text[0] == ' ' || text[0] == '\t' { // a comment in the middle of records stays indented
		t.out = append(t.out, strings.Repeat(" ", t.owner)...)
	}
	t.out = append(append(t.out, line...), '\n')
}

// directive writes its words, a TTL in seconds.
func (t *tidier) directive(e *Entry) {
	for i := range e.Tokens {
		if i > 0 {
			t.out = append(t.out, ' ')
		}
		word := e.tokenText(i)
		if i == 0 {
			word = bytes.ToUpper(word)
		} else if n, units, ok := rr.ParseTTL(e.Tokens[i].Text); ok && units && bytes.EqualFold(e.Tokens[0].Text, []byte("$TTL")) {
			word = strconv.AppendUint(nil, uint64(n), 10)
		}
		t.out = append(t.out, word...)
	}
}

// trailing writes the comment of a one-line entry, from a column on, and ends the
// line.
func (t *tidier) trailing(e *Entry, column int) {
	if e.Comment >= 0 {
		n := len(t.out) - t.lineStart()
		t.out = append(t.out, strings.Repeat(" ", max(column-n, 2))...)
		t.out = append(t.out, bytes.TrimRight(lineFrom(t.f.Source.Content, e.Comment), " \t\r")...)
	}
	t.out = append(t.out, '\n')
}

func (t *tidier) lineStart() int { return bytes.LastIndexByte(t.out, '\n') + 1 }

func lineFrom(b []byte, at int) []byte {
	if i := bytes.IndexByte(b[at:], '\n'); i >= 0 {
		return b[at : at+i]
	}
	return b[at:]
}

func (t *tidier) record(e *Entry) {
	if e.opensEarly() {
		t.asItIs(e)
		return
	}
	start := len(t.out)
	t.out = append(t.out, t.owners[e]...)
	if e.TTLTok >= 0 { // before the type, in the room that owners leave: no column moves when a TTL comes
		ttl := strconv.FormatUint(uint64(e.TTL), 10)
		t.column(start, t.owner-len(ttl)-1)
		t.out = append(t.out, ttl...)
	}
	t.column(start, t.owner)
	t.out = append(t.out, typeText(e)...)
	if e.TypeTok+1 < len(e.Tokens) || e.multiline() {
		t.column(start, t.owner+typeWidth)
	}
	if e.multiline() {
		t.lines(e, len(t.out)-start)
		return
	}
	t.data(e)
	t.trailing(e, remarks)
}

// opensEarly reports whether a parenthesis stands before the data.
func (e *Entry) opensEarly() bool {
	at := e.File.Offset(e.Span.Start)
	for i := 0; i <= e.TypeTok; i++ {
		if bytes.IndexByte(e.File.Content[at:e.Offsets[i]], '(') >= 0 {
			return true
		}
		at = e.tokenEnd(i)
	}
	return false
}

// column fills the line that begins at start up to a column, with one blank at
// least.
func (t *tidier) column(start, to int) {
	t.out = append(t.out, strings.Repeat(" ", max(to-(len(t.out)-start), 1))...)
}

// typeText is the type in capitals.
func typeText(e *Entry) []byte { return bytes.ToUpper(e.Tokens[e.TypeTok].Text) }

// data writes the words of the data, times of the SOA in seconds.
func (t *tidier) data(e *Entry) {
	for i := e.TypeTok + 1; i < len(e.Tokens); i++ {
		if i > e.TypeTok+1 && !e.Tokens[i].Glued {
			t.out = append(t.out, ' ')
		}
		t.out = append(t.out, e.word(i)...)
	}
}

// multiline reports whether a record goes over several lines.
func (e *Entry) multiline() bool {
	text := bytes.TrimRight(e.text(), "\r\n")
	return bytes.IndexByte(text, '\n') >= 0
}

func (e *Entry) text() []byte {
	return e.File.Content[e.File.Offset(e.Span.Start):e.File.Offset(e.Span.End)]
}

// tokenText is a word as it is written, its quotes included.
func (e *Entry) tokenText(i int) []byte {
	return e.File.Content[e.Offsets[i]:e.tokenEnd(i)]
}

// word is a word of the data in the house style.
func (e *Entry) word(i int) []byte {
	if e.Type == rr.TypeSOA && !e.Tokens[i].Quoted && i > e.TypeTok+3 {
		if n, units, ok := rr.ParseTTL(e.Tokens[i].Text); ok && units {
			return strconv.AppendUint(nil, uint64(n), 10)
		}
	}
	return e.tokenText(i)
}

// lines writes the data of a record that goes over several lines: what stands on
// one line stays on one, from the same column on, with its comment.
func (t *tidier) lines(e *Entry, indent int) {
	content := t.f.Source.Content
	end := e.File.Offset(e.Span.End)
	at, tok, first := e.tokenEnd(e.TypeTok), e.TypeTok+1, true
	comments := t.commentColumn(e, indent)
	for at < end {
		lineEnd := end
		if i := bytes.IndexByte(content[at:end], '\n'); i >= 0 {
			lineEnd = at + i + 1
		}
		words, comment, next := e.lineWords(content, at, lineEnd, tok)
		tok = next
		at = lineEnd
		if len(words) == 0 && comment == nil {
			continue // a blank line within
		}
		start := len(t.out) - indent
		if !first {
			start = len(t.out)
			t.out = append(t.out, strings.Repeat(" ", indent)...)
		}
		first = false
		t.out = append(t.out, bytes.Join(words, []byte{' '})...)
		if comment != nil {
			if len(words) > 0 {
				t.column(start, comments)
			}
			t.out = append(t.out, comment...)
		}
		t.out = append(bytes.TrimRight(t.out, " "), '\n')
	}
	if first { // nothing but parentheses
		t.out = append(bytes.TrimRight(t.out, " "), '\n')
	}
}

// lineWords are the words and parentheses of one line, and its comment.
func (e *Entry) lineWords(content []byte, from, to, tok int) (words [][]byte, comment []byte, next int) {
	for from < to {
		switch c := content[from]; {
		case tok < len(e.Tokens) && from == e.Offsets[tok]:
			w := e.word(tok)
			if e.Tokens[tok].Glued && len(words) > 0 {
				words[len(words)-1] = append(bytes.Clone(words[len(words)-1]), w...)
			} else {
				words = append(words, w)
			}
			from = e.tokenEnd(tok)
			tok++
		case c == ';':
			return words, bytes.TrimRight(content[from:to], " \t\r\n"), tok
		case c == '(' || c == ')':
			words = append(words, content[from:from+1])
			from++
		default:
			from++
		}
	}
	return words, nil, tok
}

// commentColumn is where the comments of a record of several lines begin.
func (t *tidier) commentColumn(e *Entry, indent int) int {
	content := t.f.Source.Content
	widest, tok := 0, e.TypeTok+1
	at, end := e.tokenEnd(e.TypeTok), e.File.Offset(e.Span.End)
	for at < end {
		lineEnd := end
		if i := bytes.IndexByte(content[at:end], '\n'); i >= 0 {
			lineEnd = at + i + 1
		}
		words, comment, next := e.lineWords(content, at, lineEnd, tok)
		tok, at = next, lineEnd
		if comment != nil {
			widest = max(widest, len(bytes.Join(words, []byte{' '})))
		}
	}
	return indent + widest + 1
}

func (t *tidier) finish() []byte {
	out := bytes.TrimRight(t.out, "\n")
	if len(out) == 0 {
		return out
	}
	return append(out, '\n')
}
