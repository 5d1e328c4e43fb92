package expect

import (
	"slices"
	"strings"

	"fencepost/rr"
)

// Wanted is what may stand at a place of a line.
type Wanted uint8

// What may stand there.
const (
	Anything Wanted = iota // nothing that could be said beforehand
	Names                  // a name of the zone; at the beginning of a line zone and group too
	Types                  // a type, or what needs none
	Verbs                  // what is expected
	Data                   // data of the type
	Hosts                  // a name of a server
	Joins                  // between two of several, or what ends a statement
)

// Place is a place in a line that is being written.
type Place struct {
	Wanted Wanted
	Name   string // that the statement is about, as it is written
	Type   rr.Type
	// Words are those of the language that may stand here.
	Words []string
}

// Next says what may stand after the words of a line so far.
func Next(words []string) Place {
	if len(words) == 0 {
		return Place{Wanted: Names, Words: []string{"zone", "group"}}
	}
	if words[0] == "zone" || words[0] == "group" {
		return Place{}
	}
	p := Place{Name: words[0], Type: rr.TypeA}
	rest := words[1:]
	typed := false
	if len(rest) > 0 {
		if t, ok := rr.ParseType(rest[0]); ok && strings.ToUpper(rest[0]) == rest[0] {
			p.Type, typed, rest = t, true, rest[1:]
		}
	}
	said := strings.Join(rest, " ")
	for _, v := range verbs { // the longer of two that begin alike comes first
		if said == v.words || strings.HasPrefix(said, v.words+" ") {
			return p.after(v, rest[len(strings.Fields(v.words)):])
		}
	}
	p.Wanted = Types
	if typed || len(rest) > 0 {
		p.Wanted = Verbs
	}
	for _, v := range verbs {
		if (typed || v.bare) && (said == "" || strings.HasPrefix(v.words, said+" ")) {
			p.Words = append(p.Words, strings.TrimSpace(strings.TrimPrefix(v.words, said)))
		}
	}
	return p
}

// ends are what may stand at the end of a statement.
var ends = []string{"over udp", "over tcp", "for"}

// after is a place behind a verb.
func (p Place) after(v verb, rest []string) Place {
	if n := len(rest); n > 0 && (rest[n-1] == "over" || rest[n-1] == "for") {
		p.Wanted = Anything
		if rest[n-1] == "over" {
			p.Words = []string{"udp", "tcp"}
		}
		return p
	}
	if slices.Contains(rest, "over") || slices.Contains(rest, "for") {
		p.Wanted, p.Words = Joins, ends
		return p
	}
	join := map[Kind]string{Is: "and", Contains: "and", OneOf: "or", Refers: "and"}[v.kind]
	switch {
	case v.kind == TTL && (len(rest) == 0 || rest[len(rest)-1] == "to" || rest[0] == "at" && len(rest) == 1):
		p.Wanted = Anything // a time
	case v.kind == TTL && len(rest) == 1:
		p.Wanted, p.Words = Joins, append([]string{"to"}, ends...)
	case join == "":
		p.Wanted, p.Words = Joins, ends
	case len(rest) > 0 && rest[len(rest)-1] != join:
		p.Wanted, p.Words = Joins, append([]string{join}, ends...)
	case v.kind == Refers:
		p.Wanted = Hosts
	default:
		p.Wanted = Data
	}
	said := strings.Join(append([]string{v.words}, rest...), " ")
	for _, longer := range verbs { // is what? ttl what?
		if words, ok := strings.CutPrefix(longer.words, said+" "); ok {
			p.Words = append(p.Words, words)
		}
	}
	return p
}
