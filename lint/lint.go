// Package lint finds what can be read and will not work as meant: it runs
// checks over a loaded zone. A check is one declared value with its
// documentation; package lint/checks declares them. The driver here walks over
// the zone once and calls each check for what it asked for.
package lint

import (
	"context"
	"runtime"
	"slices"
	"sync"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Check is one kind of finding and how it is found. One of the functions is
// set, which says what the check looks at.
type Check struct {
	diag.Rule

	Types     []rr.Type                 // with Set: the types it wants; nil: all
	Set       func(p *Pass, set Set)    // called for each RRset of these types, not to be kept
	Name      func(p *Pass, name *Name) // called for each owner name
	Zone      func(p *Pass)             // called once
	Workspace func(f *Workspace)        // called once for all zones of a workspace

	Servers bool // it asks IsServer
}

// Scope is what a check looks at: record set, name, zone or workspace.
func (c *Check) Scope() string {
	switch {
	case c.Workspace != nil:
		return "workspace"
	case c.Zone != nil:
		return "zone"
	case c.Name != nil:
		return "name"
	}
	return "record set"
}

// Pass is one run over one zone.
type Pass struct {
	Zone   *zonefile.Loaded
	Source *source.Set
	Now    time.Time // zero if the time is of no interest

	// ApexKey is the sort key of the zone's whole name, from the root down.
	ApexKey []byte

	rule    *diag.Rule
	at      *Name // the name being looked at
	current Name  // what at points to, used again and again
	diags   *diag.List
	servers func() map[string]bool
	looked  map[string]Target // what Look found out lately
	last    *byte             // what Look was asked last
	lastIs  Target
	about   *byte // what Remember was asked last
	known   any
	tallies map[*diag.Rule]*tally

	asked    *questions // about other names; nil: nobody wants to know
	readText bool       // a check asked how something is written
}

// tally is a finding that is made once for a zone, at its first place, however
// often it is true.
type tally struct {
	pass  *Pass
	n     int
	first source.Pos
	at    []source.Pos // the places, up to maxPlaces
	make  func(n int) diag.Diagnostic
}

// maxPlaces bounds how many places of one finding are kept, so that exceptions at
// each of them can be told.
const maxPlaces = 1 << 12

// Count counts something that deserves one finding for the zone, however often
// it is true. It returns true for a place before all others so far in the text:
// then call Explain.
func (p *Pass) Count(at source.Pos) bool {
	t := p.tallies[p.rule]
	if t == nil {
		if p.tallies == nil {
			p.tallies = map[*diag.Rule]*tally{}
		}
		t = &tally{pass: p, first: at}
		p.tallies[p.rule] = t
	}
	t.n++
	if len(t.at) < maxPlaces {
		t.at = append(t.at, at)
	}
	if t.make != nil && at >= t.first {
		return false
	}
	t.first = at
	return true
}

// Explain says how to make the finding of the place just counted; n will be the
// number of places. It is called when all names have been passed, so it must not
// hold on to the name or set. The zero finding is dropped.
func (p *Pass) Explain(make func(n int) diag.Diagnostic) { p.tallies[p.rule].make = make }

// addTallies adds the findings that several passes counted.
func addTallies(passes []*Pass, diags *diag.List) {
	sum := map[*diag.Rule]*tally{}
	for _, p := range passes {
		for r, t := range p.tallies {
			s := sum[r]
			if s == nil {
				sum[r] = t
				continue
			}
			n, at := s.n+t.n, append(s.at, t.at...)
			if t.first < s.first {
				sum[r] = t
			}
			sum[r].n, sum[r].at = n, at
		}
	}
	for r, t := range sum {
		t.pass.rule, t.pass.at = r, nil
		if d := t.make(t.n); d.Rule != nil {
			if len(t.at) == t.n { // else too many to allow one by one
				slices.Sort(t.at)
				d.Places = t.at
			}
			diags.Add(d)
		}
	}
}

// Name is an owner name with the place of its records.
type Name struct {
	*zone.Node
	p      *Pass
	first  int // number of its first record in the order of the zone
	odd    bool
	quad   bool
	looked bool
}

// Odd reports whether the labels below the apex hold anything but letters, digits
// and single hyphens inside: few do, and several checks want to know.
func (n *Name) Odd() bool {
	n.look()
	return n.odd
}

// Quad reports whether the labels below the apex are four numbers of up to three digits,
// as those of an address.
func (n *Name) Quad() bool {
	n.look()
	return n.quad
}

// look finds out what Odd and Quad tell: once, for the name has to be put together.
func (n *Name) look() {
	if n.looked {
		return
	}
	n.looked = true
	var buf [dnsname.MaxWire]byte
	wire := n.AppendRelative(buf[:0])
	n.odd = oddLabels(wire)
	n.quad = len(wire) > 0 && wire[0] <= 3 && wire[1] >= '0' && wire[1] <= '9' && quadLabels(wire)
}

func quadLabels(wire []byte) bool {
	labels := 0
	for ; len(wire) > 0; labels++ {
		l := wire[1 : 1+int(wire[0])]
		for _, c := range l {
			if c < '0' || c > '9' || len(l) > 3 {
				return false
			}
		}
		wire = wire[1+len(l):]
	}
	return labels == 4
}

// plainOctet are letters, digits and the hyphen.
var plainOctet = func() (t [256]bool) {
	for _, c := range "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-" {
		t[c] = true
	}
	return t
}()

func oddLabels(wire []byte) bool {
	for len(wire) > 0 {
		l := wire[1 : 1+int(wire[0])]
		if l[0] == '-' || l[len(l)-1] == '-' {
			return true
		}
		for i, c := range l {
			if !plainOctet[c] || c == '-' && i == 3 && l[2] == '-' {
				return true
			}
		}
		wire = wire[1+len(l):]
	}
	return false
}

// Owner is the absolute name.
func (n *Name) Owner() dnsname.Name { return n.p.Zone.Owner(n.Node) }

// Pos is where the i-th record of the name is written.
func (n *Name) Pos(i int) source.Pos {
	if n.p.Zone.Positions == nil {
		return 0
	}
	return n.p.Zone.Positions[n.first+i]
}

// Set is an RRset with the place of its records.
type Set struct {
	zone.RRset
	Name  *Name
	first int // number of its first record within the name
}

// Pos is where the i-th record of the set is written.
func (s Set) Pos(i int) source.Pos { return s.Name.Pos(s.first + i) }

// Layout is where the fields of the i-th record stand.
func (s Set) Layout(i int) zonefile.Layout {
	if s.Name.p.Zone.Positions == nil {
		return zonefile.Layout{}
	}
	return zonefile.LayoutAt(s.Name.p.Source, s.Pos(i))
}

// Sets walks over the name's RRsets with their places.
func (n *Name) Sets(yield func(Set) bool) {
	at := 0
	for set := range n.RRsets {
		if !yield(Set{set, n, at}) {
			return
		}
		at += set.N
	}
}

// Report makes a finding of the check that is running; finish it with its
// methods and pass it to Add.
func (p *Pass) Report(span source.Span, format string, args ...any) diag.Diagnostic {
	d := p.rule.At(span, format, args...)
	d.Zone = p.Zone.Apex()
	if p.at != nil {
		d.Owner = p.at.Owner()
	}
	return d
}

// Add takes a finding.
func (p *Pass) Add(d diag.Diagnostic) { p.diags.Add(d) }

// plan is the checks, ordered by what they look at.
type plan struct {
	zone, names []*Check
	every       []*Check // of all sets
	byType      map[rr.Type][]*Check
	low         [64][]*Check // byType without hashing, for the types one meets
	servers     bool         // some ask IsServer
}

func newPlan(checks []*Check) *plan {
	pl := &plan{byType: map[rr.Type][]*Check{}}
	for _, c := range checks {
		pl.servers = pl.servers || c.Servers
		switch {
		case c.Workspace != nil:
		case c.Zone != nil:
			pl.zone = append(pl.zone, c)
		case c.Name != nil:
			pl.names = append(pl.names, c)
		case c.Types == nil:
			pl.every = append(pl.every, c)
		default:
			for _, t := range c.Types {
				pl.byType[t] = append(pl.byType[t], c)
			}
		}
	}
	for t, cs := range pl.byType {
		if int(t) < len(pl.low) {
			pl.low[t] = cs
		}
	}
	return pl
}

func (pl *plan) ofType(t rr.Type) []*Check {
	if int(t) < len(pl.low) {
		return pl.low[t]
	}
	return pl.byType[t]
}

// Run runs checks over a zone and adds what they find to diags, in no special
// order. Names are looked at by several goroutines. now is the present, for the
// checks that ask; zero leaves them out. Checks that settings turn off are not run.
func Run(checks []*Check, z *zonefile.Loaded, src *source.Set, now time.Time, settings *Settings, diags *diag.List) {
	run(slices.DeleteFunc(slices.Clone(checks), func(c *Check) bool {
		return settings != nil && settings.Severity[c.Code] == diag.Off
	}), z, src, now, diags, false)
}

// run also gives back the passes it took, with what was asked in them if that is wanted.
func run(checks []*Check, z *zonefile.Loaded, src *source.Set, now time.Time, diags *diag.List, asked bool) (passes []*Pass) {
	if z.NotText {
		return nil
	}
	pl, first := newPlan(checks), newPass(z, src, now)
	if pl.servers {
		go first.servers() // a walk of its own, needed soon
	}
	shared := *first
	first.diags = diags
	first.zoneChecks(pl)
	var mu sync.Mutex
	// Nothing ends this early: the context is never done.
	_ = z.Visit(context.Background(), runtime.GOMAXPROCS(0), func() func(*zone.Node, int) {
		p := shared
		p.diags = &diag.List{}
		if asked {
			p.asked = newQuestions()
		}
		mu.Lock()
		passes = append(passes, &p)
		mu.Unlock()
		return func(n *zone.Node, first int) { p.name(pl, n, first) }
	})
	for _, p := range passes {
		diags.Append(p.diags)
	}
	addTallies(append(passes, first), diags)
	return passes
}

func newPass(z *zonefile.Loaded, src *source.Set, now time.Time) *Pass {
	return &Pass{Zone: z, Source: src, Now: now, ApexKey: dnsname.AppendSortKey(nil, []byte(z.Apex().Wire()), 0),
		servers: sync.OnceValue(func() map[string]bool { return serversOf(z) })}
}

// zoneChecks runs the checks of the zone as a whole.
func (p *Pass) zoneChecks(pl *plan) {
	p.at = nil
	for _, c := range pl.zone {
		p.rule = &c.Rule
		c.Zone(p)
	}
}

// name runs the checks of one name.
func (p *Pass) name(pl *plan, node *zone.Node, first int) {
	p.current = Name{Node: node, p: p, first: first}
	n := &p.current
	p.at = n
	for _, c := range pl.names {
		p.rule = &c.Rule
		c.Name(p, n)
	}
	for set := range n.Sets {
		for _, c := range pl.every {
			p.rule = &c.Rule
			c.Set(p, set)
		}
		if p.Zone.AnyCut() && zonefile.HoldsText(set.Type) && p.Zone.CutText(p.Zone.AppendOwner(nil, node)) {
			continue
		}
		for _, c := range pl.ofType(set.Type) {
			p.rule = &c.Rule
			c.Set(p, set)
		}
	}
}
