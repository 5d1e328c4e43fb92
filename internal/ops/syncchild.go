package ops

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"fencepost/childsync"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/netio"
	"fencepost/resolve"
	"fencepost/server/zonestate"
	"fencepost/source"
	"fencepost/workspace"
)

// SyncChild is what to take over from a child.
type SyncChild struct {
	Zone, Child string
	First       bool // keys of a child that has no DS yet, unproved
	Approved    bool // also what is not to be followed at once
	Dry         bool
}

// ErrNothingAsked means that a child asks for nothing that the parent does not have.
var ErrNothingAsked = errors.New("the child asks for nothing that is not there already")

// SyncChild asks the servers of a child what they want the parent to have, by CDS,
// CDNSKEY and CSYNC, and writes it into the parent's zone if the rules permit.
func (a *App) SyncChild(ctx context.Context, o SyncChild) (*edit.Edited, error) {
	return a.ChangeChild(o.Zone, o.Child, o.Dry, func(child *childsync.Child) (w edit.ChildWants, err error) {
		seen, err := a.childAsker().Ask(ctx, child)
		if err != nil {
			return w, err
		}
		first := childsync.First{Trusted: o.First}
		if len(child.DS) == 0 && !o.First {
			if first.Signals, err = a.signals(ctx, child); err != nil {
				return w, err
			}
		}
		if w.DS, w.ChangeDS, err = child.WantedDS(seen, first, a.Now()); err != nil {
			return w, err
		}
		if w.Servers, w.ChangeServers, err = child.WantedServers(seen, o.Approved, a.Now()); err != nil {
			return w, err
		}
		if !w.ChangeDS && !w.ChangeServers {
			err = fmt.Errorf("%s: %w", child.Name.Plain(), ErrNothingAsked)
		}
		return w, err
	})
}

// signals looks at the signalling names of the name servers outside a child; nil if
// the workspace has no trust anchors to prove them by.
func (a *App) signals(ctx context.Context, child *childsync.Child) (out []childsync.Signal, err error) {
	c, err := a.Config()
	if err != nil || c.AnchorFile == "" {
		return nil, nil
	}
	anchors, err := a.anchors(c.AnchorFile, &Verified{Source: &source.Set{}})
	if err != nil {
		return nil, err
	}
	return a.childAsker().Signals(ctx, child, c.Roots, anchors), nil
}

func (a *App) childAsker() *childsync.Asker {
	return &childsync.Asker{Asker: resolve.Asker{Net: a.Net, Timeout: keymanager.LookTimeout}, Reach: a.reach}
}

// reach is where a name server is reached: as the workspace says, by its glue, or as
// the system's resolver says.
func (a *App) reach(ctx context.Context, host dnsname.Name, glue [][]byte) (out []netip.AddrPort, err error) {
	if c, err := a.Config(); err == nil {
		if at, ok := c.Reach[host.Key()]; ok {
			return []netip.AddrPort{at}, nil
		}
	}
	if out = resolve.GlueAddrs(glue); len(out) > 0 {
		return out, nil
	}
	ips, err := netio.Or(a.Net).LookupAddr(ctx, host.String())
	for _, ip := range ips {
		out = append(out, netip.AddrPortFrom(ip, workspace.DefaultPort))
	}
	return out, err
}

// syncEvery is how often the children of a zone are asked what they want.
const syncEvery = 10 * time.Minute

// syncChildren takes over what the children of a zone ask for and reports whether
// anything was written.
func (sv *Service) syncChildren(ctx context.Context, z *workspace.Zone) (wrote bool) {
	children, err := sv.running.Load().delegations(sv.Config().File(z.Name), z.Name)
	if err != nil {
		sv.log.Warn("the children could not be asked", "zone", z.Name.String(), "error", err)
		return false
	}
	for _, child := range children {
		done, err := sv.running.Load().SyncChild(ctx, SyncChild{Zone: sv.Config().File(z.Name), Child: child.String()})
		switch {
		case errors.Is(err, ErrNothingAsked):
		case err != nil:
			sv.log.Warn("a child's request is not followed", "zone", z.Name.String(), "child", child.String(), "why", err)
		default:
			sv.log.Info("a child's request was followed", "zone", z.Name.String(), "child", child.String(), "serial", done.Files[0].Serial)
			wrote = true
		}
	}
	return wrote
}

// delegations are the names that a zone delegates.
func (a *App) delegations(path string, name dnsname.Name) (out []dnsname.Name, err error) {
	in, err := a.loadClean(path, name, "", zonestate.Input{})
	if err != nil {
		return nil, err
	}
	for n := range in.Zone.Nodes {
		if n.IsCut() && !n.Occluded() {
			out = append(out, in.Zone.Owner(n))
		}
	}
	return out, nil
}
