package ops

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/rr"
	"fencepost/server/zonestate"
	"fencepost/store"
	"fencepost/update"
	"fencepost/workspace"
)

// Pending is what requests changed in a zone and its file does not have.
type Pending struct {
	Zone     dnsname.Name
	Audience string // of the version; empty: everyone's
	Serial   uint32 // of what is served, before it is signed; 0: no server runs
	Changes  []PendingSet
	// Problem says why the file as it was read last does not go together with it; empty: it does.
	Problem string
}

// PendingSet is one set that is served in another way than the file has it.
type PendingSet struct {
	SetChange
	By string    `json:"by"`
	At time.Time `json:"at,omitzero"`
}

// pendingArgs are the command "pending" of the control socket. Offer says that it is written into the
// file; Drop names an owner, and perhaps a type, of which the file is to count again.
type pendingArgs struct {
	Offer bool   `json:"offer,omitempty"`
	Drop  string `json:"drop,omitempty"` // absolute
	Type  uint16 `json:"type,omitempty"` // 0: any
}

type pendingReply struct {
	Serial  uint32   `json:"serial"`
	Changes [][]byte `json:"changes"` // update.Change.AppendBinary
	Problem string   `json:"problem,omitempty"`
}

// Pending tells what is pending of a zone.
func (a *App) Pending(ctx context.Context, zone string) (*Pending, error) {
	c, name, audience, err := a.changedHere(zone)
	if err != nil {
		return nil, err
	}
	reply, changes, err := a.pending(ctx, c, name, audience, pendingArgs{})
	if err != nil {
		return nil, err
	}
	out := &Pending{Zone: name, Audience: audience, Serial: reply.Serial, Problem: reply.Problem}
	for _, ch := range changes {
		if ch.Differs() {
			out.Changes = append(out.Changes, pendingSet(ch))
		}
	}
	return out, nil
}

// changedHere is a zone of the workspace that is not fetched from elsewhere.
func (a *App) changedHere(zone string) (c *workspace.Config, name dnsname.Name, audience string, err error) {
	c, name, audience, err = a.versionHere(zone)
	switch {
	case err != nil:
	case len(c.Find(name).FetchFrom) > 0:
		err = edit.Usage("%s is fetched from a primary: changes are made there", name.Plain())
	case c.Find(name).Kept:
		err = edit.KeptInStore(name)
	}
	return c, name, audience, err
}

// pending asks the running server, or looks into the store.
func (a *App) pending(ctx context.Context, c *workspace.Config, name dnsname.Name, audience string, args pendingArgs) (reply pendingReply, changes []*update.Change, err error) {
	err = Client(c).Call(ctx, control.Request{Command: "pending", Zone: zoneFor(name, audience), Args: control.Args(args)}, &reply)
	if errors.Is(err, control.ErrNotRunning) && args.Drop == "" {
		err = fromStore(c, func(s *store.Store) error {
			s = s.For(audience)
			kept, err := s.Pending(name)
			for _, octets := range kept {
				reply.Changes = append(reply.Changes, octets)
			}
			if m, found, merr := s.Meta(name); merr == nil && found && m.Source == "" {
				reply.Serial = m.Serial
			}
			return err
		})
	}
	if err != nil {
		return reply, nil, err
	}
	for _, octets := range reply.Changes {
		ch, err := update.ParseChange(name, octets)
		if err != nil {
			return reply, nil, err
		}
		changes = append(changes, ch)
	}
	return reply, update.NewPending(changes...).List(), nil
}

// pendingSet is a change in the words of a comparison.
func pendingSet(c *update.Change) PendingSet {
	out := PendingSet{By: c.By, At: c.At}
	ch := &out.SetChange
	ch.Name, ch.Type, ch.Change = c.Owner.String(), c.Type.String(), "changed"
	ch.OldTTL, ch.TTL = c.File.TTL, c.Now.TTL
	served := map[string]bool{}
	for data := range c.Now.Data {
		served[string(data)] = true
	}
	for data := range c.File.Data {
		if served[string(data)] && c.File.TTL == c.Now.TTL {
			ch.Kept++
			delete(served, string(data))
			continue
		}
		ch.Old = append(ch.Old, rr.DataText(c.Type, data))
	}
	for data := range c.Now.Data {
		if served[string(data)] {
			ch.New = append(ch.New, rr.DataText(c.Type, data))
		}
	}
	switch {
	case c.File.N == 0:
		ch.Change = "added"
	case c.Now.N == 0:
		ch.Change = "removed"
	}
	return out
}

// FoldOptions say how what is pending is written into the file.
type FoldOptions struct {
	Zone string
	Over bool // write over what was changed in the file too
	Dry  bool
}

