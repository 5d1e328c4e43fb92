package edit

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zonefile"
)

// Edit is one change of a zone: add, change or remove.
type Edit struct {
	Zone    string      // a zone of the workspace, or a file
	Records []RecordArg // what it is about; owner and data may hold ranges
	From    string      // change, where there are several: the data to be replaced
	PTR     bool        // the PTR records in the workspace's reverse zones change too
	Split   bool        // texts over 255 octets become several strings
	Timers  Timers      // change, for the SOA
	Dry     bool        // show and do not write
	// Partial tells that the file holds a part of the zone: it is not checked, for what is missing in
	// it says nothing.
	Partial bool
	whole   bool // each record must have its data
	remove  bool

	// Zones is a pattern of zone names: the edit is made in all that fit, in place of Zone.
	Zones string
	// Everywhere tells that all owners are meant whose data are those of From.
	Everywhere bool
}

// RecordSpec is a record read from its arguments.
type RecordSpec struct {
	owner  dnsname.Name
	t      rr.Type // 0, to remove: all types
	text   string  // the data as they are to be written
	wire   []byte  // nil, to remove: any
	ttl    uint32
	hasTTL bool
	// dropTTL takes the record's own TTL away.
	dropTTL bool
	beside  dnsname.Name // where it goes, if not beside its own kind
}

// begin opens the zone of an edit and reads its records, ranges expanded. The
// files stay locked until the batch is closed.
func (a *Files) begin(o Edit) (*Transaction, *ZoneEdit, []*RecordSpec, error) {
	b, e, err := a.edit(o.Zone)
	if err != nil {
		return nil, nil, nil, err
	}
	b.partial = o.Partial
	args, err := expandAll(o.Records)
	if err != nil {
		b.close()
		return nil, nil, nil, err
	}
	var out []*RecordSpec
	var bad badLines
	for _, r := range args {
		s, err := e.wanted(r, &o)
		if err != nil && r.Line > 0 {
			bad.add(r.Line, err)
			continue
		}
		if err != nil {
			b.close()
			return nil, nil, nil, err
		}
		out = append(out, s)
	}
	if err := bad.err(); err != nil {
		b.close()
		return nil, nil, nil, err
	}
	return b, e, out, nil
}

// wanted reads a record's arguments for an edit.
func (e *ZoneEdit) wanted(r RecordArg, o *Edit) (*RecordSpec, error) {
	if o.whole {
		if err := r.Lacks(); err != nil {
			return nil, err
		}
	}
	return e.subject(r, o.Split)
}

// subject reads a record's arguments. Type and data may be missing.
func (e *ZoneEdit) subject(r RecordArg, split bool) (s *RecordSpec, err error) {
	s = &RecordSpec{}
	if s.owner, err = e.owner(r.Owner); err != nil {
		return nil, err
	}
	if r.Type != "" {
		if s.t, err = ParseType(r.Type); err != nil {
			return nil, err
		}
	}
	if len(r.Data) > 0 {
		if s.text, s.wire, err = e.data(s.t, r.Data, split); err != nil {
			return nil, err
		}
	}
	if s.dropTTL = strings.EqualFold(r.TTL, "default"); !s.dropTTL {
		s.ttl, s.hasTTL, err = e.ttl(r.TTL)
	}
	return s, err
}

// Add writes new records.
func (a *Files) Add(o Edit) (*Edited, error) {
	o.whole = true
	return a.apply(o, func(e *ZoneEdit, s *RecordSpec) error {
		if err := e.add(s); err != nil {
			return err
		}
		if o.PTR {
			return e.b.addPTR(s)
		}
		return nil
	})
}

// add writes one new record.
func (e *ZoneEdit) add(s *RecordSpec) error {
	if s.t == rr.TypeSOA && len(e.file.Records(e.file.Apex, rr.TypeSOA)) > 0 {
		return Usage("a zone has one SOA record, and %s has it (RFC 1035 §5.2); its times and names are changed with: fencepost change %[1]s @ SOA", e.file.Apex.Plain())
	}
	if r := e.like(s); r != nil {
		return &quiet{fmt.Sprintf("%s has this %s record already, at %s", s.owner, s.t, e.src.Position(r.Span.Start)), ErrAlready}
	}
	if k := key([]byte(s.owner.Wire()), s.t, 0, s.wire); e.expected[k] > 0 {
		return Usage("%s %s %s is to be added twice", s.owner, s.t, s.text)
	}
	e.tellBeside(s)
	if err := e.ed.Insert(zonefile.NewRecord{Owner: s.owner, TTL: s.ttl, HasTTL: s.hasTTL, Type: s.t, Text: s.text, Data: s.wire, Beside: s.beside}); err != nil {
		return err
	}
	e.expect(s.owner, s.t, s.wire, +1)
	return nil
}

