package app

import (
	"bytes"
	"fmt"
	"slices"
	"sort"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"

	"fencepost/zonefile"
)

// Edit is one change of a zone file: add, change or remove.
type Edit struct {
	Zone  string // a zone of the workspace, or a file
	Owner string
	Type  string
	Data  []string
	TTL   string // empty: the file's default
	From  string // change, where there are several: the data to be replaced
	Dry   bool   // show and do not write
}

// Edited is what an edit did.
type Edited struct {
	Path      string
	Zone      dnsname.Name
	OldSerial uint32
	Serial    uint32
	Removed   []string // lines that went
	Added     []string // lines that came
	Source    *source.Set
	Diags     *diag.List // what check says about the new file
	Written   bool
}

// editing is an edit in progress.
type editing struct {
	path     string
	src      source.Set
	file     *zonefile.File
	ed       *zonefile.Editor
	style    zonefile.SerialStyle
	before   *diag.List
	opts     zonefile.Options
	expected map[string]int // records that come (+1) and go (-1), as canonical text
}

// open reads a zone file for an edit.
func (a *App) open(operand string) (*editing, error) {
	path, origin, err := a.zoneFile(operand)
	if err != nil {
		return nil, err
	}
	e := &editing{path: path, style: a.serialStyle(), before: &diag.List{}, expected: map[string]int{}}
	f, err := readFile(&e.src, path)
	if err != nil {
		return nil, err
	}
	e.opts = zonefile.Options{Origin: origin, Open: includes(&e.src, path)}
	e.file = zonefile.Parse(f, e.opts, e.before)
	if e.file.Apex.IsZero() || e.file.SOA() == nil {
		return nil, fmt.Errorf("%s has no SOA record that could be read; see: fencepost check %s", Shown(path), Shown(path))
	}
	e.ed = zonefile.NewEditor(e.file)
	return e, nil
}

// serialStyle is the workspace's style, or by date without a workspace.
func (a *App) serialStyle() zonefile.SerialStyle {
	if c, err := a.Config(); err == nil {
		return zonefile.SerialStyle(c.SerialStyle)
	}
	return zonefile.SerialDate
}

// owner reads the owner of an edit, relative to the zone.
func (e *editing) owner(text string) (dnsname.Name, error) {
	n, err := dnsname.Parse(text, e.file.Apex)
	if err != nil {
		return n, usage("the owner %q: %v", text, err)
	}
	if !n.AtOrBelow(e.file.Apex) {
		return n, usage("%s is not in the zone %s", n, e.file.Apex)
	}
	if strings.HasSuffix(text, "."+strings.TrimSuffix(e.file.Apex.String(), ".")) {
		return n, usage("%s means %s; write %s. with a final dot, or only what stands before the zone's name", text, n, text)
	}
	return n, nil
}

func parseType(text string) (rr.Type, error) {
	t, ok := rr.ParseType(text)
	if !ok {
		if meant := diag.Closest(text, rr.Mnemonics()); meant != "" {
			return 0, usage("%q is no record type; did you mean %s?", text, meant)
		}
		return 0, usage("%q is no record type", text)
	}
	if info := rr.Lookup(t); info != nil && info.Use != rr.Data {
		return 0, usage("%s exists only in messages and cannot stand in a zone", t)
	}
	return t, nil
}

// data reads record data given as arguments: the text to write and the octets.
// Blanks inside one argument stay inside one text.
func (e *editing) data(t rr.Type, args []string) (text string, wire []byte, err error) {
	words := make([]string, len(args))
	for i, a := range args {
		if info := rr.Lookup(t); takesText(info, i) && !strings.HasPrefix(a, `"`) {
			a = string(rr.AppendQuoted(nil, []byte(a)))
		}
		words[i] = a
	}
	text = strings.Join(words, " ")
	var src source.Set
	f, err := src.Add("argument", []byte("@ 1 IN "+t.String()+" "+text+"\n"))
	if err != nil {
		return "", nil, err
	}
	var diags diag.List
	parsed := zonefile.Parse(f, zonefile.Options{Origin: e.file.Apex}, &diags)
	for _, d := range diags.All {
		if d.Severity == diag.Error {
			why := d.Message
			if d.Suggestion != "" {
				why += "; " + d.Suggestion
			}
			return "", nil, usage("%s %s: %s", t, strings.Join(args, " "), why)
		}
	}
	if len(parsed.Entries) != 1 || parsed.Entries[0].Kind != zonefile.Record {
		return "", nil, usage("%s %s is not one record", t, strings.Join(args, " "))
	}
	return text, parsed.Entries[0].Data, nil
}

