package zonefile

import (
	"fencepost/rr"
	"fencepost/source"
)

// Layout is where the fields of one record stand. It is worked out again from
// the text when somebody wants to point at a field, so that loading need not
// keep it.
type Layout struct {
	Entry source.Span // the whole lines
	Owner source.Span // zero if the record takes the owner of the one before
	TTL   source.Span // zero if not stated
	Type  source.Span
	Data  []source.Span // the words of the data, quotes included
}

// LayoutAt finds the fields of the record that begins on the line at pos.
func LayoutAt(set *source.Set, pos source.Pos) (l Layout) {
	f := set.File(pos)
	if f == nil {
		return l
	}
	s := scanner{src: f.Content, pos: f.Offset(pos)}
	if !s.next() || len(s.tokens) == 0 {
		return Layout{Entry: source.Span{Start: pos, End: pos}}
	}
	e := Entry{File: f, Tokens: s.tokens, Offsets: s.offs, Span: source.Span{Start: f.Pos(s.start), End: f.Pos(s.end)}}
	l.Entry = e.Span
	i := 0
	if !s.indented {
		l.Owner, i = e.TokenSpan(0), 1
	}
	for ; i < len(e.Tokens); i++ {
		if _, isType := rr.ParseType(e.Tokens[i].Text); isType {
			l.Type = e.TokenSpan(i)
			break
		}
		if c := e.Tokens[i].Text; len(c) > 0 && c[0] >= '0' && c[0] <= '9' {
			l.TTL = e.TokenSpan(i)
		}
	}
	for i++; i < len(e.Tokens); i++ {
		l.Data = append(l.Data, e.TokenSpan(i))
	}
	return l
}

// Field is the place of the i-th word of the data, or of the type if there are
// fewer.
func (l Layout) Field(i int) source.Span {
	if i < len(l.Data) {
		return l.Data[i]
	}
	return l.Type
}

// OwnerOrType is the owner where the record states it, else the type.
func (l Layout) OwnerOrType() source.Span {
	if !l.Owner.IsZero() {
		return l.Owner
	}
	return l.Type
}
