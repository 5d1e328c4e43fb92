package editor

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/ops"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// Severities of the protocol.
var severities = map[diag.Severity]int{diag.Error: 1, diag.Warning: 2, diag.Note: 3}

// place is a span as a range in the file it lies in.
func place(b *ops.Buffer, own string, span source.Span) (uri string, r textRange) {
	f := b.Source.File(span.Start)
	if f == nil {
		return own, textRange{}
	}
	uri = own
	if f != b.Main {
		uri = uriOf(f.Name)
	}
	text := string(f.Content)
	starts := lineStarts(text)
	return uri, textRange{positionOf(text, starts, f.Offset(span.Start)), positionOf(text, starts, f.Offset(span.End))}
}

func diagnosticOf(b *ops.Buffer, own string, d *diag.Diagnostic) (string, diagnostic) {
	uri, r := place(b, own, d.Span)
	text := d.Message
	if d.Suggestion != "" {
		text += "\n→ " + d.Suggestion
	}
	out := diagnostic{Range: r, Severity: severities[d.Severity], Code: d.Rule.Code, Source: "fencepost", Message: text}
	for _, rel := range d.Related {
		u, rr := place(b, own, rel.Span)
		out.Related = append(out.Related, related{location{u, rr}, rel.Message})
	}
	return uri, out
}

// spot is a place in a document that the client asks about.
type spot struct {
	b      *ops.Buffer
	uri    string
	starts []int
	off    int
	entry  *zonefile.Entry // the entry that holds it, or nil
	tok    int             // its word there, or -1
}

