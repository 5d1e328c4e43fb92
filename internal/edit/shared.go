package edit

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// editRules are how a file is edited by what the configuration and its name say of it.
type editRules struct {
	style     zonefile.SerialStyle
	placement zonefile.Placement
	audience  string   // whose version of the zone the file is; empty: everyone's
	others    []string // everyone's file: the audiences that have one of their own
}

// rulesOf are the rules for a zone file. A file that nobody reads is an error.
func (a *Files) rulesOf(path string, zone dnsname.Name) (r editRules, err error) {
	r.style = zonefile.SerialDate
	_, r.audience = workspace.SplitAudience(strings.TrimSuffix(filepath.Base(path), workspace.ZoneSuffix))
	if r.audience != "" {
		r.placement = zonefile.MainFile
	}
	c, err := a.Config()
	if err != nil {
		return r, nil
	}
	r.style = zonefile.SerialStyle(c.SerialStyle)
	z := c.Find(zone)
	if z == nil || path != c.File(z.Name) {
		return r, nil
	}
	if z.Kept {
		return r, KeptInStore(zone)
	}
	if len(z.Audiences) > 0 {
		r.placement = zonefile.BesideLike
	}
	for _, a := range z.Audiences {
		r.others = append(r.others, a.Name)
	}
	return r, nil
}

// version names what the file of an edit is to people: ZONE, or ZONE@AUDIENCE.
func (e *ZoneEdit) version() string {
	if e.rules.audience == "" {
		return e.file.Apex.Plain()
	}
	return e.file.Apex.Plain() + workspace.AudienceMark + e.rules.audience
}

// includes reports whether a zone file includes a file, by its name.
func (e *ZoneEdit) includes(part string) bool {
	return slices.ContainsFunc(e.file.All, func(r *zonefile.Entry) bool { return r.File.Name == part })
}

// tellAskers says whose answers an edit changes, where those are not simply all of the zone. An
// edit of the version for one audience is for that alone: one that would reach another version, or
// another zone, through a file that both include is refused. includers are the zone files that
// include what changes, by the name of that.
func (b *Transaction) tellAskers(includers map[string][]*ZoneEdit) error {
	for _, e := range b.edits {
		if !e.edited() {
			continue
		}
		alone := e.rules.audience != "" && !b.changesVersion(e.file.Apex, "")
		reached := map[string]bool{} // other audiences of the zone
		for _, part := range e.parts {
			var others []string
			for _, o := range includers[part] {
				if o != e {
					others = append(others, o.version())
					reached[o.rules.audience] = reached[o.rules.audience] || o.file.Apex.Equal(e.file.Apex)
				}
			}
			switch {
			case len(others) == 0:
			case alone:
				return e.reachesOthers(part, others)
			default:
				b.note("%s is included by %s too: the answers of all of them change", part, strings.Join(others, ", "))
			}
		}
		var apart []string
		for _, a := range e.rules.others {
			if !reached[a] && !b.changesVersion(e.file.Apex, a) {
				apart = append(apart, a)
			}
		}
		switch {
		case alone:
			b.note("only the audience %s sees this", e.rules.audience)
		case len(apart) > 0:
			b.note("everyone sees this except %s, whose version is a file of its own", strings.Join(apart, ", "))
		}
	}
	return nil
}

// edited reports whether the edit changes records of a file's zone by itself, rather than by what
// it includes.
func (e *ZoneEdit) edited() bool { return e.text != nil && !e.touched }

// changesVersion reports whether the edit is one of a version of a zone.
func (b *Transaction) changesVersion(apex dnsname.Name, audience string) bool {
	return slices.ContainsFunc(b.edits, func(e *ZoneEdit) bool {
		return e.edited() && e.rules.audience == audience && e.file.Apex.Equal(apex)
	})
}

// reachesOthers refuses an edit for one audience that would change a file that others include.
func (e *ZoneEdit) reachesOthers(part string, others []string) error {
	what := ""
	if p := e.b.parts[part]; p != nil {
		what = firstOf(p.Removed, p.Added)
	}
	return fmt.Errorf("nothing was written: %q stands in %s, which %s includes too. To change it for all of them, edit %s. To change it for the audience %s alone, move it from %s into the file of each version first",
		strings.Join(strings.Fields(what), " "), part, strings.Join(others, ", "), e.file.Apex.Plain(), e.rules.audience, filepath.Base(part))
}

// firstOf is the first line there is.
func firstOf(lists ...[]string) string {
	for _, l := range lists {
		if len(l) > 0 {
			return l[0]
		}
	}
	return ""
}

// tellBeside says what an audience sees of a set besides a record that is added for it.
func (e *ZoneEdit) tellBeside(s *RecordSpec) {
	if e.rules.placement != zonefile.MainFile {
		return
	}
	for _, r := range e.file.Records(s.owner, s.t) {
		if r.File != e.file.Source && !e.ed.Removed(r) {
			e.b.note("%s sees %s %s %s as well, from %s", e.rules.audience, s.owner.Relative(e.file.Apex), s.t, rr.DataText(s.t, r.Data), r.File.Name)
		}
	}
}
