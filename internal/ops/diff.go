package ops

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/transfer"
	"fencepost/tsig"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zoneload"
)

// DiffOptions says what to compare. Operands are a path or a zone of the
// workspace, served:ZONE for what the running server has, serial:N for an earlier
// version, or server:HOST for what another server hands over.
type DiffOptions struct {
	From, To string
	Origin   string // name of the zone, where a file does not say it
	Key      string // name of the secret for transfers
}

// Compared is what differs between two versions of a zone.
type Compared struct {
	Zone               dnsname.Name `json:"-"`
	OldSerial, Serial  uint32
	Changes            []SetChange
	Negative           time.Duration // how long caches remember that something is missing
	WithoutDNSSEC      bool          // one side is signed, so DNSSEC records were left out
	Until              time.Time     // when the last cache forgets an old answer, were it published now
	Published          time.Time     // or when it was published; zero: it is to be
	Added, Gone, Moved int           // sets that came, went, changed
	// Serials says what is wrong with the serials of versions that differ: secondaries
	// would not take the change. Empty: nothing.
	Serials string
}

// SetChange is one record set that differs, for people and programs.
type SetChange struct {
	Name   string    `json:"name"`
	Type   string    `json:"type"`
	Change string    `json:"change"` // added, removed, changed, ttl
	OldTTL uint32    `json:"old_ttl,omitempty"`
	TTL    uint32    `json:"ttl,omitempty"`
	Old    []string  `json:"old,omitempty"` // records that went
	New    []string  `json:"new,omitempty"` // records that came
	Kept   int       `json:"kept,omitempty"`
	Until  time.Time `json:"cached_until,omitzero"` // when caches forget the old answer
	// Before is the name whose records answered for one that was added: a wildcard, a
	// delegation or a DNAME; OldTTL is theirs. Empty: there was no such answer.
	Before string `json:"answered_before_by,omitempty"`
}

// Diff compares two versions of a zone by record sets. The error wraps
// ErrFindings when they differ.
func (a *App) Diff(ctx context.Context, o DiffOptions) (*Compared, error) {
	name, err := edit.GivenOrigin(o.Origin)
	if err != nil {
		return nil, err
	}
	if name.IsZero() && namesNoZone(o.From) && namesNoZone(o.To) {
		name = a.onlyZone()
	}
	if from, to, both := serials(o); both && !name.IsZero() {
		res, err := a.CompareKept(ctx, name.String(), from, to, time.Time{})
		if err == nil && len(res.Changes) > 0 {
			err = edit.ErrFindings
		}
		return res, err
	}
	// What names its zone is read first, and then files, of which that may be only a guess
	// by their name; a server or a serial says nothing of it.
	operands := []string{o.From, o.To}
	loaded := make([]*zone.Snapshot, 2)
	guess := dnsname.Name{}
	for _, rank := range []int{0, 1, 2} {
		for i, op := range operands {
			if rankOf(op) != rank {
				continue
			}
			known := name
			if known.IsZero() && rank == 2 {
				known = guess
			}
			z, err := a.version(ctx, op, known, o.Key)
			if err != nil {
				return nil, err
			}
			loaded[i] = z
			if name.IsZero() && rank == 0 {
				name = z.Apex()
			}
			guess = z.Apex()
		}
	}
	if !loaded[0].Apex().Equal(loaded[1].Apex()) {
		return nil, edit.Usage("%s is the zone %s and %s is %s", o.From, loaded[0].Apex(), o.To, loaded[1].Apex())
	}
	res := compare(loaded[0], loaded[1], a.Now())
	if len(res.Changes) > 0 {
		return res, edit.ErrFindings
	}
	return res, nil
}

// onlyZone is the zone of a workspace that has one; else the zero Name.
func (a *App) onlyZone() dnsname.Name {
	if c, err := a.Config(); err == nil && len(c.Zones) == 1 {
		return c.Zones[0].Name
	}
	return dnsname.Name{}
}

// serials are the two operands where both are serials.
func serials(o DiffOptions) (from, to uint32, both bool) {
	a, isA := strings.CutPrefix(o.From, "serial:")
	b, isB := strings.CutPrefix(o.To, "serial:")
	from, err1 := ParseSerial(a)
	to, err2 := ParseSerial(b)
	return from, to, isA && isB && err1 == nil && err2 == nil
}

// namesNoZone reports whether an operand does not say which zone is meant.
func namesNoZone(op string) bool {
	return !edit.IsFile(op) && (strings.HasPrefix(op, "server:") || strings.HasPrefix(op, "serial:"))
}

