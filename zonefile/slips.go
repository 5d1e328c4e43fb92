package zonefile

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"unicode/utf8"

	"fencepost/diag"
	"fencepost/rr"
	"fencepost/source"
)

// A line that cannot be read is often one of a few slips, and then the finding names
// the slip and mends it, in place of what the parser stumbled over.

// Rules for slips.
var (
	RuleNotText = &diag.Rule{Code: "not-text", Severity: diag.Error,
		Title: "the file is not a text file", Ref: "RFC 1035 §5.1",
		Doc:  "A master file is plain text in ASCII, or in UTF-8. This one holds octets that stand in no text, or is UTF-16, as some editors save it. Save it as UTF-8, or look whether it is the right file.",
		Bad:  "-- bare --\n\xff\xfe@\x00 \x00S\x00O\x00A\x00\n",
		Good: "-- bare --\n$ORIGIN example.com.\n$TTL 3600\n@ SOA ns1.example.net. hostmaster 2026112301 7200 900 1209600 300\n@ NS ns1.example.net.\n@ NS ns2.example.org.\n"}
	RuleOddBlank = &diag.Rule{Code: "no-break-space", Severity: diag.Error,
		Title: "a no-break space does not separate fields", Ref: "RFC 1035 §5.1",
		Doc:  "Text that is copied from a page or a mail often has no-break spaces, which look like blanks and belong to the word they stand in. Fields are parted by spaces and tabs.",
		Bad:  "www A\u00a0192.0.2.1\n",
		Good: "www A 192.0.2.1\n"}
	RuleCommentSign = &diag.Rule{Code: "comment-sign", Severity: diag.Error,
		Title: "a comment begins with another sign than the semicolon", Ref: "RFC 1035 §5.1",
		Doc:  "In a master file a comment begins with a semicolon. # and // mean nothing: a line that begins with them would be a record with that in its name, and behind a record they are taken for data. A name that really begins so is written with a backslash, such as \\#1.",
		Bad:  "# the web\nwww A 192.0.2.1\n",
		Good: "; the web\nwww A 192.0.2.1\n"}
	RuleFieldOrder = &diag.Rule{Code: "field-order", Severity: diag.Error,
		Title: "TTL or class stands behind the type", Ref: "RFC 1035 §5.1",
		Doc:  "The order is: owner, TTL and class in either order, type, data.",
		Bad:  "www A 3600 192.0.2.1\n",
		Good: "www 3600 A 192.0.2.1\n"}
	RuleCutText = &diag.Rule{Code: "semicolon-cuts-text", Severity: diag.Warning, Strict: true,
		Title: "a semicolon outside quotes begins a comment, and the text ends there", Ref: "RFC 1035 §5.1",
		Doc:  "Outside quotes a semicolon begins a comment, so the rest of the text is not in the zone. DMARC, DKIM and CAA values have semicolons: put the whole text in quotes.",
		Bad:  "_dmarc TXT v=DMARC1; p=none\n",
		Good: "_dmarc TXT \"v=DMARC1; p=none\"\n"}
)

// plainText reports whether a file can be a master file, by its first part. Octets over
// 127 may be of any encoding; control characters stand in no text.
func plainText(text []byte) bool {
	const enough = 16 << 10
	head := text[:min(len(text), enough)]
	for _, mark := range []string{"\xff\xfe", "\xfe\xff"} { // UTF-16 (RFC 2781 §3.2)
		if bytes.HasPrefix(head, []byte(mark)) {
			return false
		}
	}
	odd := 0
	for _, c := range head {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != '\v' || c == 0x7f {
			odd++
		}
	}
	return odd*20 <= len(head)
}

// refuseText reports a file that is no text, and passes over all of it.
func (p *parser) refuseText() {
	p.scan.pos = len(p.scan.src)
	p.notText = p.notText || len(p.outer) == 0
	p.report(RuleNotText.At(source.Span{Start: p.file.Pos(0), End: p.file.Pos(0)}, "this is not text: %s", textKind(p.file.Content)).
		Suggest("save it as plain text in UTF-8, or name the right file"))
}