// expect books a record that comes or goes. TTLs are left out: the default of
// the place holds.
func (e *ZoneEdit) expect(owner dnsname.Name, t rr.Type, data []byte, by int) {
	e.expected[key([]byte(owner.Wire()), t, 0, data)] += by
}

// Remove takes records out: one, all of a type, or all of an owner.
func (a *Files) Remove(o Edit) (*Edited, error) {
	o.remove = true
	return a.apply(o, func(e *ZoneEdit, s *RecordSpec) error {
		found := e.meant(s)
		if len(found) == 0 {
			return e.none(s.owner, s.t)
		}
		if slices.ContainsFunc(found, func(r *zonefile.Entry) bool { return r.Type == rr.TypeSOA }) {
			return Usage("a zone has one SOA record, which stays (RFC 1035 §5.2); its times and names are changed with: fencepost change %s @ SOA", e.file.Apex.Plain())
		}
		return e.takeOut(found, s.owner, o.PTR, e.ed.Remove)
	})
}

// meant are the records that a spec names: one, all of a type, or all of an owner.
func (e *ZoneEdit) meant(s *RecordSpec) []*zonefile.Entry {
	found := e.file.Records(s.owner, s.t)
	if s.wire != nil {
		found = slices.DeleteFunc(found, func(r *zonefile.Entry) bool { return !rr.SameData(s.t, r.Data, s.wire) })
	}
	return found
}

// takeOut takes records out of the zone in the way of out, and with ptr what points back to them.
func (e *ZoneEdit) takeOut(records []*zonefile.Entry, owner dnsname.Name, ptr bool, out func(*zonefile.Entry)) error {
	for _, r := range records {
		if e.ed.Removed(r) {
			continue
		}
		out(r)
		e.expect(owner, r.Type, r.Data, -1)
		if ptr {
			if err := e.b.removePTR(owner, r); err != nil {
				return err
			}
		}
	}
	return nil
}

// serialStyle is the workspace's style, or by date without a workspace.
func (a *Files) serialStyle() zonefile.SerialStyle {
	if c, err := a.Config(); err == nil {
		return zonefile.SerialStyle(c.SerialStyle)
	}
	return zonefile.SerialDate
}

// owner reads the owner of an edit, relative to the zone.
func (e *ZoneEdit) owner(text string) (dnsname.Name, error) {
	text, err := e.encodeName(text)
	if err != nil {
		return dnsname.Name{}, err
	}
	return ownerIn(text, e.file.Apex)
}

func ownerIn(text string, apex dnsname.Name) (dnsname.Name, error) { return OwnerIn(text, apex, apex) }

// OwnerIn reads the name of an owner as people give it, in any script, relative to an origin; it must lie
// in a zone.
func OwnerIn(text string, origin, apex dnsname.Name) (dnsname.Name, error) {
	text, err := ALabels(text)
	if err != nil {
		return dnsname.Name{}, err
	}
	n, err := dnsname.Parse(text, origin)
	if err != nil {
		return n, Usage("the owner %q: %v", text, err)
	}
	if !n.AtOrBelow(apex) {
		return n, Usage("%s is not in the zone %s", n, apex)
	}
	if strings.HasSuffix(strings.ToLower(text), "."+strings.ToLower(strings.TrimSuffix(apex.String(), "."))) {
		return n, Usage("%s means %s; write %s. with a final dot, or only what stands before the zone's name", text, n, text)
	}
	return n, nil
}

// SetAddress makes an address the only one of its kind that an owner has, whatever it had.
func (a *Files) SetAddress(o Edit) (*Edited, error) {
	return a.apply(o, func(e *ZoneEdit, s *RecordSpec) error {
		have := slices.Clone(e.file.Records(s.owner, s.t))
		if len(have) == 0 {
			return e.add(s)
		}
		stays := e.like(s)
		if stays == nil {
			stays = have[0]
			if err := e.change(stays, s); err != nil {
				return err
			}
		} else if err := e.retime(stays, s); err != nil {
			return err
		}
		return e.takeOut(slices.DeleteFunc(have, func(r *zonefile.Entry) bool { return r == stays }), s.owner, false, e.ed.Remove)
	})
}

// ParseType reads a record type that can stand in a zone.
func ParseType(text string) (rr.Type, error) {
	t, ok := rr.ParseType(text)
	if !ok {
		if meant := diag.Closest(text, rr.Mnemonics()); meant != "" {
			return 0, Usage("%q is not a record type; did you mean %s?", text, meant)
		}
		return 0, Usage("%q is not a record type", text)
	}
	if info := rr.Lookup(t); info != nil && info.Use != rr.Data {
		return 0, Usage("%s exists only in messages and cannot stand in a zone", t)
	}
	return t, nil
}

