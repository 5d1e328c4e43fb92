package app

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/transfer"
	"fencepost/workspace"
	"fencepost/zone"
	"fencepost/zonefile"
)

// DiffOptions says what to compare. Operands are a path or a zone of the
// workspace, served:ZONE for what the running server has, or server:HOST for what
// another server hands over.
type DiffOptions struct {
	From, To string
	Origin   string // name of the zone, where a file does not say it
	Key      string // name of the secret for transfers
}

// Compared is what differs between two versions of a zone.
type Compared struct {
	Zone               dnsname.Name
	OldSerial, Serial  uint32
	Changes            []RRsetChange
	Negative           time.Duration // how long caches remember that something is missing
	WithoutDNSSEC      bool          // one side is signed, so DNSSEC records were left out
	Until              time.Time     // when the last cache forgets an old answer, were it published now
	Added, Gone, Moved int           // sets that came, went, changed
	// Serials says what is wrong with the serials of versions that differ: secondaries
	// would not take the change. Empty: nothing.
	Serials string
}

// RRsetChange is one record set that differs.
type RRsetChange struct {
	Name   string    `json:"name"`
	Type   string    `json:"type"`
	Change string    `json:"change"` // added, removed, changed, ttl
	OldTTL uint32    `json:"old_ttl,omitempty"`
	TTL    uint32    `json:"ttl,omitempty"`
	Old    []string  `json:"old,omitempty"` // records that went
	New    []string  `json:"new,omitempty"` // records that came
	Kept   int       `json:"kept,omitempty"`
	Until  time.Time `json:"cached_until"` // when caches forget the old answer
	// Before is the name whose records answered for one that was added: a wildcard, a
	// delegation or a DNAME; OldTTL is theirs. Empty: there was no such answer.
	Before string `json:"answered_before_by,omitempty"`
}

// Diff compares two versions of a zone by record sets. The error wraps
// ErrFindings when they differ.
func (a *App) Diff(ctx context.Context, o DiffOptions) (*Compared, error) {
	name, err := givenOrigin(o.Origin)
	if err != nil {
		return nil, err
	}
	// A server does not say which zone is meant, so the other side is read first.
	operands := []string{o.From, o.To}
	loaded := make([]*zone.Snapshot, 2)
	for _, servers := range []bool{false, true} {
		for i, op := range operands {
			if strings.HasPrefix(op, "server:") != servers {
				continue
			}
			z, err := a.version(ctx, op, name, o.Key)
			if err != nil {
				return nil, err
			}
			loaded[i] = z
			if name.IsZero() {
				name = z.Apex()
			}
		}
	}
	if !loaded[0].Apex().Equal(loaded[1].Apex()) {
		return nil, usage("%s is the zone %s and %s is %s", o.From, loaded[0].Apex(), o.To, loaded[1].Apex())
	}
	res := compare(loaded[0], loaded[1], a.Now())
	if len(res.Changes) > 0 {
		return res, ErrFindings
	}
	return res, nil
}

// version reads the zone that an operand means.
func (a *App) version(ctx context.Context, operand string, name dnsname.Name, key string) (*zone.Snapshot, error) {
	kind, rest, _ := strings.Cut(operand, ":")
	switch {
	case isFile(operand):
	case kind == "served":
		return a.served(ctx, rest)
	case kind == "server":
		if name.IsZero() {
			return nil, usage("say which zone: --origin NAME")
		}
		return a.fetch(ctx, name, rest, key)
	case kind == "serial" && rest != "":
		return nil, fmt.Errorf("earlier versions of zones are not kept yet; compare files, or with served:ZONE")
	}
	path, origin, err := a.zoneFile(operand)
	if err != nil {
		return nil, err
	}
	if !name.IsZero() && origin.IsZero() {
		origin = name
	}
	var src source.Set
	f, err := readFile(&src, path)
	if err != nil {
		return nil, err
	}
	return loadText(&src, f, zonefile.Options{Origin: origin, Open: a.includes(&src, path)})
}

// loadText reads a zone that must have no errors of the language.
func loadText(src *source.Set, f *source.File, opts zonefile.Options) (*zone.Snapshot, error) {
	diags := &diag.List{}
	z := zonefile.Load(f, opts, diags)
	if z == nil {
		return nil, fmt.Errorf("nothing tells the name of the zone in %s", f.Name)
	}
	if diags.Count(diag.Error) > 0 {
		diags.Sort()
		for _, d := range diags.All {
			if d.Severity == diag.Error {
				return nil, &InvalidError{f.Name, diags.Count(diag.Error), fmt.Sprintf("%s: %s", src.Position(d.Span.Start), d.Message)}
			}
		}
	}
	return z.Snapshot, nil
}

