// Package expect reads statements of what must be answered, and judges answers by them. Its
// language is described in docs/expect.md: one statement a line,
//
//	zone saltmarsh.example
//	group Web
//	www     A     is 198.51.100.80
//	old           does not exist
//	gauges  NS    refers to ns.gauges and ns.harbour.example.
package expect

import (
	"fmt"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// File is the expectations of one file.
type File struct {
	Zone         dnsname.Name
	Expectations []*Expectation
}

// Kind is what is expected.
type Kind uint8

// The kinds.
const (
	Is        Kind = iota // exactly these records
	Contains              // these among others
	OneOf                 // one of these, and nothing else
	NoName                // the name does not exist
	NoData                // it exists, and has no such records
	Refers                // it is delegated to these servers
	Signed                // the answer is secure
	TTL                   // the TTL lies between two bounds
	SameEvery             // all servers say the same
)

// Expectation is one statement.
type Expectation struct {
	Span   source.Span // of the line
	Text   string      // the line, blanks evened out
	Group  string      // title of the group it stands in; empty: none
	Name   dnsname.Name
	Type   rr.Type
	Kind   Kind
	Data   [][]byte       // of Is, Contains and OneOf, in canonical order
	Hosts  []dnsname.Name // of Refers
	Lo, Hi uint32         // of TTL, in seconds
	// Over is the transport that it is about: udp or tcp; empty: the usual.
	Over string
	// Audience is whose answer it is about; empty: everyone's.
	Audience string
}

// Rules of files of expectations.
var (
	RuleStatement = &diag.Rule{Code: "expectation-not-understood", Severity: diag.Error, Title: "a line of expectations cannot be understood", Ref: "",
		Doc: "A statement is a name, a type, and what must be answered: `www A is 198.51.100.80`. docs/expect.md lists all of them."}
	RuleData = &diag.Rule{Code: "expectation-data", Severity: diag.Error, Title: "the data of an expectation do not fit its type", Ref: "",
		Doc: "Data are written as in a master file; several sets are joined by `and`, choices by `or`."}
	RuleZone = &diag.Rule{Code: "expectation-without-zone", Severity: diag.Error, Title: "a file of expectations does not name its zone", Ref: "",
		Doc: "The first statement is `zone NAME`. Names without a final dot are completed with it."}
)

// Rules lists them.
var Rules = []*diag.Rule{RuleStatement, RuleData, RuleZone}

// Parse reads a file. What is wrong goes to diags; the statements that are right are returned.
func Parse(f *source.File, diags *diag.List) *File {
	p := &parser{file: f, diags: diags, out: &File{}}
	at := 0
	for _, line := range strings.SplitAfter(string(f.Content), "\n") {
		p.line(at, line)
		at += len(line)
	}
	if p.out.Zone.IsZero() && !p.told {
		diags.Add(RuleZone.At(source.Span{Start: f.Pos(0), End: f.Pos(0)}, "nothing says which zone these expectations are of").Suggest("begin with: zone NAME"))
	}
	return p.out
}

type parser struct {
	file  *source.File
	diags *diag.List
	out   *File
	group string
	told  bool // that there is no zone
}

// word is a word of a line with its place.
type word struct {
	text string
	at   source.Span
}

// words parts a line at blanks, but for those in quotes. A # begins a comment.
func (p *parser) words(at int, line string) (out []word) {
	for i := 0; i < len(line); {
		switch c := line[i]; {
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			i++
			continue
		case c == '#':
			return out
		}
		begin, quoted := i, false
		for ; i < len(line); i++ {
			c := line[i]
			if c == '\\' && i+1 < len(line) {
				i++
				continue
			}
			if c == '"' {
				quoted = !quoted
			}
			if !quoted && strings.IndexByte(" \t\r\n", c) >= 0 || c == '\n' {
				break
			}
		}
		out = append(out, word{line[begin:i], source.Span{Start: p.file.Pos(at + begin), End: p.file.Pos(at + i)}})
	}
	return out
}

func (p *parser) line(at int, line string) {
	ws := p.words(at, line)
	switch {
	case len(ws) == 0:
	case ws[0].text == "zone" && len(ws) == 2:
		p.zone(ws[1])
	case ws[0].text == "group" && len(ws) > 1:
		p.group = join(ws[1:])
	case p.out.Zone.IsZero():
		if !p.told {
			p.told = true
			p.diags.Add(RuleZone.At(ws[0].at, "this stands before anything says which zone it is of").Suggest("begin with: zone NAME"))
		}
	default:
		p.statement(ws)
	}
}

func (p *parser) zone(w word) {
	name, err := dnsname.Parse(w.text, dnsname.Root)
	switch {
	case err != nil:
		p.diags.Add(RuleStatement.At(w.at, "%q is not a name: %v", w.text, err))
		p.told = true
	case !p.out.Zone.IsZero():
		p.diags.Add(RuleStatement.At(w.at, "a file is about one zone; this one is about %s already", p.out.Zone.Plain()))
	default:
		p.out.Zone = name
	}
}

func join(ws []word) string {
	var out []string
	for _, w := range ws {
		out = append(out, w.text)
	}
	return strings.Join(out, " ")
}

// verb is what may follow a name and type, with what it takes.
type verb struct {
	words string
	kind  Kind
	read  func(p *parser, e *Expectation, rest []word, at source.Span) bool
	bare  bool // it needs no type
}

// verbs are tried in this order: the longer one of two that begin alike comes first.
var verbs = []verb{
	{"is one of", OneOf, (*parser).choices, false},
	{"is signed", Signed, (*parser).nothing, false},
	{"is the same everywhere", SameEvery, (*parser).nothing, false},
	{"is", Is, (*parser).sets, false},
	{"contains", Contains, (*parser).sets, false},
	{"does not exist", NoName, (*parser).nothing, true},
	{"has no data", NoData, (*parser).nothing, false},
	{"refers to", Refers, (*parser).hosts, false},
	{"ttl at least", TTL, (*parser).atLeast, false},
	{"ttl at most", TTL, (*parser).atMost, false},
	{"ttl", TTL, (*parser).between, false},
}

// ends takes what may stand at the end of a statement, in any order: over TRANSPORT, for AUDIENCE.
func (p *parser) ends(e *Expectation, ws []word) (rest []word, ok bool) {
	for {
		n := len(ws)
		switch {
		case n >= 2 && ws[n-2].text == "over" && e.Over == "":
			if e.Over = ws[n-1].text; e.Over != "udp" && e.Over != "tcp" {
				p.diags.Add(RuleStatement.At(ws[n-1].at, "%q is not a transport", e.Over).Suggest("write udp or tcp"))
				return nil, false
			}
		case n >= 2 && ws[n-2].text == "for" && e.Audience == "":
			e.Audience = ws[n-1].text
		default:
			return ws, true
		}
		ws = ws[:n-2]
	}
}

// statement reads NAME [TYPE] VERB ... [over TRANSPORT] [for AUDIENCE].
func (p *parser) statement(ws []word) {
	e := &Expectation{Span: source.Span{Start: ws[0].at.Start, End: ws[len(ws)-1].at.End}, Text: join(ws), Group: p.group, Type: rr.TypeA}
	name, err := dnsname.Parse(ws[0].text, p.out.Zone)
	if ws[0].text == "@" {
		name, err = p.out.Zone, nil
	}
	if err != nil {
		p.diags.Add(RuleStatement.At(ws[0].at, "%q is not a name: %v", ws[0].text, err))
		return
	}
	e.Name = name
	rest, typed := ws[1:], false
	if len(rest) > 0 {
		if t, ok := rr.ParseType(rest[0].text); ok && strings.ToUpper(rest[0].text) == rest[0].text {
			e.Type, typed, rest = t, true, rest[1:]
		}
	}
	rest, understood := p.ends(e, rest)
	if !understood {
		return
	}
	for _, v := range verbs {
		begin := strings.Fields(v.words)
		if len(rest) < len(begin) || join(rest[:len(begin)]) != v.words {
			continue
		}
		if !typed && !v.bare {
			p.diags.Add(RuleStatement.At(ws[0].at, "nothing says which type %s %s", ws[0].text, v.words).Suggest("write the type behind the name: %s A %s", ws[0].text, join(rest)))
			return
		}
		e.Kind = v.kind
		if v.read(p, e, rest[len(begin):], e.Span) {
			p.out.Expectations = append(p.out.Expectations, e)
		}
		return
	}
	p.notUnderstood(ws, rest, typed)
}

// notUnderstood says what a line might have been.
func (p *parser) notUnderstood(ws, rest []word, typed bool) {
	at := ws[0].at
	said := ""
	if len(rest) > 0 {
		at, said = rest[0].at, rest[0].text
	}
	d := RuleStatement.At(at, "this says nothing that can be expected of %s", ws[0].text)
	var first []string
	for _, v := range verbs {
		first = append(first, strings.Fields(v.words)[0])
	}
	switch t, isType := rr.ParseType(said); {
	case !typed && isType:
		d = d.Suggest("write types in capitals: %s", t)
	case diag.Closest(said, first) != "":
		d = d.Suggest("did you mean %s?", diag.Closest(said, first))
	case !typed && diag.Closest(said, rr.Mnemonics()) != "":
		d = d.Suggest("did you mean %s?", diag.Closest(said, rr.Mnemonics()))
	default:
		d = d.Suggest("write: is, contains, is one of, does not exist, has no data, refers to, is signed, ttl, is the same everywhere")
	}
	p.diags.Add(d)
}

func (p *parser) nothing(_ *Expectation, rest []word, _ source.Span) bool {
	if len(rest) > 0 {
		p.diags.Add(RuleStatement.At(rest[0].at, "nothing more is expected here: %q", join(rest)))
	}
	return len(rest) == 0
}

func (p *parser) sets(e *Expectation, rest []word, at source.Span) bool {
	return p.data(e, rest, at, "and")
}
func (p *parser) choices(e *Expectation, rest []word, at source.Span) bool {
	return p.data(e, rest, at, "or")
}

// parts parts words at a word.
func parts(ws []word, at string) (out [][]word) {
	out = [][]word{nil}
	for _, w := range ws {
		if w.text == at {
			out = append(out, nil)
			continue
		}
		out[len(out)-1] = append(out[len(out)-1], w)
	}
	return out
}

// data reads data, as in a master file.
func (p *parser) data(e *Expectation, rest []word, at source.Span, between string) bool {
	for _, part := range parts(rest, between) {
		if len(part) == 0 {
			p.diags.Add(RuleData.At(at, "data of a %s record are missing", e.Type).Suggest("see: fencepost explain %s", e.Type))
			return false
		}
		data, err := parseData(p.out.Zone, e.Type, join(part))
		if err != "" {
			p.diags.Add(RuleData.At(source.Span{Start: part[0].at.Start, End: part[len(part)-1].at.End}, "%s", err).Suggest("write data as in a master file; see: fencepost explain %s", e.Type))
			return false
		}
		e.Data = append(e.Data, data)
	}
	slices.SortFunc(e.Data, func(a, b []byte) int { return strings.Compare(string(a), string(b)) })
	return true
}

// parseData reads data by the parser of master files; what is wrong comes in words.
func parseData(origin dnsname.Name, t rr.Type, text string) (data []byte, wrong string) {
	var src source.Set
	var diags diag.List
	f, err := src.Add("", []byte(fmt.Sprintf("$TTL 1\n@ %s %s\n", t, text)))
	if err != nil {
		return nil, err.Error()
	}
	z := zonefile.Load(f, zonefile.Options{Origin: origin}, &diags)
	for _, d := range diags.All {
		if d.Severity == diag.Error {
			return nil, d.Message
		}
	}
	var apex zone.Node
	if z == nil || !z.ApexNode(&apex) {
		return nil, "no data"
	}
	set, ok := apex.Find(t)
	if !ok || set.N != 1 {
		return nil, fmt.Sprintf("this is not a record of type %s", t)
	}
	return canonical(t, set.First()), ""
}

// canonical is data with names in lower case, as they are compared (RFC 4034 §6.2, RFC 4343).
func canonical(t rr.Type, data []byte) []byte { return rr.AppendCanonical(nil, t, data) }

func (p *parser) hosts(e *Expectation, rest []word, at source.Span) bool {
	for _, part := range parts(rest, "and") {
		if len(part) != 1 {
			p.diags.Add(RuleData.At(at, "a delegation is to servers: names joined by and"))
			return false
		}
		host, err := dnsname.Parse(part[0].text, p.out.Zone)
		if err != nil {
			p.diags.Add(RuleData.At(part[0].at, "%q is not a name: %v", part[0].text, err))
			return false
		}
		e.Hosts = append(e.Hosts, host.Lower())
	}
	return true
}

func (p *parser) seconds(ws []word, at source.Span) (uint32, bool) {
	if len(ws) != 1 {
		p.diags.Add(RuleData.At(at, "one time is expected here").Suggest("write seconds, or 1h"))
		return 0, false
	}
	n, _, ok := rr.ParseTTL([]byte(ws[0].text))
	if !ok {
		p.diags.Add(RuleData.At(ws[0].at, "%q is not a time", ws[0].text).Suggest("write seconds, or 1h"))
	}
	return n, ok
}

// mostTTL is the longest TTL (RFC 2181 §8).
const mostTTL = 1<<31 - 1

func (p *parser) atLeast(e *Expectation, rest []word, at source.Span) (ok bool) {
	e.Hi = mostTTL
	e.Lo, ok = p.seconds(rest, at)
	return ok
}

func (p *parser) atMost(e *Expectation, rest []word, at source.Span) (ok bool) {
	e.Hi, ok = p.seconds(rest, at)
	return ok
}

func (p *parser) between(e *Expectation, rest []word, at source.Span) bool {
	lo, hi := rest, rest
	if i := slices.IndexFunc(rest, func(w word) bool { return w.text == "to" }); i >= 0 {
		lo, hi = rest[:i], rest[i+1:]
	}
	var okLo, okHi bool
	if e.Lo, okLo = p.seconds(lo, at); !okLo {
		return false
	}
	if e.Hi, okHi = p.seconds(hi, at); okHi && e.Hi < e.Lo {
		p.diags.Add(RuleData.At(at, "no TTL lies between %d and %d", e.Lo, e.Hi))
		return false
	}
	return okHi
}
