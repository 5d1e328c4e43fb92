package zonestate

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fencepost/dnsname"
	"fencepost/keymanager"
	"fencepost/zone"
)

// Status is what a server says of itself. The field names are documented output.
type Status struct {
	Started   time.Time
	Now       time.Time
	Listen    []string
	Questions uint64
	TCP       uint64
	Transfers uint64
	Changes   uint64 // of these, those of what changed alone
	Zones     []ZoneStatus
}

// ZoneStatus is the state of one zone.
type ZoneStatus struct {
	Zone     string
	Audience string // whose version it is; empty: everyone's
	Role     string // primary or secondary
	State    string // serving, loading, expired, waiting or failed
	Serial   uint32
	Source   uint32 // where we sign: the serial of the unsigned zone
	Signed   bool
	Names    int
	Records  int
	Since    time.Time
	// Trouble says how bad it is; empty: all is well.
	Trouble Trouble
	// Troubled is since when there has been a problem.
	Troubled time.Time
	// Secondaries: the primary it came from, when one last confirmed it, when we
	// look again, and until when we can go on answering without one.
	From      string
	Checked   time.Time
	NextCheck time.Time
	Expires   time.Time
	Failing   time.Time
	// Signatures is when the first one ends, Renew when we make new ones, if we do.
	Signatures time.Time
	Renew      time.Time
	// Kept tells that a newer version was refused or could not be had.
	Kept      bool
	Problem   error             // why the latest attempt to load, fetch or sign failed; nil: it did not
	Warning   string            // what is odd about the version in service
	NotStored error             // why it, or what was asked for by messages, could not be stored
	Keys      *keymanager.State // where we sign
	Peers     []PeerStatus
	Follows   []FollowState
	Catalog   string // the one that lists the zone; empty: none
	Members   int    // of a catalog that is followed
	Clashes   string // why it is not followed in all; empty: it is
	Pending   int    // record sets that messages changed and the files do not have
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

// PeerStatus says whether a peer was told of the present version.
type PeerStatus struct {
	Peer    string
	Address string
	Told    bool  // it has answered our NOTIFY
	Fetched bool  // it has transferred the version in service
	Tries   int   // how often we have told it so far
	Newer   bool  // it has a newer serial than ours
	Problem error // why it could not be told, or will not take the version
}

// unreached is from how many NOTIFYs on a peer that answers none is trouble; one
// or two get lost, or meet a server that is starting.
const unreached = 3

// Status looks at all zones, in the order of their names.
func (s *Zones) Status() Status {
	st := Status{Started: s.start.UTC(), Now: s.Now().UTC(), Questions: s.counts.UDP.Load(), TCP: s.counts.TCP.Load(), Transfers: s.counts.Transfers.Load(), Changes: s.counts.Increments.Load()}
	for _, a := range s.local {
		st.Listen = append(st.Listen, a.String())
	}
	followed := s.catalogState.Load()
	for _, z := range s.table.Load().zones {
		one := s.zoneStatus(z)
		if followed != nil {
			one.Members, one.Clashes = followed.members[z.id()], followed.notes[z.id()]
		}
		if one.Clashes != "" {
			one.Trouble = cmp.Or(one.Trouble, Ahead)
		}
		st.Zones = append(st.Zones, one)
	}
	slices.SortFunc(st.Zones, func(a, b ZoneStatus) int {
		return cmp.Or(strings.Compare(a.Zone, b.Zone), strings.Compare(a.Audience, b.Audience))
	})
	return st
}

func (s *Zones) zoneStatus(z *zoneState) ZoneStatus {
	cfg, v, snap := z.cfg.Load(), z.lastGood(), z.snap()
	var keys *keymanager.State
	if cfg.Role().Signs() {
		k := cfg.Signer.State()
		keys = &k
	}
	z.mu.Lock()
	defer z.mu.Unlock()
	st := ZoneStatus{Zone: z.name.String(), Audience: z.audience, Role: cfg.Role().String(), State: "failed", Problem: z.problem, Warning: v.warning, NotStored: z.unstored, Keys: keys,
		Troubled: utc(z.troubled), Kept: snap != nil && z.problem != nil}
	if snap != nil {
		st.State, st.Serial, st.Signed = "serving", snap.Serial(), snap.Signed()
		st.Names, st.Records, st.Since, st.Signatures = snap.Names(), snap.Records(), v.since.UTC(), utc(v.expires)
		if cfg.Role().Signs() {
			st.Renew = utc(v.renew)
			st.Source = v.sourceSerial
		}
	}
	if snap == nil && z.problem == nil && !z.begun.Load() {
		st.State = "loading"
	}
	if cfg.Role().Fetches() {
		st.From = v.from
		st.Checked, st.NextCheck, st.Expires, st.Failing = utc(z.clock.Checked), utc(z.clock.Next), utc(z.clock.Expires()), utc(z.clock.Failing)
		if snap == nil && st.State != "loading" {
			st.State = "waiting"
			if v.withdrawn {
				st.State = "expired"
			}
		}
	}
	if !cfg.Catalog.IsZero() {
		st.Catalog = cfg.Catalog.String()
	}
	if f := cfg.files(); f != nil && !f.Once && z.pending != nil {
		for _, c := range z.pending.List() {
			if c.Differs() {
				st.Pending++
			}
		}
	}
	for i := range cfg.Follows {
		if f := z.follows[cfg.Follows[i].id(z)]; f != nil {
			st.Follows = append(st.Follows, *f)
		}
	}
	for _, p := range cfg.SendTo {
		t := z.notified[p.Name]
		ps := PeerStatus{Peer: p.Name, Address: p.Address.String(), Told: t.Acked, Tries: t.Tries,
			Fetched: snap != nil && t.Fetched == snap.Serial() && t.Fetched != 0, Newer: t.Newer, Problem: t.Error}
		if ps.Fetched {
			ps.Problem, ps.Newer = nil, false
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
	ahead := z.Problem != nil || z.Warning != "" || z.NotStored != nil || !z.Failing.IsZero() || lapsing || z.Keys != nil && z.Keys.Stuck
	for _, p := range z.Peers {
		ahead = ahead || p.Newer || p.Problem != nil && p.Tries >= unreached
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

// Refresh makes a secondary look for new versions of a zone now. It does not wait.
func (s *Zones) Refresh(name dnsname.Name) error {
	return s.eachVersion(name, func(z *zoneState) error {
		if !z.role().Fetches() {
			return fmt.Errorf("%s: %w", name, ErrNotSecondary)
		}
		s.refreshNow(z)
		return nil
	})
}

// eachVersion does something with all versions of a zone, as long as that goes well.
func (s *Zones) eachVersion(name dnsname.Name, do func(z *zoneState) error) error {
	versions := s.table.Load().versions(name)
	if len(versions) == 0 {
		return fmt.Errorf("%s: %w", name, ErrNoZone)
	}
	for _, z := range versions {
		if err := do(z); err != nil {
			return err
		}
	}
	return nil
}

// NotifyPeers tells the peers of a zone about the present versions again.
func (s *Zones) NotifyPeers(name dnsname.Name) error {
	return s.eachVersion(name, func(z *zoneState) error {
		s.notifyPeers(z)
		return nil
	})
}

// Snapshot is the version of a zone that is in service, or nil.
func (s *Zones) Snapshot(name dnsname.Name) *zone.Snapshot { return s.SnapshotFor(name, "") }

// SnapshotFor is the version of a zone for an audience that is in service, or nil.
func (s *Zones) SnapshotFor(name dnsname.Name, audience string) *zone.Snapshot {
	if z := s.table.Load().zones[idOf(name, audience)]; z != nil {
		return z.snap()
	}
	return nil
}
