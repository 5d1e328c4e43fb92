package editor

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"

	"github.com/sourcegraph/jsonrpc2"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/internal/ops"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// nameHelp is a whole name with the addresses or the alias that it has in the
// workspace.
func (sp *spot) nameHelp(name string) string {
	text := "`" + name + "`"
	n, err := dnsname.Parse(name, dnsname.Root)
	if err != nil {
		return text
	}
	records := sp.b.File.Records(n, 0)
	if len(records) == 0 {
		if _, _, f := sp.b.Holder(n); f != nil {
			records = f.Records(n, 0)
		}
	}
	var has []string
	for _, r := range records {
		if ip, ok := netip.AddrFromSlice(r.Data); ok && (r.Type == rr.TypeA || r.Type == rr.TypeAAAA) {
			has = append(has, ip.String())
		} else if r.Type == rr.TypeCNAME {
			has = append(has, "alias of "+rr.DataText(r.Type, r.Data))
		}
	}
	if len(has) > 0 {
		text += " " + strings.Join(has, ", ")
	}
	return text
}

// ownerPlace is where a record says whose it is.
func ownerPlace(e *zonefile.Entry) source.Span {
	if e.OwnerTok >= 0 {
		return e.TokenSpan(e.OwnerTok)
	}
	return e.TokenSpan(0)
}

// definition finds where the name at the spot has its records, in this zone or in
// another of the workspace.
func (s *server) definition(_ context.Context, params json.RawMessage) (any, error) {
	sp, err := s.at(params)
	if sp == nil || err != nil {
		return nil, err
	}
	name, ok := sp.name()
	if !ok {
		return nil, nil
	}
	for _, e := range sp.b.File.Records(name, 0) {
		uri, r := place(sp.b, sp.uri, ownerPlace(e))
		return location{uri, r}, nil
	}
	path, _, f := sp.b.Holder(name)
	if f == nil {
		return nil, nil
	}
	for _, e := range f.Records(name, 0) {
		return location{uriOf(e.File.Name), rangeIn(e.File, ownerPlace(e))}, nil
	}
	// The zone is here and has no such name: its head is the next best.
	return location{uriOf(path), textRange{}}, nil
}

// rangeIn is a span as a range in its file.
func rangeIn(f *source.File, span source.Span) textRange {
	text := string(f.Content)
	starts := lineStarts(text)
	return textRange{positionOf(text, starts, f.Offset(span.Start)), positionOf(text, starts, f.Offset(span.End))}
}

// foundAt is where a mention stands.
func (sp *spot) foundAt(m *ops.Found) location {
	span := m.Mention.Entry.TokenSpan(m.Mention.Tok)
	if m.Path == sp.b.Path {
		return location{sp.uri, sp.rangeOf(span)}
	}
	return location{uriOf(m.Path), rangeIn(m.Mention.Entry.File, span)}
}

// references finds where the name at the spot is written, in all zones of the workspace.
func (s *server) references(_ context.Context, params json.RawMessage) (any, error) {
	var p referenceParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	out := []location{}
	sp, err := s.at(params)
	if sp == nil || err != nil {
		return out, err
	}
	name, ok := sp.name()
	if !ok {
		return out, nil
	}
	for _, m := range sp.b.Mentions(name, false) {
		if !m.Mention.Owner || p.Context.IncludeDeclaration {
			out = append(out, sp.foundAt(&m))
		}
	}
	return out, nil
}

// prepareRename reports whether there is a name at the spot that can be renamed.
func (s *server) prepareRename(_ context.Context, params json.RawMessage) (any, error) {
	sp, err := s.at(params)
	if sp == nil || err != nil {
		return nil, err
	}
	name, ok := sp.name()
	if !ok || name.Equal(sp.b.File.Apex) {
		return nil, nil
	}
	return renamePlace{sp.rangeOf(sp.entry.TokenSpan(sp.tok)), string(sp.entry.Tokens[sp.tok].Text)}, nil
}

