package ops

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/expect"
	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/source"
	"fencepost/validate"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zone"
)

// ExpectOptions of Expect.
type ExpectOptions struct {
	Files   []string // none: expect/*.expect of the workspace
	At      []string // servers that are asked; "all": every address of the zone's servers
	Through []string // resolvers that are asked
	Zone    string   // a zone file that is asked, or a zone of the workspace; empty, and no server: the zone of each file
	Timeout time.Duration
}

// ExpectFolder is where a workspace keeps its expectations, in files that end in ExpectSuffix.
const (
	ExpectFolder = "expect"
	ExpectSuffix = ".expect"
)

// Expected is what came of expectations.
type Expected struct {
	Source  *source.Set
	Results []ExpectResult
}

// ExpectResult is what came of one expectation.
type ExpectResult struct {
	*expect.Expectation
	File    string
	Line    int
	Zone    dnsname.Name
	Outcome Outcome
	Where   string // who was asked: a file, or servers
	Got     string // what came instead, or why it was left out
}

// Outcome of an expectation.
type Outcome string

// The outcomes.
const (
	Holds   Outcome = "holds"
	Fails   Outcome = "fails"
	LeftOut Outcome = "left out"
)

// Count is how many have an outcome.
func (x *Expected) Count(o Outcome) (n int) {
	for i := range x.Results {
		if x.Results[i].Outcome == o {
			n++
		}
	}
	return n
}

// Expect judges answers by the expectations of files.
func (a *App) Expect(ctx context.Context, o ExpectOptions) (*Expected, error) {
	a = a.Holding()
	out := &Expected{Source: &source.Set{}}
	files, err := a.expectFiles(o.Files)
	if err != nil {
		return nil, err
	}
	var diags diag.List
	type parsed struct {
		*expect.File
		name string
	}
	var all []parsed
	for _, path := range files {
		text, err := wholefile.Read(path, 1<<24)
		if err != nil {
			return nil, err
		}
		f, err := out.Source.Add(edit.Shown(path), text)
		if err != nil {
			return nil, err
		}
		all = append(all, parsed{expect.Parse(f, &diags), f.Name})
	}
	if len(diags.All) > 0 {
		diags.Sort()
		return nil, &edit.InvalidExpectations{Source: out.Source, Diags: &diags}
	}
	for _, f := range all {
		asker, err := a.expectAsker(ctx, o, f.Zone)
		if err != nil {
			return nil, err
		}
		for _, e := range f.Expectations {
			r := ExpectResult{Expectation: e, File: f.name, Line: out.Source.Position(e.Span.Start).Line, Zone: f.Zone, Where: asker.where}
			asker.judge(ctx, &r)
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			out.Results = append(out.Results, r)
		}
	}
	if out.Count(Fails) > 0 {
		return out, fmt.Errorf("%d of %d expectations fail: %w", out.Count(Fails), len(out.Results), edit.ErrFindings)
	}
	return out, nil
}

// expectFiles are the files to read.
func (a *App) expectFiles(given []string) ([]string, error) {
	c, err := a.Config()
	if len(given) > 0 {
		return expectationsOf(c, given)
	}
	if err != nil {
		return nil, edit.Usage("say which files of expectations to read")
	}
	files, _ := filepath.Glob(filepath.Join(c.Dir, ExpectFolder, "*"+ExpectSuffix)) // the pattern is right
	if len(files) == 0 {
		return nil, edit.Usage("there are no expectations in %s; make some with: fencepost expect --record ZONE", edit.Shown(filepath.Join(c.Dir, ExpectFolder)))
	}
	return files, nil
}

// expectationsOf are files, given as such or by the names of zones of the workspace c; nil: there is none.
func expectationsOf(c *workspace.Config, given []string) (out []string, err error) {
	for _, path := range given {
		if _, err := os.Stat(path); err == nil || c == nil {
			out = append(out, path)
			continue
		}
		name, err := edit.WholeName(path)
		if err != nil || c.Find(name) == nil {
			out = append(out, path) // which says that it is not there
			continue
		}
		file := filepath.Join(c.Dir, ExpectFolder, name.Plain()+ExpectSuffix)
		if _, err := os.Stat(file); err != nil {
			return nil, edit.Usage("there are no expectations of %[1]s (%[2]s); make some with: fencepost expect --record %[1]s", name.Plain(), edit.Shown(file))
		}
		out = append(out, file)
	}
	return out, nil
}