func textKind(text []byte) string {
	if bytes.HasPrefix(text, []byte("\xff\xfe")) || bytes.HasPrefix(text, []byte("\xfe\xff")) {
		return "it is UTF-16, of which a master file is none"
	}
	return "it is full of control characters"
}

// oddBlanks are characters that look like a blank, or like nothing, and are neither
// space nor tab.
const oddBlanks = "\u00a0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a\u200b\u200c\u200d\u202f\u205f\u2060\u3000\ufeff"

// findOddBlanks reports blanks outside quotes that part no fields.
func (p *parser) findOddBlanks(e *Entry) bool {
	var edits []diag.Edit
	for i, t := range e.Tokens {
		if t.Quoted {
			continue
		}
		for off := 0; off < len(t.Text); {
			r, n := utf8.DecodeRune(t.Text[off:])
			if n > 1 && strings.ContainsRune(oddBlanks, r) {
				at := source.Span{Start: e.File.Pos(e.Offsets[i] + off), End: e.File.Pos(e.Offsets[i] + off + n)}
				edits = append(edits, diag.Edit{Span: at, New: " "})
			}
			off += n
		}
	}
	if edits == nil {
		return false
	}
	d := RuleOddBlank.At(edits[0].Span, "a character that looks like a blank and parts no fields stands here").Suggest("write plain spaces")
	d.Fix = &diag.Fix{Edits: edits}
	p.report(d)
	return true
}

// commentSign reports whether a word begins as comments do elsewhere.
func commentSign(t *rr.Token) bool {
	if t.Quoted || len(t.Text) == 0 {
		return false
	}
	return t.Text[0] == '#' || t.Text[0] == '/' && len(t.Text) > 1 && t.Text[1] == '/'
}

// reportComment says that the i-th word begins a comment with a wrong sign.
func (p *parser) reportComment(e *Entry, i int) {
	sign := "#"
	if e.Tokens[i].Text[0] == '/' {
		sign = "//"
	}
	at := source.Span{Start: e.File.Pos(e.Offsets[i]), End: e.File.Pos(e.Offsets[i] + len(sign))}
	d := RuleCommentSign.At(at, "%s begins no comment", sign).Suggest("write ; in its place")
	d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: at, New: ";"}}}
	p.report(d)
}

// firstComment is the first word behind the owner that looks like a comment, or 0.
func (e *Entry) firstComment() int {
	for i := 1; i < len(e.Tokens); i++ {
		if commentSign(&e.Tokens[i]) {
			return i
		}
	}
	return 0
}

// slipBeforeType reports a line of which the i-th word is no TTL, class or type.
func (p *parser) slipBeforeType(e *Entry, i int) bool {
	if at := e.firstComment(); at > 0 {
		p.reportComment(e, at)
		return true
	}
	if i == len(e.Tokens)-1 && i > 0 {
		return p.missingAddressType(e, i)
	}
	return false
}

// missingAddressType reports an address that stands where the type should.
func (p *parser) missingAddressType(e *Entry, i int) bool {
	ip, err := netip.ParseAddr(string(e.Tokens[i].Text))
	if err != nil || ip.Zone() != "" {
		return false
	}
	t := "A"
	if ip.Is6() {
		t = "AAAA"
	}
	at := e.TokenSpan(i)
	d := RuleMissingType.At(at, "the type is missing in front of the address").Suggest("write %s %s", t, ip)
	d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: source.Span{Start: at.Start, End: at.Start}, New: t + " "}}}
	p.report(d)
	return true
}

// slipInData reports a record whose data could not be read, if it is a slip. The
// record may be understood all the same: data are what was meant, then.
func (p *parser) slipInData(e *Entry, err *rr.FieldError) (data []byte, slip bool) {
	first := e.TypeTok + 1
	if first+err.Token < len(e.Tokens) && commentSign(&e.Tokens[first+err.Token]) {
		at := first + err.Token
		p.reportComment(e, at)
		data, _ = p.data.Data(p.buf[:0], e.Type, e.Tokens[first:at])
		return data, true
	}
	if err.Rule == rr.RuleMissingField && p.cutText(e) {
		err.Suggestion = `a semicolon outside quotes begins a comment: write ";"`
		return nil, false
	}
	return p.lateFields(e)
}

