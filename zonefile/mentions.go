package zonefile

import (
	"fencepost/dnsname"
	"fencepost/rr"
)

// Mention is a word of a record that stands for a name.
type Mention struct {
	Entry *Entry
	Tok   int          // its word
	Name  dnsname.Name // absolute
	Owner bool         // the word is the owner
}

// Mentions calls f for each word that stands for a name: stated owners, and names in
// data that point to hosts and other names. Contacts are none.
func (z *File) Mentions(f func(Mention)) {
	for _, e := range z.All {
		if e.Kind == Record {
			e.mentions(f)
		}
	}
}

func (e *Entry) mentions(f func(Mention)) {
	if e.OwnerTok >= 0 {
		owner, err := dnsname.FromWire(e.Owner)
		if err == nil {
			f(Mention{e, e.OwnerTok, owner, true})
		}
	}
	if tok := e.TypeTok + 1; tok < len(e.Tokens) && string(e.Tokens[tok].Text) == `\#` {
		return // octets, not words
	}
	for _, word := range rr.NameWords(e.Type) {
		tok := e.TypeTok + 1 + word
		if tok >= len(e.Tokens) || e.Tokens[tok].Quoted {
			continue
		}
		wire, err := dnsname.AppendParse(nil, e.Tokens[tok].Text, e.Origin)
		if err != nil {
			continue
		}
		if name, err := dnsname.FromWire(wire); err == nil {
			f(Mention{e, tok, name, false})
		}
	}
}

// Text is how a name is written in the place of the mention: with a final dot where it
// has one, else relative to the origin there if that is possible.
func (m *Mention) Text(name dnsname.Name) string {
	text := m.Entry.Tokens[m.Tok].Text
	origin, err := dnsname.FromWire(m.Entry.Origin)
	dots := len(text) > 1 && text[len(text)-1] == '.' && text[len(text)-2] != '\\'
	if err != nil || dots {
		return name.String()
	}
	return name.Relative(origin)
}

// SetWord writes another word in the place of a mention.
func (ed *Editor) SetWord(m *Mention, text string) { ed.replaceWord(m.Entry, m.Tok, text) }

// With is the data of the mention's record with other words in the place of some, by
// their token.
func (e *Entry) With(words map[int]string) ([]byte, error) {
	tokens := append([]rr.Token(nil), e.Tokens[e.TypeTok+1:]...)
	for tok, text := range words {
		if i := tok - e.TypeTok - 1; i >= 0 {
			tokens[i].Text = []byte(text)
		}
	}
	p := rr.Parser{Origin: e.Origin}
	data, err := p.Data(nil, e.Type, tokens)
	if err != nil {
		return nil, err
	}
	return data, nil
}
