package zonefile

import (
	"bytes"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// record reads the entry as a record.
func (p *parser) record(e *Entry) {
	e.Kind = Record
	i := 0
	if !p.ascii && p.findOddBlanks(e) {
		e.Kind = Bad
		if !p.scan.indented {
			p.loseOwner()
		}
		return
	}
	switch {
	case p.scan.indented && p.owner == nil:
		if i = p.firstOwner(e); i < 0 {
			e.Kind = Bad
			return
		}
	case p.scan.indented:
		e.Owner = p.owner
	case commentSign(&e.Tokens[0]):
		e.Kind = Bad
		p.reportComment(e, 0)
		return
	case p.looksLikeDirective(e):
		p.unknownDirective(e)
		return
	default:
		e.OwnerTok, i = 0, 1
	}
	i, ok := p.ttlAndClass(e, i)
	if !ok {
		// Read the owner all the same: the lines after this one depend on it.
		p.readOwner(e)
		e.Kind = Bad
		return
	}
	e.TypeTok = i
	if !p.readOwner(e) {
		return
	}
	if info := rr.Lookup(e.Type); info != nil && info.Use != rr.Data {
		e.Kind = Bad
		p.report(RuleTypeNotData.At(e.TokenSpan(i), "%s exists only in messages and cannot stand in a zone", info.Mnemonic))
		return
	}
	p.data.Origin, p.data.Units = p.origin, false
	data, err := p.data.Data(p.buf[:0], e.Type, e.Tokens[i+1:])
	if err != nil {
		slip := false
		if data, slip = p.slipInData(e, err); !slip {
			p.fieldError(e, i+1, err)
		}
		if data == nil {
			e.Kind = Bad
			return
		}
	}
	p.buf, e.Data = data, data
	p.noteInnerQuotes(e)
	p.noteCutText(e)
	if p.data.Units {
		p.noteUnits(e, firstUnits(e, i+1), true)
	}
	p.settleTTL(e)
}

// firstOwner settles the owner of a first record that begins with a blank, says that it
// does, and is the token behind it; -1 if there is no telling. The record is read as it
// was meant: one mistake, one finding.
func (p *parser) firstOwner(e *Entry) int {
	if p.lostOwner {
		return -1
	}
	p.noOwner, p.lostOwner = true, true
	d := RuleNoOwner.At(e.TokenSpan(0), "the first record begins with a blank, so it has no owner").
		Suggest("write the owner at the left margin, @ for the zone itself")
	next := 0
	if !beforeData(e.Tokens[0].Text) && e.hasType() {
		d = d.Suggest("take the blank away: %s is the owner", e.Tokens[0].Text)
		d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: source.Span{Start: e.Span.Start, End: e.TokenSpan(0).Start}}}}
		e.OwnerTok, next = 0, 1
	} else if len(p.origin) > 0 {
		p.owner = append(p.owner[:0], p.origin...)
		e.Owner = p.owner
	}
	p.report(d)
	if e.OwnerTok < 0 && e.Owner == nil {
		return -1
	}
	return next
}

// beforeData reports whether a word may stand between owner and data.
func beforeData(word []byte) bool {
	_, isType := rr.ParseType(word)
	_, isClass := rr.ParseClass(word)
	_, _, isTTL := rr.ParseTTL(word)
	return isType || isClass || isTTL
}

// noteCutText looks for a text that a semicolon ends, and for words behind a quoted one
// that were meant for a comment.
func (p *parser) noteCutText(e *Entry) {
	if !textTypes[e.Type] {
		return
	}
	if e.Comment >= 0 && p.cutText(e) {
		p.reportCutText(e)
		e.Cut = true
	}
	for i := e.TypeTok + 2; i < len(e.Tokens); i++ {
		if t := &e.Tokens[i]; commentSign(t) && e.Tokens[i-1].Quoted && !t.Glued && (len(t.Text) == 1 || string(t.Text) == "//") {
			p.reportComment(e, i)
			return
		}
	}
}

// noteInnerQuotes looks for quotes that end a text in the middle: what follows
// stands right behind them, or they right behind a word.
func (p *parser) noteInnerQuotes(e *Entry) {
	for i := e.TypeTok + 2; i < len(e.Tokens); i++ {
		if !e.Tokens[i].Quoted && !e.Tokens[i-1].Quoted || e.Offsets[i] != e.tokenEnd(i-1) {
			continue
		}
		if t := e.Tokens[i-1]; !t.Quoted && len(t.Text) > 0 && t.Text[len(t.Text)-1] == '=' {
			continue // key="value"
		}
		at := source.Span{Start: e.File.Pos(e.Offsets[i] - 1), End: e.File.Pos(e.Offsets[i] + 1)}
		p.report(RuleInnerQuote.At(at, "a quote within the text ends it here").Suggest(`write \" for a quote that belongs to the text`))
		return
	}
}

func firstUnits(e *Entry, i int) int {
	for ; i < len(e.Tokens); i++ {
		if _, units, ok := rr.ParseTTL(e.Tokens[i].Text); ok && units {
			return i
		}
	}
	return len(e.Tokens) - 1
}