// takesText tells whether the i-th argument of a type is text, which is put in
// quotes.
func takesText(info *rr.Info, i int) bool {
	if info == nil || len(info.Fields) == 0 {
		return false
	}
	k := info.Fields[min(i, len(info.Fields)-1)].Kind
	return k == rr.Strings || k == rr.Text
}

func (e *editing) ttl(text string) (ttl uint32, has bool, err error) {
	if text == "" {
		return 0, false, nil
	}
	ttl, _, ok := rr.ParseTTL([]byte(text))
	if !ok {
		return 0, false, usage("--ttl %s is no time from 0 to 2147483647 seconds", text)
	}
	return ttl, true, nil
}

// key is a record as text that does not depend on how it is written.
func key(owner []byte, t rr.Type, ttl uint32, data []byte) string {
	r := rr.Record{Type: t, TTL: ttl, Class: rr.ClassIN, Data: data}
	r.Name, _ = dnsname.FromWire(owner)
	return r.String()
}

// subject is the record that an edit is about, read from its arguments.
type subject struct {
	owner  dnsname.Name
	t      rr.Type
	text   string // the data as they are to be written
	wire   []byte
	ttl    uint32
	hasTTL bool
}

// begin opens the file of an edit and reads its arguments.
func (a *App) begin(o Edit) (*editing, *subject, error) {
	e, err := a.open(o.Zone)
	if err != nil {
		return nil, nil, err
	}
	var s subject
	if s.owner, err = e.owner(o.Owner); err != nil {
		return nil, nil, err
	}
	if s.t, err = parseType(o.Type); err != nil {
		return nil, nil, err
	}
	if s.text, s.wire, err = e.data(s.t, o.Data); err != nil {
		return nil, nil, err
	}
	s.ttl, s.hasTTL, err = e.ttl(o.TTL)
	return e, &s, err
}

// Add writes a new record.
func (a *App) Add(o Edit) (*Edited, error) {
	e, s, err := a.begin(o)
	if err != nil {
		return nil, err
	}
	for _, r := range e.file.Records(s.owner, s.t) {
		if bytes.Equal(r.Data, s.wire) {
			return nil, fmt.Errorf("%s has this %s record already, at %s", s.owner, s.t, e.src.Position(r.Span.Start))
		}
	}
	if err := e.ed.Insert(zonefile.NewRecord{Owner: s.owner, TTL: s.ttl, HasTTL: s.hasTTL, Type: s.t, Text: s.text}); err != nil {
		return nil, err
	}
	e.expect(s.owner, s.t, s.wire, +1)
	return a.finish(e, o.Dry)
}

// expect books a record that comes or goes. TTLs are left out: the default of
// the place holds.
func (e *editing) expect(owner dnsname.Name, t rr.Type, data []byte, by int) {
	e.expected[key([]byte(owner.Wire()), t, 0, data)] += by
}

// Change replaces the data of a record.
func (a *App) Change(o Edit) (*Edited, error) {
	e, s, err := a.begin(o)
	if err != nil {
		return nil, err
	}
	r, err := e.pick(s.owner, s.t, o.From)
	if err != nil {
		return nil, err
	}
	same := bytes.Equal(r.Data, s.wire)
	if same && !s.hasTTL {
		return nil, fmt.Errorf("the %s record of %s is like that already, at %s", s.t, s.owner, e.src.Position(r.Span.Start))
	}
	if s.hasTTL {
		e.ed.SetTTL(r, s.ttl)
	}
	if !same {
		e.ed.SetData(r, s.text)
		e.expect(s.owner, s.t, r.Data, -1)
		e.expect(s.owner, s.t, s.wire, +1)
	}
	return a.finish(e, o.Dry)
}

