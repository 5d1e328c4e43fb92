// Package zonefile reads and edits master files (RFC 1035 §5, RFC 2308 §4).
//
// One scanner and one parser serve two readers: Load, which streams records
// into a zone.Builder as fast as it can, and Parse, which keeps every octet of
// the file addressable so that an edit touches only the lines it must. Both
// report every mistake and go on.
//
// Where the standard leaves room: times with unit letters are read with a note;
// a quoted text ends on its line; parentheses do not nest; a record without a
// TTL takes $TTL, without that the last TTL stated (RFC 1035 §5.1).
package zonefile

import (
	"bytes"
	"encoding/binary"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// Kind is what an entry of a master file is.
type Kind uint8

// The kinds of entries.
const (
	Blank     Kind = iota // nothing, or a comment alone
	Directive             // $ORIGIN, $TTL or $INCLUDE
	Record
	Bad // could not be understood; there is a diagnostic
)

// Entry is one entry of a master file. The slices are valid until the parser
// goes on.
type Entry struct {
	Kind Kind
	File *source.File
	Span source.Span // whole lines, line end included

	Tokens  []rr.Token
	Offsets []int // of the tokens in the file, quotes included
	Comment int   // offset of the last comment, or -1

	// For records. The indexes of tokens are -1 where the field is not stated.
	Owner    []byte // absolute, wire form
	Type     rr.Type
	TTL      uint32
	Data     []byte // wire form
	OwnerTok int
	TTLTok   int
	ClassTok int
	TypeTok  int

	Origin []byte // in force here, wire form; empty if none
	// Cut tells that the text of a record ends at a semicolon, most likely by mistake.
	Cut bool
}

// TokenSpan is the place of the i-th token, its quotes included.
func (e *Entry) TokenSpan(i int) source.Span {
	if i >= len(e.Tokens) { // something missing at the end: point after the last word
		end := e.tokenEnd(len(e.Tokens) - 1)
		return source.Span{Start: e.File.Pos(end), End: e.File.Pos(end)}
	}
	return source.Span{Start: e.File.Pos(e.Offsets[i]), End: e.File.Pos(e.tokenEnd(i))}
}

func (e *Entry) tokenEnd(i int) int {
	if i < 0 {
		return e.File.Offset(e.Span.Start)
	}
	end := e.Offsets[i] + len(e.Tokens[i].Text)
	if e.Tokens[i].Quoted {
		end = min(end+2, len(e.File.Content))
	}
	return end
}

// Options says how to read a file.
type Options struct {
	// Origin completes relative names until the file says $ORIGIN. The zero
	// name is none.
	Origin dnsname.Name
	// Open reads a file named in $INCLUDE by the file from. Nil refuses.
	// No file and no error leave it out: a record behind it that takes its owner
	// from it is not understood, then.
	Open func(path string, from *source.File) (*source.File, error)
}

// maxIncludes bounds how deep files may include others.
const maxIncludes = 16

// parser turns the entries of the scanner into records. It walks into included
// files.
type parser struct {
	frame // the file being read
	outer []frame

	opts  Options
	diags *diag.List
	data  rr.Parser
	entry Entry
	owner []byte // of the record before; nil when nothing is known of it
	// lostOwner tells that the owner is not known because of something that has
	// its finding already, or that is not read here.
	lostOwner bool
	noOwner   bool // met a record without owner and with none before it
	buf       []byte
	noTTL     bool // said already that TTLs are missing
	notText   bool // met a file that is no text
}

// frame is the state that belongs to one file.
type frame struct {
	scan       scanner
	file       *source.File
	origin     []byte
	defaultTTL uint32 // of $TTL
	hasDefault bool
	lastTTL    uint32 // stated last
	hasLast    bool
	saidUnits  bool
	saidCR     bool
	ascii      bool // the file has no octet over 127
}

func newParser(file *source.File, opts Options, diags *diag.List) *parser {
	p := &parser{opts: opts, diags: diags}
	p.frame = frame{file: file, origin: []byte(opts.Origin.Wire())}
	p.scan.src = file.Content
	p.beginFile()
	p.buf = make([]byte, 0, 512)
	return p
}

// isASCII reports whether a text has no octet over 127.
func isASCII(text []byte) bool {
	for ; len(text) >= 8; text = text[8:] {
		if binary.LittleEndian.Uint64(text)&0x8080808080808080 != 0 {
			return false
		}
	}
	for _, c := range text {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// CutOff reports whether the last line of a text says something and has no end, and
// where it begins.
func CutOff(text []byte) (at int, cut bool) {
	at = bytes.LastIndexByte(text, '\n') + 1
	last := bytes.TrimSpace(text[at:])
	return at, len(last) > 0 && last[0] != ';'
}

// beginFile looks at both ends of a file.
func (p *parser) beginFile() {
	text := p.file.Content
	if !plainText(text) {
		p.refuseText()
		return
	}
	p.ascii = isASCII(text)
	p.skipMark()
	at, cut := CutOff(text)
	if !cut {
		return
	}
	p.report(RuleLastLine.At(source.Span{Start: p.file.Pos(at), End: p.file.Pos(len(text))}, "the last line has no end: was the file cut off?").
		Suggest("look whether the line is whole, and end it"))
}

// skipMark passes over a byte-order mark at the beginning of a file.
func (p *parser) skipMark() {
	const mark = "\xef\xbb\xbf"
	if !bytes.HasPrefix(p.file.Content, []byte(mark)) {
		return
	}
	p.scan.pos = len(mark)
	at := source.Span{Start: p.file.Pos(0), End: p.file.Pos(len(mark))}
	d := RuleByteOrderMark.At(at, "the file begins with a byte-order mark").Suggest("remove it")
	d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: at}}}
	p.report(d)
}