// readOwner reads the owner field if the entry has one.
func (p *parser) readOwner(e *Entry) bool {
	if e.OwnerTok < 0 {
		return true
	}
	tok := e.Tokens[0]
	w, err := dnsname.AppendParse(p.owner[:0], tok.Text, p.origin)
	p.owner = w
	if err != nil {
		p.loseOwner()
		p.fieldError(e, 0, rr.NameError(err))
		return false
	}
	e.Owner, p.lostOwner = w, false
	for _, c := range tok.Text {
		if c >= 0x80 {
			p.report(RuleNotASCII.At(e.TokenSpan(0), "the name %s holds characters outside ASCII", tok.Text).
				Suggest("write it as an A-label, which begins with xn--"))
			break
		}
	}
	return true
}

// ttlAndClass reads what may stand between owner and type and leaves the type
// in e.Type; i is the token of the type then.
func (p *parser) ttlAndClass(e *Entry, i int) (typeTok int, ok bool) {
	for ; i < len(e.Tokens); i++ {
		text := e.Tokens[i].Text
		if t, known := rr.ParseType(text); known && !e.Tokens[i].Quoted {
			e.Type = t
			return i, true
		}
		if e.ClassTok < 0 {
			if c, isClass := rr.ParseClass(text); isClass {
				e.ClassTok = i
				if c != rr.ClassIN {
					p.report(RuleWrongClass.At(e.TokenSpan(i), "class %s: the records of a zone here are of class IN", text))
					return i, false
				}
				continue
			}
		}
		if e.TTLTok < 0 && len(text) > 0 && text[0] >= '0' && text[0] <= '9' {
			ttl, units, good := rr.ParseTTL(text)
			if !good && p.slipBeforeType(e, i) {
				return i, false
			}
			if !good {
				p.report(RuleBadTTL.At(e.TokenSpan(i), "%q is not a TTL from 0 to 2147483647 seconds", text))
				return i, false
			}
			p.noteUnits(e, i, units)
			e.TTLTok, e.TTL = i, ttl
			continue
		}
		if !p.slipBeforeType(e, i) {
			p.unknownType(e, i)
		}
		return i, false
	}
	p.report(RuleMissingType.At(e.TokenSpan(len(e.Tokens)), "the record ends before its type").
		Suggest("write owner, type and data, such as: www A 192.0.2.1"))
	return i, false
}

func (p *parser) unknownType(e *Entry, i int) {
	word := string(e.Tokens[i].Text)
	d := RuleUnknownType.At(e.TokenSpan(i), "%q is not a record type", word)
	switch meant := diag.Closest(word, rr.Mnemonics()); {
	case len(word) > 16 || e.Tokens[i].Quoted:
	case meant != "":
		d = d.Suggest("did you mean %s?", meant)
	case e.OwnerTok < 0:
		d = d.Suggest("if %s is the owner, begin it at the left margin", word)
	}
	p.report(d)
}

// looksLikeDirective reports whether a line at the left margin is a directive
// written with the wrong sign, such as @TTL or TTL.
func (p *parser) looksLikeDirective(e *Entry) bool {
	if len(e.Tokens) < 2 || e.Tokens[0].Quoted || len(e.Tokens[0].Text) == 0 {
		return false
	}
	first := e.Tokens[0].Text
	if c := first[0]; len(e.Tokens) > 2 && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9') {
		return false // by far the most lines
	}
	word := bytes.TrimLeft(first, "@#%&!.")
	for _, d := range directives {
		if !strings.EqualFold(string(word), d[1:]) {
			continue
		}
		return !e.hasType() && (len(word) < len(first) || len(e.Tokens) == 2)
	}
	return false
}

// hasType reports whether a type comes after the first word, with TTL and class in
// front of it or not: "ttl A 192.0.2.1" is a host of that name.
func (e *Entry) hasType() bool {
	for _, t := range e.Tokens[1:] {
		if _, isType := rr.ParseType(t.Text); isType {
			return true
		}
		_, isClass := rr.ParseClass(t.Text)
		if _, _, isTTL := rr.ParseTTL(t.Text); !isClass && !isTTL {
			return false
		}
	}
	return false
}

// settleTTL gives a record without a TTL the one that counts (RFC 2308 §4,
// RFC 1035 §5.1).
func (p *parser) settleTTL(e *Entry) {
	switch {
	case e.TTLTok >= 0:
		p.lastTTL, p.hasLast = e.TTL, true
	case p.hasDefault:
		e.TTL = p.defaultTTL
	case p.hasLast:
		e.TTL = p.lastTTL
	case e.Type == rr.TypeSOA:
		soa, _ := rr.ParseSOA(e.Data)
		e.TTL = min(soa.Minimum, 1<<31-1)
		p.report(RuleSOATTL.At(e.TokenSpan(e.TypeTok), "the SOA has no TTL; its last number, %d, is used", e.TTL).
			Suggest("write $TTL and a time at the head of the file"))
	default:
		e.TTL = 3600
		if !p.noTTL {
			p.noTTL = true
			p.report(RuleNoTTL.At(e.TokenSpan(e.TypeTok), "this record has no TTL and the file has no $TTL; this is the first of them").
				Suggest("write $TTL 3600 at the head of the file"))
		}
	}
}
