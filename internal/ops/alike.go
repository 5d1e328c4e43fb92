package ops

import (
	"fmt"
	"slices"
	"strings"

	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/rr"
)

// Group is servers that say the same.
type Group struct {
	Says    []string // what they say, in lines
	Failed  bool     // they say nothing, or will not
	Answers []*Asked
}

// Alike puts the answers together that say the same, TTLs apart: those of most servers first.
func Alike(answers []*Asked) (out []*Group) {
	by := map[string]*Group{}
	for _, a := range answers {
		says, failed := a.says()
		key := strings.Join(says, "\n")
		g := by[key]
		if g == nil {
			g = &Group{Says: says, Failed: failed}
			by[key] = g
			out = append(out, g)
		}
		g.Answers = append(g.Answers, a)
	}
	slices.SortStableFunc(out, func(a, b *Group) int { return len(b.Answers) - len(a.Answers) })
	return out
}

// says is an answer in lines that can be compared. A server that follows an alias further than
// another says no other thing: the alias alone counts.
func (a *Asked) says() (lines []string, failed bool) {
	if a.Err != nil {
		return []string{"no answer"}, true
	}
	m := a.Message
	if a.Failed() {
		return []string{fmt.Sprintf("%s (%s)", m.ExtendedRcode.Description(), m.ExtendedRcode)}, true
	}
	alias := false
	for _, r := range m.Answer {
		if r.Name.Equal(a.Question.Name) && r.Type == rr.TypeCNAME && a.Question.Type != rr.TypeCNAME {
			alias = true
		}
	}
	for _, r := range m.Answer {
		if r.Type != rr.TypeRRSIG && (!alias || r.Name.Equal(a.Question.Name)) {
			lines = append(lines, fmt.Sprintf("%s %s", r.Type, rr.DataText(r.Type, r.Data)))
		}
	}
	slices.Sort(lines)
	switch {
	case len(lines) > 0:
	case m.ExtendedRcode == message.NXDomain:
		lines = []string{"no such name"}
	default:
		if what := a.Outcome(); what != "" {
			lines = []string{what}
		} else {
			lines = []string{"no data"}
		}
	}
	if m.Flags&message.FlagAA == 0 && m.Flags&message.FlagRA == 0 && len(m.Answer) > 0 {
		lines = append(lines, "without authority")
	}
	return lines, false
}

// AskFindings says whether answers are such that something is wrong: a server would not or
// could not answer, or several differ.
func AskFindings(answers []*Asked) error {
	if groups := Alike(answers); len(groups) > 1 || groups[0].Failed {
		return edit.ErrFindings
	}
	return nil
}
