package rr

import (
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
)

// Token is one word of a master file: its text between the quotes, if there are
// any, with the escapes still in it.
type Token struct {
	Text   []byte
	Quoted bool
	Glued  bool // quoted, and right behind the word before, as in alpn="h2"
}

// FieldError says which token of record data is wrong and why. Token may be the
// number of tokens: then something is missing at the end. Offset and Len
// narrow it down within the token; Len 0 means the whole token.
type FieldError struct {
	Token       int
	Offset, Len int
	Rule        *diag.Rule
	Message     string
	Suggestion  string
	More        []*FieldError // in later fields of the same record
}

func (e *FieldError) Error() string { return e.Message }

func (e *FieldError) suggest(format string, args ...any) *FieldError {
	e.Suggestion = fmt.Sprintf(format, args...)
	return e
}

// Parser reads record data from tokens. The zero Parser is ready; it may be
// used again and again, so that reading a million records allocates nothing.
type Parser struct {
	Origin []byte // wire form; empty if none is known
	Units  bool   // set when a time was written with unit letters, as in 1h30m

	tokens  []Token
	i       int
	out     []byte
	scratch []byte
}

// MaxData is the most octets the data of one record can have.
const MaxData = 65535

// Data appends the wire form of the data of type t, written in tokens, to dst.
// On an error dst comes back as it was.
func (p *Parser) Data(dst []byte, t Type, tokens []Token) ([]byte, *FieldError) {
	start := len(dst)
	p.tokens, p.i, p.out = tokens, 0, dst
	var err *FieldError
	info := Lookup(t)
	switch {
	case len(tokens) > 0 && !tokens[0].Quoted && string(tokens[0].Text) == `\#`:
		err = p.generic(t)
	case info == nil || info.Fields == nil:
		err = p.fail(RuleBadGeneric, `the data of type %s can only be given in the \# form`, t).
			suggest(`write \# LENGTH HEX`)
	default:
		err = p.fields(info)
	}
	out := p.out
	p.tokens, p.out = nil, nil
	if err == nil && len(out)-start > MaxData {
		err = &FieldError{Rule: RuleTextTooLong, Message: "the data of this record are longer than 65535 octets"}
	}
	if err != nil {
		return out[:start], err
	}
	return out, nil
}

func (p *Parser) fields(info *Info) (first *FieldError) {
	for i := range info.Fields {
		f := &info.Fields[i]
		if p.i >= len(p.tokens) {
			if f.Kind.optional || first != nil {
				continue
			}
			return p.fail(RuleMissingField, "%s record without its %s", info.Mnemonic, f.Name).
				suggest("write %s", info.Synopsis())
		}
		if p.tokens[p.i].Quoted && !f.Kind.quotable {
			return p.fail(RuleUnquoted, "the %s of a %s record stands in quotes", f.Name, info.Mnemonic).
				suggest("write %s without quotes", p.tokens[p.i].Text)
		}
		at := p.i
		if err := f.Kind.parse(p); err != nil {
			p.advise(info, i, err)
			if first == nil {
				first = err
			} else {
				first.More = append(first.More, err)
			}
			if f.Kind.rest || err.Token != at || p.i != at+1 { // not certain where the next field begins
				return first
			}
		}
	}
	if first != nil {
		return first
	}
	if p.i < len(p.tokens) {
		e := p.fail(RuleExtraField, "%q stands after the last field of the %s record", clip(p.tokens[p.i].Text), info.Mnemonic)
		if len(info.Fields) == 1 {
			return e.suggest("write a second record for it; or begin a comment with a semicolon")
		}
		return e.suggest("write %s", info.Synopsis())
	}
	return nil
}

// advise adds to an error in the i-th field what was most likely meant.
func (p *Parser) advise(info *Info, i int, err *FieldError) {
	if err.Token < len(p.tokens) {
		if tok := p.tokens[err.Token].Text; len(tok) > 1 && (tok[len(tok)-1] == ',' || tok[len(tok)-1] == ';') && !p.tokens[err.Token].Quoted {
			err.Suggestion = fmt.Sprintf("write %s without the %q behind it", clip(tok[:len(tok)-1]), tok[len(tok)-1:])
			return
		}
	}
	if err.Rule != RuleBadNumber {
		return
	}
	err.Suggestion = "write " + info.Synopsis()
	if i == 0 && info.Fields[0].Kind == U16 && len(p.tokens) == len(info.Fields)-1 { // the first number was forgotten
		if n, rest := leadingNumber(p.tokens[0].Text); n != "" && len(p.tokens) == 1 { // or the blank behind it
			err.Suggestion = fmt.Sprintf("a blank is missing: %s %s %s", info.Mnemonic, n, clip(rest))
			return
		}
		err.Suggestion += ", such as: " + info.Mnemonic + " 10"
		for _, t := range p.tokens {
			err.Suggestion += " " + string(clip(t.Text))
		}
	}
}