// served is what the running server answers from.
func (a *App) served(ctx context.Context, name string) (*zone.Snapshot, error) {
	c, err := a.Config()
	if err != nil {
		return nil, err
	}
	var text string
	if err := control.Call(ctx, c.Control, control.Request{Command: "dump", Zone: name}, &text); err != nil {
		return nil, err
	}
	var src source.Set
	f, err := src.Add("served:"+name, []byte(text))
	if err != nil {
		return nil, err
	}
	return loadText(&src, f, zonefile.Options{})
}

// fetch transfers a zone from a server: a peer's name, or a host. A peer's secret
// is used unless another is named.
func (a *App) fetch(ctx context.Context, name dnsname.Name, at, key string) (*zone.Snapshot, error) {
	servers, err := a.servers(ctx, at)
	if err != nil {
		return nil, err
	}
	f := transfer.Fetch{Zone: name, Server: servers[0], Now: a.Now}
	if c, err := a.Config(); err == nil {
		f.Local = localFor(c.Listen, servers[0].Addr()) // peers know us by it
		if p := c.Peers[at]; p != nil {
			f.Key = p.TSIG
		}
		if key != "" {
			if f.Key = c.Keys[key]; f.Key == nil {
				return nil, usage("there is no secret %s in %s", key, workspace.SecretsFile)
			}
		}
	} else if key != "" {
		return nil, fmt.Errorf("the secret %s is looked for in a workspace, and %w", key, err)
	}
	return transfer.Receive(ctx, f)
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

// dnssecTypes are those that a signer adds.
var dnssecTypes = map[rr.Type]bool{rr.TypeRRSIG: true, rr.TypeNSEC: true, rr.TypeNSEC3: true, rr.TypeNSEC3PARAM: true, rr.TypeDNSKEY: true,
	rr.TypeCDS: true, rr.TypeCDNSKEY: true, rr.TypeZONEMD: true}

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
	zone.Diff(old, new, func(d zone.Difference) bool {
		t := d.Old.Type
		if d.Old.N == 0 {
			t = d.New.Type
		}
		if t == rr.TypeSOA && sameButSerial(d) || res.WithoutDNSSEC && dnssecTypes[t] {
			return true
		}
		c := describe(old, d, t, negative, now)
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
		return true
	})
	if len(res.Changes) > 0 && !rr.NewerSerial(res.Serial, res.OldSerial) {
		what := fmt.Sprintf("goes back, from %d to %d", res.OldSerial, res.Serial)
		if res.Serial == res.OldSerial {
			what = fmt.Sprintf("is still %d", res.Serial)
		}
		res.Serials = fmt.Sprintf("the serial %s: secondaries that have the one would not take the other; raise it with: fencepost serial %s --next", what, plainName(res.Zone))
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
	case m.Substitute:
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

// sameButSerial tells whether only the serial of the SOA differs.
func sameButSerial(d zone.Difference) bool {
	a, e1 := rr.ParseSOA(d.Old.First())
	b, e2 := rr.ParseSOA(d.New.First())
	b.Serial = a.Serial
	return e1 == nil && e2 == nil && a == b && d.Old.TTL == d.New.TTL
}

func describe(old *zone.Snapshot, d zone.Difference, t rr.Type, negative uint32, now time.Time) RRsetChange {
	c := RRsetChange{Name: d.In.Owner(d.Node).String(), Type: t.String(), OldTTL: d.Old.TTL, TTL: d.New.TTL, Change: "changed"}
	have := map[string]bool{}
	for data := range d.New.Data {
		have[string(data)] = true
	}
	for data := range d.Old.Data {
		if have[string(data)] {
			c.Kept++
			delete(have, string(data))
			continue
		}
		c.Old = append(c.Old, rr.DataText(t, data))
	}
	for data := range d.New.Data {
		if have[string(data)] {
			c.New = append(c.New, rr.DataText(t, data))
		}
	}
	cached := d.Old.TTL
	switch {
	case d.Old.N == 0:
		c.Change, cached = "added", negative
		if by, ttl := answeredBefore(old, d.In.Owner(d.Node), t); by != "" {
			c.Before, c.OldTTL, cached = by, ttl, ttl
		}
	case d.New.N == 0:
		c.Change = "removed"
	case len(c.Old)+len(c.New) == 0:
		c.Change = "ttl"
	}
	c.Until = now.Add(time.Duration(cached) * time.Second).UTC()
	return c
}