// rankOf tells how well an operand says which zone is meant: 0 by its name, 1 perhaps by
// that of its file, 2 not at all.
func rankOf(op string) int {
	switch {
	case edit.IsFile(op):
		return 1
	case namesNoZone(op):
		return 2
	}
	return 0
}

// version reads the zone that an operand means.
func (a *App) version(ctx context.Context, operand string, name dnsname.Name, key string) (*zone.Snapshot, error) {
	kind, rest, _ := strings.Cut(operand, ":")
	switch {
	case edit.IsFile(operand):
	case kind == "served":
		return a.served(ctx, rest)
	case kind == "server":
		if name.IsZero() {
			return nil, edit.Usage("say which zone: --origin NAME")
		}
		return a.fetch(ctx, name, rest, key)
	case kind == "serial":
		serial, err := ParseSerial(rest)
		if err != nil {
			return nil, err
		}
		if name.IsZero() {
			return nil, edit.Usage("say of which zone: --origin NAME")
		}
		return a.kept(ctx, name, serial)
	}
	path, origin, err := a.ZoneFile(operand)
	if err != nil {
		return nil, err
	}
	if !name.IsZero() && edit.IsFile(operand) {
		origin = name // better than what the file's own name says
	}
	var src source.Set
	t, err := a.Reader().Open(&src, path, origin)
	if err != nil {
		return nil, err
	}
	return a.ReadClean(t)
}

// served is what the running server answers from.
func (a *App) served(ctx context.Context, name string) (*zone.Snapshot, error) {
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	return a.fromServer(ctx, c, control.Request{Command: "dump", Zone: name}, "served:"+name)
}

// fromServer reads a version that the running server hands out as a master file.
func (a *App) fromServer(ctx context.Context, c *workspace.Config, r control.Request, what string) (z *zone.Snapshot, err error) {
	rerr := Client(c).Read(ctx, r, func(in io.Reader) error {
		text, err := io.ReadAll(in)
		if err != nil {
			return err
		}
		var src source.Set
		f, err := src.Add(what, text)
		if err != nil {
			return err
		}
		z, err = a.ReadClean(zoneload.Text{Source: &src, Main: f, Path: what})
		return err
	})
	return z, rerr
}

// fetch transfers a zone from a server: a peer's name, or a host. A peer's secret
// is used unless another is named.
func (a *App) fetch(ctx context.Context, name dnsname.Name, at, key string) (*zone.Snapshot, error) {
	servers, err := a.servers(ctx, at)
	if err != nil {
		return nil, err
	}
	f := transfer.Fetch{Net: a.Net, Zone: name, Server: servers[0]}
	if c, err := a.Config(); err == nil {
		f.Local = localFor(c.Listen, servers[0].Addr()) // peers know us by it
		if p := c.Peers[at]; p != nil {
			f.Key = p.TSIG
		}
	}
	if key != "" {
		if f.Key, err = a.secret(key); err != nil {
			return nil, err
		}
	}
	got, err := transfer.Receive(ctx, f)
	return got.Zone, err
}

// secret is one of the workspace.
func (a *App) secret(name string) (*tsig.Key, error) {
	c, err := a.Config()
	if err != nil {
		return nil, fmt.Errorf("the secret %s is looked for in a workspace, and %w", name, err)
	}
	if c.Keys[name] != nil {
		return c.Keys[name], nil
	}
	text := fmt.Sprintf("there is no secret %s in %s", name, workspace.SecretsFile)
	if meant := diag.Closest(name, slices.Collect(maps.Keys(c.Keys))); meant != "" {
		text += "; did you mean " + meant + "?"
	}
	return nil, edit.Usage("%s", text)
}

// localFor is the configured address that a server is to see us come from, where this
// machine has it; else the system chooses.
func localFor(listen []netip.AddrPort, to netip.Addr) netip.Addr {
	have, _ := net.InterfaceAddrs()
	for _, l := range listen {
		ip := l.Addr().Unmap()
		if ip.Is4() != to.Is4() || ip.IsUnspecified() || ip.IsLoopback() != to.IsLoopback() {
			continue
		}
		here := ip.IsLoopback()
		for _, h := range have {
			prefix, err := netip.ParsePrefix(h.String())
			here = here || err == nil && prefix.Addr().Unmap() == ip
		}
		if here {
			return ip
		}
	}
	return netip.Addr{}
}

