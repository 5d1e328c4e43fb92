package ops

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fencepost/audit"
	"fencepost/dnsname"
	"fencepost/expect"
	"fencepost/internal/edit"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/transfer"
	"fencepost/zone"
)

// Move is what differs between the servers of two providers, before a zone moves from one to
// the other.
type Move struct {
	*Compared
	// Complete says that both sides were compared whole; else How says what was asked for.
	Complete bool
	How      []string // for each side, how it was read
	Steps    []string // what to do for the move, in order
	// Breaks says why validating resolvers would reject the zone after the move; empty: they would not.
	// Ways are the ways round that.
	Breaks string
	Ways   []string
}

// provider is a provider's servers.
type provider struct {
	at       string
	asked    *resolve.Reading // nil: the zone was handed over
	zone     *zone.Snapshot
	complete bool
}

// CompareServers compares what two servers have of a zone: by transfer where that is allowed,
// else by asking for every name that is known. What belongs to a provider itself, SOA, the zone's
// own NS and what a signer makes, is no difference. The error wraps ErrFindings when they differ.
func (a *App) CompareServers(ctx context.Context, from, to, zoneName, key string) (*Move, error) {
	a = a.Holding()
	name, err := edit.WholeName(zoneName)
	if err != nil {
		return nil, edit.Usage("the zone %q: %v", zoneName, err)
	}
	sides := []*provider{{at: strings.TrimPrefix(from, "server:")}, {at: strings.TrimPrefix(to, "server:")}}
	for _, s := range sides {
		if err := a.readSide(ctx, s, name, key); err != nil {
			return nil, err
		}
	}
	m := &Move{Complete: sides[0].complete && sides[1].complete}
	if !m.Complete { // what one side showed, or the file has, is asked of both
		questions := slices.Concat(expect.Questions(sides[0].zone), expect.Questions(sides[1].zone))
		if z := a.zoneAtHand(name); z != nil && z.Apex().Equal(name) {
			questions = append(questions, expect.Questions(z)...)
		}
		for _, s := range sides {
			if err := a.askMore(ctx, s, name, questions); err != nil {
				return nil, err
			}
		}
	}
	var plain [2]*zone.Snapshot
	for i, s := range sides {
		if plain[i], err = withoutProvider(s.zone); err != nil {
			return nil, err
		}
		m.How = append(m.How, s.how())
	}
	m.Compared = compare(plain[0], plain[1], a.Now())
	m.Serials = "" // each provider counts its own
	if err = a.moveSteps(ctx, name, sides, m); err != nil {
		return nil, err
	}
	if len(m.Changes) > 0 || m.Breaks != "" {
		return m, edit.ErrFindings
	}
	return m, nil
}

func (a *App) readSide(ctx context.Context, s *provider, name dnsname.Name, key string) (err error) {
	s.zone, err = a.fetch(ctx, name, s.at, key)
	var refused *transfer.RefusedError
	if !errors.As(err, &refused) {
		s.complete = err == nil
		return err
	}
	servers, err := a.servers(ctx, s.at)
	if err != nil {
		return err
	}
	if s.asked, err = (&resolve.Asker{Net: a.Net}).Read(ctx, servers[0], name); err != nil {
		return err
	}
	s.complete = s.asked.Complete
	s.zone, err = snapshotOf(name, s.asked.Records)
	return err
}

func snapshotOf(name dnsname.Name, records []rr.Record) (*zone.Snapshot, error) {
	b := zone.NewBuilder(name, false)
	for _, rec := range records {
		if err := b.AddRecord(rec); err != nil {
			return nil, err
		}
	}
	return b.Build().Snapshot, nil
}

// askMore asks a side that was read by asking for what others know.
func (a *App) askMore(ctx context.Context, s *provider, name dnsname.Name, questions []message.Question) error {
	if s.asked == nil || s.complete {
		return nil
	}
	servers, err := a.servers(ctx, s.at)
	if err != nil {
		return err
	}
	more, err := (&resolve.Asker{Net: a.Net}).ReadSome(ctx, servers[0], name, questions)
	if err != nil {
		return err
	}
	s.zone, err = snapshotOf(name, append(s.asked.Records, more...))
	return err
}

func (s *provider) how() string {
	switch {
	case s.asked == nil:
		return s.at + ": handed over whole"
	case s.complete:
		return fmt.Sprintf("%s: read along its NSEC records, whole", s.at)
	}
	return fmt.Sprintf("%s: asked for usual names and those that the other side or the file has; others may be missing", s.at)
}

// withoutProvider is a zone without what belongs to the provider.
func withoutProvider(z *zone.Snapshot) (*zone.Snapshot, error) {
	b := zone.NewBuilder(z.Apex(), false)
	for node := range z.Nodes {
		owner := z.Owner(node)
		for set := range node.RRsets {
			if rr.MadeBySigner(set.Type) || node.IsApex() && (set.Type == rr.TypeSOA || set.Type == rr.TypeNS) {
				continue
			}
			for data := range set.Data {
				if err := b.AddRecord(rr.Record{Name: owner, Type: set.Type, TTL: set.TTL, Data: data}); err != nil {
					return nil, err
				}
			}
		}
	}
	return b.Build().Snapshot, nil
}

// moveSteps are what to do for a move, in order (RFC 6781 §4.3.5, RFC 8901).
func (a *App) moveSteps(ctx context.Context, name dnsname.Name, sides []*provider, m *Move) error {
	var keys [2][][]byte
	for i, s := range sides {
		servers, err := a.servers(ctx, s.at)
		if err != nil {
			return err
		}
		resp, err := resolve.Ask(ctx, servers[0], resolve.Request{Net: a.Net, Name: name, Type: rr.TypeDNSKEY, DO: true})
		if err != nil {
			return err
		}
		keys[i], _ = resp.Set(name, rr.TypeDNSKEY)
	}
	var out []string
	const most = 200 // questions on the way to the parent
	switch ds, err := a.tracer(0).Finder(ctx, most).Find(name, rr.TypeDS); {
	case err != nil:
		m.Breaks = fmt.Sprintf("it is unknown whether the parent has a DS: %v", err)
	default:
		m.Breaks, m.Ways = audit.TrustAfterMove(name, ds.Data, keys[1], ds.TTL)
	}
	if m.Breaks == "" && len(keys[1]) > 0 && len(keys[0]) == 0 {
		out = append(out, fmt.Sprintf("%s signs the zone: have the parent's operator add its DS only when no resolver asks %s any more", sides[1].at, sides[0].at))
	}
	var apex zone.Node
	if sides[0].zone.ApexNode(&apex) {
		if ns, ok := apex.Find(rr.TypeNS); ok {
			const anHour = 3600
			if ns.TTL > anHour {
				out = append(out, fmt.Sprintf("lower the TTL of the zone's NS records at %s from %d s to an hour or less, and wait for %d s", sides[0].at, ns.TTL, ns.TTL))
			}
			out = append(out, "have the parent's operator change the NS records", fmt.Sprintf("keep %s answering, with the same records, until the parent's TTL and the zone's %d s are over; see what resolvers hold: fencepost spread %s NS --at RESOLVER", sides[0].at, ns.TTL, name.Plain()))
		}
	}
	m.Steps = out
	return nil
}
