package server

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/zone"
)

// Status is what a server says of itself. The field names are documented output.
type Status struct {
	Started   time.Time    `json:"started"`
	Now       time.Time    `json:"now"`
	Listen    []string     `json:"listen"`
	Questions uint64       `json:"questions_udp"`
	TCP       uint64       `json:"questions_tcp"`
	Transfers uint64       `json:"transfers_sent"`
	Zones     []ZoneStatus `json:"zones"`
}

// ZoneStatus is the state of one zone.
type ZoneStatus struct {
	Zone    string    `json:"zone"`
	Role    string    `json:"role"`  // primary or secondary
	State   string    `json:"state"` // serving, loading, expired, waiting or failed
	Serial  uint32    `json:"serial,omitempty"`
	Source  uint32    `json:"source_serial,omitempty"` // where we sign: the serial of the unsigned zone
	Signed  bool      `json:"signed"`
	Names   int       `json:"names"`
	Records int       `json:"records"`
	Since   time.Time `json:"since,omitzero"`
	// Trouble says how bad it is; empty: all is well.
	Trouble Trouble `json:"trouble,omitempty"`
	// Troubled is since when there has been a problem.
	Troubled time.Time `json:"troubled_since,omitzero"`
	// Secondaries: the primary it came from, when one last confirmed it, when we
	// look again, and until when we can go on answering without one.
	From      string    `json:"from,omitempty"`
	Checked   time.Time `json:"checked,omitzero"`
	NextCheck time.Time `json:"next_check,omitzero"`
	Expires   time.Time `json:"expires,omitzero"`
	Failing   time.Time `json:"failing_since,omitzero"`
	// Signatures is when the first one ends, Renew when we make new ones, if we do.
	Signatures time.Time `json:"signatures_expire,omitzero"`
	Renew      time.Time `json:"signatures_renewed,omitzero"`
	// Kept tells that a newer version was refused or could not be had.
	Kept      bool         `json:"kept,omitempty"`
	Problem   string       `json:"problem,omitempty"`
	Warning   string       `json:"warning,omitempty"`    // what is odd about the version in service
	NotStored string       `json:"not_stored,omitempty"` // why it could not be stored
	Keys      *KeyState    `json:"keys,omitempty"`       // where we sign
	Peers     []PeerStatus `json:"peers,omitempty"`
}

// Trouble says whether something is wrong, and whether the world sees it.
type Trouble string

// The kinds of trouble.
const (
	NoTrouble Trouble = ""
	Ahead     Trouble = "ahead"   // the world does not see it yet
	Visible   Trouble = "visible" // it does
	Loading   Trouble = "loading" // the zone was not loaded yet: the server has just started
)

// KeyState is what a Signer tells of the keys of a zone.
type KeyState struct {
	Rollover string   `json:"rollover,omitempty"` // what is going on, in words
	Step     string   `json:"step,omitempty"`     // the step that it is at
	Waits    []string `json:"waits,omitempty"`    // what it waits for
	DS       string   `json:"ds,omitempty"`       // what the parent has
	// DSWrong tells that validating resolvers reject the zone for the parent's DS.
	DSWrong bool `json:"ds_wrong,omitempty"`
	// Stuck tells that what it waits for has been wrong for long.
	Stuck bool `json:"stuck,omitempty"`
}

// PeerStatus says whether a peer was told of the present version.
type PeerStatus struct {
	Peer    string `json:"peer"`
	Address string `json:"address"`
	Told    bool   `json:"told"`            // it has answered our NOTIFY
	Fetched bool   `json:"fetched"`         // it has transferred the version in service
	Tries   int    `json:"tries,omitempty"` // how often we have told it so far
	Newer   bool   `json:"newer,omitempty"` // it has a newer serial than ours
	Problem string `json:"problem,omitempty"`
}

// unreached is from how many NOTIFYs on a peer that answers none is trouble; one
// or two get lost, or meet a server that is starting.
const unreached = 3

// Status looks at all zones, in the order of their names.
func (s *Server) Status() Status {
	st := Status{Started: s.start.UTC(), Now: s.Now().UTC(), Questions: s.counts.udp.Load(), TCP: s.counts.tcp.Load(), Transfers: s.counts.transfers.Load()}
	for _, a := range s.local {
		st.Listen = append(st.Listen, a.String())
	}
	for _, z := range s.table.Load().zones {
		st.Zones = append(st.Zones, s.zoneStatus(z))
	}
	slices.SortFunc(st.Zones, func(a, b ZoneStatus) int { return strings.Compare(a.Zone, b.Zone) })
	return st
}

