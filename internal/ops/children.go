package ops

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"fencepost/childsync"
	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/rr"
	"fencepost/server/zonestate"
	"fencepost/workspace"
	"fencepost/zone"
)

// How often the children of a zone are asked what they want, and how many at a time.
const (
	syncEvery    = 10 * time.Minute
	syncTogether = 16
)

// syncChildren takes over what the children of a zone ask for and reports whether
// anything was written.
func (sv *Service) syncChildren(ctx context.Context, z *workspace.Zone) (wrote bool) {
	app, file := sv.running.Load(), sv.Config().File(z.Name)
	in, err := app.loadClean(ctx, file, z.Name, "", zonestate.Input{})
	if err != nil {
		sv.log.Warn("the children could not be asked", "zone", z.Name.String(), "error", err)
		return false
	}
	children := delegations(in.Zone)
	wants, errs := make([]*childsync.Wants, len(children)), make([]error, len(children))
	var g errgroup.Group
	g.SetLimit(syncTogether)
	for i, c := range children {
		g.Go(func() error {
			wants[i], errs[i] = app.wantOfChild(ctx, c, &SyncChild{})
			return nil
		})
	}
	_ = g.Wait()
	refused := map[string]string{}
	for i, c := range children {
		if errs[i] != nil {
			refused[c.Name.Plain()] = errs[i].Error()
			continue
		}
		for _, why := range wants[i].Refused {
			refused[c.Name.Plain()] = strings.TrimPrefix(refused[c.Name.Plain()]+"; "+why.Error(), "; ")
		}
		if !wants[i].ChangeDS && !wants[i].ChangeServers {
			continue
		}
		done, err := app.ChangeChild(file, c, wants[i], false)
		if err != nil {
			refused[c.Name.Plain()] = err.Error()
			continue
		}
		sv.log.Info("a child's request was followed", "zone", z.Name.String(), "child", c.Name.String(), "serial", done.Files[0].Serial)
		wrote = true
	}
	if ctx.Err() != nil {
		return wrote
	}
	for _, child := range sv.refusals.note(z.Name, refused, app.Now()) {
		sv.log.Warn("a child's request is not followed", "zone", z.Name.String(), "child", child, "why", refused[child])
	}
	return wrote
}

// refusals are the requests of children that are not followed, by zone and child. The zero value is
// ready for use, by many at once.
type refusals struct {
	mu     sync.Mutex
	byZone map[string]map[string]refusal
}

type refusal struct {
	why   string
	since time.Time
}

// note takes note of all that is refused in a zone now, and tells which were not, or not for that
// reason, before.
func (r *refusals) note(zone dnsname.Name, refused map[string]string, now time.Time) (fresh []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	was, next := r.byZone[zone.Key()], map[string]refusal{}
	for child, why := range refused {
		one, known := was[child]
		if !known || one.why != why {
			fresh = append(fresh, child)
		}
		if !known {
			one.since = now
		}
		one.why = why
		next[child] = one
	}
	if r.byZone == nil {
		r.byZone = map[string]map[string]refusal{}
	}
	r.byZone[zone.Key()] = next
	slices.Sort(fresh)
	return fresh
}

// AddChildren adds to a status what is refused to the children of zones.
func (sv *Service) AddChildren(st *control.Status) {
	following := map[string]bool{}
	for _, z := range sv.Config().Zones {
		following[z.Name.String()] = z.FollowChildren
	}
	sv.refusals.mu.Lock()
	defer sv.refusals.mu.Unlock()
	for i := range st.Zones {
		z := &st.Zones[i]
		name, err := dnsname.Parse(z.Zone, dnsname.Root)
		if err != nil || z.Audience != "" || !following[z.Zone] {
			continue
		}
		for child, r := range sv.refusals.byZone[name.Key()] {
			z.Children = append(z.Children, control.ChildStatus{Child: child, Since: r.since.UTC(), Problem: r.why})
		}
		slices.SortFunc(z.Children, func(a, b control.ChildStatus) int { return strings.Compare(a.Child, b.Child) })
	}
}

// delegations are the children that a zone has, with its DS and glue.
func delegations(z *zone.Snapshot) (out []*childsync.Child) {
	for n := range z.Nodes {
		if !n.IsCut() || n.Occluded() {
			continue
		}
		c := &childsync.Child{Name: z.Owner(n), Glue: map[string][][]byte{}}
		ds, _ := n.Find(rr.TypeDS)
		ns, _ := n.Find(rr.TypeNS)
		for data := range ds.Data {
			c.DS = append(c.DS, slices.Clone(data))
		}
		for data := range ns.Data {
			host, err := dnsname.FromWire(data)
			if err != nil {
				continue
			}
			c.Servers = append(c.Servers, host)
			for _, t := range []rr.Type{rr.TypeA, rr.TypeAAAA} {
				set, _ := z.Find(host, t, 0)
				for addr := range set.Data {
					c.Glue[host.Key()] = append(c.Glue[host.Key()], slices.Clone(addr))
				}
			}
		}
		out = append(out, c)
	}
	return out
}
