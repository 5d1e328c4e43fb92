package ops

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/workspace"
)

// Confirmed is whether the parent's servers serve what they were to be told; the
// field names are documented output.
type Confirmed struct {
	Zone    string            `json:"zone"`
	Agrees  bool              `json:"agrees"`
	Servers []ConfirmedServer `json:"servers"`
}

// ConfirmedServer is one server of the parent.
type ConfirmedServer struct {
	Server  string           `json:"server"`
	Problem string           `json:"problem,omitempty"` // it could not be asked
	Fields  []ConfirmedField `json:"fields,omitempty"`
}

// ConfirmedField is one field compared. State is same, missing or extra.
type ConfirmedField struct {
	Field string `json:"field"`
	Value string `json:"value"`
	State string `json:"state"`
}

// Confirm asks the parent's servers for the delegation and compares each field with
// what they were to be told. at are servers given by hand.
func (a *App) Confirm(ctx context.Context, d *DelegationData, at []string) (*Confirmed, error) {
	parents, err := a.parentServers(ctx, d.Zone, at)
	if err != nil {
		return nil, err
	}
	out := &Confirmed{Zone: d.Zone.String(), Agrees: true}
	for _, p := range parents {
		s := ConfirmedServer{Server: p.String()}
		have, err := a.delegationAt(ctx, d.Zone, p.Address)
		if err != nil {
			s.Problem, out.Agrees = err.Error(), false
		} else {
			s.Fields = compareFields(d, have)
			for _, f := range s.Fields {
				out.Agrees = out.Agrees && f.State == "same"
			}
		}
		out.Servers = append(out.Servers, s)
	}
	if !out.Agrees {
		return out, fmt.Errorf("%s: the parent does not serve all of it: %w", d.Zone.Plain(), edit.ErrFindings)
	}
	return out, nil
}

// parentServers are the servers of the zone above: given by hand, by the workspace,
// or found with the system's resolver.
func (a *App) parentServers(ctx context.Context, zone dnsname.Name, at []string) (out []resolve.Server, err error) {
	for _, s := range at {
		addrs, err := a.servers(ctx, s)
		if err != nil {
			return nil, err
		}
		for _, ap := range addrs {
			out = append(out, resolve.Server{Name: s, Address: ap})
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	if c, err := a.Config(); err == nil {
		if z := c.Find(zone); z != nil && len(z.Parent) > 0 {
			return askable(z.Parent), nil
		}
	}
	return a.findParents().Above(ctx, zone)
}

// askable are peers as servers that are asked.
func askable(peers []*workspace.Peer) (out []resolve.Server) {
	for _, p := range peers {
		out = append(out, p.Server())
	}
	return out
}

// delegationAt is what a server of the parent says of a zone: NS, glue, DS.
func (a *App) delegationAt(ctx context.Context, zone dnsname.Name, at netip.AddrPort) (map[string]bool, error) {
	have := map[string]bool{}
	resp, err := resolve.Ask(ctx, at, resolve.Request{Net: a.Net, Name: zone, Type: rr.TypeNS, Timeout: keymanager.LookTimeout})
	if err != nil {
		return nil, err
	}
	if code := resp.Rcode(); code == message.NXDomain {
		return have, nil // nothing is delegated there yet
	} else if code != message.NoError {
		return nil, fmt.Errorf("it answers: %s", code.Description())
	}
	ds, err := keymanager.NewObserver(a.Net, zone, nil).ParentDS(ctx, at)
	if err != nil {
		return nil, err
	}
	for _, data := range ds.Data {
		have["DS "+rr.DataText(rr.TypeDS, data)] = true
	}
	servers := map[string]bool{}
	for _, r := range slices.Concat(resp.Answer, resp.Authority) {
		if r.Type == rr.TypeNS && r.Name.Equal(zone) {
			n, _ := dnsname.FromWire(r.Data)
			have["NS "+n.Lower().String()], servers[n.Key()] = true, true
		}
	}
	for _, r := range resp.Additional {
		if (r.Type == rr.TypeA || r.Type == rr.TypeAAAA) && servers[r.Name.Key()] && r.Name.AtOrBelow(zone) {
			have["address "+r.Name.Lower().String()+" "+rr.DataText(r.Type, r.Data)] = true
		}
	}
	return have, nil
}

// compareFields compares what is there with what should be, field by field.
func compareFields(d *DelegationData, have map[string]bool) (out []ConfirmedField) {
	add := func(field, value string) {
		key, state := field+" "+value, "missing"
		if have[key] {
			state = "same"
			delete(have, key)
		}
		out = append(out, ConfirmedField{field, value, state})
	}
	for _, s := range d.Servers {
		name := dnsname.MustParse(s.Name).Lower().String()
		add("NS", name)
		for _, ip := range s.Addresses {
			add("address", name+" "+ip)
		}
	}
	for _, r := range d.Records() {
		if r.Type == rr.TypeDS {
			add("DS", rr.DataText(rr.TypeDS, r.Data))
		}
	}
	var extra []string
	for key := range have {
		extra = append(extra, key)
	}
	slices.Sort(extra)
	for _, key := range extra {
		field, value, _ := strings.Cut(key, " ")
		out = append(out, ConfirmedField{field, value, "extra"})
	}
	return out
}
