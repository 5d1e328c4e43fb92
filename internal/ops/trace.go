package ops

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/resolve"
	"fencepost/rr"
)

// Trace follows the delegations to a name, from the root that the workspace trusts, or the
// world's.
func (a *App) Trace(ctx context.Context, q Question) (*resolve.Trace, error) {
	mq, err := q.parse()
	if err != nil {
		return nil, err
	}
	t := a.tracer(q.Timeout)
	return t.Trace(ctx, mq.Name, mq.Type)
}

// tracer is how the workspace goes from the root.
func (a *App) tracer(timeout time.Duration) *resolve.Tracer {
	t := &resolve.Tracer{Asker: resolve.Asker{Net: a.Net, Timeout: timeout, Silent: &resolve.Silence{}}, Roots: resolve.RootHints(), Known: a.knownZone}
	c, err := a.Config()
	if err != nil {
		return t
	}
	if len(c.Roots) > 0 {
		t.Roots = nil
		for _, at := range c.Roots {
			t.Roots = append(t.Roots, resolve.HostAt(at))
		}
	}
	t.Override = func(host dnsname.Name) []netip.AddrPort {
		if at, ok := c.Reach[host.Key()]; ok {
			return []netip.AddrPort{at}
		}
		return nil
	}
	return t
}

// knownZone is the zone of the workspace that a name lies in, if it is below another.
func (a *App) knownZone(name, below dnsname.Name) *resolve.KnownZone {
	c, err := a.Config()
	if err != nil {
		return nil
	}
	for up := name; up.Below(below); up = up.Parent() {
		z := c.Find(up)
		if z == nil || !z.HasFile() {
			continue
		}
		out := &resolve.KnownZone{Name: up}
		if d, err := a.Handover(HandoverOptions{Operand: up.String()}); err == nil && !d.NotYet && !d.Unsigning {
			out.Records = d.Records()
		} else if err == nil {
			for _, r := range d.Records() {
				if r.Type != rr.TypeDS {
					out.Records = append(out.Records, r)
				}
			}
		}
		return out
	}
	return nil
}

// DelegateCommand is the command that adds a delegation to a zone, if the zone is in the
// workspace; else empty.
func (a *App) DelegateCommand(zone dnsname.Name, records []rr.Record) string {
	c, err := a.Config()
	if err != nil || len(records) == 0 {
		return ""
	}
	if z := c.Find(zone); z == nil || !z.HasFile() {
		return ""
	}
	addrs := map[string][]string{}
	for _, r := range records {
		if r.Type == rr.TypeA || r.Type == rr.TypeAAAA {
			addrs[r.Name.Key()] = append(addrs[r.Name.Key()], rr.DataText(r.Type, r.Data))
		}
	}
	var child dnsname.Name
	var b strings.Builder
	for _, r := range records {
		if r.Type != rr.TypeNS {
			continue
		}
		host, err := dnsname.FromWire(r.Data)
		if err != nil {
			continue
		}
		child = r.Name
		fmt.Fprintf(&b, " --ns %s", host.Plain())
		if list := addrs[host.Key()]; len(list) > 0 {
			b.WriteString("=" + strings.Join(list, ","))
		}
	}
	if child.IsZero() {
		return ""
	}
	return fmt.Sprintf("fencepost delegate %s %s%s", zone.Plain(), child.Relative(zone), b.String())
}

// TraceFindings says whether a trace found something that has to be mended.
func TraceFindings(t *resolve.Trace) error {
	for _, leg := range t.Legs {
		for _, s := range leg.Steps {
			for _, x := range s.Troubles {
				if x.Grave {
					return fmt.Errorf("%s: %w", t.Name.Plain(), edit.ErrFindings)
				}
			}
		}
	}
	return nil
}
