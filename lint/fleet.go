package lint

import (
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Member is one zone of a workspace, for checks that compare zones.
type Member struct {
	*zonefile.Loaded
	Keys [][]byte // DNSKEY data of the keys that sign it; none if it is unsigned

	pass Pass
}

// Fleet is the zones of a workspace together.
type Fleet struct {
	Members []*Member

	byName map[string]*Member
	rule   *diag.Rule
	diags  *diag.List
}

// RunFleet runs the checks that compare zones and adds what they find to diags.
func RunFleet(checks []*Check, members []*Member, src *source.Set, diags *diag.List) {
	f := &Fleet{Members: members, byName: map[string]*Member{}, diags: diags}
	for _, m := range members {
		m.pass = Pass{Zone: m.Loaded, Source: src}
		f.byName[m.Apex().Key()] = m
	}
	for _, c := range checks {
		if c.Fleet != nil {
			f.rule = &c.Rule
			c.Fleet(f)
		}
	}
}

// Report makes a finding of the check that is running; finish it with its
// methods and pass it to Add.
func (f *Fleet) Report(span source.Span, format string, args ...any) diag.Diagnostic {
	d := f.rule.At(span, format, args...)
	for _, m := range f.Members {
		if m.File != nil && span.Start >= m.File.Pos(0) && span.Start <= m.File.Pos(len(m.File.Content)) {
			d.Zone = m.Apex()
		}
	}
	return d
}

// Add takes a finding.
func (f *Fleet) Add(d diag.Diagnostic) { f.diags.Add(d) }

// Holder is the zone that holds a name: the nearest one at or above it, or nil.
func (f *Fleet) Holder(name dnsname.Name) *Member {
	for {
		if m := f.byName[name.Key()]; m != nil || name == dnsname.Root {
			return m
		}
		name = name.Parent()
	}
}

// Parent is the zone that delegates m or should: the nearest one above it, or nil.
func (f *Fleet) Parent(m *Member) *Member {
	if m.Apex() == dnsname.Root {
		return nil
	}
	return f.Holder(m.Apex().Parent())
}

// Pass is for looking at places of the zone's records.
func (m *Member) Pass() *Pass { return &m.pass }

// Look tells what the zone has at a name.
func (m *Member) Look(wire []byte) Target { return m.pass.Look(wire) }

// Names walks over the names of the zone with their places.
func (m *Member) Names(yield func(*Name) bool) {
	first := 0
	for node := range m.Nodes {
		n := Name{Node: node, p: &m.pass, first: first}
		for set := range node.RRsets {
			first += set.N
		}
		if !yield(&n) {
			return
		}
	}
}

// Set is the record set of type t, if the name has it.
func (n *Name) Set(t rr.Type) (Set, bool) {
	for set := range n.Sets {
		if set.Type == t {
			return set, true
		}
	}
	return Set{}, false
}

// Clone is a copy of the name that outlives the walk.
func (n *Name) Clone() *Name {
	node := *n.Node
	c := *n
	c.Node = &node
	return &c
}

// Delegated tells whether a name lies at or below a delegation of the zone.
func (m *Member) Delegated(name dnsname.Name) bool {
	return m.pass.look([]byte(name.Wire())).Delegated
}

// Find is the record set of a name in the zone, without its place.
func (m *Member) Find(name dnsname.Name, t rr.Type) (zone.RRset, bool) {
	return m.pass.Find([]byte(name.Wire()), t)
}
