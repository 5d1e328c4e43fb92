package ops

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/store"
	"fencepost/workspace"
	"fencepost/zone"
)

// HistoryOptions say which versions of a zone are listed.
type HistoryOptions struct {
	Zone  string
	Name  string    // only those that touch this name
	By    string    // only those of whom this is a part, without regard to case
	Since time.Time // only those from then on; zero: all
}

// History is how the versions of a zone came about, the newest first.
type History struct {
	Zone     dnsname.Name
	Audience string // of the version; empty: everyone's
	Steps    []store.Info
	// All are those of which Steps are the ones that were asked for, but for the name.
	All []store.Info
	// Damaged tells that the store cannot be read further back.
	Damaged bool

	touching dnsname.Name
}

// History lists versions of a zone that was served here.
func (a *App) History(ctx context.Context, o HistoryOptions) (*History, error) {
	c, name, audience, err := a.versionHere(o.Zone)
	if err != nil {
		return nil, err
	}
	touching := dnsname.Name{}
	if o.Name != "" {
		if touching, err = dnsname.Parse(o.Name, name); err != nil || !touching.AtOrBelow(name) {
			return nil, edit.Usage("--name %s is not a name in %s", o.Name, name.Plain())
		}
	}
	h := &History{Zone: name, Audience: audience, touching: touching}
	var all historyReply
	err = Client(c).Call(ctx, control.Request{Command: "history", Zone: zoneFor(name, audience), Args: control.Args(historyArgs{Name: wireText(touching)})}, &all)
	if errors.Is(err, control.ErrNotRunning) {
		err = fromStore(c, func(s *store.Store) error {
			all, err = historyOf(s.For(audience), name, touching)
			return err
		})
	}
	if err != nil {
		return nil, err
	}
	h.Damaged, h.All = !all.Complete, all.Steps
	for _, i := range all.Steps {
		if o.fits(i) {
			h.Steps = append(h.Steps, i)
		}
	}
	return h, nil
}

// Follow lists versions of a zone as they come to be served, those after the newest of
// history first. It goes on until ctx is done, or tell or the server fails.
func (a *App) Follow(ctx context.Context, o HistoryOptions, have *History, tell func([]store.Info) error) error {
	c, name, audience, err := a.versionHere(o.Zone)
	if err != nil {
		return err
	}
	past := uint32(0)
	if len(have.All) > 0 {
		past = have.All[0].Serial
	}
	for {
		var all historyReply
		err := Client(c).Call(ctx, control.Request{Command: "history", Zone: zoneFor(name, audience), Args: control.Args(historyArgs{Name: wireText(have.touching), Past: &past})}, &all)
		if ctx.Err() != nil {
			return nil // whoever watches has seen enough
		}
		if err != nil {
			return err
		}
		var fresh []store.Info
		for _, i := range all.Steps {
			if i.Serial == past {
				break
			}
			if o.fits(i) {
				fresh = append(fresh, i)
			}
		}
		past = all.Steps[0].Serial
		slices.Reverse(fresh) // as they came
		if err := tell(fresh); err != nil {
			return err
		}
	}
}

// fits reports whether a version is one of those that are asked for.
func (o *HistoryOptions) fits(i store.Info) bool {
	return (o.Since.IsZero() || !i.At.Before(o.Since)) && strings.Contains(strings.ToLower(i.By), strings.ToLower(o.By))
}

// servedHere is a zone of the workspace.
func (a *App) servedHere(text string) (*workspace.Config, dnsname.Name, error) {
	c, name, _, err := a.versionHere(text)
	return c, name, err
}

// versionHere is a zone of the workspace, or ZONE@AUDIENCE, its version for one.
func (a *App) versionHere(text string) (c *workspace.Config, name dnsname.Name, audience string, err error) {
	text, audience = workspace.SplitAudience(text)
	if c, name, err = a.zoneHere(text); err != nil || audience == "" {
		return c, name, audience, err
	}
	if !slices.ContainsFunc(c.Find(name).Audiences, func(x *workspace.Audience) bool { return x.Name == audience }) {
		err = edit.Usage("%s has no version for the audience %s", name.Plain(), audience)
	}
	return c, name, audience, err
}

func (a *App) zoneHere(text string) (*workspace.Config, dnsname.Name, error) {
	name, err := edit.WholeName(text)
	if err != nil {
		return nil, name, edit.Usage("the zone %q: %v", text, err)
	}
	c, err := a.Config()
	if err != nil {
		return nil, name, err
	}
	if c.Find(name) == nil {
		return nil, name, edit.Usage("%s is not a zone of this workspace%s", name.Plain(), closestZone(c, name))
	}
	return c, name, nil
}

// closestZone asks whether a zone of the workspace was meant; empty where none is close.
func closestZone(c *workspace.Config, name dnsname.Name) string {
	var have []string
	for _, z := range c.Zones {
		have = append(have, z.Name.Plain())
	}
	if meant := diag.Closest(name.Plain(), have); meant != "" {
		return "; did you mean " + meant + "?"
	}
	return ""
}

// fromStore reads what the last server left.
func fromStore(c *workspace.Config, f func(*store.Store) error) error {
	s, err := store.OpenToRead(c.Store())
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	return f(s)
}

// historyArgs and historyReply are the command "history" of the control socket.
type historyArgs struct {
	Name string `json:"name,omitempty"` // absolute, or empty
	// Past waits until there is a newer version than that with this serial.
	Past *uint32 `json:"past,omitempty"`
}

