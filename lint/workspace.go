package lint

import (
	"slices"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// Zone is one zone of a workspace, for checks that compare zones.
type Zone struct {
	*zonefile.Loaded
	Keys [][]byte // DNSKEY data of the keys that sign it; none if it is unsigned
	// Audience is for whom this version of the zone is; empty: for everyone for whom there is no other.
	Audience string

	pass Pass
}

// NewZone is a zone to be looked at by itself as one of a workspace.
func NewZone(z *zonefile.Loaded, src *source.Set) *Zone {
	return &Zone{Loaded: z, pass: Pass{Zone: z, Source: src}}
}

// Workspace is the zones of a workspace together.
type Workspace struct {
	Members []*Zone // versions for everyone
	// Versions are those of zones for audiences.
	Versions []*Zone

	byName map[string]*Zone
	rule   *diag.Rule
	diags  *diag.List
}

// RunWorkspace runs the checks that compare zones, and their versions for audiences, and adds what they
// find to diags.
func RunWorkspace(checks []*Check, members []*Zone, src *source.Set, diags *diag.List) {
	f := &Workspace{byName: map[string]*Zone{}, diags: diags}
	for _, m := range members {
		m.pass = Pass{Zone: m.Loaded, Source: src}
		if m.Audience != "" {
			f.Versions = append(f.Versions, m)
			continue
		}
		f.Members = append(f.Members, m)
		f.byName[m.Apex().Key()] = m
	}
	for _, c := range checks {
		if c.Workspace != nil {
			f.rule = &c.Rule
			c.Workspace(f)
		}
	}
}

// Report makes a finding of the check that is running; finish it with its
// methods and pass it to Add.
func (f *Workspace) Report(span source.Span, format string, args ...any) diag.Diagnostic {
	d := f.rule.At(span, format, args...)
	for _, m := range slices.Concat(f.Members, f.Versions) {
		if m.File != nil && span.Start >= m.File.Pos(0) && span.Start <= m.File.Pos(len(m.File.Content)) {
			d.Zone = m.Apex()
		}
	}
	return d
}

// Add takes a finding.
func (f *Workspace) Add(d diag.Diagnostic) { f.diags.Add(d) }

// Holder is the zone that holds a name: the nearest one at or above it, or nil.
func (f *Workspace) Holder(name dnsname.Name) *Zone {
	for {
		if m := f.byName[name.Key()]; m != nil || name == dnsname.Root {
			return m
		}
		name = name.Parent()
	}
}

// Parent is the zone that delegates m or should: the nearest one above it, or nil.
func (f *Workspace) Parent(m *Zone) *Zone {
	if m.Apex() == dnsname.Root {
		return nil
	}
	return f.Holder(m.Apex().Parent())
}

// Pass is for looking at places of the zone's records.
func (m *Zone) Pass() *Pass { return &m.pass }

// Look tells what the zone has at a name.
func (m *Zone) Look(wire []byte) Target { return m.pass.Look(wire) }

// Names walks over the names of the zone with their places.
func (m *Zone) Names(yield func(*Name) bool) {
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

// Delegated reports whether a name lies at or below a delegation of the zone.
func (m *Zone) Delegated(name dnsname.Name) bool {
	return m.pass.look([]byte(name.Wire())).Delegated
}

// Find is the record set of a name in the zone, without its place.
func (m *Zone) Find(name dnsname.Name, t rr.Type) (zone.RRset, bool) {
	return m.pass.Find([]byte(name.Wire()), t)
}
