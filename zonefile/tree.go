package zonefile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// File is a master file with every octet in its place: the entries one after
// another are the whole text. All has those of included files too, in the order in
// which they are read.
type File struct {
	Source  *source.File
	Apex    dnsname.Name // owner of the SOA, or the origin it was read with
	Entries []*Entry
	All     []*Entry

	soa *Entry
}

// Parse reads a file for editing. Findings go to diags; entries that could not
// be understood are kept as Bad.
func Parse(file *source.File, opts Options, diags *diag.List) *File {
	f := &File{Source: file, Apex: opts.Origin}
	p := newParser(file, opts, diags)
	var kept keeper
	for e := p.next(); e != nil; e = p.next() {
		c := kept.entry(e)
		f.All = append(f.All, c)
		if e.File == file {
			f.Entries = append(f.Entries, c)
		}
		if c.Kind == Record && c.Type == rr.TypeSOA && f.soa == nil {
			f.soa = c
			f.Apex, _ = dnsname.FromWire(c.Owner)
		}
	}
	return f
}

// SOA is the first SOA record, or nil.
func (f *File) SOA() *Entry { return f.soa }

// keeper copies entries, many into one piece of memory.
type keeper struct {
	entries []Entry
	tokens  []rr.Token
	offsets []int
	octets  []byte
	last    *Entry
}

func (k *keeper) entry(e *Entry) *Entry {
	if len(k.entries) == cap(k.entries) {
		k.entries = make([]Entry, 0, 256)
	}
	k.entries = append(k.entries, *e)
	c := &k.entries[len(k.entries)-1]
	c.Tokens, k.tokens = keep(k.tokens, e.Tokens)
	c.Offsets, k.offsets = keep(k.offsets, e.Offsets)
	c.Data, k.octets = keep(k.octets, e.Data)
	// Owner and origin are mostly those of the entry before.
	if k.last != nil && bytes.Equal(k.last.Owner, e.Owner) && (k.last.Owner == nil) == (e.Owner == nil) {
		c.Owner = k.last.Owner
	} else {
		c.Owner, k.octets = keep(k.octets, e.Owner)
	}
	if k.last != nil && bytes.Equal(k.last.Origin, e.Origin) {
		c.Origin = k.last.Origin
	} else {
		c.Origin, k.octets = keep(k.octets, e.Origin)
	}
	k.last = c
	return c
}

// keep copies a slice to the end of memory, or to new memory where it has no room;
// nil stays nil.
func keep[T any](memory, s []T) (kept, rest []T) {
	if s == nil {
		return nil, memory
	}
	if cap(memory)-len(memory) < len(s) {
		memory = make([]T, 0, max(4096, len(s)))
	}
	at := len(memory)
	memory = append(memory, s...)
	return memory[at:len(memory):len(memory)], memory
}

// Records finds the records of owner and type, in the file and those that it
// includes; type 0 means any.
func (f *File) Records(owner dnsname.Name, t rr.Type) (out []*Entry) {
	for _, e := range f.All {
		if e.Kind == Record && (t == 0 || e.Type == t) && dnsname.EqualWire(e.Owner, owner.Wire()) {
			out = append(out, e)
		}
	}
	return out
}

// DefaultTTL is what a $TTL says; ok is false where there is none, or several say
// different things.
func (f *File) DefaultTTL() (ttl uint32, ok bool) {
	for _, e := range f.All {
		if e.Kind != Directive || len(e.Tokens) < 2 || !bytes.EqualFold(e.Tokens[0].Text, []byte("$TTL")) {
			continue
		}
		n, _, good := rr.ParseTTL(e.Tokens[1].Text)
		if !good || ok && n != ttl {
			return 0, false
		}
		ttl, ok = n, true
	}
	return ttl, ok
}

// patch replaces the octets [from, to) of a file.
type patch struct {
	from, to int
	new      string
}