// next reads an entry; nil at the end.
func (p *parser) next() *Entry {
	for !p.scan.next() {
		if len(p.outer) == 0 {
			return nil
		}
		p.frame = p.outer[len(p.outer)-1]
		p.outer = p.outer[:len(p.outer)-1]
	}
	s := &p.scan
	e := &p.entry
	e.Kind, e.File, e.Tokens, e.Offsets, e.Comment = Blank, p.file, s.tokens, s.offs, s.comment
	e.Span = source.Span{Start: p.file.Pos(s.start), End: p.file.Pos(s.end)}
	e.OwnerTok, e.TTLTok, e.ClassTok, e.TypeTok = -1, -1, -1, -1
	e.Origin, e.Owner, e.Data, e.Type, e.TTL, e.Cut = p.origin, nil, nil, 0, 0, false
	if len(s.faults) > 0 {
		p.reportFaults()
	}
	if s.cr && !p.saidCR {
		p.saidCR = true
		p.diags.Add(RuleCarriageReturn.At(source.Span{Start: e.Span.Start, End: e.Span.Start}, "lines end in CR LF, first here"))
	}
	switch {
	case len(s.tokens) == 0:
	case !s.indented && s.tokens[0].Text != nil && !s.tokens[0].Quoted && len(s.tokens[0].Text) > 0 && s.tokens[0].Text[0] == '$':
		p.directive(e)
	default:
		p.record(e)
		if len(s.faults) > 0 && e.Kind == Record && e.Type != rr.TypeSOA {
			e.Kind = Bad // what it holds is a guess, of which more findings would be echoes
		}
	}
	return e
}

func (p *parser) report(d diag.Diagnostic) { p.diags.Add(d) }

func (p *parser) reportFaults() {
	for _, f := range p.scan.faults {
		at := source.Span{Start: p.file.Pos(f.at), End: p.file.Pos(f.at + 1)}
		switch f.kind {
		case faultOpenParen:
			p.report(RuleUnclosedParen.At(at, "this parenthesis is never closed").
				Suggest("add ) after the last field of the record"))
		case faultCloseParen:
			p.report(RuleUnopenedParen.At(at, "this parenthesis was not opened").
				Suggest("remove it, or add ( before the first field it should join"))
		case faultQuote:
			p.report(RuleUnclosedQuote.At(at, "this quote is not closed on its line").
				Suggest(`add a quote where the text ends`))
		}
	}
}

var directives = []string{"$ORIGIN", "$TTL", "$INCLUDE"}

func (p *parser) directive(e *Entry) {
	e.Kind = Directive
	word := string(e.Tokens[0].Text)
	switch strings.ToUpper(word) {
	case "$ORIGIN":
		p.originDirective(e)
	case "$TTL":
		p.ttlDirective(e)
	case "$INCLUDE":
		p.includeDirective(e)
	default:
		p.unknownDirective(e)
	}
}

func (p *parser) unknownDirective(e *Entry) {
	e.Kind = Bad
	word := string(e.Tokens[0].Text)
	d := RuleUnknownDirective.At(e.TokenSpan(0), "%s is not a directive", word)
	if strings.EqualFold(word, rangeDirective) {
		p.report(RuleUnknownDirective.At(e.TokenSpan(0), "%s, which stands for a range of records, is not a directive of any standard", word).
			Suggest("take the file over with: fencepost pull ZONE --file %s, which writes the records out", p.file.Name))
		return
	}
	if meant := diag.Closest("$"+strings.TrimLeft(word, "$@#%&!."), directives); meant != "" {
		d = d.Suggest("did you mean %s?", meant)
		d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: e.TokenSpan(0), New: meant}}}
		if meant == "$TTL" && len(e.Tokens) == 2 { // go on as if it were right, so as not to echo
			if ttl, _, ok := rr.ParseTTL(e.Tokens[1].Text); ok {
				p.defaultTTL, p.hasDefault = ttl, true
			}
		}
	}
	p.report(d)
}

