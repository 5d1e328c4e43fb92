package zonefile

import (
	"bytes"
	"fmt"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
)

// NewRecord is a record to be written into a file.
type NewRecord struct {
	Owner  dnsname.Name
	TTL    uint32 // used with HasTTL; else the file's default holds
	HasTTL bool
	Type   rr.Type
	Text   string       // the data as it is to be written, relative to the zone
	Data   []byte       // what Text means; nil: do not look
	Beside dnsname.Name // put it where a record of this owner would go; zero: of its own
}

// Insert writes a record where a person would put it: after the last record of
// the same owner, else in its place where the file is kept in order, else beside the
// name most like it, else at the end; aligned like its neighbour.
func (ed *Editor) Insert(r NewRecord) error {
	beside := r.Owner
	if !r.Beside.IsZero() && len(ed.f.Records(r.Owner, 0)) == 0 {
		beside = r.Beside
	}
	near, same := ed.neighbour(beside)
	same = same && beside == r.Owner
	if !same && beside == r.Owner {
		if !ed.looked {
			ed.looked, ed.order = true, inOrder(ed.f)
		}
		if ed.order != nil {
			if e := ed.order.before(r.Owner); e != nil && !ed.removed[e] {
				near = e
			}
		}
	}
	f := ed.f.Source
	at, origin := len(f.Content), []byte(ed.f.Apex.Wire())
	if near != nil {
		f = near.File
		at, origin = f.Offset(near.Span.End), near.Origin
	} else if n := len(ed.f.Entries); n > 0 {
		origin = ed.f.Entries[n-1].Origin
	}
	originName, err := dnsname.FromWire(origin)
	if err != nil {
		return fmt.Errorf("%s: no origin is in force where the record would go", f.Name)
	}
	owner := r.Owner.Relative(originName)
	for _, i := range ed.inserted {
		if i.file == f && i.at == at { // put there by this edit, and so between
			same = i.owner.Equal(r.Owner)
		}
	}
	if same && ed.leavesOwnersOut(f) {
		owner = "" // the owner is the one before
	}
	ed.inserted = append(ed.inserted, inserted{f, at, r.Owner})
	r.Text = DataIn(origin, r.Type, r.Text, r.Data)
	line := layoutLine(near, owner, r)
	if at > 0 && f.Content[at-1] != '\n' {
		line = "\n" + line
	}
	ed.replace(f, at, at, line+lineEnd(f.Content))
	return nil
}

// inserted is where a record was put.
type inserted struct {
	file  *source.File
	at    int
	owner dnsname.Name
}

// leavesOwnersOut reports whether a file writes an owner once for a run of its
// records.
func (ed *Editor) leavesOwnersOut(f *source.File) (yes bool) {
	if known, ok := ed.ownerless[f]; ok {
		return known
	}
	defer func() { ed.ownerless[f] = yes }()
	for _, e := range ed.f.All {
		if e.Kind == Record && e.File == f && e.OwnerTok < 0 {
			return true
		}
	}
	return false
}

// lineEnd is how lines of the text end.
func lineEnd(text []byte) string {
	if i := bytes.IndexByte(text, '\n'); i > 0 && text[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// neighbour finds the record after which one of owner belongs; same tells that
// it has the same owner. In which files it may be the Placement says.
func (ed *Editor) neighbour(owner dnsname.Name) (near *Entry, same bool) {
	best := -1
	for _, e := range ed.f.All {
		own := e.File == ed.f.Source
		if e.Kind != Record || ed.removed[e] || !own && ed.Placement == MainFile {
			continue
		}
		if dnsname.EqualWire(e.Owner, owner.Wire()) {
			near, same, best = e, true, 1000
			continue
		}
		if n := alike(e.Owner, owner); !same && n >= best && (own || ed.Placement == BesideLike) {
			near, best = e, n
		}
	}
	return near, same
}

// alike measures how much two owners look like members of one series: the
// octets that their first labels begin with, if all other labels agree. Less
// than three say nothing.
func alike(w []byte, owner dnsname.Name) int {
	o := owner.Wire()
	if len(w) <= 1 || len(o) <= 1 || !dnsname.EqualWire(w[1+int(w[0]):], o[1+int(o[0]):]) {
		return -1
	}
	a, b := w[1:1+int(w[0])], o[1:1+int(o[0])]
	n := 0
	for n < len(a) && n < len(b) && a[n]|0x20 == b[n]|0x20 {
		n++
	}
	if n < 3 {
		return 0
	}
	return n
}

// column is where a field of a line begins, and whether tabs lead to it.
type column struct {
	at   int
	tabs bool
}

// layoutLine writes a record in the columns of the record near.
func layoutLine(near *Entry, owner string, r NewRecord) string {
	typeAt, dataAt := column{at: 16}, column{at: 24}
	class, classAt := "", column{}
	ttlAt := column{}
	if near != nil {
		typeAt, dataAt = near.column(near.TypeTok), near.column(near.TypeTok+1)
		if near.ClassTok >= 0 {
			class, classAt = string(near.Tokens[near.ClassTok].Text), near.column(near.ClassTok)
		}
		if near.TTLTok >= 0 {
			ttlAt = near.column(near.TTLTok)
		}
	}
	var b strings.Builder
	b.WriteString(owner)
	put := func(c column, text string) {
		line := b.String()
		col := columnAt([]byte(line))
		switch {
		case b.Len() == 0 && owner == "" && c.at == 0:
			b.WriteString("\t")
		case c.tabs:
			b.WriteString(tabsTo(col, c.at))
		default:
			b.WriteString(strings.Repeat(" ", max(1, c.at-col)))
		}
		b.WriteString(text)
	}
	ttlFirst := near == nil || near.ClassTok < 0 || near.TTLTok < 0 || near.TTLTok < near.ClassTok
	if r.HasTTL && ttlFirst {
		text := fmt.Sprint(r.TTL)
		if ttlAt.at == 0 && !typeAt.tabs && class == "" { // no column of its own: right before the type
			ttlAt.at = typeAt.at - len(text) - 1
		}
		put(ttlAt, text)
	}
	if class != "" {
		put(classAt, class)
	}
	if r.HasTTL && !ttlFirst {
		put(ttlAt, fmt.Sprint(r.TTL))
	}
	put(typeAt, r.Type.String())
	put(dataAt, r.Text)
	return b.String()
}

// column is where the i-th token of an entry stands on its first line.
func (e *Entry) column(i int) column {
	if i >= len(e.Tokens) {
		return column{}
	}
	start, at := e.File.Offset(e.Span.Start), e.Offsets[i]
	line := e.File.Content[start:at]
	if bytes.IndexByte(line, '\n') >= 0 { // on a later line: no column to follow
		return column{}
	}
	return column{columnAt(line), len(line) > 0 && line[len(line)-1] == '\t'}
}
