package ops

import (
	"context"
	"errors"
	"fmt"
	"net/netip"

	"fencepost/childsync"
	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/netio"
	"fencepost/resolve"
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
	child, err := a.Delegation(o.Zone, o.Child)
	if err != nil {
		return nil, err
	}
	want, err := a.wantOfChild(ctx, child, &o)
	switch {
	case err != nil:
		return nil, err
	case want.ChangeDS || want.ChangeServers:
		return a.ChangeChild(o.Zone, child, want, o.Dry)
	case len(want.Refused) > 0:
		return nil, errors.Join(want.Refused...)
	}
	return nil, fmt.Errorf("%s: %w", child.Name.Plain(), ErrNothingAsked)
}

// wantOfChild asks a child what it wants, which may take a while.
func (a *App) wantOfChild(ctx context.Context, child *childsync.Child, o *SyncChild) (*childsync.Wants, error) {
	first := childsync.First{Trusted: o.First}
	if len(child.DS) == 0 && !o.First {
		var err error
		if first.Signals, err = a.signals(ctx, child); err != nil {
			return nil, err
		}
	}
	want, err := a.childAsker().Want(ctx, child, first, o.Approved, a.Now())
	return &want, err
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
