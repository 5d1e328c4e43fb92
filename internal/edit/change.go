package edit

import (
	"bytes"
	"fmt"

	"fencepost/rr"
	"fencepost/zonefile"
)

// Change replaces the data of records, or gives them another TTL, or both. The SOA
// takes timers too.
func (a *Files) Change(o Edit) (*Edited, error) {
	return a.apply(o, func(e *ZoneEdit, s *RecordSpec) error { return e.changeOne(s, o) })
}

func (e *ZoneEdit) changeOne(s *RecordSpec, o Edit) error {
	switch {
	case s.t == rr.TypeSOA:
		return e.changeSOA(s, o.Timers)
	case o.Timers.given():
		return Usage("--refresh, --retry, --expire and --minimum are times of the SOA: fencepost change %s @ SOA --expire 14d", o.Zone)
	case s.wire == nil:
		return e.changeTTLs(s)
	}
	if e.like(s) != nil && (s.hasTTL || s.dropTTL) && o.From == "" { // the data stay, the TTL changes
		if n := len(e.file.Records(s.owner, s.t)); n > 1 {
			return Usage("the %d %s records of %s share one TTL (RFC 2181 §5.2): leave the data out to change it for all", n, s.t, s.owner)
		}
		return e.changeTTLs(s)
	}
	r, err := e.pick(s.owner, s.t, o.From)
	if err != nil {
		return err
	}
	if err := e.change(r, s); err != nil {
		return err
	}
	if o.PTR {
		return e.b.movePTR(s, r.Data)
	}
	return nil
}

// like is the record that says what s says, or nil.
func (e *ZoneEdit) like(s *RecordSpec) *zonefile.Entry {
	for _, r := range e.file.Records(s.owner, s.t) {
		if rr.SameData(s.t, r.Data, s.wire) && !e.ed.Removed(r) {
			return r
		}
	}
	return nil
}

// changeTTLs gives all records of a set another TTL.
func (e *ZoneEdit) changeTTLs(s *RecordSpec) error {
	if !s.hasTTL && !s.dropTTL {
		return Usage("%s %s: say what to change: new data, or --ttl", s.owner, s.t)
	}
	found := e.file.Records(s.owner, s.t)
	if len(found) == 0 {
		return e.none(s.owner, s.t)
	}
	changed := false
	for _, r := range found {
		if s.hasTTL && r.TTL == s.ttl || s.dropTTL && r.TTLTok < 0 {
			continue
		}
		changed = true
		if err := e.retime(r, s); err != nil {
			return err
		}
	}
	if changed {
		return nil
	}
	if s.dropTTL {
		return &quiet{fmt.Sprintf("the %s records of %s have no TTL of their own; the file's default, %d, applies already", s.t, s.owner, found[0].TTL), ErrAlready}
	}
	return &quiet{fmt.Sprintf("the %s records of %s have TTL %d already", s.t, s.owner, s.ttl), ErrAlready}
}

// change gives a record other data, another TTL, or both.
func (e *ZoneEdit) change(r *zonefile.Entry, s *RecordSpec) error {
	same := bytes.Equal(r.Data, s.wire)
	if same && (!s.hasTTL || r.TTL == s.ttl) && !(s.dropTTL && r.TTLTok >= 0) {
		return &quiet{fmt.Sprintf("the %s record of %s is so already, at %s", s.t, s.owner, e.src.Position(r.Span.Start)), ErrAlready}
	}
	if err := e.retime(r, s); err != nil {
		return err
	}
	if !same {
		e.ed.SetData(r, zonefile.DataIn(r.Origin, s.t, s.text, s.wire))
		e.expect(s.owner, s.t, r.Data, -1)
		e.expect(s.owner, s.t, s.wire, +1)
	}
	return nil
}

// retime gives a record the TTL that s says, if it says one, or takes its own away.
func (e *ZoneEdit) retime(r *zonefile.Entry, s *RecordSpec) error {
	switch {
	case s.hasTTL:
		e.ed.SetTTL(r, s.ttl)
	case s.dropTTL && r.TTLTok >= 0:
		if !e.ed.HasDefault(r) {
			return fmt.Errorf("%s has no $TTL before %s, so the record needs a TTL of its own; write $TTL at the head of the file first", Shown(e.path), e.src.Position(r.Span.Start))
		}
		e.ed.DropTTL(r)
		e.retimed[key(r.Owner, r.Type, 0, r.Data)] = true
	}
	return nil
}