// Fold writes what is pending of a zone into its file. Have the running server take that afterwards:
// running says whether there is one.
func (a *App) Fold(ctx context.Context, o FoldOptions) (r *edit.Edited, running bool, err error) {
	c, name, audience, err := a.changedHere(o.Zone)
	if err != nil {
		return nil, false, err
	}
	path := c.File(name)
	if audience != "" {
		path = c.AudienceFile(name, audience)
	}
	// The server has to know what is in the file by now, so that it can tell what comes from here.
	if !o.Dry {
		if running, err = a.readFirst(ctx, c, name, o.Over); err != nil {
			return nil, running, err
		}
	}
	r, err = a.Files.Fold(edit.Fold{Zone: o.Zone, Over: o.Over, Dry: o.Dry, Pending: func() ([]*update.Change, uint32, error) {
		reply, changes, err := a.pending(ctx, c, name, audience, pendingArgs{Offer: !o.Dry && running})
		return changes, reply.Serial, err
	}})
	var conflicts *update.Conflicts
	if errors.As(err, &conflicts) {
		e := &zonestate.ConflictError{Zone: name, Conflicts: conflicts}
		for _, one := range conflicts.List {
			e.Where = append(e.Where, a.whereIn(path, name)(one.Owner, one.Type))
		}
		err = e
	}
	return r, running, err
}

// readFirst has the running server read the file of a zone. Where that does not go together with what
// is pending it is an error, unless it is to be written over.
func (a *App) readFirst(ctx context.Context, c *workspace.Config, name dnsname.Name, over bool) (running bool, err error) {
	var results []struct {
		Problem string `json:"problem"`
	}
	err = Client(c).Call(ctx, control.Request{Command: "reload", Zone: name.String()}, &results)
	switch {
	case errors.Is(err, control.ErrNotRunning):
		return false, nil
	case err != nil:
		return true, err
	}
	for _, r := range results {
		if r.Problem != "" && !over {
			return true, fmt.Errorf("nothing was written: %s", r.Problem)
		}
	}
	return true, nil
}

// DropPending has the file of a zone count again, whatever requests changed at an owner. t is the type
// of the set; empty: all.
func (a *App) DropPending(ctx context.Context, zone, owner, t string) (*Pending, error) {
	c, name, audience, err := a.changedHere(zone)
	if err != nil {
		return nil, err
	}
	at, err := dnsname.Parse(owner, name)
	if err != nil || !at.AtOrBelow(name) {
		return nil, edit.Usage("%s is not a name in %s", owner, name.Plain())
	}
	args := pendingArgs{Drop: at.String()}
	if t != "" {
		parsed, err := edit.ParseType(t)
		if err != nil {
			return nil, err
		}
		args.Type = uint16(parsed)
	}
	if _, _, err = a.pending(ctx, c, name, audience, args); err != nil {
		return nil, err
	}
	return a.Pending(ctx, zone)
}

// Pending is the command "pending".
func (sv *Service) Pending(ctx context.Context, name dnsname.Name, args json.RawMessage, explain func(error) string) (any, error) {
	var in pendingArgs
	if err := json.Unmarshal(args, &in); len(args) > 0 && err != nil {
		return nil, err
	}
	if in.Drop != "" {
		return sv.dropPending(ctx, name, in)
	}
	ask := sv.Server.Pending
	if in.Offer {
		ask = sv.Server.OfferPending
	}
	p, err := ask(name, AudienceOf(ctx))
	if err != nil {
		return nil, err
	}
	out := pendingReply{Serial: p.Serial}
	if p.Problem != nil {
		out.Problem = explain(p.Problem)
	}
	for _, c := range p.Changes {
		out.Changes = append(out.Changes, c.AppendBinary(nil))
	}
	return out, nil
}

func (sv *Service) dropPending(ctx context.Context, name dnsname.Name, in pendingArgs) (any, error) {
	done, err := sv.change(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	owner, err := edit.WholeName(in.Drop)
	if err != nil {
		return nil, err
	}
	r, err := sv.Server.DropPending(ctx, name, AudienceOf(ctx), func(c *update.Change) bool {
		return c.Owner.Equal(owner) && (in.Type == 0 || c.Type == rr.Type(in.Type))
	}, control.Caller(ctx))
	switch {
	case errors.Is(err, zonestate.ErrNotPending):
		return nil, edit.Usage("nothing is pending at %s", owner.Plain())
	case err != nil:
		return nil, err
	case r.Err != nil:
		return nil, fmt.Errorf("%s: %w", name.Plain(), r.Err)
	}
	return pendingReply{Serial: r.Serial}, nil
}