func (p *parser) badDirective(e *Entry, tok int, format string, args ...any) {
	e.Kind = Bad
	p.report(RuleBadDirective.At(e.TokenSpan(tok), format, args...))
}

func (p *parser) originDirective(e *Entry) {
	if len(e.Tokens) != 2 {
		p.badDirective(e, min(2, len(e.Tokens)), "$ORIGIN takes one name")
		return
	}
	w, err := dnsname.AppendParse(nil, e.Tokens[1].Text, p.origin)
	if err != nil {
		p.fieldError(e, 1, rr.NameError(err))
		return
	}
	p.origin = w
}

func (p *parser) ttlDirective(e *Entry) {
	if len(e.Tokens) != 2 {
		p.badDirective(e, min(2, len(e.Tokens)), "$TTL takes one time in seconds")
		return
	}
	ttl, units, ok := rr.ParseTTL(e.Tokens[1].Text)
	if !ok {
		e.Kind = Bad
		p.report(RuleBadTTL.At(e.TokenSpan(1), "%q is not a time from 0 to 2147483647 seconds", e.Tokens[1].Text))
		return
	}
	p.noteUnits(e, 1, units)
	p.defaultTTL, p.hasDefault = ttl, true
}

func (p *parser) includeDirective(e *Entry) {
	if len(e.Tokens) < 2 || len(e.Tokens) > 3 {
		p.badDirective(e, min(3, len(e.Tokens)), "$INCLUDE takes a file and perhaps an origin")
		return
	}
	origin := p.origin
	if len(e.Tokens) == 3 {
		w, err := dnsname.AppendParse(nil, e.Tokens[2].Text, p.origin)
		if err != nil {
			p.fieldError(e, 2, rr.NameError(err))
			return
		}
		origin = w
	}
	path := string(e.Tokens[1].Text)
	fail := func(why string) {
		e.Kind = Bad
		p.loseOwner()
		p.report(RuleInclude.At(e.TokenSpan(1), "%s cannot be included: %s", path, why))
	}
	if p.opts.Open == nil {
		fail("files are not included here")
		return
	}
	if len(p.outer) >= maxIncludes {
		fail("files are included too deep")
		return
	}
	f, err := p.opts.Open(path, p.file)
	if err != nil {
		fail(err.Error())
		return
	}
	if f == nil {
		p.loseOwner()
		return
	}
	for _, o := range append(p.outer, p.frame) {
		if o.file.Name == f.Name {
			fail("it includes itself")
			return
		}
	}
	p.outer = append(p.outer, p.frame)
	// The origin does not leak back (RFC 1035 §5.1); TTLs go in.
	in := frame{file: f, origin: origin, defaultTTL: p.defaultTTL, hasDefault: p.hasDefault, lastTTL: p.lastTTL, hasLast: p.hasLast}
	in.scan.src = f.Content
	p.frame = in
	p.beginFile()
}

// loseOwner forgets the owner of the record before: what comes stands behind
// something that could not be read.
func (p *parser) loseOwner() { p.owner, p.lostOwner = nil, true }

func (p *parser) noteUnits(e *Entry, tok int, units bool) {
	if units && !p.saidUnits {
		p.saidUnits = true
		p.report(RuleTTLUnits.At(e.TokenSpan(tok), "%s is written with unit letters, which is not standard", e.Tokens[tok].Text))
	}
}

// fieldError reports a fault in a field; first is the token that the error's
// Token 0 stands for.
func (p *parser) fieldError(e *Entry, first int, err *rr.FieldError) {
	e.Kind = Bad
	span := e.TokenSpan(first + err.Token)
	if err.Len > 0 && first+err.Token < len(e.Tokens) {
		start := e.Offsets[first+err.Token] + err.Offset
		if e.Tokens[first+err.Token].Quoted {
			start++
		}
		span = source.Span{Start: e.File.Pos(start), End: e.File.Pos(min(start+err.Len, e.File.Offset(span.End)))}
	}
	d := err.Rule.At(span, "%s", err.Message)
	d.Suggestion = err.Suggestion
	p.report(d)
	for _, more := range err.More {
		p.fieldError(e, first, more)
	}
}