// data reads record data given as arguments: the text to write and the octets.
// Blanks inside one argument stay inside one text.
func (e *ZoneEdit) data(t rr.Type, args []string, split bool) (text string, wire []byte, err error) {
	words := make([]string, len(args))
	for i, a := range args {
		if a, err = e.encode(t, i, a); err != nil {
			return "", nil, err
		}
		if info := rr.Lookup(t); takesText(info, i) {
			split := split && info.Fields[len(info.Fields)-1].Kind == rr.Strings
			if quoted := strings.HasPrefix(a, `"`); quoted && split {
				a = quoteText(unquoted(a), true)
			} else if !quoted {
				a = quoteText(a, split)
			}
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
			if d.Rule == rr.RuleTextTooLong && !split {
				why = d.Message + "; say --split to have it written as several"
			}
			return "", nil, Usage("%s %s: %s", t, clip(strings.Join(args, " ")), why)
		}
	}
	if len(parsed.Entries) != 1 || parsed.Entries[0].Kind != zonefile.Record {
		return "", nil, Usage("%s %s is not one record", t, strings.Join(args, " "))
	}
	return text, parsed.Entries[0].Data, nil
}

// clip shortens text for use in a message.
func clip(s string) string {
	if len(s) > 60 {
		return s[:57] + "..."
	}
	return s
}

// takesText reports whether the i-th argument of a type is text, which is put in
// quotes.
func takesText(info *rr.Info, i int) bool {
	if info == nil || len(info.Fields) == 0 {
		return false
	}
	k := info.Fields[min(i, len(info.Fields)-1)].Kind
	return k == rr.Strings || k == rr.Text || k == rr.NonEmptyText || k == rr.String || k == rr.OptionalString
}

func (e *ZoneEdit) ttl(text string) (ttl uint32, has bool, err error) {
	if text == "" {
		return 0, false, nil
	}
	ttl, _, ok := rr.ParseTTL([]byte(text))
	if !ok {
		return 0, false, Usage("--ttl %s is not a time from 0 to 2147483647 seconds", text)
	}
	return ttl, true, nil
}

// pick finds the one record that a change is about.
func (e *ZoneEdit) pick(owner dnsname.Name, t rr.Type, from string) (*zonefile.Entry, error) {
	found := e.file.Records(owner, t)
	if from != "" {
		want, err := e.meantBy(t, from)
		if err != nil {
			return nil, err
		}
		found = slices.DeleteFunc(found, func(r *zonefile.Entry) bool { return !want(r.Data) })
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
	return nil, Usage("%s has %d %s records: say which with --from DATA, one of: %s", owner, len(found), t, strings.Join(have, ", "))
}

// meantBy reports whether data are those that a text means which somebody gives as one argument: as
// the fields of a record, or, of a type that is text, as the text itself, blanks and all, however its
// octets are parted into strings.
func (e *ZoneEdit) meantBy(t rr.Type, text string) (func(data []byte) bool, error) {
	_, fields, err := e.data(t, strings.Fields(text), false)
	if info := rr.Lookup(t); takesText(info, 0) && info.Fields[0].Kind == rr.Strings {
		whole := text
		if strings.HasPrefix(text, `"`) {
			if _, data, err := e.data(t, []string{text}, false); err == nil {
				return func(d []byte) bool { return bytes.Equal(d, data) || bytes.Equal(joined(d), joined(data)) }, nil
			}
		}
		return func(d []byte) bool { return err == nil && rr.SameData(t, d, fields) || string(joined(d)) == whole }, nil
	}
	return func(d []byte) bool { return rr.SameData(t, d, fields) }, err
}

// joined is the text of strings in wire form, without their parts.
func joined(data []byte) (out []byte) {
	for len(data) > 0 && len(data) > int(data[0]) {
		out, data = append(out, data[1:1+int(data[0])]...), data[1+int(data[0]):]
	}
	return out
}

func (e *ZoneEdit) none(owner dnsname.Name, t rr.Type) error {
	others := e.file.Records(owner, 0)
	if len(others) > 0 {
		var types []string
		for _, r := range others {
			if s := r.Type.String(); !slices.Contains(types, s) {
				types = append(types, s)
			}
		}
		return &quiet{fmt.Sprintf("%s has no such %s record in %s; it has %s", owner, t, Shown(e.path), strings.Join(types, ", ")), errNone}
	}
	var names []string
	for _, r := range e.file.All {
		if r.Kind == zonefile.Record {
			n, _ := dnsname.FromWire(r.Owner)
			names = append(names, n.Relative(e.file.Apex))
		}
	}
	err := error(&quiet{fmt.Sprintf("there is no %s in %s", owner, Shown(e.path)), errNone})
	if meant := diag.Closest(owner.Relative(e.file.Apex), names); meant != "" {
		return fmt.Errorf("%w; did you mean %s?", err, meant)
	}
	return err
}
