package zonefile

import (
	"bytes"

	"fencepost/dnsname"
	"fencepost/rr"
)

// Shorten returns the text of a file with names as short as the origin permits, and with
// types and data that are given as numbers (RFC 3597) by their names. A file of a whole
// zone that states no origin is given one first: head is what has to stand in front of
// the text for that, or empty.
func Shorten(f *File) (head string, text []byte) {
	origin := f.Apex
	if !f.statesOrigin() && f.soa != nil && f.soa.File == f.Source && !origin.IsZero() {
		head = "$ORIGIN " + origin.String() + "\n"
	}
	ed := NewEditor(f)
	added := head != "" // what counts until the file states an origin itself
	for _, e := range f.Entries {
		added = added && !e.isOrigin()
		if e.Kind != Record {
			continue
		}
		e.mentions(func(m Mention) { ed.shortenWord(&m, added, origin) })
		if soa, err := rr.ParseSOA(e.Data); e.Type == rr.TypeSOA && err == nil && e.TypeTok+2 < len(e.Tokens) {
			ed.shortenWord(&Mention{e, e.TypeTok + 2, soa.RName, false}, added, origin)
		}
		ed.nameType(e)
	}
	if text = ed.Finish()[f.Source]; text == nil {
		text = f.Source.Content
	}
	return head, text
}

func (f *File) statesOrigin() bool {
	for _, e := range f.Entries {
		if e.isOrigin() {
			return true
		}
		if e.Kind == Record {
			return false
		}
	}
	return false
}

func (e *Entry) isOrigin() bool {
	return e.Kind == Directive && bytes.EqualFold(e.Tokens[0].Text, []byte("$ORIGIN"))
}

// shortenWord writes a whole name relative to the origin that is in force or, with added,
// that will be: the zone's own name.
func (ed *Editor) shortenWord(m *Mention, added bool, apex dnsname.Name) {
	if text := m.Entry.Tokens[m.Tok].Text; len(text) < 2 || text[len(text)-1] != '.' {
		return // short already
	}
	origin, err := dnsname.FromWire(m.Entry.Origin)
	if added {
		origin, err = apex, nil
	}
	if err != nil || origin == dnsname.Root {
		return
	}
	if short := m.Name.Relative(origin); len(short) < len(m.Entry.Tokens[m.Tok].Text) {
		ed.SetWord(m, short)
	}
}

// nameType writes TYPE15 as MX, and \# data as the type's own fields.
func (ed *Editor) nameType(e *Entry) {
	info := rr.Lookup(e.Type)
	if info == nil || info.Use != rr.Data || e.multiline() {
		return
	}
	generic := e.TypeTok+1 < len(e.Tokens) && string(e.Tokens[e.TypeTok+1].Text) == `\#` && !e.Tokens[e.TypeTok+1].Quoted
	named := bytes.EqualFold(e.Tokens[e.TypeTok].Text, []byte(info.Mnemonic))
	switch {
	case generic && len(info.Fields) > 0:
		text := info.Mnemonic + " " + rr.DataText(e.Type, e.Data)
		ed.replace(e.File, e.Offsets[e.TypeTok], e.tokenEnd(len(e.Tokens)-1), text)
	case !named:
		ed.replaceWord(e, e.TypeTok, info.Mnemonic)
	}
}