// place finds the document of a request and the place in it; nil for a document that is not open.
func (s *server) place(params json.RawMessage) (*spot, error) {
	var p positionParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	d := s.doc(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	b := s.current(d)
	sp := &spot{b: b, uri: d.uri, starts: lineStarts(b.Text), tok: -1}
	sp.off = offset(b.Text, sp.starts, p.Position)
	return sp, nil
}

// at finds the spot of a request, with the entry that holds it; nil for a document that is not open or no zone
// file.
func (s *server) at(params json.RawMessage) (*spot, error) {
	sp, err := s.place(params)
	if sp == nil || sp.b.File == nil {
		return nil, err
	}
	b := sp.b
	for _, e := range b.File.Entries {
		from, to := e.File.Offset(e.Span.Start), e.File.Offset(e.Span.End)
		if sp.off < from || sp.off >= to && !(sp.off == to && to == len(b.Text)) {
			continue
		}
		sp.entry = e
		for i := range e.Tokens {
			w := e.TokenSpan(i)
			if sp.off >= e.File.Offset(w.Start) && sp.off <= e.File.Offset(w.End) {
				sp.tok = i
			}
		}
	}
	return sp, nil
}

func (sp *spot) rangeOf(span source.Span) textRange {
	f := sp.b.Main
	return textRange{positionOf(sp.b.Text, sp.starts, f.Offset(span.Start)), positionOf(sp.b.Text, sp.starts, f.Offset(span.End))}
}

// hover explains a finding at the spot, else the record type, the field or the
// time that stands there.
func (s *server) hover(_ context.Context, params json.RawMessage) (any, error) {
	sp, err := s.at(params)
	if sp == nil || err != nil {
		return nil, err
	}
	for i := range sp.b.Diags.All {
		d := &sp.b.Diags.All[i]
		if f := sp.b.Source.File(d.Span.Start); f != sp.b.Main {
			continue
		}
		from, to := sp.b.Main.Offset(d.Span.Start), sp.b.Main.Offset(d.Span.End)
		if sp.off >= from && sp.off <= to {
			text := fmt.Sprintf("**%s** (%s): %s\n\n%s", d.Rule.Code, d.Severity, d.Message, d.Rule.Doc)
			if d.Rule.Ref != "" {
				text += "\n\n*" + d.Rule.Ref + "*"
			}
			return hover{markup{"markdown", text}, sp.rangeOf(d.Span)}, nil
		}
	}
	if sp.entry == nil || sp.tok < 0 || sp.entry.Kind != zonefile.Record {
		return nil, nil
	}
	if text := sp.words(); text != "" {
		return hover{markup{"markdown", text}, sp.rangeOf(sp.entry.TokenSpan(sp.tok))}, nil
	}
	return nil, nil
}

// words says what a word of a record is.
func (sp *spot) words() string {
	e := sp.entry
	info := rr.Lookup(e.Type)
	switch {
	case sp.tok == e.OwnerTok:
		return sp.nameHelp(string(dnsname.AppendText(nil, e.Owner)))
	case sp.tok == e.TTLTok:
		return fmt.Sprintf("TTL: may be cached for %d seconds", e.TTL)
	case info == nil:
		return ""
	case sp.tok == e.TypeTok:
		return typeHelp(info)
	case sp.tok > e.TypeTok:
		if f := fieldAt(info, sp.tok-e.TypeTok-1); f != nil {
			text := fmt.Sprintf("**%s** of %s: %s", f.Name, info.Mnemonic, f.Kind.Description)
			if f.Help != "" {
				text += "\n\n" + f.Help
			}
			if n, ok := sp.name(); ok {
				text = sp.nameHelp(n.String()) + "\n\n" + text
			}
			return text
		}
	}
	return ""
}

func typeHelp(info *rr.Info) string {
	text := fmt.Sprintf("**%s** (type %d): %s\n\n`%s`", info.Mnemonic, info.Type, info.Title, info.Synopsis())
	if info.Instead != "" {
		text += "\n\nObsolete: use " + info.Instead
	}
	return text + "\n\n*" + info.Ref + "*"
}

// fieldAt is the field that the i-th word of the data belongs to; the last field
// may have several.
func fieldAt(info *rr.Info, i int) *rr.Field {
	if len(info.Fields) == 0 {
		return nil
	}
	return &info.Fields[min(i, len(info.Fields)-1)]
}

// name is the name that the word at the spot stands for, if it is one.
func (sp *spot) name() (dnsname.Name, bool) {
	e := sp.entry
	if e.Kind != zonefile.Record || e.Tokens[sp.tok].Quoted {
		return dnsname.Name{}, false
	}
	isName := sp.tok == e.OwnerTok
	if info := rr.Lookup(e.Type); info != nil && sp.tok > e.TypeTok {
		for _, t := range info.Targets() {
			isName = isName || t.Word == sp.tok-e.TypeTok-1
		}
	}
	origin, err := dnsname.FromWire(e.Origin)
	if !isName || err != nil {
		return dnsname.Name{}, false
	}
	n, err := dnsname.Parse(string(e.Tokens[sp.tok].Text), origin)
	return n, err == nil
}

// completion offers what can stand at the spot: types after the owner, names of
// the zone where a name belongs.
func (s *server) completion(_ context.Context, params json.RawMessage) (any, error) {
	sp, err := s.at(params)
	if err != nil {
		return nil, err
	}
	if sp == nil {
		return s.expectationWords(params)
	}
	before, indented := sp.before()
	items := []completionItem{}
	switch kind := wanted(before, indented); kind {
	case wantOwner:
		if items = sp.names(); len(before) == 0 {
			items = append(sp.directives(), items...)
		}
	case wantType:
		for _, m := range rr.Mnemonics() {
			t, _ := rr.ParseType(m)
			items = append(items, completionItem{Label: m, Kind: kindKeyword, Detail: rr.Lookup(t).Title})
		}
	default:
		info := rr.Lookup(kind.t)
		if info == nil {
			break
		}
		for _, t := range info.Targets() {
			if t.Word == kind.word {
				items = s.withOthers(sp, sp.names())
			}
		}
		if f := fieldAt(info, kind.word); f != nil && f.Kind == rr.Params {
			for _, key := range rr.ParamNames() {
				items = append(items, completionItem{Label: key, Kind: kindProperty})
			}
		}
	}
	return items, nil
}

// directives are what a line may begin with beside an owner.
func (sp *spot) directives() []completionItem {
	start := strings.LastIndexByte(sp.b.Text[:sp.off], '\n') + 1
	if typed := sp.b.Text[start:sp.off]; !strings.HasPrefix("$", typed[:min(1, len(typed))]) {
		return nil
	}
	from := positionOf(sp.b.Text, sp.starts, start)
	to := positionOf(sp.b.Text, sp.starts, sp.off)
	var out []completionItem
	for _, d := range [][2]string{{"$ORIGIN", "NAME: completes names without a final dot from here on"}, {"$TTL", "SECONDS: TTL of records that state none"}, {"$INCLUDE", "FILE [ORIGIN]: reads another file here"}} {
		out = append(out, completionItem{Label: d[0], Kind: kindKeyword, Detail: d[1], Edit: &textEdit{textRange{from, to}, d[0] + " "}})
	}
	return out
}

// before is the words of the line in front of the spot; one that is being typed
// does not count.
func (sp *spot) before() (words []string, indented bool) {
	start := strings.LastIndexByte(sp.b.Text[:sp.off], '\n') + 1
	line := sp.b.Text[start:sp.off]
	if line == "" {
		return nil, false
	}
	words = strings.Fields(line)
	if last := line[len(line)-1]; last != ' ' && last != '\t' && len(words) > 0 {
		words = words[:len(words)-1]
	}
	return words, line[0] == ' ' || line[0] == '\t'
}

// want is what belongs at a place: an owner, a type, or a word of a type's data.
type want struct {
	t    rr.Type
	word int
}

var (
	wantOwner = want{0, -1}
	wantType  = want{0, -2}
)

func wanted(before []string, indented bool) want {
	if !indented {
		if len(before) == 0 {
			return wantOwner
		}
		before = before[1:]
	}
	for i, w := range before {
		if t, ok := rr.ParseType(w); ok {
			return want{t, len(before) - i - 1}
		}
	}
	return wantType
}

// mostNames is how many names are offered: more are chosen from by typing on.
const mostNames = 1000

// withOthers adds the names of the other zones of the workspace, which are written whole.
func (s *server) withOthers(sp *spot, items []completionItem) []completionItem {
	typed := strings.ToLower(sp.typed())
	for _, n := range s.names.Others(sp.b) {
		if len(items) >= mostNames {
			break
		}
		if whole := n.String(); strings.HasPrefix(strings.ToLower(whole), typed) {
			items = append(items, completionItem{Label: whole, Kind: kindValue, Detail: "of another zone here"})
		}
	}
	return items
}

// typed is the part of a word that stands before the spot.
func (sp *spot) typed() string {
	line := sp.b.Text[:min(sp.off, len(sp.b.Text))]
	return line[strings.LastIndexAny(line, " \t\n()")+1:]
}

// names are the owners of the zone, as one would write them in it.
func (sp *spot) names() []completionItem {
	items := []completionItem{}
	seen := map[string]bool{}
	for _, e := range sp.b.File.Entries {
		if e.Kind != zonefile.Record || len(items) >= mostNames {
			continue
		}
		n, err := dnsname.FromWire(e.Owner)
		if err != nil || seen[n.Key()] {
			continue
		}
		seen[n.Key()] = true
		items = append(items, completionItem{Label: n.Relative(sp.b.File.Apex), Kind: kindValue, Detail: n.String()})
	}
	return items
}

// formatting puts the document into the house style.
func (s *server) formatting(_ context.Context, params json.RawMessage) (any, error) {
	var p positionParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	d := s.doc(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	b := s.current(d)
	edits := []textEdit{}
	tidy, err := b.Tidy()
	if err != nil || tidy == b.Text {
		return edits, nil // with errors it is left as it is; they are shown anyway
	}
	starts := lineStarts(b.Text)
	return append(edits, textEdit{textRange{position{}, positionOf(b.Text, starts, len(b.Text))}, tidy}), nil
}