type historyReply struct {
	Steps    []store.Info `json:"steps"`
	Complete bool         `json:"complete"`
}

func wireText(n dnsname.Name) string {
	if n.IsZero() {
		return ""
	}
	return n.String()
}

func historyOf(s *store.Store, zone, touching dnsname.Name) (historyReply, error) {
	steps, complete, err := s.History(zone, touching)
	return historyReply{steps, complete}, err
}

// compareArgs is the command "compare" of the control socket: two versions by serial.
type compareArgs struct {
	From uint32    `json:"from"`
	To   uint32    `json:"to"`
	At   time.Time `json:"at,omitzero"` // when To was published; zero: now
}

// CompareKept compares two versions that are kept, by their serials. at is when the second
// was published; zero stands for now.
func (a *App) CompareKept(ctx context.Context, zone string, from, to uint32, at time.Time) (*Compared, error) {
	c, name, audience, err := a.versionHere(zone)
	if err != nil {
		return nil, err
	}
	res := &Compared{}
	err = Client(c).Call(ctx, control.Request{Command: "compare", Zone: zoneFor(name, audience), Args: control.Args(compareArgs{from, to, at})}, res)
	if errors.Is(err, control.ErrNotRunning) {
		err = fromStore(c, func(s *store.Store) error {
			res, err = compareKept(s.For(audience), name, compareArgs{from, to, at}, a.Now())
			return err
		})
	}
	if err != nil {
		return nil, noHistory(name, err)
	}
	res.Zone, res.Published = name, at
	return res, nil
}

func compareKept(s *store.Store, name dnsname.Name, in compareArgs, now time.Time) (*Compared, error) {
	old, err := s.At(name, in.From)
	if err != nil {
		return nil, err
	}
	new, err := s.At(name, in.To)
	if err != nil {
		return nil, err
	}
	if !in.At.IsZero() {
		now = in.At
	}
	return compare(old, new, now), nil
}

// noHistory says how to see what there is.
func noHistory(name dnsname.Name, err error) error {
	if errors.Is(err, store.ErrNoHistory) {
		return fmt.Errorf("%s: %w; which are kept tells: fencepost history %s", name.Plain(), store.ErrNoHistory, name.Plain())
	}
	return err
}

// Show is what a version changed: it is compared with the one before.
func (a *App) Show(ctx context.Context, zone string, serial uint32) (store.Info, *Compared, error) {
	h, err := a.History(ctx, HistoryOptions{Zone: zone})
	if err != nil {
		return store.Info{}, nil, err
	}
	for _, i := range h.Steps {
		if i.Serial == serial {
			res, err := a.CompareKept(ctx, zone, i.From, i.Serial, i.At)
			return i, res, err
		}
	}
	return store.Info{}, nil, noHistory(h.Zone, store.ErrNoHistory)
}

// kept is the version of a zone with a serial.
func (a *App) kept(ctx context.Context, name dnsname.Name, serial uint32) (z *zone.Snapshot, err error) {
	c, name, err := a.servedHere(name.String())
	if err != nil {
		return nil, err
	}
	z, err = a.fromServer(ctx, c, control.Request{Command: "version", Zone: name.String(), Args: control.Args(versionArgs{serial})}, fmt.Sprintf("serial:%d", serial))
	if errors.Is(err, control.ErrNotRunning) {
		err = fromStore(c, func(s *store.Store) error {
			z, err = s.At(name, serial)
			return err
		})
	}
	return z, noHistory(name, err)
}

// versionArgs is the command "version" of the control socket.
type versionArgs struct {
	Serial uint32 `json:"serial"`
}

// ParseSerial reads a serial as an operand.
func ParseSerial(text string) (uint32, error) {
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil {
		return 0, edit.Usage("%q is not a serial: a number from 0 to 4294967295", text)
	}
	return uint32(n), nil
}

// What follows carries out the commands above for the running server.

// History is the command "history".
func (sv *Service) History(ctx context.Context, zone dnsname.Name, args json.RawMessage) (any, error) {
	var in historyArgs
	if err := json.Unmarshal(args, &in); err != nil {
		return nil, err
	}
	touching := dnsname.Name{}
	if in.Name != "" {
		var err error
		if touching, err = edit.WholeName(in.Name); err != nil {
			return nil, err
		}
	}
	for {
		kept := sv.versions(ctx)
		next := kept.Changed(zone)
		h, err := historyOf(kept, zone, touching)
		if in.Past == nil || err != nil || len(h.Steps) > 0 && h.Steps[0].Serial != *in.Past {
			return h, err
		}
		select {
		case <-next:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// Compare is the command "compare".
func (sv *Service) Compare(ctx context.Context, zone dnsname.Name, args json.RawMessage) (any, error) {
	var in compareArgs
	if err := json.Unmarshal(args, &in); err != nil {
		return nil, err
	}
	return compareKept(sv.versions(ctx), zone, in, sv.running.Load().Now())
}

// Version is the command "version".
func (sv *Service) Version(ctx context.Context, name dnsname.Name, args json.RawMessage) (*zone.Snapshot, error) {
	var in versionArgs
	if err := json.Unmarshal(args, &in); err != nil {
		return nil, err
	}
	return sv.versions(ctx).At(name, in.Serial)
}