// pick finds the one record that a change is about.
func (e *editing) pick(owner dnsname.Name, t rr.Type, from string) (*zonefile.Entry, error) {
	found := e.file.Records(owner, t)
	if from != "" {
		_, want, err := e.data(t, strings.Fields(from))
		if err != nil {
			return nil, err
		}
		found = slices.DeleteFunc(found, func(r *zonefile.Entry) bool { return !bytes.Equal(r.Data, want) })
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return nil, e.none(owner, t)
	}
	var have []string
	for _, r := range found {
		have = append(have, rr.DataText(t, r.Data))
	}
	return nil, usage("%s has %d %s records: say which with --from DATA, one of: %s", owner, len(found), t, strings.Join(have, ", "))
}

func (e *editing) none(owner dnsname.Name, t rr.Type) error {
	others := e.file.Records(owner, 0)
	if len(others) > 0 {
		var types []string
		for _, r := range others {
			if s := r.Type.String(); !slices.Contains(types, s) {
				types = append(types, s)
			}
		}
		return fmt.Errorf("%s has no such %s record in %s; it has %s", owner, t, Shown(e.path), strings.Join(types, ", "))
	}
	var names []string
	for _, r := range e.file.Entries {
		if r.Kind == zonefile.Record {
			n, _ := dnsname.FromWire(r.Owner)
			names = append(names, n.Relative(e.file.Apex))
		}
	}
	err := fmt.Errorf("there is no %s in %s", owner, Shown(e.path))
	if meant := diag.Closest(owner.Relative(e.file.Apex), names); meant != "" {
		return fmt.Errorf("%w; did you mean %s?", err, meant)
	}
	return err
}

// Remove takes records out: one, all of a type, or all of an owner.
func (a *App) Remove(o Edit) (*Edited, error) {
	e, err := a.open(o.Zone)
	if err != nil {
		return nil, err
	}
	owner, err := e.owner(o.Owner)
	if err != nil {
		return nil, err
	}
	var t rr.Type
	if o.Type != "" {
		if t, err = parseType(o.Type); err != nil {
			return nil, err
		}
	}
	found := e.file.Records(owner, t)
	if len(o.Data) > 0 {
		_, want, err := e.data(t, o.Data)
		if err != nil {
			return nil, err
		}
		found = slices.DeleteFunc(found, func(r *zonefile.Entry) bool { return !bytes.Equal(r.Data, want) })
	}
	if len(found) == 0 {
		return nil, e.none(owner, t)
	}
	for _, r := range found {
		e.ed.Remove(r)
		e.expect(owner, r.Type, r.Data, -1)
	}
	return a.finish(e, o.Dry)
}

// RejectedError says that an edit would have put errors into the file. Nothing
// was written.
type RejectedError struct {
	Source *source.Set
	Diags  *diag.List // the new errors
}

func (e *RejectedError) Error() string { return "nothing was changed: the zone would have errors" }

// Unwrap makes it a finding.
func (e *RejectedError) Unwrap() error { return ErrFindings }

// finish raises the serial, proves that the new text differs by what was asked
// and nothing else, checks it and writes it.
func (a *App) finish(e *editing, dry bool) (*Edited, error) {
	old, _ := rr.ParseSOA(e.file.SOA().Data)
	serial := zonefile.NextSerial(e.style, old.Serial, a.Now())
	if err := e.ed.SetSerial(serial); err != nil {
		return nil, err
	}
	return a.write(e, old.Serial, serial, dry)
}