// rename gives the name at the spot another one, wherever it is written. A new name is
// relative to the name's parent, so that a label is enough.
func (s *server) rename(_ context.Context, params json.RawMessage) (any, error) {
	var p renameParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	fail := func(text string) error { return &jsonrpc2.Error{Code: codeRequestFailed, Message: text} }
	sp, err := s.at(params)
	if err != nil {
		return nil, err
	}
	if sp == nil {
		return nil, fail("this is not a zone file")
	}
	from, ok := sp.name()
	if !ok || from.Equal(sp.b.File.Apex) {
		return nil, fail("there is no name here that could be renamed")
	}
	origin, err := dnsname.FromWire(sp.entry.Origin)
	if err != nil {
		return nil, fail("the origin here is not known")
	}
	f := sp.b.File
	if _, _, held := sp.b.Holder(from); held != nil && (!from.AtOrBelow(f.Apex) || held.Apex.Below(f.Apex)) {
		f = held
	}
	if f.Apex.IsZero() || !from.AtOrBelow(f.Apex) {
		return nil, fail(from.String() + " lies in no zone of this workspace")
	}
	to, err := edit.OwnerIn(p.NewName, origin, f.Apex)
	if err != nil {
		return nil, fail(err.Error())
	}
	where := func(e *zonefile.Entry) string {
		return fmt.Sprintf("%s:%d", filepath.Base(e.File.Name), 1+rangeIn(e.File, e.Span).Start.Line)
	}
	if err := edit.MayRename(f, from, to, where); err != nil {
		return nil, fail(err.Error())
	}
	changes := map[string][]textEdit{}
	for _, m := range sp.b.Mentions(from, true) {
		after, ok := edit.Renamed(m.Mention.Name, from, to)
		if !ok {
			continue
		}
		at := sp.foundAt(&m)
		changes[at.URI] = append(changes[at.URI], textEdit{at.Range, m.Mention.Text(after)})
	}
	return workspaceEdit{changes}, nil
}

// outline lists the names of the document with the types that they have, and what is
// not a record but counts for those behind it.
func (s *server) outline(_ context.Context, params json.RawMessage) (any, error) {
	out := []symbol{}
	var p positionParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	d := s.doc(p.TextDocument.URI)
	if d == nil {
		return out, nil
	}
	b := s.current(d)
	if b.File == nil {
		return out, nil
	}
	starts := lineStarts(b.Text)
	rangeOf := func(span source.Span) textRange {
		return textRange{positionOf(b.Text, starts, b.Main.Offset(span.Start)), positionOf(b.Text, starts, b.Main.Offset(span.End))}
	}
	last := ""
	for _, e := range b.File.Entries {
		switch e.Kind {
		case zonefile.Directive:
			out = append(out, symbol{Name: wordsOf(e), Kind: symbolModule, Range: rangeOf(e.Span), SelectionRange: rangeOf(e.TokenSpan(0))})
			last = ""
		case zonefile.Record:
			owner, err := dnsname.FromWire(e.Owner)
			if err != nil {
				continue
			}
			if owner.Key() == last && len(out) > 0 {
				one := &out[len(out)-1]
				one.Range.End = rangeOf(e.Span).End
				if t := e.Type.String(); !strings.Contains(" "+one.Detail+" ", " "+t+" ") {
					one.Detail += " " + t
				}
				continue
			}
			last = owner.Key()
			out = append(out, symbol{owner.Relative(b.File.Apex), e.Type.String(), symbolField, rangeOf(e.Span), rangeOf(ownerPlace(e))})
		}
	}
	return out, nil
}

// wordsOf is an entry as its words.
func wordsOf(e *zonefile.Entry) string {
	words := make([]string, len(e.Tokens))
	for i, t := range e.Tokens {
		words[i] = string(t.Text)
	}
	return strings.Join(words, " ")
}
