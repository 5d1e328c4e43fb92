package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fencepost/diag"
	"fencepost/internal/edit"
	"fencepost/internal/ui"
)

// sumFrom is from how many zones on an edit is summed up.
const sumFrom = 4

// alikeEdits are zones in which an edit changes the same lines, but for the serial.
type alikeEdits struct {
	removed, added []string
	files          []*edit.EditedFile
}

// summed puts the zones of an edit together by what changes in them; nil where there is little to gain.
func summed(files []*edit.EditedFile) (out []*alikeEdits) {
	zones := 0
	by := map[string]*alikeEdits{}
	for _, f := range files {
		if f.Serial == 0 || f.New {
			continue
		}
		zones++
		removed, added := withoutSerial(f.Removed, f.OldSerial), withoutSerial(f.Added, f.Serial)
		if len(removed)+len(added) == 0 { // nothing else changes
			removed, added = f.Removed, f.Added
		}
		key := strings.Join(removed, "\n") + "\x00" + strings.Join(added, "\n")
		if by[key] == nil {
			by[key] = &alikeEdits{removed: removed, added: added}
			out = append(out, by[key])
		}
		by[key].files = append(by[key].files, f)
	}
	if zones < sumFrom || len(out) > zones/2 {
		return nil
	}
	return out
}

// withoutSerial leaves out the line that a serial stands in.
func withoutSerial(lines []string, serial uint32) []string {
	text := strconv.FormatUint(uint64(serial), 10)
	return slices.DeleteFunc(slices.Clone(lines), func(l string) bool { return slices.Contains(strings.Fields(l), text) })
}

// showSummed shows an edit of many zones: what is the same in several of them once.
func (e *env) showSummed(groups []*alikeEdits, verb string) {
	for i, g := range groups {
		if i > 0 {
			e.ui.Printf("\n")
		}
		for _, l := range g.removed {
			e.ui.Printf("%s\n", e.ui.Paint(ui.Bad, "- %s", l))
		}
		for _, l := range g.added {
			e.ui.Printf("%s\n", e.ui.Paint(ui.Good, "+ %s", l))
		}
		for _, f := range summedFindings(g.files) {
			e.ui.Printf("%s\n", e.ui.Fit(f, 2))
		}
		e.ui.Sayf("%s\n", e.ui.Fit(fmt.Sprintf("%s %s, with new serials: %s", verb, ui.Plural(len(g.files), "zone"), someZones(g.files)), 2))
	}
}

// summedFindings are what edits bring about, each finding once, with where it is met first.
func summedFindings(files []*edit.EditedFile) (out []string) {
	type met struct {
		n     int
		first string
		d     *diag.Diagnostic
	}
	by := map[string]*met{}
	var order []*met
	for _, f := range files {
		if f.Fresh == nil {
			continue
		}
		for i := range f.Fresh.All {
			d := &f.Fresh.All[i]
			key := d.Rule.Code + "\x00" + d.Message
			if by[key] == nil {
				by[key] = &met{first: f.Source.Position(d.Span.Start).String(), d: d}
				order = append(order, by[key])
			}
			by[key].n++
		}
	}
	for _, m := range order {
		out = append(out, fmt.Sprintf("%s %s, %s, first at %s: %s", m.d.Severity, m.d.Rule.Code, timesOf(m.n), m.first, m.d.Message))
		if m.d.Suggestion != "" {
			out = append(out, "  → "+m.d.Suggestion)
		}
	}
	return out
}

func timesOf(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// someZones names zones, of many the first.
func someZones(files []*edit.EditedFile) string {
	const most = 6
	var names []string
	for _, f := range files[:min(len(files), most)] {
		names = append(names, f.Zone.Plain())
	}
	if more := len(files) - most; more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}
