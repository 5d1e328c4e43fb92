package ops

import (
	"strings"

	"fencepost/dnsname"
	"fencepost/expect"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
)

// NextWord is what may be written at a place of a file of expectations.
type NextWord struct {
	Text, Detail string
	Language     bool // it is a word of the language, not one of the zone
}

// ExpectationWords are the words that may stand at an offset of the text: those of the
// language, and what the zone's file has.
func (b *Buffer) ExpectationWords(off int) (out []NextWord) {
	line := b.Text[strings.LastIndexByte(b.Text[:off], '\n')+1 : off]
	words := strings.Fields(line)
	if n := len(words); n > 0 && strings.TrimRight(line, " \t") == line { // the last is being typed
		words = words[:n-1]
	}
	p := expect.Next(words)
	for _, w := range p.Words {
		out = append(out, NextWord{Text: w, Language: true})
	}
	if p.Wanted == expect.Types {
		for _, m := range rr.Mnemonics() {
			t, _ := rr.ParseType(m)
			out = append(out, NextWord{Text: m, Detail: rr.Lookup(t).Title, Language: true})
		}
	}
	apex := b.expectedZone()
	if p.Wanted == expect.Anything || p.Wanted == expect.Types || apex.IsZero() {
		return out
	}
	z := b.app.smallZone(apex)
	if z == nil {
		return out
	}
	return append(out, zoneWords(z, apex, p)...)
}

// expectedZone is the zone that the text says it is about.
func (b *Buffer) expectedZone() dnsname.Name {
	for line := range strings.Lines(b.Text) {
		if words := strings.Fields(line); len(words) > 1 && words[0] == "zone" {
			if n, err := dnsname.Parse(words[1], dnsname.Root); err == nil {
				return n
			}
		}
	}
	return dnsname.Name{}
}

// zoneWords are the words of a zone for a place.
func zoneWords(z *zone.Snapshot, apex dnsname.Name, p expect.Place) (out []NextWord) {
	const most = 1000
	if p.Wanted == expect.Names {
		for n := range z.Nodes {
			if len(out) == most {
				break
			}
			owner := z.Owner(n)
			out = append(out, NextWord{Text: owner.Relative(apex), Detail: owner.Plain()})
		}
		return out
	}
	name, err := dnsname.Parse(p.Name, apex)
	if p.Name == "@" {
		name, err = apex, nil
	}
	t := p.Type
	if p.Wanted == expect.Hosts {
		t = rr.TypeNS
	}
	set, ok := z.Find(name, t, t)
	if err != nil || !ok || p.Wanted != expect.Data && p.Wanted != expect.Hosts {
		return nil
	}
	for data := range set.Data {
		out = append(out, NextWord{Text: rr.DataText(t, data), Detail: "as the file has it"})
	}
	return out
}

// smallZone is a zone of the workspace as its file is now; nil where there is none, or it is
// too large for somebody who types.
func (a *App) smallZone(name dnsname.Name) *zone.Snapshot {
	c, err := a.Config()
	if err != nil {
		return nil
	}
	return a.readSmall(c.File(name), name, &source.Set{})
}