// Editor gathers changes to a file and those that it includes. Apply makes them
// all at once: each touches only the octets it must.
type Editor struct {
	f        *File
	patches  map[*source.File][]patch
	removed  map[*Entry]bool
	inserted []inserted // in the order of the calls

	ownerless map[*source.File]bool // what leavesOwnersOut found
	order     *order                // nil: the file is not kept in order
	looked    bool                  // for that order

	// Placement says into which files new records may go.
	Placement Placement
}

// Placement says which files an edit may write new records into.
type Placement uint8

// The placements.
const (
	BesideOwner Placement = iota // an included file only beside records of the same owner
	BesideLike                   // an included file also beside records like it
	MainFile                     // the zone's own file alone: others include the rest
)

// NewEditor begins an edit.
func NewEditor(f *File) *Editor {
	return &Editor{f: f, patches: map[*source.File][]patch{}, removed: map[*Entry]bool{}, ownerless: map[*source.File]bool{}}
}

// apply is the text of a file with all changes.
func (ed *Editor) apply(f *source.File) []byte {
	patches := ed.patches[f]
	slices.SortStableFunc(patches, func(a, b patch) int {
		if a.from == b.from && (a.to == a.from) != (b.to == b.from) { // what is put in goes before what is taken out
			return a.to - b.to
		}
		return a.from - b.from
	})
	var out []byte
	at := 0
	for _, p := range patches {
		if p.from < at { // inside a removed entry
			continue
		}
		out = append(out, f.Content[at:p.from]...)
		out = append(out, p.new...)
		at = p.to
	}
	return append(out, f.Content[at:]...)
}

func (ed *Editor) replace(f *source.File, from, to int, text string) {
	ed.patches[f] = append(ed.patches[f], patch{from, to, text})
}

// SetSerial writes another serial into the SOA.
func (ed *Editor) SetSerial(serial uint32) error {
	soa := ed.f.SOA()
	if soa == nil {
		return fmt.Errorf("%s has no SOA record", ed.f.Source.Name)
	}
	const word = 3 // after mname and rname, counted from the type
	i := soa.TypeTok + word
	if i >= len(soa.Tokens) || string(soa.Tokens[soa.TypeTok+1].Text) == `\#` {
		return fmt.Errorf("%s: the SOA is not written field by field", soa.File.Name)
	}
	ed.replace(soa.File, soa.Offsets[i], soa.tokenEnd(i), fmt.Sprint(serial))
	return nil
}

// SetTTL writes a TTL into a record.
func (ed *Editor) SetTTL(e *Entry, ttl uint32) {
	text := fmt.Sprint(ttl)
	if e.TTLTok >= 0 {
		ed.replace(e.File, e.Offsets[e.TTLTok], e.tokenEnd(e.TTLTok), text)
		return
	}
	at := e.TypeTok
	if e.ClassTok >= 0 {
		at = e.ClassTok
	}
	// Where there is room among the blanks before it, the columns stay.
	from, room := e.Offsets[at], len(text)+2
	content := e.File.Content
	if from >= room && len(bytes.Trim(content[from-room:from], " ")) == 0 {
		ed.replace(e.File, from-len(text)-1, from-1, text)
		return
	}
	ed.replace(e.File, from, from, text+" ")
}

// Remove takes a record's lines out. A record after it that took its owner from
// it is given the owner.
func (ed *Editor) Remove(e *Entry) {
	ed.removed[e] = true
	ed.replace(e.File, e.File.Offset(e.Span.Start), e.File.Offset(e.Span.End), "")
}