func compare(old, new *zone.Snapshot, now time.Time) *Compared {
	res := &Compared{Zone: old.Apex(), OldSerial: old.Serial(), Serial: new.Serial(), WithoutDNSSEC: old.Signed() != new.Signed(), Until: now}
	negative := uint32(0) // how long caches remember that something is not there (RFC 2308 §5)
	if soa, ok := old.SOA(); ok {
		negative = soa.Minimum
		var apex zone.Node
		if old.ApexNode(&apex) {
			if set, ok := apex.Find(rr.TypeSOA); ok {
				negative = min(negative, set.TTL)
			}
		}
	}
	res.Negative = time.Duration(negative) * time.Second
	for d := range zone.Changes(old, new) {
		if d.SerialAlone() || res.WithoutDNSSEC && rr.MadeBySigner(d.Type()) || d.Removed.Equal(d.Added) {
			continue
		}
		c := describe(old, d, negative, now)
		switch c.Change {
		case "added":
			res.Added++
		case "removed":
			res.Gone++
		default:
			res.Moved++
		}
		if c.Until.After(res.Until) {
			res.Until = c.Until
		}
		res.Changes = append(res.Changes, c)
	}
	if len(res.Changes) > 0 && !rr.NewerSerial(res.Serial, res.OldSerial) {
		what := fmt.Sprintf("goes back, from %d to %d", res.OldSerial, res.Serial)
		if res.Serial == res.OldSerial {
			what = fmt.Sprintf("is still %d", res.Serial)
		}
		res.Serials = fmt.Sprintf("the serial %s: secondaries that have the one would not take the other; raise it with: fencepost serial %s --next", what, res.Zone.Plain())
	}
	return res
}

// answeredBefore is what answered for a name and type that the old version does not
// have: a wildcard (RFC 4592 §3.3), a delegation or a DNAME; empty if caches remember
// only that there was nothing.
func answeredBefore(old *zone.Snapshot, name dnsname.Name, t rr.Type) (by string, ttl uint32) {
	var m zone.Match
	key, ok := old.AppendKey(nil, []byte(name.Wire()))
	if !ok {
		return "", 0
	}
	old.Lookup(key, &m)
	first := func(n *zone.Node, types ...rr.Type) (string, uint32) {
		for _, t := range types {
			if set, ok := n.Find(t); ok {
				return old.Owner(n).String(), set.TTL
			}
		}
		return "", 0
	}
	switch {
	case m.Cut:
		return first(&m.Node, rr.TypeNS)
	case m.BelowDNAME:
		return first(&m.Node, rr.TypeDNAME)
	case m.Exact, m.EmptyNonTerminal:
		return "", 0
	}
	encloser := name
	for encloser.Labels() > old.Apex().Labels()+m.Encloser {
		encloser = encloser.Parent()
	}
	star, err := encloser.Child("*")
	if err != nil {
		return "", 0
	}
	var n zone.Node
	if key, ok = old.AppendKey(nil, []byte(star.Wire())); !ok || !old.Get(key, &n) {
		return "", 0
	}
	return first(&n, t, rr.TypeCNAME)
}

// describe says what became of a set of the old version.
func describe(old *zone.Snapshot, d zone.SetDelta, negative uint32, now time.Time) SetChange {
	t := d.Type()
	c := SetChange{Name: d.Owner.String(), Type: t.String(), OldTTL: d.Removed.TTL, TTL: d.Added.TTL, Change: "changed"}
	before, _ := old.Find(d.Owner, t, d.Covered())
	c.Old, c.New = textsBut(d.Removed, d.Added), textsBut(d.Added, d.Removed)
	c.Kept = before.N - len(c.Old)
	if before.N > 0 {
		c.OldTTL = before.TTL
	}
	if before.N > d.Removed.N { // some records stay as they are
		c.TTL = before.TTL
	}
	cached := before.TTL
	switch {
	case before.N == 0:
		c.Change, cached = "added", negative
		if by, ttl := answeredBefore(old, d.Owner, t); by != "" {
			c.Before, c.OldTTL, cached = by, ttl, ttl
		}
	case before.N == d.Removed.N && d.Added.N == 0:
		c.Change = "removed"
	case len(c.Old)+len(c.New) == 0:
		c.Change = "ttl"
	}
	c.Until = now.Add(time.Duration(cached) * time.Second).UTC()
	return c
}

// textsBut are the records of a set in presentation form, but those that stand in
// another, as where the TTL alone changes.
func textsBut(set, but zone.RRset) (out []string) {
	stays := map[string]bool{}
	for data := range but.Data {
		stays[string(data)] = true
	}
	for data := range set.Data {
		if !stays[string(data)] {
			out = append(out, rr.DataText(set.Type, data))
		}
	}
	return out
}