func (a *App) write(e *editing, oldSerial, serial uint32, dry bool) (*Edited, error) {
	text := e.ed.Finish()
	src := &source.Set{}
	f, err := src.Add(Shown(e.path), text)
	if err != nil {
		return nil, err
	}
	opts := e.opts
	opts.Open = includes(src, e.path)
	after := zonefile.Parse(f, opts, &diag.List{})
	if err := e.prove(after); err != nil {
		return nil, err
	}
	diags, err := a.checkText(src, f, opts)
	if err != nil {
		return nil, err
	}
	var oldSrc source.Set
	oldFile, err := oldSrc.Add(Shown(e.path), e.file.Source.Content)
	if err != nil {
		return nil, err
	}
	opts.Open = includes(&oldSrc, e.path)
	was, err := a.checkText(&oldSrc, oldFile, opts)
	if err != nil {
		return nil, err
	}
	if fresh := newErrors(was, diags); len(fresh.All) > 0 {
		return nil, &RejectedError{src, fresh}
	}
	diags.Sort()
	res := &Edited{Path: Shown(e.path), Zone: e.file.Apex, OldSerial: oldSerial, Serial: serial, Source: src, Diags: diags}
	res.Removed, res.Added = lineChanges(e.file.Source.Content, text)
	if dry {
		return res, nil
	}
	if err := writeFile(e.path, text); err != nil {
		return nil, err
	}
	res.Written = true
	return res, nil
}

// newErrors is the errors of after that before did not have.
func newErrors(before, after *diag.List) *diag.List {
	had := map[string]int{}
	for _, d := range before.All {
		had[d.Rule.Code+d.Message]++
	}
	out := &diag.List{}
	for _, d := range after.All {
		if k := d.Rule.Code + d.Message; d.Severity == diag.Error {
			if had[k]--; had[k] < 0 {
				out.Add(d)
			}
		}
	}
	return out
}

// prove compares the records before and after with what was asked for. An edit
// that would change another record, such as one that takes its TTL from a line
// that goes, is refused.
func (e *editing) prove(after *zonefile.File) error {
	diff := map[string]int{}
	book := func(f *zonefile.File, by int) {
		for _, r := range f.Entries {
			if r.Kind == zonefile.Record && r.Type != rr.TypeSOA {
				diff[key(r.Owner, r.Type, 0, r.Data)] += by
			}
		}
	}
	book(e.file, -1)
	book(after, +1)
	for k, n := range e.expected {
		diff[k] -= n
	}
	var wrong []string
	for k, n := range diff {
		if n != 0 {
			wrong = append(wrong, k)
		}
	}
	if len(wrong) == 0 {
		return e.proveTTLs(after)
	}
	sort.Strings(wrong)
	return fmt.Errorf("%s is laid out so that this edit would also change: %s; edit it by hand", Shown(e.path), strings.ReplaceAll(wrong[0], "\t", " "))
}

// proveTTLs looks whether records that stay have kept their TTL.
func (e *editing) proveTTLs(after *zonefile.File) error {
	ttls := map[string]uint32{}
	for _, r := range e.file.Entries {
		if r.Kind == zonefile.Record {
			ttls[key(r.Owner, r.Type, 0, r.Data)] = r.TTL
		}
	}
	for _, r := range after.Entries {
		if r.Kind != zonefile.Record || r.TTLTok >= 0 {
			continue
		}
		k := key(r.Owner, r.Type, 0, r.Data)
		if was, ok := ttls[k]; ok && was != r.TTL && e.expected[k] == 0 {
			return fmt.Errorf("%s has no $TTL, so this edit would also change the TTL of: %s; write $TTL at its head first",
				Shown(e.path), strings.ReplaceAll(k, "\t", " "))
		}
	}
	return nil
}

// lineChanges compares two texts line by line.
func lineChanges(a, b []byte) (removed, added []string) {
	split := func(t []byte) []string { return strings.Split(strings.TrimSuffix(string(t), "\n"), "\n") }
	x, y := split(a), split(b)
	// Common head and tail are by far the most; what is between is small.
	i := 0
	for i < len(x) && i < len(y) && x[i] == y[i] {
		i++
	}
	j := 0
	for j < len(x)-i && j < len(y)-i && x[len(x)-1-j] == y[len(y)-1-j] {
		j++
	}
	x, y = x[i:len(x)-j], y[i:len(y)-j]
	return without(x, y), without(y, x)
}

// without is the lines of a that b does not have, as often as they are more.
func without(a, b []string) (out []string) {
	count := map[string]int{}
	for _, l := range b {
		count[l]++
	}
	for _, l := range a {
		if count[l]--; count[l] < 0 {
			out = append(out, l)
		}
	}
	return out
}
