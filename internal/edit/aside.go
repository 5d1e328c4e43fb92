package edit

import (
	"fmt"
	"slices"
	"strings"

	"fencepost/rr"
	"fencepost/zonefile"
)

// SetAside takes records out of the zone and leaves their lines in the file as comments, with
// who, when and why.
func (a *Files) SetAside(o Edit, n zonefile.AsideNote) (*Edited, error) {
	n.Why, n.Who = strings.TrimSpace(n.Why), strings.TrimSpace(n.Who)
	switch {
	case n.Why == "":
		return nil, Usage("say why: --because TEXT")
	case strings.ContainsAny(n.Why+n.Who, "\r\n"):
		return nil, Usage("--because is one line")
	case n.Who == "":
		n.Who = "somebody"
	}
	o.remove = true
	return a.apply(o, func(e *ZoneEdit, s *RecordSpec) error {
		found := e.meant(s)
		if len(found) == 0 {
			for _, x := range e.file.Asides() {
				if x.Owner.Equal(s.owner) && (s.t == 0 || x.Type == s.t) {
					return &quiet{fmt.Sprintf("%s %s is set aside already, since %s by %s", s.owner, x.Type, x.Day.Format("2006-01-02"), x.Who), ErrAlready}
				}
			}
			return e.none(s.owner, s.t)
		}
		if slices.ContainsFunc(found, func(r *zonefile.Entry) bool { return r.Type == rr.TypeSOA }) {
			return Usage("a zone is none without its SOA: it cannot be set aside")
		}
		return e.takeOut(found, s.owner, o.PTR, func(r *zonefile.Entry) { e.ed.SetAside(r, n) })
	})
}

// PutBack makes records that are set aside records of the zone again.
func (a *Files) PutBack(o Edit) (*Edited, error) {
	return a.apply(o, func(e *ZoneEdit, s *RecordSpec) error {
		asides := e.file.Asides()
		found := false
		for _, x := range asides {
			if !x.Owner.Equal(s.owner) || s.t != 0 && x.Type != s.t || s.wire != nil && !rr.SameData(x.Type, x.Data, s.wire) {
				continue
			}
			found = true
			one := &RecordSpec{owner: x.Owner, t: x.Type, wire: x.Data}
			if r := e.like(one); r != nil {
				return fmt.Errorf("%s has this %s record again already, at %s; take the lines out that set it aside", x.Owner, x.Type, e.src.Position(r.Span.Start))
			}
			e.ed.PutBack(x)
			e.expect(x.Owner, x.Type, x.Data, +1)
			if o.PTR {
				one.text = rr.DataText(x.Type, x.Data)
				if err := e.b.addPTR(one); err != nil {
					return err
				}
			}
		}
		if found {
			return nil
		}
		what := "nothing is set aside in " + Shown(e.path)
		var list []string
		for _, x := range asides {
			list = append(list, fmt.Sprintf("%s %s", x.Owner.Relative(e.file.Apex), x.Type))
		}
		if len(list) > 0 {
			what = fmt.Sprintf("nothing is set aside at %s; set aside are: %s", s.owner.Relative(e.file.Apex), strings.Join(slices.Compact(list), ", "))
		}
		return &quiet{what, errNone}
	})
}