// expectAsker asks what expectations want to know of one zone.
type expectAsker struct {
	a     *App
	o     ExpectOptions
	zone  *zone.Snapshot // of a file; nil: servers are asked
	name  dnsname.Name
	where string
	// views are the zone as audiences see it, by their names: read when one is first asked for.
	views map[string]*expectView
}

type expectView struct {
	zone *zone.Snapshot
	file string
	err  error
}

func (a *App) expectAsker(_ context.Context, o ExpectOptions, name dnsname.Name) (*expectAsker, error) {
	x := &expectAsker{a: a, o: o, name: name, views: map[string]*expectView{}}
	switch {
	case len(o.At) > 0 && (len(o.Through) > 0 || o.Zone != "") || len(o.Through) > 0 && o.Zone != "":
		return nil, edit.Usage("ask servers with --at, or resolvers with --through, or a file with --zone: one of them")
	case len(o.At) > 0:
		x.where = strings.Join(o.At, ", ")
	case len(o.Through) > 0:
		x.where = "through " + strings.Join(o.Through, ", ")
	default:
		operand := o.Zone
		if operand == "" {
			operand = name.String()
		}
		in, err := a.input(operand, name.String(), &source.Set{}, &diag.List{})
		if err != nil {
			return nil, err
		}
		if in.Zone == nil || !in.Zone.Apex().Equal(name) {
			return nil, edit.Usage("%s is not the zone %s, which the expectations are of", operand, name.Plain())
		}
		x.zone, x.where = in.Zone.Snapshot, in.File.Name
	}
	return x, nil
}

// judge judges one expectation.
func (x *expectAsker) judge(ctx context.Context, r *ExpectResult) {
	switch {
	case r.Audience == "":
	case x.zone == nil:
		r.Outcome, r.Got = LeftOut, "servers answer by where they are asked from: what an audience is to see is judged by its file"
		return
	case x.o.Zone != "":
		r.Outcome, r.Got = LeftOut, "one file is asked, and audiences have their own"
		return
	}
	if r.Audience != "" {
		v := x.view(r.Audience)
		if r.Where = v.file; v.err != nil {
			r.Outcome, r.Got = Fails, v.err.Error()
			return
		}
		x = &expectAsker{a: x.a, o: x.o, zone: v.zone, name: x.name, where: v.file}
	}
	switch r.Kind {
	case expect.Signed:
		x.signed(ctx, r)
		return
	case expect.SameEvery:
		x.same(ctx, r)
		return
	}
	answers, err := x.ask(ctx, r, x.o.At, x.o.Through)
	if err != nil {
		r.Outcome, r.Got = Fails, err.Error()
		return
	}
	r.Outcome = Holds
	var wrong []string
	for _, got := range answers {
		text := ""
		if got.Err != nil {
			text = got.Err.Error()
		} else {
			text = r.Judge(got.Message)
		}
		if text == "" {
			continue
		}
		r.Outcome = Fails
		if len(answers) > 1 {
			text = strings.TrimSpace(got.Host+" "+got.Server) + ": " + text
		}
		wrong = append(wrong, text)
	}
	r.Got = strings.Join(wrong, "; ")
}

// view is the zone as an audience sees it.
func (x *expectAsker) view(audience string) *expectView {
	if v := x.views[audience]; v != nil {
		return v
	}
	v := &expectView{file: x.where}
	x.views[audience] = v
	c, err := x.a.Config()
	if err != nil {
		v.err = fmt.Errorf("the file for the audience %s is looked for in a workspace", audience)
		return v
	}
	path := c.AudienceFile(x.name, audience)
	v.file = edit.Shown(path)
	in, err := x.a.input(path, x.name.String(), &source.Set{}, &diag.List{})
	switch {
	case errors.Is(err, os.ErrNotExist):
		v.err = fmt.Errorf("there is no file for the audience %s: %s", audience, v.file)
	case err != nil:
		v.err = err
	case in.Zone == nil:
		v.err = fmt.Errorf("%s cannot be read; see: fencepost check %s", v.file, v.file)
	default:
		v.zone = in.Zone.Snapshot
	}
	return v
}

// ask puts the question of an expectation.
func (x *expectAsker) ask(ctx context.Context, r *ExpectResult, at, through []string) ([]*Asked, error) {
	mq := message.Question{Name: r.Name, Type: r.Type, Class: 1}
	if x.zone != nil {
		raw, _ := answerFrom(x.zone, mq, false, r.Over != "udp")
		m, err := message.Decode(raw)
		return []*Asked{{Question: mq, Message: m}}, err
	}
	q := Question{Name: r.Name.String(), Type: r.Type.String(), At: at, Transport: r.Over, Timeout: x.o.Timeout}
	if len(through) > 0 {
		q.At, q.Recurse = through, true
	}
	return x.a.Ask(ctx, q)
}

