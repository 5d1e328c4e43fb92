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

// IsServer reports whether an NS record of the zone points to the name. The set of
// them is made when first asked for.
func (p *Pass) IsServer(n *Name) bool {
	var buf [2 * dnsname.MaxWire]byte
	return p.servers()[string(n.AppendKey(buf[:0]))]
}

// serversOf is the keys of all names in the zone that NS records point to.
func serversOf(z *zonefile.Loaded) map[string]bool {
	servers := map[string]bool{}
	var key []byte
	for node := range z.Nodes {
		set, _ := node.Find(rr.TypeNS)
		for data := range set.Data {
			var ok bool
			if key, ok = z.AppendKey(key[:0], data); ok {
				servers[string(key)] = true
			}
		}
	}
	return servers
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
func (s Set) Layout(i int) zonefile.Layout { return zonefile.LayoutAt(s.Name.p.Source, s.Pos(i)) }

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
}

func newPlan(checks []*Check) *plan {
	pl := &plan{byType: map[rr.Type][]*Check{}}
	for _, c := range checks {
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
	pl := newPlan(slices.DeleteFunc(slices.Clone(checks), func(c *Check) bool {
		return settings != nil && settings.Severity[c.Code] == diag.Off
	}))
	if z.NotText {
		return
	}
	shared := Pass{Zone: z, Source: src, Now: now, ApexKey: dnsname.AppendSortKey(nil, []byte(z.Apex().Wire()), 0),
		servers: sync.OnceValue(func() map[string]bool { return serversOf(z) })}
	go shared.servers() // a walk of its own, needed soon
	first := shared
	first.diags = diags
	for _, c := range pl.zone {
		first.rule = &c.Rule
		c.Zone(&first)
	}
	var mu sync.Mutex
	var passes []*Pass
	// Nothing ends this early: the context is never done.
	_ = z.Visit(context.Background(), runtime.GOMAXPROCS(0), func() func(*zone.Node, int) {
		p := shared
		p.diags = &diag.List{}
		mu.Lock()
		passes = append(passes, &p)
		mu.Unlock()
		return func(n *zone.Node, first int) { p.name(pl, n, first) }
	})
	for _, p := range passes {
		diags.Append(p.diags)
	}
	addTallies(append(passes, &first), diags)
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

// Remember is what make found out about a record's data, made once for all checks
// that ask about the same record one after another. All must want the same thing
// of records of one type.
func Remember[T any](p *Pass, data []byte, make func() T) T {
	if len(data) > 0 && p.about == &data[0] {
		if v, ok := p.known.(T); ok {
			return v
		}
	}
	v := make()
	if len(data) > 0 {
		p.about, p.known = &data[0], v
	}
	return v
}

// Find is the RRset of an owner name in wire form, if the zone has it.
func (p *Pass) Find(wire []byte, t rr.Type) (set zone.RRset, ok bool) {
	var buf [2 * dnsname.MaxWire]byte
	key, ok := p.Zone.AppendKey(buf[:0], wire)
	var n zone.Node
	if !ok || !p.Zone.Get(key, &n) {
		return set, false
	}
	return n.Find(t)
}

// Target says what is known in the zone about a name that a record points to.
type Target struct {
	InZone    bool // at or below the apex, and not delegated away
	Delegated bool // at or below a cut: somebody else's data, or glue
	Exists    bool // has records, or names below it, or a wildcard covers it
	Alias     bool // has a CNAME
	Address   bool // has an A or AAAA record
}

// maxLooked bounds what Look remembers. Targets repeat: several checks ask about
// each, and many records name the same host.
const maxLooked = 1 << 12

// Look finds out about an absolute name in wire form, which must not be changed
// afterwards.
func (p *Pass) Look(wire []byte) Target {
	if p.last == &wire[0] { // several checks in a row ask about the same record
		return p.lastIs
	}
	p.last = &wire[0]
	if t, ok := p.looked[string(wire)]; ok {
		p.lastIs = t
		return t
	}
	t := p.look(wire)
	p.lastIs = t
	if p.looked == nil || len(p.looked) >= maxLooked {
		p.looked = make(map[string]Target, maxLooked)
	}
	p.looked[string(wire)] = t
	return t
}

func (p *Pass) look(wire []byte) (t Target) {
	var buf [2 * dnsname.MaxWire]byte
	key, ok := p.Zone.AppendKey(buf[:0], wire)
	if !ok {
		return t
	}
	if p.Zone.Unread(wire) {
		// A record of this name could not be read, which was reported: what the
		// name lacks is not known.
		return Target{InZone: true, Exists: true, Address: true}
	}
	var m zone.Match
	p.Zone.Lookup(key, &m)
	node := &m.Node
	switch {
	case m.Cut || m.BelowDNAME:
		t.Delegated = true
		var glue zone.Node
		if p.Zone.Get(key, &glue) {
			node = &glue
		} else {
			return t
		}
	case m.Exact:
	case m.EmptyNonTerminal:
		t.InZone, t.Exists = true, true
		return t
	default:
		exists, empty := p.Zone.Wildcard(key, m.Encloser, node)
		if !exists || empty {
			t.InZone, t.Exists = true, exists
			return t
		}
	}
	t.InZone, t.Exists = !t.Delegated, true
	t.Alias = node.HasAlias()
	_, a := node.Find(rr.TypeA)
	_, aaaa := node.Find(rr.TypeAAAA)
	t.Address = a || aaaa
	return t
}