// settleOwners gives owners to records that would take another one than they had:
// the record that stated it goes, or a new one comes in between. It is called
// once, when all changes are known.
func (ed *Editor) settleOwners() {
	var stated *Entry       // who stated the owner in the old text
	var owner []byte        // of the record before, in the new text
	var open []*source.File // each includes the next
	come := slices.Clone(ed.inserted)
	before := func(f *source.File, at int) { // what comes into f up to an offset
		come = slices.DeleteFunc(come, func(i inserted) bool {
			if i.file != f || i.at > at {
				return false
			}
			owner = []byte(i.owner.Wire())
			return true
		})
	}
	for _, e := range ed.f.All {
		if i := slices.Index(open, e.File); i < 0 {
			open = append(open, e.File)
		} else {
			for n := len(open) - 1; n > i; n-- {
				before(open[n], len(open[n].Content))
			}
			open = open[:i+1]
		}
		before(e.File, e.File.Offset(e.Span.Start))
		if e.OwnerTok >= 0 {
			stated = e
		}
		switch {
		case e.Owner == nil || ed.removed[e]:
		case e.Kind == Record && e.OwnerTok < 0 && !dnsname.EqualWire(owner, e.Owner):
			ed.stateOwner(e, ownerText(e, stated))
			fallthrough
		default:
			owner = e.Owner
		}
	}
}

// stateOwner writes the owner in front of a record that leaves it out.
func (ed *Editor) stateOwner(e *Entry, owner []byte) {
	content, start := e.File.Content, e.File.Offset(e.Span.Start)
	first := start
	for content[first] == ' ' || content[first] == '\t' {
		first++
	}
	end, ttl := first, "" // a TTL that this edit writes among those blanks
	for i, p := range ed.patches[e.File] {
		if p.from > start && p.to < first && p.new != "" {
			first, ttl = p.from, p.new+string(content[p.to:first])
			ed.patches[e.File] = slices.Delete(ed.patches[e.File], i, i+1)
			break
		}
	}
	width := columnAt(content[start:first])
	blank := strings.Repeat(" ", max(1, width-len(owner)))
	if bytes.IndexByte(content[start:first], '\t') >= 0 {
		blank = tabsTo(len(owner), width)
	}
	ed.replace(e.File, start, end, string(owner)+blank+ttl)
}

// ReplaceFrom replaces all of the file from an offset on.
func (ed *Editor) ReplaceFrom(offset int, text string) {
	ed.replace(ed.f.Source, offset, len(ed.f.Source.Content), text)
}

// Rename writes another name in the place of from wherever a word outside quotes
// is that name or ends in it, with a final dot.
func (ed *Editor) Rename(from, to dnsname.Name) {
	old, new := from.String(), to.String()
	for _, e := range ed.f.All {
		for i, t := range e.Tokens {
			head := len(t.Text) - len(old)
			if t.Quoted || head < 0 || !strings.EqualFold(string(t.Text[head:]), old) {
				continue
			}
			if head == 0 || t.Text[head-1] == '.' && (head < 2 || t.Text[head-2] != '\\') {
				ed.replace(e.File, e.Offsets[i]+head, e.tokenEnd(i), new)
			}
		}
	}
}

// Finish completes the edit and returns the new texts of the files that changed.
func (ed *Editor) Finish() map[*source.File][]byte {
	ed.settleOwners()
	out := map[*source.File][]byte{}
	for f := range ed.patches {
		out[f] = ed.apply(f)
	}
	return out
}

// Changed reports whether anything is to be changed.
func (ed *Editor) Changed() bool { return len(ed.patches) > 0 }

// Removed reports whether a record is to be taken out.
func (ed *Editor) Removed(e *Entry) bool { return ed.removed[e] }

const tabWidth = 8

// columnAt is the column after the octets of a line, tabs expanded.
func columnAt(b []byte) int {
	col := 0
	for _, c := range b {
		if c == '\t' {
			col = (col/tabWidth + 1) * tabWidth
		} else {
			col++
		}
	}
	return col
}

// tabsTo fills a line from column at to column to with tabs, at least one.
func tabsTo(at, to int) string {
	n := max(1, (to+tabWidth-1)/tabWidth-at/tabWidth)
	return strings.Repeat("\t", n)
}