func (s *Server) zoneStatus(z *served) ZoneStatus {
	cfg, snap := z.cfg.Load(), z.snap.Load()
	var keys *KeyState
	if cfg.Signer != nil {
		k := cfg.Signer.State()
		keys = &k
	}
	z.mu.Lock()
	defer z.mu.Unlock()
	st := ZoneStatus{Zone: z.name.String(), Role: "primary", State: "failed", Problem: z.problem, Warning: z.warning, NotStored: z.unstored, Keys: keys,
		Troubled: utc(z.troubled), Kept: snap != nil && z.problem != ""}
	if snap != nil {
		st.State, st.Serial, st.Signed = "serving", snap.Serial(), snap.Signed()
		st.Names, st.Records, st.Since, st.Signatures = snap.Names(), snap.Records(), z.since.UTC(), utc(z.expires)
		if cfg.Signer != nil {
			st.Renew = utc(z.renew)
			if z.source != nil {
				st.Source = z.source.Serial()
			}
		}
	}
	if snap == nil && z.problem == "" && !z.begun.Load() {
		st.State = "loading"
	}
	if len(cfg.FetchFrom) > 0 {
		st.Role, st.From = "secondary", z.from
		st.Checked, st.NextCheck, st.Expires, st.Failing = utc(z.clock.Checked), utc(z.clock.Next), utc(z.clock.Expires()), utc(z.clock.Failing)
		if snap == nil && st.State != "loading" {
			st.State = "waiting"
			if z.kept != nil {
				st.State = "expired"
			}
		}
	}
	for _, p := range cfg.SendTo {
		t := z.told[p.Name]
		ps := PeerStatus{Peer: p.Name, Address: p.Address.String(), Told: t.Acked, Tries: t.Tries,
			Fetched: snap != nil && t.Fetched == snap.Serial() && t.Fetched != 0, Newer: t.Newer, Problem: t.Error}
		if ps.Fetched {
			ps.Problem, ps.Newer = "", false
		}
		st.Peers = append(st.Peers, ps)
	}
	st.Trouble = st.trouble(s.Now())
	return st
}

// trouble judges a state.
func (z *ZoneStatus) trouble(now time.Time) Trouble {
	if z.State == "loading" {
		return Loading
	}
	lapsed := !z.Signatures.IsZero() && !now.Before(z.Signatures)
	if z.State != "serving" || lapsed || z.Keys != nil && z.Keys.DSWrong {
		return Visible
	}
	lapsing := !z.Signatures.IsZero() && now.After(z.Signatures.Add(-lapseWarning))
	ahead := z.Problem != "" || z.Warning != "" || z.NotStored != "" || !z.Failing.IsZero() || lapsing || z.Keys != nil && z.Keys.Stuck
	for _, p := range z.Peers {
		ahead = ahead || p.Newer || p.Problem != "" && p.Tries >= unreached
	}
	if ahead {
		return Ahead
	}
	return NoTrouble
}

func utc(t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return t.UTC()
}

// Errors of commands to a running server.
var (
	ErrNoZone       = errors.New("no such zone is served here")
	ErrNotSecondary = errors.New("we are primary for the zone: there is nowhere to fetch it from")
)

// Refresh makes a secondary look for a new version now. It does not wait.
func (s *Server) Refresh(name dnsname.Name) error {
	z := s.table.Load().zones[name.Key()]
	if z == nil {
		return fmt.Errorf("%s: %w", name, ErrNoZone)
	}
	if len(z.cfg.Load().FetchFrom) == 0 {
		return fmt.Errorf("%s: %w", name, ErrNotSecondary)
	}
	s.refreshNow(z)
	return nil
}

// NotifyPeers tells the peers of a zone about the present version again.
func (s *Server) NotifyPeers(name dnsname.Name) error {
	z := s.table.Load().zones[name.Key()]
	if z == nil {
		return fmt.Errorf("%s: %w", name, ErrNoZone)
	}
	s.tellPeers(z)
	return nil
}

// Snapshot is the version of a zone that is in service, or nil.
func (s *Server) Snapshot(name dnsname.Name) *zone.Snapshot {
	if z := s.table.Load().zones[name.Key()]; z != nil {
		return z.snap.Load()
	}
	return nil
}

// Stop ends Run.
func (s *Server) Stop(context.Context) { s.cutoff() }