// leadingNumber parts a word such as 10mail.
func leadingNumber(word []byte) (number string, rest []byte) {
	i := 0
	for i < len(word) && word[i] >= '0' && word[i] <= '9' {
		i++
	}
	if i == 0 || i > 5 || i == len(word) {
		return "", word
	}
	return string(word[:i]), word[i:]
}

// generic reads the \# form of RFC 3597 §5.
func (p *Parser) generic(t Type) *FieldError {
	start := len(p.out)
	p.i = 1
	if len(p.tokens) < 2 {
		return p.fail(RuleBadGeneric, `\# is not followed by the number of octets`)
	}
	n, ok := parseUint(p.tokens[1].Text, MaxData)
	if !ok {
		return p.fail(RuleBadGeneric, `%q after \# is not a number of octets`, clip(p.tokens[1].Text))
	}
	for p.i = 2; p.i < len(p.tokens); p.i++ {
		if err := p.hexWord(RuleBadGeneric); err != nil {
			return err
		}
	}
	if got := len(p.out) - start; got != int(n) {
		p.i = 1
		return p.fail(RuleBadGeneric, `\# announces %d octets and %d follow`, n, got)
	}
	if err := Validate(t, p.out[start:]); err != nil {
		p.i = 2
		return p.fail(RuleBadGeneric, "these octets are not data of type %s: %v", t, err)
	}
	return nil
}

// next is the text of the present token, which is then passed.
func (p *Parser) next() []byte {
	t := p.tokens[p.i].Text
	p.i++
	return t
}

// fail reports the present token.
func (p *Parser) fail(rule *diag.Rule, format string, args ...any) *FieldError {
	return &FieldError{Token: p.i, Rule: rule, Message: fmt.Sprintf(format, args...)}
}

// failLast reports the token just passed.
func (p *Parser) failLast(rule *diag.Rule, format string, args ...any) *FieldError {
	return &FieldError{Token: p.i - 1, Rule: rule, Message: fmt.Sprintf(format, args...)}
}

// clip shortens text for use in a message.
func clip(b []byte) []byte {
	if len(b) > 40 {
		return append(append([]byte(nil), b[:37]...), "..."...)
	}
	return b
}

// parseUint reads plain decimal digits up to max.
func parseUint(b []byte, max uint64) (uint64, bool) {
	if len(b) == 0 || len(b) > 10 {
		return 0, false
	}
	var n uint64
	for _, c := range b {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + uint64(c-'0')
	}
	return n, n <= max
}

func parseNumber(octets int, max uint64) func(*Parser) *FieldError {
	return func(p *Parser) *FieldError {
		tok := p.next()
		n, ok := parseUint(tok, max)
		if !ok {
			return p.failLast(RuleBadNumber, "%q is not a number from 0 to %d", clip(tok), max)
		}
		for i := octets - 1; i >= 0; i-- {
			p.out = append(p.out, byte(n>>(8*i)))
		}
		return nil
	}
}

func parseTypeCode(p *Parser) *FieldError {
	tok := p.next()
	t, ok := ParseType(tok)
	if !ok {
		return p.failLast(RuleBadTypeCode, "%q is not a record type", clip(tok))
	}
	p.out = append(p.out, byte(t>>8), byte(t))
	return nil
}

func parseName(p *Parser) *FieldError {
	tok := p.next()
	out, err := dnsname.AppendParse(p.out, tok, p.Origin)
	p.out = out
	if err != nil {
		e := NameError(err)
		e.Token = p.i - 1
		return e
	}
	return nil
}

// NameError turns a fault in a name into a FieldError for token 0.
func NameError(err *dnsname.SyntaxError) *FieldError {
	e := &FieldError{Offset: err.Offset, Message: err.Error()}
	switch err.Kind {
	case dnsname.EmptyLabel, dnsname.EmptyName:
		e.Rule, e.Len = RuleEmptyLabel, 1
	case dnsname.LabelTooLong:
		e.Rule, e.Len = RuleLabelTooLong, err.Len
	case dnsname.NameTooLong:
		e.Rule = RuleNameTooLong
	case dnsname.BadEscape:
		e.Rule, e.Len = RuleBadEscape, 1
	default:
		e.Rule = RuleNoOrigin
	}
	return e
}