func (x *expectAsker) signed(ctx context.Context, r *ExpectResult) {
	if x.zone != nil {
		r.Outcome, r.Got = LeftOut, "a file says nothing of the chain of trust; ask with --at or --through"
		return
	}
	c, err := x.a.Chain(ctx, ChainQuestion{Question: Question{Name: r.Name.String(), Type: r.Type.String(), Timeout: x.o.Timeout}})
	switch {
	case err != nil:
		r.Outcome, r.Got = Fails, err.Error()
	case c.Status == validate.Secure:
		r.Outcome = Holds
	default:
		r.Outcome, r.Got = Fails, fmt.Sprintf("%s: %s", c.Status, c.Reason)
	}
}

func (x *expectAsker) same(ctx context.Context, r *ExpectResult) {
	if x.zone != nil {
		r.Outcome, r.Got = LeftOut, "a file is not a server; ask with --at all"
		return
	}
	answers, err := x.ask(ctx, r, []string{allServers}, nil)
	if err != nil {
		r.Outcome, r.Got = Fails, err.Error()
		return
	}
	groups := Alike(answers)
	if r.Outcome = Holds; len(groups) == 1 && !groups[0].Failed {
		return
	}
	r.Outcome = Fails
	var parts []string
	for _, g := range groups {
		parts = append(parts, fmt.Sprintf("%s say %s", plainServers(g), strings.Join(g.Says, ", ")))
	}
	r.Got = strings.Join(parts, "; ")
}

func plainServers(g *Group) string {
	var out []string
	for _, a := range g.Answers {
		out = append(out, strings.TrimSpace(a.Host+" "+a.Server))
	}
	return strings.Join(out, " and ")
}

// RecordExpectations writes a first version of the expectations of a zone: from a zone file, or
// from what a server says to the names that the file has.
func (a *App) RecordExpectations(ctx context.Context, o ExpectOptions, zoneName string) (text, path string, err error) {
	a = a.Holding()
	name, err := edit.WholeName(zoneName)
	if err != nil {
		return "", "", edit.Usage("the zone %q: %v", zoneName, err)
	}
	asker, err := a.expectAsker(ctx, ExpectOptions{Zone: o.Zone}, name)
	if err != nil {
		return "", "", err
	}
	list := expect.Questions(asker.zone)
	if len(o.At) > 0 {
		if asker, err = a.expectAsker(ctx, ExpectOptions{At: o.At, Timeout: o.Timeout}, name); err != nil {
			return "", "", err
		}
	}
	ask := func(q message.Question) (*message.Message, error) {
		got, err := asker.ask(ctx, &ExpectResult{Expectation: &expect.Expectation{Name: q.Name, Type: q.Type}}, o.At, nil)
		if err != nil {
			return nil, err
		}
		return got[0].Message, got[0].Err
	}
	if text, err = expect.Record(name, list, asker.where, a.Now(), ask); err != nil {
		return "", "", err
	}
	c, err := a.Config()
	if err != nil {
		return text, "", nil
	}
	path = filepath.Join(c.Dir, ExpectFolder, name.Lower().Plain()+ExpectSuffix)
	if _, err := os.Stat(path); err == nil {
		return "", "", fmt.Errorf("%s exists already: remove it first; it is not overwritten", edit.Shown(path))
	} else if !errors.Is(err, os.ErrNotExist) {
		return "", "", err
	}
	return text, path, nil
}

// Groups are the results in the groups of their files.
func (x *Expected) Groups() (out [][]ExpectResult) {
	for _, r := range x.Results {
		if n := len(out); n > 0 {
			if last := out[n-1][0]; last.File == r.File && last.Group == r.Group {
				out[n-1] = append(out[n-1], r)
				continue
			}
		}
		out = append(out, []ExpectResult{r})
	}
	return slices.Clip(out)
}

// ExpectedZone is the zone that a file of expectations is about; the zero name where it does not
// say so.
func ExpectedZone(path string) (dnsname.Name, error) {
	text, err := wholefile.Read(path, 1<<24)
	if err != nil {
		return dnsname.Name{}, err
	}
	var src source.Set
	f, err := src.Add(path, text)
	if err != nil {
		return dnsname.Name{}, err
	}
	return expect.Parse(f, &diag.List{}).Zone, nil
}
