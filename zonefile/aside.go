package zonefile

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// A record that is set aside stays in the file as comments, which any reader of master files
// passes over: a line that says when, by whom and why, and the record's own lines behind a mark.
//
//	; set aside 2026-11-29 by ines, because the lens is broken
//	;~ cam-north       A      198.51.100.31 ; on the mast
const (
	asideHead = "; set aside "
	asideMark = ";~ "
	asideDay  = "2006-01-02"
)

// AsideNote says when a record was set aside, by whom and why.
type AsideNote struct {
	Day      time.Time // the day begins then, UTC
	Who, Why string    // each one line; why does not begin or end with blanks
}

// String is the note as it is written.
func (n AsideNote) String() string {
	return fmt.Sprintf("%s%s by %s, because %s", asideHead, n.Day.UTC().Format(asideDay), n.Who, n.Why)
}

// ParseAsideNote reads a note; ok is false where the line is none.
func ParseAsideNote(line []byte) (n AsideNote, ok bool) {
	text, ok := bytes.CutPrefix(bytes.TrimRight(line, " \t\r\n"), []byte(asideHead))
	if !ok {
		return n, false
	}
	day, rest, ok := strings.Cut(string(text), " by ")
	who, why, because := strings.Cut(rest, ", because ")
	at, err := time.Parse(asideDay, day)
	if !ok || !because || err != nil || who == "" || why == "" {
		return n, false
	}
	return AsideNote{at, who, why}, true
}

// AsidePlace is where something was set aside.
type AsidePlace struct {
	AsideNote
	Span source.Span // of the note
}

// maxAsides bounds how many places are kept of a zone.
const maxAsides = 10000

// aside notes where something is set aside.
func (l *loader) aside(e *Entry) {
	if len(l.asides) >= maxAsides {
		return
	}
	if n, ok := noteOf(e); ok {
		end := e.File.Pos(e.File.Offset(e.Span.Start) + len(bytes.TrimRight(linesOf(e), "\r\n")))
		l.asides = append(l.asides, AsidePlace{n, source.Span{Start: e.Span.Start, End: end}})
	}
}

func linesOf(e *Entry) []byte {
	return e.File.Content[e.File.Offset(e.Span.Start):e.File.Offset(e.Span.End)]
}

func noteOf(e *Entry) (AsideNote, bool) {
	if e.Kind != Blank || e.Comment < 0 {
		return AsideNote{}, false
	}
	return ParseAsideNote(linesOf(e))
}

// Aside is a record that is set aside.
type Aside struct {
	AsideNote
	Owner dnsname.Name
	Type  rr.Type
	Data  []byte

	file     *source.File
	from, to int    // of the note and the lines
	text     string // the lines as they were
}

// Pos is where its note stands.
func (a *Aside) Pos() source.Pos { return a.file.Pos(a.from) }

// Asides are the records that are set aside in the file and those that it includes. What looks
// like one and is no record any more, for somebody changed it, is left out.
func (f *File) Asides() (out []*Aside) {
	for i := 0; i < len(f.All); i++ {
		e := f.All[i]
		n, ok := noteOf(e)
		if !ok {
			continue
		}
		a := &Aside{AsideNote: n, file: e.File, from: e.File.Offset(e.Span.Start), to: e.File.Offset(e.Span.End)}
		for ; i+1 < len(f.All) && f.All[i+1].File == e.File && f.All[i+1].Kind == Blank; i++ {
			line, marked := bytes.CutPrefix(linesOf(f.All[i+1]), []byte(asideMark))
			if !marked { // blanks at ends of lines go easily
				line, marked = bytes.CutPrefix(linesOf(f.All[i+1]), []byte(strings.TrimRight(asideMark, " ")))
				marked = marked && len(bytes.TrimRight(line, "\r\n")) == 0
			}
			if !marked {
				break
			}
			a.text += string(line)
			a.to = e.File.Offset(f.All[i+1].Span.End)
		}
		if a.read(e.Origin) {
			out = append(out, a)
		}
	}
	return out
}

// read takes the record out of the lines; false where they are none, or several.
func (a *Aside) read(origin []byte) bool {
	name, err := dnsname.FromWire(origin)
	if err != nil {
		return false
	}
	var src source.Set
	f, err := src.Add("", []byte(a.text))
	if err != nil {
		return false
	}
	found := 0
	for _, e := range Parse(f, Options{Origin: name}, &diag.List{}).Entries {
		if e.Kind == Bad || e.Kind == Directive || e.Kind == Record && e.OwnerTok < 0 {
			return false
		}
		if e.Kind == Record {
			found++
			a.Type, a.Data = e.Type, e.Data
			a.Owner, err = dnsname.FromWire(e.Owner)
		}
	}
	return found == 1 && err == nil
}

// SetAside takes a record out and leaves its lines as comments. A record after it that took
// its owner from it is given the owner.
func (ed *Editor) SetAside(e *Entry, n AsideNote) {
	end := "\n"
	lines := string(linesOf(e))
	if strings.HasSuffix(lines, "\r\n") {
		end = "\r\n"
	}
	if e.OwnerTok < 0 {
		lines = ownedLine(lines, string(ed.ownerOf(e)))
	}
	var b strings.Builder
	b.WriteString(n.String() + end)
	for line := range strings.Lines(lines) {
		b.WriteString(asideMark + line)
	}
	ed.Remove(e)
	patches := ed.patches[e.File]
	patches[len(patches)-1].new = b.String()
}

// ownerOf is the owner of a record that leaves it out, as it was stated before.
func (ed *Editor) ownerOf(e *Entry) []byte {
	var stated *Entry
	for _, o := range ed.f.All {
		if o.OwnerTok >= 0 {
			stated = o
		}
		if o == e {
			break
		}
	}
	return ownerText(e, stated)
}

// ownedLine is a line that begins with blanks with an owner in their place, the columns kept
// where there is room.
func ownedLine(line, owner string) string {
	rest := strings.TrimLeft(line, " \t")
	blanks := len(line) - len(rest)
	if strings.Contains(line[:blanks], "\t") || blanks <= len(owner) {
		return owner + " " + rest
	}
	return owner + line[len(owner):]
}

// PutBack makes a record that is set aside one again.
func (ed *Editor) PutBack(a *Aside) {
	ed.replace(a.file, a.from, a.to, a.text)
	ed.inserted = append(ed.inserted, inserted{a.file, a.to, a.Owner})
}