// lateFields reports TTL and class behind the type.
func (p *parser) lateFields(e *Entry) (data []byte, slip bool) {
	first := e.TypeTok + 1
	at := first
	for at < len(e.Tokens)-1 && at < first+2 && isTTLOrClass(&e.Tokens[at]) {
		at++
	}
	// A number may be a TTL or the first of the data.
	for ; at > first; at-- {
		var err *rr.FieldError
		if data, err = p.data.Data(p.buf[:0], e.Type, e.Tokens[at:]); err == nil {
			break
		}
	}
	if at == first {
		return nil, false
	}
	var words []string
	for i := first; i < at; i++ {
		words = append(words, string(e.Tokens[i].Text))
	}
	span := source.Span{Start: e.TokenSpan(e.TypeTok).Start, End: e.TokenSpan(at - 1).End}
	right := fmt.Sprintf("%s %s", strings.Join(words, " "), e.Tokens[e.TypeTok].Text)
	d := RuleFieldOrder.At(span, "TTL and class stand in front of the type").Suggest("write %s %s", right, e.Tokens[at].Text)
	d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: span, New: right}}}
	p.report(d)
	return data, true
}

func isTTLOrClass(t *rr.Token) bool {
	_, isClass := rr.ParseClass(t.Text)
	_, _, isTTL := rr.ParseTTL(t.Text)
	return !t.Quoted && (isClass || isTTL)
}

// textTypes are the types whose data have semicolons.
var textTypes = map[rr.Type]bool{rr.TypeTXT: true, rr.TypeSPF: true, rr.TypeCAA: true}

// HoldsText reports whether the data of a type are text that may hold semicolons.
func HoldsText(t rr.Type) bool { return textTypes[t] }

// cutText reports whether the text of a record ends where a comment begins without a
// blank in front, or the comment goes on like the text.
func (p *parser) cutText(e *Entry) bool {
	if !textTypes[e.Type] || e.Comment < 0 || len(e.Tokens) <= e.TypeTok+1 {
		return false
	}
	last := len(e.Tokens) - 1
	if e.Tokens[last].Quoted || e.Comment < e.tokenEnd(last) || bytes.IndexByte(e.File.Content[e.tokenEnd(last):e.Comment], '\n') >= 0 {
		return false
	}
	if e.Comment == e.tokenEnd(last) {
		return true
	}
	rest, _, _ := bytes.Cut(e.File.Content[e.Comment+1:], []byte("\n"))
	rest = bytes.TrimSpace(rest)
	if e.Type == rr.TypeCAA {
		return len(rest) == 0 // no name at all: nobody may issue (RFC 8659 §4.2)
	}
	tag, _, more := bytes.Cut(rest, []byte("="))
	const longest = 8 // of the tags of DMARC, DKIM and their like
	return bytes.HasPrefix(e.Tokens[e.TypeTok+1].Text, []byte("v=")) && more && len(tag) <= longest && bytes.IndexByte(tag, ' ') < 0
}

// reportCutText says where a text is cut off, and puts the whole of it in quotes.
func (p *parser) reportCutText(e *Entry) {
	first := e.TypeTok + 1
	if e.Type == rr.TypeCAA {
		first += 2 // flags and tag
	}
	at := source.Span{Start: e.File.Pos(e.Comment), End: e.File.Pos(e.Comment + 1)}
	d := RuleCutText.At(at, "the text ends at this semicolon, which begins a comment")
	content := e.File.Content
	end := e.Comment
	for end < len(content) && content[end] != '\n' {
		end++
	}
	for end > e.Comment+1 && (content[end-1] == '\r' || content[end-1] == ' ' || content[end-1] == '\t') {
		end--
	}
	start := e.Offsets[first]
	text := content[start:end]
	if bytes.IndexByte(text, '"') >= 0 || bytes.IndexByte(text, '\n') >= 0 {
		p.report(d.Suggest("put the whole text in quotes"))
		return
	}
	d = d.Suggest(`write "%s"`, text)
	d.Fix = &diag.Fix{Edits: []diag.Edit{{Span: source.Span{Start: e.File.Pos(start), End: e.File.Pos(end)}, New: `"` + string(text) + `"`}}}
	p.report(d)
}