// unescape appends the octets that tok stands for.
func (p *Parser) unescape(dst, tok []byte) ([]byte, *FieldError) {
	for i := 0; i < len(tok); i++ {
		c := tok[i]
		if c == '\\' {
			b, n := dnsname.Unescape(tok[i:])
			if n == 0 {
				e := p.failLast(RuleBadEscape, `a backslash must be followed by a character, or by three digits up to 255`)
				e.Offset, e.Len = i, 1
				return dst, e
			}
			c = b
			i += n - 1
		}
		dst = append(dst, c)
	}
	return dst, nil
}

func parseStrings(p *Parser) *FieldError {
	for p.i < len(p.tokens) {
		at := len(p.out)
		tok := p.next()
		out, err := p.unescape(append(p.out, 0), tok)
		if err != nil {
			return err
		}
		p.out = out
		n := len(out) - at - 1
		if n > 255 {
			return p.failLast(RuleTextTooLong, "this string has %d octets; a string holds at most 255", n).
				suggest(`split it into several strings: "first part" "second part"`)
		}
		p.out[at] = byte(n)
	}
	return nil
}

func parseTag(p *Parser) *FieldError {
	tok := p.next()
	if !plainTag(tok) {
		return p.failLast(RuleBadTag, "%q is not a tag: letters and digits only", clip(tok))
	}
	if len(tok) == 0 || len(tok) > 255 {
		return p.failLast(RuleBadTag, "a tag has 1 to 255 letters and digits")
	}
	p.out = append(append(p.out, byte(len(tok))), tok...)
	return nil
}

// plainTag reports whether a tag is made of letters and digits (RFC 8659 §4.1).
func plainTag(b []byte) bool {
	for _, c := range b {
		if !(c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z') {
			return false
		}
	}
	return true
}

func parseText(p *Parser) (err *FieldError) {
	p.out, err = p.unescape(p.out, p.next())
	return err
}

func parseBase64(p *Parser) *FieldError {
	p.scratch = p.scratch[:0]
	for p.i < len(p.tokens) {
		p.scratch = append(p.scratch, p.next()...)
	}
	out, err := base64.StdEncoding.AppendDecode(p.out, p.scratch)
	if err != nil {
		return p.failLast(RuleBadBase64, "this is not base64: %s", strings.TrimPrefix(err.Error(), "illegal base64 data at "))
	}
	p.out = out
	return nil
}

func parseHex(p *Parser) *FieldError {
	// Blanks may split the digits anywhere (RFC 4034 §5.3), so join first.
	first := p.i
	p.scratch = p.scratch[:0]
	for p.i < len(p.tokens) {
		p.scratch = append(p.scratch, p.next()...)
	}
	out, bad := appendHex(p.out, p.scratch)
	if bad >= 0 {
		e := p.failLast(RuleBadHex, "this is not hexadecimal: %s", hexFault(p.scratch, bad))
		if first == p.i-1 && bad < len(p.scratch) {
			e.Offset, e.Len = bad, 1
		}
		return e
	}
	p.out = out
	return nil
}

func (p *Parser) hexWord(rule *diag.Rule) *FieldError {
	tok := p.tokens[p.i].Text
	out, bad := appendHex(p.out, tok)
	if bad >= 0 {
		return p.fail(rule, "this is not hexadecimal: %s", hexFault(tok, bad))
	}
	p.out = out
	return nil
}

func hexFault(b []byte, bad int) string {
	if bad == len(b) {
		return "the number of digits is odd (" + strconv.Itoa(len(b)) + ")"
	}
	return strconv.Quote(string(b[bad:bad+1])) + " is not a digit"
}

// appendHex decodes pairs of digits; bad is the offset of the first fault, the
// length of b when the count is odd, or -1.
func appendHex(dst, b []byte) (out []byte, bad int) {
	for i := 0; i < len(b); i++ {
		if hexDigit(b[i]) < 0 {
			return dst, i
		}
	}
	if len(b)%2 != 0 {
		return dst, len(b)
	}
	for i := 0; i < len(b); i += 2 {
		dst = append(dst, byte(hexDigit(b[i])<<4|hexDigit(b[i+1])))
	}
	return dst, -1
}

func hexDigit(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return int(c|0x20-'a') + 10
	}
	return -1
}
